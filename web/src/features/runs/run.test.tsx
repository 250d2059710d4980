import { fireEvent, screen, waitFor } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import type { Schemas } from '../../api/client';
import { restore, runLine, runView, step } from '../../tests/fixtures';
import { places, Refusal, server, show } from '../../tests/page';
import RunPage from './RunPage';

const look = (answer: unknown, roles = ['operate'], more: Record<string, unknown> = {}) => {
  const asked = server({ 'GET /api/places': places, 'GET /api/runs/r-1': answer, ...more });
  show(<RunPage />, '/runs/r-1?loss=host', roles, '/runs/:id');
  return asked;
};
const state = async () => (await screen.findByTestId('run-state')).textContent;

const measured: Schemas['RestoreResult'] = {
  reached: '2026-11-23T08:59:59Z',
  dataLostSeconds: 1,
  bytes: 33e9,
  driverSeconds: 1150,
  secondsToReady: 1210,
  holdSeconds: null,
  secondsToService: null,
  serviceSeconds: 1490,
  readyAt: '2026-11-23T11:20:00Z',
  checks: [
    { name: 'Opens', passed: true, detail: 'answers' },
    { name: 'Markers', passed: false, detail: 'one is missing' },
  ],
};
const hold = step({ number: 6, kind: 'hold', hold: true, state: 'running', choices: ['release', 'throw-away'] });
const aside = (
  line: Partial<Schemas['RunLine']> = {},
  changes: Partial<Schemas['RunView']> = {},
  more: Partial<Schemas['RestoreView']> = {},
) =>
  runView({
    run: runLine({ id: 'r-1', plan: null, task: null, kind: 'restore', state: 'held', ended: null, ...line }),
    steps: [step({}), hold],
    cancellable: true,
    restore: restore({ measured, ...more }),
    ...changes,
  });

describe('a restore', () => {
  it.each([
    ['waiting', 'waits', true],
    ['running', 'under way', true],
    ['held', 'waits for a decision', true],
    ['done', 'done', false],
    ['failed', 'failed', false],
  ] as const)('%s says so, and can be cancelled only while it is open', async (s, words, cancellable) => {
    look(aside({ state: s, ended: cancellable ? null : '2026-11-23T11:30:00Z' }, { cancellable }));
    expect(await state()).toBe(words);
    expect(screen.queryByRole('button', { name: /^Cancel/ }) !== null).toBe(cancellable);
  });

  it('held, says what was checked and lets nobody in by itself', async () => {
    const asked = look(aside(), ['operate'], { 'POST /api/runs/r-1/decide': {} });
    await screen.findByText(/1 of 2 checks did not pass\. Nobody is let in until you release it/);
    screen.getByText('one is missing');
    expect(asked.some((a) => a.method === 'POST')).toBe(false);
    fireEvent.click(screen.getByRole('button', { name: 'Release: let clients in' }));
    await waitFor(() =>
      expect(asked.filter((a) => a.method === 'POST').map((a) => a.body)).toEqual([
        { step: 6, choice: 'release', why: null },
      ]),
    );
  });

  it('held and more open than its source, is released only with a reason, and thrown away without', async () => {
    const open = { moreOpen: ['it can be reached from projects'] };
    const asked = look(aside({}, open), ['operate'], { 'POST /api/runs/r-1/decide': {} });
    await screen.findByText('it can be reached from projects');
    const release = () => screen.getByRole<HTMLButtonElement>('button', { name: 'Release: let clients in' });
    expect(release().disabled).toBe(true);
    expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Throw away' }).disabled).toBe(false);
    fireEvent.change(screen.getByLabelText('Why it is done all the same'), { target: { value: ' for a day ' } });
    fireEvent.click(release());
    await waitFor(() =>
      expect(asked.find((a) => a.method === 'POST')?.body).toEqual({ step: 6, choice: 'release', why: 'for a day' }),
    );
  });

  it('held, is thrown away on demand', async () => {
    const asked = look(aside(), ['operate'], { 'POST /api/runs/r-1/decide': {} });
    fireEvent.click(await screen.findByRole('button', { name: 'Throw away' }));
    await waitFor(() => expect(asked.find((a) => a.method === 'POST')?.body).toMatchObject({ choice: 'throw-away' }));
  });

  it('held, is not decided by who may only look', async () => {
    look(aside(), ['look']);
    await screen.findByText('Who operates or administers decides.');
    expect(screen.queryByRole('button', { name: /Release|Throw away|Cancel/ })).toBeNull();
  });

  it('sets what was measured beside what was planned', async () => {
    look(
      aside(
        { state: 'done', ended: '2026-11-23T11:40:00Z' },
        { cancellable: false },
        { measured: { ...measured, holdSeconds: 600, secondsToService: 2090 } },
      ),
    );
    const figure = async (word: string) => (await screen.findByText(word)).parentElement!.textContent;
    expect(await figure('planned')).toContain('back in 22 minlearned from finished runs');
    expect(await figure('measured, without the hold')).toContain('back in 24 min 50 s');
    expect(await figure('held')).toContain('10 min');
    expect(await figure('until service, hold included')).toContain('34 min 50 s');
    screen.getByText(/It reached .*; 33 GB read, the engine worked for 19 min 10 s/);
    expect(screen.getByRole('link', { name: 'Its entry in the ledger' }).getAttribute('href')).toBe(
      '/evidence?loss=host&database=tickets',
    );
  });

  it('says why a decision was refused', async () => {
    look(aside(), ['operate'], { 'POST /api/runs/r-1/decide': () => new Refusal(409, 'somebody threw it away') });
    fireEvent.click(await screen.findByRole('button', { name: 'Release: let clients in' }));
    await screen.findByText('somebody threw it away');
  });

  it('whose instance still stands, can have it removed by a run of its own', async () => {
    look(
      aside({ state: 'done', ended: '2026-11-23T11:40:00Z' }, { cancellable: false }, { standing: true }),
      ['operate'],
      {
        'POST /api/runs/r-1/remove': { id: 'r-2' },
      },
    );
    fireEvent.click(await screen.findByRole('button', { name: 'Remove this instance' }));
    await waitFor(() => expect(screen.getByTestId('address').textContent).toBe('/runs/r-2?loss=host'));
  });

  it('says which step another process went on with, and what could not be taken back', async () => {
    look(
      aside(
        { state: 'failed', ended: '2026-11-23T11:30:00Z' },
        { steps: [step({ takenUp: 1, state: 'leftBehind', note: 'the host is down' })], cancellable: false },
      ),
    );
    await screen.findByText(/could not be taken back.*taken up again after its process ended.*the host is down/);
  });
});

