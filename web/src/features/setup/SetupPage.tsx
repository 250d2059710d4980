import Box from '@mui/material/Box';
import { useClock } from '../../app/live';
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
      <VersionsPanel />
      <FilesPanel demo={demo} />
    </Box>
  );
}
