import { cleanup, fireEvent, render, screen, waitFor } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import type { Schemas } from '../../api/client';
import { fleetPage, fleetRow } from '../../tests/fixtures';
import { places, Refusal, server, show } from '../../tests/page';
import { MoveFigures } from './MoveFigures';
import MovePage from './MovePage';

const move = (changes: Partial<Schemas['MoveSheet']>): Schemas['MoveSheet'] => ({
  name: 'Planning archive',
  from: 'quay-h3',
  to: 'hill-h2',
  why: null,
  whyNotBegun: null,
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
  settings: null,
  byDump: { whyNot: 'the engine takes no dump', whyNotCarriedOut: null, store: null, settings: null, last: null },
  first: null,
  ...changes,
});
const open = (
  answer: unknown,
  at = '/moves/new?database=plan-archive&to=hill-h2',
  may = ['look'],
  more: Record<string, unknown> = {},
) => {
  const asked = server({
    'GET /api/places': places,
    'GET /api/fleet': fleetPage(fleetRow()),
    'POST /api/moves/worksheet': answer,
    ...more,
  });
  show(<MovePage />, at, may, '/moves/new');
  return asked;
};

const figures: Schemas['MoveQuestion'] = {
  size: 20e9,
  change: 1e5,
  rate: 62.5e6,
  round: 20,
  window: 300,
  metadata: 60,
  check: 180,
  read: null,
  most: 50,
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

  it('is begun where it fits, with the figures that are shown', async () => {
    const asked = open(
      move({ fits: true, downtimeSeconds: 240, remedy: null }),
      '/moves/new?database=plan-archive&to=hill-h2&rate=125',
      ['operate'],
      { 'POST /api/moves': { id: 'r-9' } },
    );
    fireEvent.click(await screen.findByRole('button', { name: 'Begin the move' }));
    await waitFor(() => expect(screen.getByTestId('address').textContent).toContain('/runs/r-9'));
    expect(asked.find((a) => a.path === '/api/moves')!.body).toMatchObject({
      database: 'plan-archive',
      to: 'hill-h2',
      rate: 125e6,
      window: null,
    });
  });

  it('asks when what it needs may be changed; without a window that is at once', async () => {
    const settings = {
      needs: [{ host: 'quay-h3', setting: 'change tracking', value: 'on', stated: null }],
      window: null,
    };
    const asked = open(move({ fits: true, remedy: null, settings }), undefined, ['operate'], {
      'POST /api/moves': { id: 'r-9' },
    });
    const button = await screen.findByRole<HTMLButtonElement>('button', { name: 'Begin the move' });
    expect(button.disabled).toBe(true);
    expect(screen.getByRole('region', { name: 'Settings it needs' }).textContent).toContain(
      'is not stated, and must be on',
    );
    screen.getByText(/No maintenance window of quay-h3 is set/);
    fireEvent.mouseDown(screen.getByRole('combobox', { name: 'It may be changed' }));
    expect(screen.getAllByRole('option').map((o) => o.textContent)).toEqual(['at once']);
    fireEvent.click(screen.getByRole('option', { name: 'at once' }));
    fireEvent.click(button);
    await waitFor(() => expect(asked.find((a) => a.path === '/api/moves')!.body).toMatchObject({ settings: 'now' }));
  });

  it('says that log is kept for it, and what is taken first', async () => {
    const settings = {
      needs: [{ host: 'quay-h3', setting: 'log of crew-hours', value: 'kept', stated: 'discarded' }],
      window: null,
    };
    open(move({ fits: true, remedy: null, settings, first: { store: 'quay-s2', seconds: 260 } }), undefined, [
      'operate',
    ]);
    const side = await screen.findByRole('complementary', { name: 'What comes of it' });
    await waitFor(() => expect(side.textContent).toContain('a full is taken first, into quay-s2 (about 4 min 20 s'));
    expect(screen.getByRole('region', { name: 'Settings it needs' }).textContent).toContain(
      'is discarded, and must be kept',
    );
  });

  it('by dump and load shows what its rehearsal measured, and rehearses it again', async () => {
    const last = {
      run: 'r-1',
      at: '2026-11-23T09:00:00Z',
      host: 'hill-h2',
      dumpSeconds: 300,
      loadSeconds: 900,
      checkSeconds: 60,
      redirectSeconds: 40,
      downtimeSeconds: 1300,
      dumpBytes: 3e9,
      notPassed: ['database a: one view is missing'],
    };
    const asked = open(
      move({ byDump: { whyNot: null, whyNotCarriedOut: null, store: 'quay-s2', settings: null, last } }),
      undefined,
      ['operate'],
      { 'POST /api/moves/rehearse': { id: 'r-2' } },
    );
    await screen.findByText('21 min 40 s');
    screen.getByText(/dump 5 min · load 15 min · open and check 1 min · clients over 40 s; .*GB dumped/);
    screen.getByText('database a: one view is missing');
    screen.getByText(/^Longer than the .* allowed\.$/);
    fireEvent.click(screen.getByRole('button', { name: 'Rehearse it by dump and load' }));
    await waitFor(() => expect(screen.getByTestId('address').textContent).toContain('/runs/r-2'));
    expect(asked.find((a) => a.path === '/api/moves/rehearse')!.body).toEqual({
      database: 'plan-archive',
      to: 'hill-h2',
      settings: null,
    });
  });

  it('by dump and load is begun where it can be carried out, whatever its rounds come to, and says why where it cannot', async () => {
    const can = { whyNot: null, whyNotCarriedOut: null, store: 'quay-s2', settings: null, last: null };
    const asked = open(move({ byDump: can, whyNotBegun: 'its log is not kept' }), undefined, ['operate'], {
      'POST /api/moves/by-dump': { id: 'r-3' },
    });
    fireEvent.click(await screen.findByRole('button', { name: 'Begin it by dump and load' }));
    await waitFor(() => expect(screen.getByTestId('address').textContent).toContain('/runs/r-3'));
    expect(asked.find((a) => a.path === '/api/moves/by-dump')!.body).toEqual({
      database: 'plan-archive',
      to: 'hill-h2',
      settings: null,
    });
    cleanup();
    open(move({ byDump: { ...can, whyNotCarriedOut: 'its engine is not here' } }), undefined, ['operate']);
    await screen.findByText('It can be rehearsed alone: its engine is not here.');
    expect(screen.queryByRole('button', { name: 'Begin it by dump and load' })).toBeNull();
  });

  it('is not begun where it does not fit, or cannot be', async () => {
    open(move({}), undefined, ['operate']);
    expect((await screen.findByRole<HTMLButtonElement>('button', { name: 'Begin the move' })).disabled).toBe(true);
  });

  it('says why it cannot be begun', async () => {
    open(move({ whyNotBegun: 'no plan backs its log up' }), undefined, ['operate']);
    await screen.findByText(/no plan backs its log up/);
    expect(screen.queryByRole('button', { name: 'Begin the move' })).toBeNull();
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

describe('a move under way', () => {
  it('shows each round as expected and as measured, and what the next would take', () => {
    const forecast = {
      rounds: [
        { data: 20e9, seconds: 340 },
        { data: 50e6, seconds: 21 },
      ],
      last: { data: 3e6, seconds: 20 },
      downtimeSeconds: 100,
      fits: true,
      totalSeconds: 481,
    };
    render(
      <MoveFigures
        move={{
          from: 'quay-h1',
          to: 'hill-h1',
          figures: { ...figures, window: 300 },
          forecast,
          rounds: [{ data: 21e9, seconds: 400 }],
          following: { data: 60e6, seconds: 22 },
          last: null,
          downtimeSeconds: null,
          standing: false,
        }}
      />,
    );
    screen.getByText('because it still runs on quay-h1');
    screen.getByText('6 min 40 s');
    screen.getByText('about 21 s');
    expect(screen.getByText(/By what the last one took/).textContent).toContain('60 MB in 22 s');
    screen.getByText('nobody writing');
  });
});
