import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import { fleetPage, fleetRow, set } from '../../tests/fixtures';
import { places, Refusal, server, show } from '../../tests/page';
import { FilesPanel } from './FilesPanel';
import SetupPage from './SetupPage';
import { VersionsPanel } from './VersionsPanel';
import { WorldPanel } from './WorldPanel';

const file = (name: string) => new File(['{}'], name);
const result = (faults: object[] = [], warnings: object[] = []) => ({
  imported: faults.length === 0,
  databases: faults.length === 0 ? 48 : 0,
  sets: faults.length === 0 ? 900 : 0,
  faults,
  warnings,
});

describe('the version calendar', () => {
  const version = (changes: object) => ({
    engine: 'chain-log',
    engineName: 'Chain-log engine',
    version: '14',
    supportedUntil: '2027-03-08',
    daysLeft: 100,
    databases: 21,
    ...changes,
  });
  const calendar = {
    nearDays: 180,
    versions: [version({}), version({ version: '13', supportedUntil: '2026-11-01', daysLeft: -27, databases: 1 })],
    due: [
      {
        database: 'tickets',
        name: 'Tickets',
        engine: 'chain-log',
        version: '14',
        supportedUntil: '2027-03-08',
        daysLeft: 100,
      },
    ],
    unknown: 3,
  };

  it('says how long each version is supported, who must move on, and of whom it does not know', async () => {
    server({ 'GET /api/versions': calendar });
    show(<VersionsPanel />);
    await screen.findByText('2027-03-08, 100 days');
    screen.getByText('2026-11-01, ended 27 days ago');
    expect(screen.getByRole('link', { name: 'Tickets' }).getAttribute('href')).toBe('/databases/tickets');
    screen.getByText(/Of 3 databases the version is not stated/);
  });

  it('is put in force as a file, and says what is wrong in one', async () => {
    server({
      'GET /api/versions': { ...calendar, versions: [], due: [] },
      'PUT /api/versions': {
        kept: false,
        versions: 0,
        faults: [{ line: 3, member: 'versions[1].supportedUntil', message: 'is no day' }],
        warnings: [],
      },
    });
    show(<VersionsPanel />);
    await screen.findByText(/It is empty/);
    fireEvent.change(screen.getByLabelText('Calendar file'), { target: { files: [file('versions.json')] } });
    fireEvent.click(screen.getByRole('button', { name: 'Put in force' }));
    await screen.findByText('Nothing was changed.');
    expect(screen.getByRole('listitem').textContent).toBe('line 3, versions[1].supportedUntil: is no day');
  });
});

describe('the open files', () => {
  const choose = (label: string, name: string) =>
    fireEvent.change(screen.getByLabelText(label), { target: { files: [file(name)] } });
  const send = () => screen.getByRole<HTMLButtonElement>('button', { name: 'Import' });

  it('are imported when there is one, and it is said what came', async () => {
    const asked = server({ 'POST /api/import': result() });
    show(<FilesPanel demo={false} />);
    expect(send().disabled).toBe(true);
    choose('Fleet file', 'fleet.json');
    fireEvent.click(send());
    await screen.findByText(/Imported 48 databases and 900 sets/);
    expect(asked[0]!.query.get('skipBad')).toBeNull();
  });

  it('are refused with file, line and member at fault', async () => {
    const fault = { file: 'catalogue', line: 17, member: 'sets[3].coversTo', message: 'lies before coversFrom' };
    server({ 'POST /api/import': result([fault], [{ ...fault, line: 18, member: '' }]) });
    show(<FilesPanel demo={false} />);
    choose('Catalogue file', 'catalogue.jsonl');
    fireEvent.click(send());
    await screen.findByText(/Nothing was imported: 1 fault\./);
    expect(screen.getAllByRole('listitem').map((l) => l.textContent)).toEqual([
      'catalogue, line 17, sets[3].coversTo: lies before coversFrom',
      'catalogue, line 18: lies before coversFrom',
    ]);
  });

  it('skip bad lines only when one says so', async () => {
    const asked = server({ 'POST /api/import': result() });
    show(<FilesPanel demo={false} />);
    choose('Catalogue file', 'catalogue.csv');
    fireEvent.click(screen.getByRole('checkbox'));
    fireEvent.click(send());
    await screen.findByText(/Imported/);
    expect(asked[0]!.query.get('skipBad')).toBe('true');
  });

  it('are not for who may only look; the export is', () => {
    show(<FilesPanel demo={false} />, '/setup', ['look']);
    expect(screen.queryByRole('button', { name: 'Import' })).toBeNull();
    expect(screen.getByRole('link', { name: 'Export the fleet' }).getAttribute('href')).toBe('/api/export/fleet');
  });

  it('say why the server did not take them', async () => {
    server({ 'POST /api/import': () => new Refusal(413, 'the file is larger than 512 MB') });
    show(<FilesPanel demo />);
    screen.getByText(/In the demo files are only checked/);
    choose('Fleet file', 'fleet.json');
    fireEvent.click(send());
    await screen.findByText('the file is larger than 512 MB');
  });
});

