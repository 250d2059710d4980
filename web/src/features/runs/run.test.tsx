import { fireEvent, screen, waitFor } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import type { Schemas } from '../../api/client';
import { run } from '../../tests/fixtures';
import { places, Refusal, server, show } from '../../tests/page';
import RunPage from './RunPage';

const measured: Schemas['Measured'] = {
  dataLostSeconds: 1,
  secondsToReady: 1210,
  holdSeconds: null,
  secondsToService: null,
  serviceSeconds: 1490,
  checks: [
    { name: 'Opens', passed: true, detail: 'answers' },
    { name: 'Markers', passed: false, detail: 'one is missing' },
  ] as Schemas['CheckResult'][],
};
const open = (state: Partial<Schemas['RunView']>, roles = ['operate'], more: Record<string, unknown> = {}) => {
  const asked = server({ 'GET /api/places': places, 'GET /api/runs/r-1': run(state), ...more });
  show(<RunPage />, '/runs/r-1', roles, '/runs/:id');
  return asked;
};
const state = async () => (await screen.findByTestId('run-state')).textContent;

describe('a restore', () => {
  it.each([
    ['queued', 'waits to begin', true],
    ['running', 'is being restored', true],
    ['held', 'ready: look, then decide', true],
    ['released', 'released', false],
    ['failed', 'could not be completed, nothing left behind', false],
  ] as const)('%s says so, and can be cancelled only while it is open', async (s, words, cancellable) => {
    open({ state: s, endedAt: cancellable ? null : '2026-11-23T11:30:00Z' });
    expect(await state()).toBe(words);
    expect(screen.queryByRole('button', { name: /^Cancel/ }) !== null).toBe(cancellable);
  });

  it('held, says what was checked and lets nobody in by itself', async () => {
    const asked = open({ measured }, ['operate'], { 'POST /api/runs/r-1/release': {} });
    await screen.findByText(/1 of 2 checks did not pass\. Nobody is let in until you release it/);
    screen.getByText('one is missing');
    expect(asked.some((a) => a.method === 'POST')).toBe(false);
    fireEvent.click(screen.getByRole('button', { name: 'Release: let clients in' }));
    await waitFor(() =>
      expect(asked.filter((a) => a.method === 'POST').map((a) => a.path)).toEqual(['/api/runs/r-1/release']),
    );
  });

  it('held, is thrown away on demand', async () => {
    const asked = open({ measured }, ['operate'], { 'POST /api/runs/r-1/throw-away': {} });
    fireEvent.click(await screen.findByRole('button', { name: 'Throw away' }));
    await waitFor(() => expect(asked.some((a) => a.path.endsWith('/throw-away'))).toBe(true));
  });

  it('held, is not decided by who may only look', async () => {
    open({ measured }, ['look']);
    await screen.findByText('Who operates or administers decides.');
    expect(screen.queryByRole('button', { name: /Release|Throw away|Cancel/ })).toBeNull();
  });

  it('sets what was measured beside what was planned', async () => {
    open({
      state: 'released',
      endedAt: '2026-11-23T11:40:00Z',
      measured: { ...measured, holdSeconds: 600, secondsToService: 2090 },
    });
    const figure = async (word: string) => (await screen.findByText(word)).parentElement!.textContent;
    expect(await figure('planned')).toContain('back in 22 minlearned from finished runs');
    expect(await figure('measured, without the hold')).toContain('back in 24 min 50 s');
    expect(await figure('held')).toContain('10 min');
    expect(await figure('until service, hold included')).toContain('34 min 50 s');
    expect(screen.getByRole('link', { name: 'Its entry in the ledger' }).getAttribute('href')).toBe(
      '/evidence?database=tickets',
    );
  });

  it('says why a decision was refused', async () => {
    open({ measured }, ['operate'], { 'POST /api/runs/r-1/release': () => new Refusal(409, 'somebody threw it away') });
    fireEvent.click(await screen.findByRole('button', { name: 'Release: let clients in' }));
    await screen.findByText('somebody threw it away');
  });

  it('released, its instance can be removed', async () => {
    const asked = open({ state: 'released', measured }, ['operate'], { 'POST /api/runs/r-1/remove': {} });
    fireEvent.click(await screen.findByRole('button', { name: 'Remove this instance' }));
    await waitFor(() => expect(asked.some((a) => a.path.endsWith('/remove'))).toBe(true));
  });
});
