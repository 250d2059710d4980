import { fireEvent, screen, waitFor } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import { server, show } from '../../tests/page';
import NewDatabasePage, { requestOf, type Draft } from './NewDatabasePage';

const draft: Draft = {
  id: 'gate-faces',
  engine: 'chain',
  host: 'quay-h2',
  objective: '',
  sizeGb: '2',
  logKb: '',
  group: 'gates',
  replica: 'hill-h1',
  mode: 'sync',
  takesOver: 'byItself',
  plan: '',
};

describe('a new database', () => {
  it('is asked for with its replica, or alone', () => {
    expect(requestOf(draft)).toMatchObject({
      database: { id: 'gate-faces', host: 'quay-h2', sizeBytes: 2_000_000_000, logBytesPerSecond: null },
      group: 'gates',
      replicas: [{ id: 'gate-faces-hill-h1', host: 'hill-h1', mode: 'sync', takesOver: 'byItself' }],
      plan: null,
    });
    const alone = requestOf({ ...draft, replica: '', group: '' });
    expect(alone).toMatchObject({ replicas: [], group: null });
    expect(alone.database).not.toHaveProperty('recoveryHosts');
  });

  it('says how long it stands alone and what would be lost unasked, and is begun only when it can be', async () => {
    const things = [
      { kind: 'host', id: 'quay-h2', name: 'quay-h2', site: 'quay' },
      { kind: 'engine', id: 'chain', name: 'Chain', site: null },
    ];
    const asked = server({
      'GET /api/places': { things, timeZones: ['UTC'] },
      'GET /api/plans': { plans: [] },
      'POST /api/databases/worksheet': {
        replicas: [{ id: 'gate-faces-hill-h1', byDesignSeconds: 0, waitMs: 1.8, copySeconds: 9 }],
        losses: [
          { kind: 'host', loss: 'host:quay-h2', lostSeconds: 0, serviceSeconds: 400, rpoSeconds: 30, rtoSeconds: 300 },
        ],
        plans: [],
        firstBase: null,
        aloneSeconds: 95,
        findings: [
          { code: 'unasked-loss', what: 'It takes over by itself', why: 'It can lose', remedy: 'Let a commit wait' },
        ],
        canAct: null,
      },
      'POST /api/databases': { id: 'r-9' },
    });
    show(<NewDatabasePage />, '/databases/new', ['administer'], '/databases/new');
    const make = await screen.findByRole<HTMLButtonElement>('button', { name: 'Make it' });
    expect(make.disabled).toBe(true);
    fireEvent.change(screen.getByLabelText('Name'), { target: { value: 'gate-faces' } });
    for (const [label, option] of [
      ['Engine', 'Chain'],
      ['On host', 'quay-h2'],
    ] as const) {
      fireEvent.mouseDown(screen.getByLabelText(label));
      fireEvent.click(await screen.findByRole('option', { name: option }));
    }
    expect(await screen.findByText('about 1 min 35 s')).toBeTruthy();
    expect(screen.getByText('It takes over by itself.')).toBeTruthy();
    expect(screen.getByText(/a commit waits 1.8 ms/)).toBeTruthy();
    fireEvent.click(screen.getByRole('button', { name: 'Make it' }));
    await waitFor(() => expect(asked.at(-1)).toMatchObject({ method: 'POST', path: '/api/databases' }));
  });
});
