import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import type { ReactNode } from 'react';
import type { Schemas } from '../../api/client';
import { choiceWord } from './words';

/** What people are asked about a step, with what they should know before they choose. */
export function Decide({
  step,
  checks,
  may,
  pending,
  decide,
  alone,
}: {
  step: Schemas['RunStepView'];
  checks: Schemas['CheckResult'][] | null;
  may: boolean;
  pending: boolean;
  decide: (choice: string) => void;
  /** How one person decides alone what needs a second one; null where that cannot be. */
  alone?: ReactNode;
}) {
  const bad = checks?.filter((c) => !c.passed).length ?? 0;
  return (
    <Box sx={{ border: 2, borderColor: 'warning.main', p: 1.5, mb: 2 }}>
      <Box component="h2" sx={{ m: 0, fontSize: 15 }}>
        {!step.hold ? `Approve: ${step.title}` : step.choices.includes('release') ? 'Held for a look' : step.title}
      </Box>
      <Box sx={{ my: 0.75 }}>
        {checks &&
          (bad === 0 ? `All ${checks.length} checks passed. ` : `${bad} of ${checks.length} checks did not pass. `)}
        {step.choices.includes('release') && 'Nobody is let in until you release it.'}
      </Box>
      {may ? (
        <Box sx={{ display: 'flex', gap: 1, flexWrap: 'wrap' }}>
          {step.choices.map((c, i) => (
            <Button
              key={c}
              variant={i === 0 ? 'contained' : 'outlined'}
              color={i === 0 && bad ? 'warning' : 'primary'}
              disabled={pending}
              onClick={() => decide(c)}
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
