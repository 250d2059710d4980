import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import { useState, type ReactNode } from 'react';
import type { Schemas } from '../../api/client';
import { useZone } from '../../app/places';
import { localTime, utc } from '../../shared/format';
import { choiceWord } from './words';

/** What people are asked about a step, with what they should know before they choose. */
export function Decide({
  step,
  checks,
  moreOpen,
  may,
  pending,
  decide,
  alone,
}: {
  step: Schemas['RunStepView'];
  checks: Schemas['CheckResult'][] | null;
  /** In what that which is released would be more open than its source: then somebody must say why. */
  moreOpen: string[];
  may: boolean;
  pending: boolean;
  decide: (choice: string, why: string | null) => void;
  /** How one person decides alone what needs a second one; null where that cannot be. */
  alone?: ReactNode;
}) {
  const zone = useZone();
  const [why, setWhy] = useState('');
  const letsIn = step.choices.find((c) => c === 'release' || c === 'switch');
  const open = letsIn ? moreOpen : [];
  const bad = checks?.filter((c) => !c.passed).length ?? 0;
  return (
    <Box sx={{ border: 2, borderColor: 'warning.main', p: 1.5, mb: 2 }}>
      <Box component="h2" sx={{ m: 0, fontSize: 15 }}>
        {!step.hold
          ? `Approve: ${step.title}`
          : step.choices.includes('throw-away') && !step.choices.includes('switch')
            ? 'Held for a look'
            : step.title}
      </Box>
      <Box sx={{ my: 0.75 }}>
        {checks &&
          (bad === 0 ? `All ${checks.length} checks passed. ` : `${bad} of ${checks.length} checks did not pass. `)}
        {step.choices.includes('release') && 'Nobody is let in until you release it.'}
        {step.choices.includes('switch') &&
          'Switched, everybody is kept out for the last of it, and clients go there once it is checked. Until then it can be called off, and it stays where it is.'}
        {step.choices.includes('put-in-place') &&
          'Put in place, it is the database, and there is no way back but another restore; thrown away, all is as it was.'}
        {step.choices.includes('carry-out') &&
          'From its first part on there is no way back but turning back, which puts it in place as it was; left, it stays as it stands now.'}
        {step.note && step.choices.includes('carry-out') && <Box sx={{ fontWeight: 600 }}>{step.note}</Box>}
        {step.decideBy && (
          <span title={utc(step.decideBy)}>
            If nobody has approved it by {localTime(step.decideBy, zone, false)}, it is refused.
          </span>
        )}
      </Box>
      {open.length > 0 && (
        <Box sx={{ my: 0.75 }}>
          <b>More open than its source:</b>
          <Box component="ul" sx={{ m: 0, pl: 2.5 }}>
            {open.map((o) => (
              <li key={o}>{o}</li>
            ))}
          </Box>
        </Box>
      )}
      {may && (!step.hold || open.length > 0) && (
        <TextField
          label={open.length > 0 ? 'Why it is done all the same' : 'Why'}
          value={why}
          onChange={(e) => setWhy(e.target.value)}
          helperText={
            open.length > 0 ? 'Needed to let clients in; it is kept in the ledger.' : 'Needed to refuse; it is kept.'
          }
          slotProps={{ htmlInput: { maxLength: 500 } }}
          fullWidth
          sx={{ mb: 1 }}
        />
      )}
      {may ? (
        <Box sx={{ display: 'flex', gap: 1, flexWrap: 'wrap' }}>
          {step.choices.map((c, i) => (
            <Button
              key={c}
              variant={i === 0 ? 'contained' : 'outlined'}
              color={i === 0 && bad ? 'warning' : 'primary'}
              disabled={pending || ((c === 'refuse' || (c === letsIn && open.length > 0)) && why.trim() === '')}
              onClick={() => decide(c, why.trim() || null)}
            >
              {choiceWord[c] ?? c}
            </Button>
          ))}
        </Box>
      ) : (
        <>
          {step.hold
            ? 'Who operates or administers decides.'
            : 'Who approves or administers decides; not who asked for it.'}
        </>
      )}
      {alone}
    </Box>
  );
}