describe('the simulated world', () => {
  const world = {
    now: '2026-11-23T12:00:00Z',
    pace: 1,
    nextEvent: '2026-11-23T12:15:00Z',
    stores: [
      { id: 'quay-s2', site: 'Quayside', full: false, offline: false },
      { id: 'vault-t1', site: 'Vault', full: true, offline: true },
    ],
    links: [
      { one: 'quay', other: 'hill', down: false, flaps: false, bytesPerSecond: 250e6, slowBytesPerSecond: null },
      { one: 'hill', other: 'north', down: false, flaps: true, bytesPerSecond: 110e6, slowBytesPerSecond: 110e3 },
    ],
    hosts: [
      { id: 'quay-h1', site: 'quay', down: false, clockSeconds: 0 },
      { id: 'hill-h1', site: 'hill', down: true, clockSeconds: 90 },
    ],
    replicas: [
      { id: 'tickets-hill', applyStopped: false, read: true, signInExpired: false, unusable: null },
      { id: 'customs-hill', applyStopped: true, read: false, signInExpired: false, unusable: 'its volume is full' },
    ],
    hanging: ['tickets'],
    signInExpired: [],
    namesSlow: false,
    happenings: [],
  };
  const open = (changes: Record<string, unknown> = {}) => {
    const asked = server({
      'GET /api/places': places,
      'GET /api/world': world,
      'GET /api/fleet': fleetPage(fleetRow()),
      'GET /api/databases/tickets/sets': { sets: [set()], next: null },
      'POST /api/world/pace': {},
      'POST /api/world/forward': {},
      'POST /api/world/store-full': {},
      'POST /api/world/link-down': {},
      'POST /api/world/hang': {},
      'POST /api/world/drop-log': {},
      ...changes,
    });
    show(<WorldPanel />);
    return asked;
  };
  const sent = (asked: { method: string; path: string; body: unknown }[]) =>
    asked.filter((a) => a.method === 'POST').map((a) => [a.path, a.body]);

  it('goes faster, and forward by a day', async () => {
    const asked = open();
    fireEvent.click(screen.getByRole('button', { name: '900 times' }));
    fireEvent.click(await screen.findByRole('button', { name: 'Forward a day' }));
    await waitFor(() =>
      expect(sent(asked)).toEqual([
        ['/api/world/pace', { pace: 900 }],
        ['/api/world/forward', { minutes: 1440 }],
      ]),
    );
  });

  it('slows links, takes hosts down, sets clocks, and has a replica go wrong', async () => {
    const asked = open();
    const panel = within(await screen.findByTestId('replica-faults'));
    expect(screen.getByText('110 kB/s, of 110 MB/s')).toBeTruthy();
    fireEvent.click(screen.getByRole('button', { name: 'as before' }));
    fireEvent.click(screen.getByRole('switch', { name: 'quay to hill comes and goes' }));
    fireEvent.click(panel.getByRole('switch', { name: 'quay-h1 is down' }));
    fireEvent.click(panel.getByRole('button', { name: 'clock 90 s ahead' }));
    expect(panel.getByRole<HTMLInputElement>('switch', { name: 'a reader holds it for an hour' }).checked).toBe(true);
    fireEvent.click(panel.getByRole('switch', { name: 'applying stopped' }));
    fireEvent.click(panel.getByRole('button', { name: 'Fill its log volume' }));
    await waitFor(() =>
      expect(sent(asked)).toEqual([
        ['/api/world/link-slow', { one: 'hill', other: 'north', bytesPerSecond: null }],
        ['/api/world/link-flaps', { one: 'quay', other: 'hill', flaps: true }],
        ['/api/world/host-down', { host: 'quay-h1', down: true }],
        ['/api/world/clock', { host: 'hill-h1', secondsAhead: 0 }],
        ['/api/world/replica', { replica: 'tickets-hill', fault: 'applyStopped', on: true, seconds: null }],
        ['/api/world/replica', { replica: 'tickets-hill', fault: 'logVolumeFull', on: true, seconds: null }],
      ]),
    );
  });

  it('fills stores, cuts links, and lets backups hang', async () => {
    const asked = open();
    const full = await screen.findByRole<HTMLInputElement>('switch', { name: 'vault-t1 is full' });
    expect(full.checked).toBe(true);
    expect(full.closest('div')!.textContent).toContain('Vault, offline');
    fireEvent.click(screen.getByRole('switch', { name: 'quay-s2 is full' }));
    fireEvent.click(screen.getByRole('switch', { name: 'quay to hill is down' }));
    const hangs = screen.getByRole<HTMLInputElement>('switch', { name: 'backups hang' });
    expect(hangs.checked).toBe(true);
    fireEvent.click(hangs);
    await waitFor(() =>
      expect(sent(asked)).toEqual([
        ['/api/world/store-full', { store: 'quay-s2', full: true }],
        ['/api/world/link-down', { one: 'quay', other: 'hill', down: true }],
        ['/api/world/hang', { database: 'tickets', hangs: false }],
      ]),
    );
  });

  it('says what the server refused', async () => {
    open({ 'POST /api/world/drop-log': () => new Refusal(409, 'another process runs the world') });
    fireEvent.click(await screen.findByRole('button', { name: 'Lose the log not yet backed up' }));
    await screen.findByText('another process runs the world');
  });

  it('damages a copy that is there, not one that was removed', async () => {
    const removed = set({ id: 'gone', copies: [{ ...set().copies[0]!, removedAt: '2026-11-23T00:00:00Z' }] });
    open({ 'GET /api/databases/tickets/sets': { sets: [set(), removed], next: null } });
    await screen.findByRole('switch', { name: 'quay-s2 is full' });
    fireEvent.mouseDown(screen.getByRole('combobox', { name: 'Copy' }));
    const options = within(await screen.findByRole('listbox')).getAllByRole('option');
    expect(options.map((o) => o.getAttribute('data-value'))).toEqual(['tickets-full-1@quay-s2']);
  });
});

describe('setup', () => {
  it('without a demo has the files alone', () => {
    show(<SetupPage />);
    expect(screen.queryByText('The simulated world')).toBeNull();
    screen.getByRole('heading', { name: 'Open files' });
  });
});
