import Box from '@mui/material/Box';
import { SideSection } from './SideSection';

/** What was found about something that is not there yet: what, why it matters, and what to do. */
export function Found({ findings }: { findings: { code: string; what: string; why: string; remedy: string }[] }) {
  return (
    <SideSection level="h3" title="What we found">
      {findings.length === 0 && <Box sx={{ color: 'text.secondary' }}>Nothing that speaks against it.</Box>}
      {findings.map((f) => (
        <Box key={`${f.code} ${f.what}`} sx={{ mb: 0.75 }}>
          <b>{f.what}.</b> {f.why}. <i>{f.remedy}.</i>
        </Box>
      ))}
    </SideSection>
  );
}
