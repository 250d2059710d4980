import { fireEvent, screen, waitFor } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import type { Schemas } from '../../api/client';
import { fleetPage, fleetRow } from '../../tests/fixtures';
import { places, Refusal, server, show } from '../../tests/page';
import MovePage from './MovePage';

const move = (changes: Partial<Schemas['MoveSheet']>): Schemas['MoveSheet'] => ({
  name: 'Planning archive',
  from: 'quay-h3',
  to: 'hill-h2',
  why: null,
  size: 6e12,
  change: 56e6,
  changeFrom: 'as stated in the fleet',
  rate: 62.5e6,
  rateFrom: 'a quarter of the link',
  round: 20,
  window: 300,
  metadata: 60,
  check: 180,
  read: null,
  rounds: [
    { bytes: 6e12, seconds: 96_000 },
    { bytes: 3e12, seconds: 48_000 },
  ],
  last: { bytes: 9e9, seconds: 216 },
  downtimeSeconds: 456,
  fits: false,
  totalSeconds: 200_000,
  remedy: { window: 456, rate: 90e6, change: 30e6 },
  ...changes,
});
const open = (answer: unknown, at = '/moves/new?database=plan-archive&to=hill-h2') => {
  const asked = server({
    'GET /api/places': places,
    'GET /api/fleet': fleetPage(fleetRow()),
    'POST /api/moves/worksheet': answer,
  });
  show(<MovePage />, at, ['look'], '/moves/new');
  return asked;
};

describe('a move', () => {
  it('shows its rounds, says why it does not fit, and tries what would', async () => {
    const asked = open(move({}));
    await screen.findByText('Why it never fits at this rate');
    screen.getByText('2 min 36 s more than it may');
    screen.getByText('round 1');
    fireEvent.click(screen.getByRole('button', { name: 'try it' }));
    await waitFor(() => expect(asked[asked.length - 1]!.body).toMatchObject({ rate: 90e6, change: null }));
    expect(screen.getByTestId('address').textContent).toContain('rate=90');
  });

  it('offers no rate where none is enough', async () => {
    open(move({ change: 70e6, remedy: { window: 900, rate: null, change: null } }));
    await screen.findByText('Why it never fits at this rate');
    expect(screen.queryByRole('button', { name: 'try it' })).toBeNull();
  });

  it('that fits says for how long nobody can write', async () => {
    open(move({ fits: true, downtimeSeconds: 240, remedy: null, why: 'hill-h2 has too little room' }));
    await screen.findByText('within the 5 min it may');
    screen.getByText(/It cannot live there: hill-h2 has too little room/);
  });

  it('asks nothing while a figure is none, and says what the server refuses', async () => {
    const asked = open(new Refusal(409, 'nothing links them', 'to'), '/moves/new?database=plan-archive&to=skerry-h1');
    await screen.findByText('nothing links them');
    const before = asked.filter((a) => a.path === '/api/moves/worksheet').length;
    fireEvent.change(screen.getByLabelText(/^Moved/), { target: { value: 'much' } });
    await screen.findByText('a number');
    expect(asked.filter((a) => a.path === '/api/moves/worksheet')).toHaveLength(before);
  });
});
