import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import { Refusal, server, show } from '../../tests/page';
import { ClustersPanel } from './ClustersPanel';

const cluster = {
  database: 'harbour',
  name: 'Harbour',
  address: '10.0.0.7',
  port: 5432,
  user: 'keeper',
  credential: 'harbour-key',
  store: 'hill-shelf',
  folder: '/srv/hill',
  logRoomBytes: 1_000_000_000,
  slot: 'imbrek_harbour_aa74f6',
  at: new Date().toISOString(),
  timeline: 1,
  position: '0/3000060',
  sourcePosition: '0/3000060',
  behindBytes: 0,
  coversTo: new Date(Date.now() - 3_600_000).toISOString(),
  keptBytes: 600_000_000,
  problem: null as string | null,
  standbys: [{ replica: 'harbour-hill', address: '10.0.1.7', port: 5432 }],
  keptOutBy: null as string | null,
};
const seen = {
  version: '15',
  sizeBytes: 23_000_000,
  logBytesPerSecond: 2900,
  position: '0/10336C8',
  facts: [{ group: 'settings', name: 'wal_level', value: 'replica' }],
  lacks: [] as string[],
  unseen: ['setting data_directory'],
};
const open = (changes: Record<string, unknown> = {}, roles = ['administer']) => {
  const asked = server({ 'GET /api/clusters': [cluster], ...changes });
  show(<ClustersPanel />, '/setup', roles);
  return asked;
};

