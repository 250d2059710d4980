import Box from '@mui/material/Box';

/** What the heights and cuts of tiles mean. */
export function CoverLegend() {
  const tile = (word: string, shape: React.ReactNode) => (
    <Box component="span" sx={{ display: 'inline-flex', alignItems: 'flex-end', gap: 0.5 }}>
      <svg width={12} height={16} aria-hidden>
        {shape}
      </svg>
      {word}
    </Box>
  );
  const c = 'var(--mui-palette-primary-main)';
  return (
    <Box sx={{ display: 'flex', gap: 1.25, fontSize: 11.5, color: 'text.secondary' }}>
      {tile('full', <rect x={2} y={0} width={7} height={16} fill={c} />)}
      {tile('differential', <rect x={2} y={5} width={7} height={11} fill={c} />)}
      {tile('incremental', <rect x={2} y={8} width={7} height={8} fill={c} />)}
      {tile('log', <rect x={1} y={11} width={10} height={5} fill={c} opacity={0.6} />)}
      {tile('snapshot', <path d="M2 16V6l5-6h3v16z" fill={c} />)}
      {tile('export', <rect x={2.5} y={1} width={7} height={14} fill="none" stroke={c} strokeWidth={1.5} />)}
    </Box>
  );
}
