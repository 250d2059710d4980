import Box from '@mui/material/Box';
import Tooltip from '@mui/material/Tooltip';
import type { Schemas } from '../api/client';

export type Verdict = Schemas['Verdict'];

export const verdictWord: Record<Verdict, string> = {
  proven: 'proven',
  unproven: 'unproven',
  atRisk: 'at risk',
  breached: 'breached',
  unprotected: 'unprotected',
};

const need: Verdict[] = ['unprotected', 'breached', 'atRisk', 'unproven', 'proven'];

/** Sorts by need: the worst first. */
export const byNeed = (v: Verdict) => need.indexOf(v);

/** A roof tile whose state is its shape: solid, outlined, cracked, broken, or an empty place. */
export function TileShape({ verdict, size = 14 }: { verdict: Verdict; size?: number }) {
  const colour = `var(--mui-palette-verdict-${verdict})`;
  const common = { stroke: colour, strokeWidth: 1.5, fill: 'none' };
  return (
    <svg width={size} height={size} viewBox="0 0 14 14" aria-hidden style={{ flex: 'none', display: 'block' }}>
      {verdict === 'proven' && <path d="M1 2h12v10H1z" fill={colour} />}
      {verdict === 'unproven' && <path d="M1.75 2.75h10.5v8.5H1.75z" {...common} />}
      {verdict === 'atRisk' && (
        <>
          <path d="M1 2h12v10H1z" fill={colour} />
          <path
            d="M8.5 1.5 6 6l2.5 2L6 12.5"
            stroke="var(--mui-palette-background-paper)"
            strokeWidth="1.6"
            fill="none"
          />
        </>
      )}
      {verdict === 'breached' && (
        <path d="M1 2h6L5.2 5.2 7 7.6 4.6 12H1zM9.6 2H13v4.2L9 12H7.6l2-4.2L8 5.4z" fill={colour} />
      )}
      {verdict === 'unprotected' && <path d="M1.75 2.75h10.5v8.5H1.75z" {...common} strokeDasharray="2 2" />}
    </svg>
  );
}

/** The shape and the word. */
export function VerdictMark({ verdict, why }: { verdict: Verdict; why?: string | null }) {
  const mark = (
    <Box
      component="span"
      sx={{
        display: 'inline-flex',
        alignItems: 'center',
        gap: 0.75,
        whiteSpace: 'nowrap',
        color: `verdict.${verdict}`,
        fontWeight: 600,
      }}
    >
      <TileShape verdict={verdict} />
      {verdictWord[verdict]}
    </Box>
  );
  return why ? <Tooltip title={why}>{mark}</Tooltip> : mark;
}