describe('clusters', () => {
  it('says how far the log has come and how much the source keeps', async () => {
    open();
    const row = within(await screen.findByTestId('cluster-harbour'));
    expect(row.getByText('hill-shelf').parentElement!.textContent).toContain('up to 0/3000060');
    expect(row.getByText(/everything committed until/).textContent).toMatch(/until 1 h( \d+ s)? ago/);
    row.getByLabelText('60 % of what it may keep');
  });

  it('says why nothing is received', async () => {
    open({ 'GET /api/clusters': [{ ...cluster, problem: 'store hill-shelf is full' }] });
    expect((await screen.findByText('Its log is not received.')).parentElement!.textContent).toContain('is full');
  });

  it('says that nobody gets in, and which run is at it', async () => {
    open({ 'GET /api/clusters': [{ ...cluster, keptOutBy: 'r-7' }] });
    const said = await screen.findByText('Nobody gets in');
    expect(within(said.parentElement!).getByRole('link').getAttribute('href')).toBe('/runs/r-7');
  });

  it('looks first, and offers nothing where something is in the way', async () => {
    const asked = open({ 'POST /api/clusters/look': { ...seen, lacks: ['wal_level is minimal'] } });
    fireEvent.click(await screen.findByRole('button', { name: 'Add a cluster' }));
    fireEvent.change(screen.getByLabelText('Role'), { target: { value: 'keeper' } });
    fireEvent.change(screen.getByLabelText('Credential'), { target: { value: 'harbour-key' } });
    fireEvent.click(screen.getByRole('button', { name: 'Look at it' }));
    await screen.findByText('wal_level is minimal');
    expect(screen.queryByRole('button', { name: 'Add it' })).toBeNull();
    expect(asked.find((a) => a.path === '/api/clusters/look')!.body).toMatchObject({
      port: 5432,
      credential: 'harbour-key',
    });
  });

  it('adds what was looked at and names the field at fault', async () => {
    const asked = open({
      'POST /api/clusters/look': seen,
      'POST /api/clusters': new Refusal(400, 'must be the whole path of a folder', 'folder'),
    });
    fireEvent.click(await screen.findByRole('button', { name: 'Add a cluster' }));
    fireEvent.change(screen.getByLabelText('Role'), { target: { value: 'keeper' } });
    fireEvent.click(screen.getByRole('button', { name: 'Look at it' }));
    await screen.findByText(/This role does not see: setting data_directory/);
    fireEvent.change(screen.getByLabelText('What to call it'), { target: { value: 'crew' } });
    fireEvent.click(screen.getByRole('button', { name: 'Add it' }));
    await screen.findByText('must be the whole path of a folder');
    expect(screen.getByLabelText('Folder of the store').getAttribute('aria-invalid')).toBe('true');
    expect(asked.find((a) => a.method === 'POST' && a.path === '/api/clusters')!.body).toMatchObject({
      database: 'crew',
    });
  });

  it('asks twice before it receives no more, and says what is left', async () => {
    const asked = open({
      'DELETE /api/clusters/harbour': { notDone: 'slot imbrek_harbour may still be at the source' },
    });
    fireEvent.click(await screen.findByRole('button', { name: 'Receive no more' }));
    expect(asked.some((a) => a.method === 'DELETE')).toBe(false);
    fireEvent.click(screen.getByRole('button', { name: 'Yes, receive no more' }));
    await screen.findByText('slot imbrek_harbour may still be at the source');
    await waitFor(() => expect(asked.some((a) => a.method === 'DELETE')).toBe(true));
  });

  it('lets only who administers add or remove', async () => {
    open({}, ['look']);
    await screen.findByTestId('cluster-harbour');
    expect(screen.queryByRole('button')).toBeNull();
  });

  it('looks at a standby from both sides, says what both say, and watches it', async () => {
    const found = {
      mode: 'async',
      delaySeconds: 120,
      from: null,
      slot: 'harbour_late',
      keepLogBytes: null,
      receiver: 'streaming',
      timeline: 1,
      lacks: [] as string[],
    };
    const asked = open({
      'POST /api/clusters/harbour/standbys/look': found,
      'POST /api/clusters/harbour/standbys': found,
    });
    expect((await screen.findByRole('link', { name: 'harbour-hill' })).getAttribute('href')).toBe(
      '/replicas/harbour-hill',
    );
    fireEvent.click(screen.getByRole('button', { name: 'Watch a standby of it' }));
    fireEvent.click(screen.getByRole('button', { name: 'Look at it from both sides' }));
    const said = await screen.findByRole('region', { name: 'What both sides say' });
    expect(said.textContent).toContain('Commits do not wait for it; it holds back what it received for 2 min.');
    expect(said.textContent).toContain('keeps as much log as it needs');
    fireEvent.change(screen.getByLabelText('What to call it'), { target: { value: 'harbour-late' } });
    fireEvent.change(screen.getByLabelText('Site it stands in'), { target: { value: 'hill' } });
    fireEvent.click(screen.getByRole('button', { name: 'Watch it' }));
    await waitFor(() =>
      expect(asked.find((a) => a.path === '/api/clusters/harbour/standbys')?.body).toMatchObject({
        replica: 'harbour-late',
        site: 'hill',
        port: 5432,
      }),
    );
  });

  it('watches one no more when that is said twice', async () => {
    const asked = open({ 'DELETE /api/clusters/harbour/standbys/harbour-hill': null });
    fireEvent.click(await screen.findByRole('button', { name: 'Watch no more' }));
    fireEvent.click(screen.getByRole('button', { name: 'Yes, watch no more' }));
    await waitFor(() => expect(asked.some((a) => a.path === '/api/clusters/harbour/standbys/harbour-hill')).toBe(true));
  });

  it('says why one cannot be watched, and offers nothing then', async () => {
    open({
      'POST /api/clusters/harbour/standbys/look': {
        mode: 'async',
        delaySeconds: 0,
        from: null,
        slot: null,
        keepLogBytes: 0,
        receiver: 'none',
        timeline: 1,
        lacks: ['it is a copy of another cluster'],
      },
    });
    fireEvent.click(await screen.findByRole('button', { name: 'Watch a standby of it' }));
    fireEvent.click(screen.getByRole('button', { name: 'Look at it from both sides' }));
    await screen.findByText(/it is a copy of another cluster/);
    expect(screen.queryByRole('button', { name: 'Watch it' })).toBeNull();
  });
});
