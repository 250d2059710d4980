import type { Schemas } from '../../api/client';

export type State = Schemas['ReplicaState'];

export const stateWord: Record<State, string> = {
  planned: 'planned',
  ended: 'ended',
  seeding: 'seeding',
  held: 'held',
  broken: 'broken',
  cutOff: 'cut off',
  behind: 'behind',
  inStep: 'in step',
};

const colours: Record<State, string> = {
  planned: 'text-secondary',
  ended: 'text-secondary',
  seeding: 'text-secondary',
  held: 'verdict-atRisk',
  broken: 'verdict-breached',
  cutOff: 'verdict-breached',
  behind: 'verdict-atRisk',
  inStep: 'verdict-proven',
};

export const stateColour = (state: State) => `var(--mui-palette-${colours[state]})`;

export const modeWord: Record<Schemas['ReplicaMode'], string> = {
  sync: 'a commit waits',
  async: 'after the commit',
  burst: 'waits, may fall behind',
  shipped: 'log is shipped',
  array: 'array copies blocks',
  bothActive: 'both sides write',
};

/** A boat and its line to the primary: taut, slack, parted, or made fast; the word stands beside it. */
export function StateMark({ state, size = 16 }: { state: State; size?: number }) {
  const colour = stateColour(state);
  const line = { stroke: colour, strokeWidth: 1.5, strokeLinecap: 'round' as const };
  return (
    <svg
      width={size}
      height={size}
      viewBox="0 0 16 16"
      fill="none"
      aria-hidden
      style={{ flex: 'none', display: 'block' }}
    >
      <path d="M1 8.5h6l-1.2 3.5H2.4z" fill={state === 'planned' || state === 'ended' ? 'none' : colour} {...line} />
      <path d="M14.5 3v10" {...line} />
      {state === 'inStep' && <path d="M7 9.5h7" {...line} />}
      {state === 'seeding' && <path d="M7 9.5h7" {...line} strokeDasharray="1 3" />}
      {state === 'held' && (
        <>
          <path d="M7 9.5h7" {...line} />
          <path d="M10.5 6.5v6" {...line} />
        </>
      )}
      {state === 'behind' && <path d="M7 9.5c2 4 5 4 7.5 0" {...line} />}
      {(state === 'cutOff' || state === 'broken') && <path d="M7 9.5h1.6M12.6 9.5h1.6" {...line} />}
      {state === 'broken' && <path d="M1.5 14.5l6-9" {...line} />}
    </svg>
  );
}
