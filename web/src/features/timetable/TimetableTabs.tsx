import Box from '@mui/material/Box';
import { Link, useLocation } from 'react-router';
import { withPremise } from '../../app/premise';

/** The three pages about what runs: when, what did, and who was told. */
export function TimetableTabs({ title, children }: { title: string; children?: React.ReactNode }) {
  const { pathname, search } = useLocation();
  return (
    <Box sx={{ display: 'flex', alignItems: 'center', gap: 2, mb: 1, flexWrap: 'wrap' }}>
      <h1 style={{ fontSize: 20, margin: 0 }}>{title}</h1>
      <Box component="nav" aria-label="About runs" sx={{ display: 'flex', gap: 1.5 }}>
        {[
          ['/timetable', 'When things run'],
          ['/runs', 'What ran'],
          ['/notices', 'Who was told'],
        ]
          .filter(([path]) => path !== pathname)
          .map(([path, word]) => (
            <Link key={path} to={withPremise(path!, search)} style={{ fontSize: 13 }}>
              {word}
            </Link>
          ))}
      </Box>
      {children}
    </Box>
  );
}
