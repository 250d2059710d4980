import ToggleButton from '@mui/material/ToggleButton';
import ToggleButtonGroup from '@mui/material/ToggleButtonGroup';

/** How much of the past a strip shows; nothing is pressed while one has zoomed. */
export function RangeButtons({ days, onShow }: { days: number | null; onShow: (days: number) => void }) {
  return (
    <ToggleButtonGroup
      size="small"
      exclusive
      value={days}
      onChange={(_, v: number | null) => onShow(v ?? 7)}
      aria-label="Stretch of time"
    >
      {[1 / 24, 1, 7, 14, 30].map((n) => (
        <ToggleButton key={n} value={n} sx={{ py: 0, px: 1.25, textTransform: 'none' }}>
          {n < 1 ? '1 hour' : n === 1 ? '1 day' : `${n} days`}
        </ToggleButton>
      ))}
    </ToggleButtonGroup>
  );
}
