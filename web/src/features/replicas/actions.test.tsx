import { fireEvent, screen, waitFor } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import { fleetPage, fleetRow, replicaRow, replicaView } from '../../tests/fixtures';
import { places, server, show } from '../../tests/page';
import { Actions } from './Actions';
import NewReplicaPage, { partOf } from './NewReplicaPage';

const change = {
  kind: 'host',
  loss: 'host:quay-h1',
  exposureSeconds: 13,
  thenExposureSeconds: 300,
  serviceSeconds: 490,
  thenServiceSeconds: 2370,
  rpoSeconds: 60,
  rtoSeconds: 3600,
};
const before = {
  cannot: {},
  together: ['tickets-hill', 'payments-hill'],
  toleratedOutageSeconds: 3600,
  without: [change],
  fed: ['tickets-north'],
  takeOver: {
    whyNot: null,
    host: 'hill-h1',
    lostSeconds: 22,
    lostBytes: 390_000,
    seconds: 40,
    serviceSeconds: 490,
    needsApproval: true,
    hosts: ['hill-h1'],
    others: [{ id: 'tickets-north', follows: false, whyNot: 'it may hold 3 s more' }],
    firstBase: 'full into quay-s2',
  },
  opensFrom: '2026-11-23T11:00:00Z',
  opensTo: '2026-11-23T12:00:00Z',
  opensOn: ['hill-h1', 'hill-h2'],
};
const sent = (asked: ReturnType<typeof server>) =>
  asked.filter((a) => a.method === 'POST').map((a) => [a.path, a.body] as const);

describe('what can be done with a replica', () => {
  const open = (changes: Record<string, unknown> = {}, roles = ['administer'], row: object = {}) => {
    const id = '/api/replicas/tickets-hill';
    const run = { id: 'r-1' };
    const asked = server({
      [`GET ${id}/before`]: { ...before, ...changes },
      [`POST ${id}/hold`]: run,
      [`POST ${id}/take-over`]: run,
      [`POST ${id}/look`]: run,
      [`POST ${id}/remove`]: run,
      [`POST ${id}/mend`]: run,
    });
    show(<Actions view={replicaView({ row: replicaRow({ id: 'tickets-hill', ...row }) })} />, '/', roles);
    return asked;
  };

  it('says what holding costs, and holds the whole group unless told otherwise', async () => {
    const asked = open();
    fireEvent.click(screen.getByRole('button', { name: 'Hold' }));
    expect(await screen.findByText(/After 1 h it can no longer simply go on/)).toBeTruthy();
    fireEvent.click(screen.getByRole('button', { name: 'Hold it' }));
    await waitFor(() => expect(sent(asked)).toEqual([['/api/replicas/tickets-hill/hold', { group: true }]]));
  });

  it('says before taking over what may be lost, who does not follow, and that a second person approves', async () => {
    const asked = open();
    fireEvent.click(screen.getByRole('button', { name: 'Take over' }));
    expect(await screen.findByText(/Up to 22 s, 390 kB of log, may be lost/)).toBeTruthy();
    expect(screen.getByText(/tickets-north may not follow: it may hold 3 s more/)).toBeTruthy();
    expect(screen.getByText(/A second person approves it/)).toBeTruthy();
    fireEvent.click(screen.getByRole('button', { name: 'Ask for it' }));
    await waitFor(() => expect(sent(asked)[0]![0]).toBe('/api/replicas/tickets-hill/take-over'));
  });

  it('begins nothing that cannot be, or that one may not', async () => {
    open({ takeOver: { ...before.takeOver, whyNot: 'it is only read from' } }, ['operate']);
    fireEvent.click(screen.getByRole('button', { name: 'Take over' }));
    expect(await screen.findByText('it cannot: it is only read from')).toBeTruthy();
    expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Ask for it' }).disabled).toBe(true);
    fireEvent.click(screen.getByRole('button', { name: 'End it' }));
    expect(await screen.findByText('Who administers does this.')).toBeTruthy();
    expect(screen.getByText(/tickets-north is fed by its source/)).toBeTruthy();
    expect(screen.getByText('5 min')).toBeTruthy();
  });

  it('opens a copy for some hours where one chooses', async () => {
    const asked = open();
    fireEvent.click(screen.getByRole('button', { name: 'Look at it' }));
    fireEvent.change(await screen.findByLabelText('For hours'), { target: { value: '0' } });
    expect(screen.getByText('say for how many hours')).toBeTruthy();
    fireEvent.change(screen.getByLabelText('For hours'), { target: { value: '2' } });
    fireEvent.click(screen.getByRole('button', { name: 'Open it' }));
    await waitFor(() => expect(sent(asked)[0]![1]).toMatchObject({ host: 'hill-h1', at: null, query: null }));
  });

  it('offers to resume what somebody holds, and nothing for what has ended', async () => {
    open({}, ['operate'], { heldByPerson: 'ada', state: 'held' });
    expect(screen.getByRole('button', { name: 'Resume' })).toBeTruthy();
  });
});

describe('a new replica', () => {
  it('stands in the fleet file with what was chosen, stages only where it is shipped', () => {
    const draft = {
      id: 'a',
      host: 'h',
      array: 'a1',
      opensOn: 'h2',
      waits: 'yes' as const,
      group: '',
      mode: 'shipped' as const,
      readable: 'always' as const,
      takesOver: 'byHand' as const,
      whenCut: 'goOn' as const,
      resume: 'byItself' as const,
      delaySeconds: '',
      rewindSeconds: '0',
      promoteSeconds: '40',
      keepLogHours: '2',
    };
    expect(partOf(draft, 'd')).toMatchObject({
      delaySeconds: null,
      keepLogSeconds: 7200,
      stages: { copy: { everySeconds: 300 } },
    });
    expect(partOf({ ...draft, mode: 'async' }, 'd')).not.toHaveProperty('stages');
    const volume = partOf({ ...draft, mode: 'array' }, 'd');
    expect(volume).toMatchObject({ array: 'a1', opensOn: ['h2'], waits: true });
    expect(volume).not.toHaveProperty('host');
  });

  it('shows what comes of the choices, and is begun only when it can be', async () => {
    const asked = server({
      'GET /api/places': places,
      'GET /api/fleet': fleetPage(fleetRow()),
      'POST /api/replicas/worksheet': {
        byDesignSeconds: 0.0009,
        readByDesignSeconds: 0.0009,
        waitMs: 0,
        seedSeconds: 920,
        seedByBackup: false,
        linkBytesPerSecond: 100_000,
        logByHour: Array.from({ length: 24 }, (_, h) => (h === 7 ? 150_000 : 20_000)),
        busiestShare: 1.5,
        worth: [change],
        findings: [
          { code: 'link-too-small', what: 'The link cannot carry it', why: 'It falls behind', remedy: 'Widen it' },
        ],
        canAct: null,
      },
      'POST /api/replicas': { id: 'r-2' },
    });
    show(<NewReplicaPage />, '/replicas/new?database=tickets&host=hill-h1', ['administer'], '/replicas/new');
    expect(await screen.findByText('15 min 20 s, by a copy of the database')).toBeTruthy();
    expect(screen.getByText(/the busiest hour takes 150 %/)).toBeTruthy();
    expect(screen.getByText('The link cannot carry it.')).toBeTruthy();
    fireEvent.click(screen.getByRole('button', { name: 'Set it up' }));
    await waitFor(() =>
      expect(sent(asked).at(-1)).toMatchObject([
        '/api/replicas',
        { replica: { id: 'tickets-hill-h1', database: 'tickets', mode: 'async' } },
      ]),
    );
  });
});
