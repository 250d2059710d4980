import Box from '@mui/material/Box';
import { Link, useLocation } from 'react-router';
import { useClock } from '../../app/live';
import { withPremise } from '../../app/premise';
import { useMay } from '../../app/session';
import { ClustersPanel } from '../clusters/ClustersPanel';
import { PeoplePanel } from '../people/PeoplePanel';
import { TokensPanel } from '../people/TokensPanel';
import { FilesPanel } from './FilesPanel';
import { VersionsPanel } from './VersionsPanel';
import { WorldPanel } from './WorldPanel';

/** Clusters, files in and out, people and tokens, and the controls of the simulated world. */
export default function SetupPage() {
  const administers = useMay('administer');
  const { search } = useLocation();
  const demo = useClock()?.demo ?? false;
  return (
    <Box sx={{ p: 2, maxWidth: 1180 }}>
      <h1 style={{ fontSize: 20, margin: '0 0 12px' }}>Setup</h1>
      {demo && administers && <WorldPanel />}
      {demo && !administers && (
        <Box sx={{ mb: 2, color: 'text.secondary' }}>
          Who administers finds the controls of the simulated world here.
        </Box>
      )}
      {!demo && <ClustersPanel />}
      {administers && <PeoplePanel />}
      {administers && <TokensPanel />}
      <Box component="section" aria-label="Fleet" sx={{ borderTop: 1, borderColor: 'divider', pt: 1.5, mb: 2 }}>
        <h2 style={{ fontSize: 15, margin: '0 0 4px' }}>Fleet</h2>
        <Link to={withPremise('/setup/fleet/databases', search)}>The fleet, part by part</Link>: sites, hosts, stores,
        links, services, objectives, databases; each change with what it does to verdicts before it is kept.{' '}
        <Link to={withPremise('/setup/inventory', search)}>What hosts say they run</Link>, against what the fleet has.{' '}
        <Link to={withPremise('/agreed', search)}>What was agreed</Link>, to print.
      </Box>
      <VersionsPanel />
      <FilesPanel demo={demo} />
    </Box>
  );
}