describe('a run of a task', () => {
  const line = runLine;
  const view = (run: Schemas['RunLine'], changes?: Partial<Schemas['RunView']>) => runView({ run, ...changes });
  const bar = (word: string) => screen.getByText(word).nextElementSibling!.nextElementSibling!.textContent;

  it('stands beside what was expected and what is usual, with its size, speed and set', async () => {
    look(view(line(), { usualSeconds: 1100, usualBytes: 160e9 }));
    await screen.findByText('took');
    expect([bar('took'), bar('expected, alone'), bar('usual')]).toEqual(['20 min', '15 min', '18 min 20 s']);
    screen.getByText(/168 GB stored of 420 GB, 140 MB\/s; usual 160 GB/);
    expect(screen.getByRole('link', { name: 'tickets-full-9' }).getAttribute('href')).toBe(
      '/databases/tickets?loss=host&set=tickets-full-9',
    );
    expect(screen.queryByRole('button', { name: 'End it' })).toBeNull();
  });

  it('tells its log, what it followed, and what followed', async () => {
    look(
      view(line({ after: 'run-0', state: 'failed', note: 'store quay-s2 is full', set: null }), {
        log: [{ at: '2026-11-23T01:00:10Z', text: 'attempt 1' }],
        followed: [line({ id: 'run-2', kind: 'cleanUp', state: 'done', note: '4 copies removed' })],
      }),
    );
    await screen.findByText('attempt 1');
    expect(screen.getByTestId('run-state').textContent).toBe('failed');
    screen.getByText('store quay-s2 is full');
    expect(screen.getByRole('link', { name: 'this run' }).getAttribute('href')).toBe('/runs/run-0?loss=host');
    expect(screen.getByRole('link', { name: 'Clean up' }).parentElement!.textContent).toBe(
      'Clean up done: 4 copies removed',
    );
  });

  it('under way, says how long so far, and is ended by hand', async () => {
    let state = line({ state: 'running', ended: null, storedBytes: 0, set: null });
    const asked = look(() => view(state, { cancellable: !state.ended }), ['operate'], {
      'POST /api/runs/r-1/cancel': () => {
        state = { ...state, state: 'cancelled', ended: '2026-11-23T01:10:00Z' };
        return {};
      },
    });
    await screen.findByText('so far');
    expect(screen.queryByText('took')).toBeNull();
    fireEvent.click(screen.getByRole('button', { name: 'End it' }));
    await screen.findByText('ended by hand');
    expect(asked.filter((a) => a.method === 'POST')).toHaveLength(1);
  });

  it('is not ended by who may only look, and says why an end was refused', async () => {
    const running = view(line({ state: 'running', ended: null }), { cancellable: true });
    look(running, ['look']);
    await screen.findByText('so far');
    expect(screen.queryByRole('button', { name: 'End it' })).toBeNull();
  });

  it('says why an end was refused', async () => {
    look(view(line({ state: 'running', ended: null }), { cancellable: true }), ['operate'], {
      'POST /api/runs/r-1/cancel': () => new Refusal(409, 'it is over already'),
    });
    fireEvent.click(await screen.findByRole('button', { name: 'End it' }));
    await screen.findByText('it is over already');
  });
});
