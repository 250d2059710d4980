import Box from '@mui/material/Box';
import { Link, useLocation } from 'react-router';
import type { Schemas } from '../../api/client';
import { withPremise } from '../../app/premise';
import { bytes, duration, localTime } from '../../shared/format';

type Way = Schemas['ComparedView'];

const wayWord: Record<string, string> = {
  aside: 'Restore aside',
  inPlace: 'Put back in place',
  underAnotherName: 'Under another name',
  takeOver: 'A replica takes over',
  view: 'Look at it',
  clone: 'Clone it',
  openForLog: 'Leave it open for log',
};

const columns = {
  xs: 'repeat(2, minmax(0, 1fr))',
  md: 'minmax(150px, 1.4fr) minmax(66px, 0.5fr) minmax(88px, 0.65fr) minmax(100px, 0.75fr) minmax(190px, 2.1fr)',
};

/** Every way for this question side by side: those by which the service is back, and those by which rows are. */
export function WaysTable({ ways: w, zone }: { ways: Schemas['WaysView']; zone: string }) {
  const can = w.compared.filter((c) => c.whyNot === null);
  const cannot = w.compared.filter((c) => c.whyNot !== null);
  if (w.compared.length === 0) return null;
  return (
    <Box component="section" aria-label="Ways compared">
      <Group title="So that the service is back" ways={can.filter((c) => c.givesService)} of={w} zone={zone} />
      <Group title="So that rows are back" ways={can.filter((c) => !c.givesService)} of={w} zone={zone} />
      {cannot.length > 0 && (
        <Box sx={{ fontSize: 12, color: 'text.secondary', borderTop: 1, borderColor: 'divider', pt: 0.5 }}>
          {cannot.map((c) => (
            <Box key={c.way + c.replica}>
              <Name way={c} of={w} />: cannot, {c.whyNot}
            </Box>
          ))}
        </Box>
      )}
    </Box>
  );
}

function Group({ title, ways, of: w, zone }: { title: string; ways: Way[]; of: Schemas['WaysView']; zone: string }) {
  const service = ways[0]?.givesService ?? false;
  if (ways.length === 0) return null;
  return (
    <Box role="table" aria-label={title} sx={{ mb: 1.25 }}>
      <Box
        role="row"
        sx={{
          display: 'grid',
          gridTemplateColumns: columns,
          columnGap: 1.5,
          alignItems: 'baseline',
          pl: 0.75,
          ml: '3px',
        }}
      >
        <Box role="columnheader" sx={{ fontSize: 14, fontWeight: 620 }}>
          {title}
        </Box>
        {['loses', service ? 'back in' : 'open in', 'moves', 'leaves'].map((c) => (
          <Box
            role="columnheader"
            key={c}
            sx={{ fontSize: 12, color: 'text.secondary', display: { xs: 'none', md: 'block' } }}
          >
            {c}
          </Box>
        ))}
      </Box>
      {ways.map((c, i) => (
        <Box
          role="row"
          key={c.way + c.replica}
          sx={{
            display: 'grid',
            gridTemplateColumns: columns,
            columnGap: 1.5,
            borderTop: 1,
            borderColor: 'divider',
            borderLeft: 3,
            borderLeftColor: i === 0 ? 'primary.main' : 'transparent',
            pl: 0.75,
            py: 0.5,
          }}
        >
          <Box role="cell" sx={{ minWidth: 0 }}>
            <Box sx={{ fontWeight: i === 0 ? 620 : undefined }}>
              <Name way={c} of={w} />
            </Box>
            <Box sx={{ fontSize: 12, color: 'text.secondary' }}>
              {i === 0 ? 'best here; ' : ''}
              {c.why}
            </Box>
          </Box>
          <Box role="cell" title={c.reaches ? `reaches ${localTime(c.reaches, zone)}` : undefined}>
            {c.lostSeconds! < 0.5 ? 'nothing' : duration(c.lostSeconds)}
          </Box>
          <Box role="cell">
            <Box
              sx={{
                fontWeight: 620,
                color:
                  service && w.rtoSeconds !== null && c.serviceSeconds! > w.rtoSeconds ? 'verdict.breached' : undefined,
              }}
            >
              {duration(service ? c.serviceSeconds : c.usableSeconds! + (c.way === 'openForLog' ? 0 : w.checkSeconds))}
            </Box>
            <Box sx={{ fontSize: 12, color: 'text.secondary' }}>on {c.host}</Box>
          </Box>
          <Box role="cell">
            {c.movedBytes! < 1 ? 'nothing' : bytes(c.movedBytes!)}
            <Box sx={{ fontSize: 12, color: 'text.secondary', overflowWrap: 'anywhere' }}>
              {c.roomBytes! < 1 ? 'no room' : `room ${bytes(c.roomBytes!)}`}
              {c.links.length > 0 && `, over ${c.links.join(', ')}`}
            </Box>
          </Box>
          <Box role="cell" sx={{ fontSize: 12, lineHeight: 1.4 }}>
            as it was: {c.keeps.join(', ')}
            {c.keepsNot.length > 0 && <> · not: {c.keepsNot.join(', ')}</>}
            <Box sx={{ color: 'text.secondary' }}>{c.afterwards}</Box>
          </Box>
        </Box>
      ))}
    </Box>
  );
}

/** What copies that end are made as, by way. */
const madeAs: Record<string, string> = { view: 'view', clone: 'clone', openForLog: 'open-for-log' };

/** Its name; a way that is begun elsewhere leads there. */
function Name({ way: c, of: w }: { way: Way; of: Schemas['WaysView'] }) {
  const { search } = useLocation();
  const word = wayWord[c.way];
  return c.way === 'takeOver' ? (
    <Link to={withPremise(`/replicas/${c.replica}`, search)}>
      {word}: {c.replica}
    </Link>
  ) : c.way === 'underAnotherName' ? (
    <Link to={withPremise('/second/new', search, { database: w.database, target: w.target })}>{word}</Link>
  ) : c.way in madeAs ? (
    <Link to={withPremise('/copies/new', search, { database: w.database, as: madeAs[c.way]!, target: w.target })}>
      {word}
    </Link>
  ) : (
    <>{word}</>
  );
}
