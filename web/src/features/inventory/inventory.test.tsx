import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import type { Schemas } from '../../api/client';
import { places, Refusal, server, show } from '../../tests/page';
import InventoryPage from './InventoryPage';

const host = (changes: Partial<Schemas['HostInventoryView']>): Schemas['HostInventoryView'] => ({
  host: 'quay-h1',
  site: 'quayside',
  known: 4,
  at: '2026-11-23T09:00:00Z',
  beforeAt: '2026-11-22T09:00:00Z',
  waits: false,
  seen: 5,
  changes: [],
  unseen: [],
  ...changes,
});
const stranger: Schemas['InventoryChangeView'] = {
  what: 'new',
  name: 'Kiosk pilot',
  database: null,
  engine: 'stream-log',
  version: '14',
  sizeBytes: 38e9,
  logMode: 'kept',
  said: 'nothing in the fleet is it',
  sinceBefore: false,
};
const grown: Schemas['InventoryChangeView'] = {
  ...stranger,
  what: 'larger',
  name: 'Voyage log',
  database: 'voyage-log',
  said: '153 GB, 1.7 times the 90 GB that paths and plans count on',
  sinceBefore: true,
};
const open = (hosts: Schemas['HostInventoryView'][], more: Record<string, unknown> = {}, may = ['operate']) => {
  const asked = server({ 'GET /api/places': places, 'GET /api/inventory': hosts, ...more });
  show(<InventoryPage />, '/setup/inventory', may);
  return asked;
};

describe('what hosts say they run', () => {
  it('names what is other than the fleet has it, and what could not be seen', async () => {
    open([
      host({ changes: [stranger, grown] }),
      host({ host: 'hill-h2', unseen: ['the account sees that there is one more'] }),
      host({ host: 'north-h1', at: null, beforeAt: null, seen: null }),
    ]);
    await screen.findByText(/2 of 3 hosts answered: 2 things are otherwise than the fleet has it; 1 answer is partial/);
    const one = screen.getByRole('region', { name: 'quay-h1' });
    expect(one.textContent).toContain('Kiosk pilot (stream-log, version 14, 38 GB): nothing in the fleet is it');
    expect(one.textContent).toContain('1.7 times the 90 GB that paths and plans count on, since the asking before');
    expect(within(one).getByRole('link', { name: 'Voyage log' }).getAttribute('href')).toBe('/databases/voyage-log');
    expect(within(one).getByRole('link', { name: 'Add it to the fleet' }).getAttribute('href')).toBe(
      '/setup/fleet/databases/new',
    );
    const partial = screen.getByRole('region', { name: 'hill-h2' });
    expect(partial.textContent).toContain('partial');
    expect(partial.textContent).toContain('Nothing of what was seen is other');
    expect(screen.getByRole('region', { name: 'north-h1' }).textContent).toContain('never asked');
  });

  it('asks one host, or all of them', async () => {
    const asked = open([host({}), host({ host: 'hill-h2' })], {
      'POST /api/inventory/quay-h1/ask': {},
      'POST /api/inventory/hill-h2/ask': {},
    });
    fireEvent.click(await screen.findByRole('button', { name: 'Ask hill-h2' }));
    await waitFor(() => expect(asked.filter((a) => a.method === 'POST').map((a) => a.path)).toHaveLength(1));
    await waitFor(() =>
      expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Ask all 2 hosts' }).disabled).toBe(false),
    );
    fireEvent.click(screen.getByRole('button', { name: 'Ask all 2 hosts' }));
    await waitFor(() => expect(asked.filter((a) => a.method === 'POST')).toHaveLength(3));
  });

  it('says what went wrong, and asks for nobody who only looks', async () => {
    open([host({})], {}, []);
    await screen.findByRole('region', { name: 'quay-h1' });
    expect(screen.queryByRole('button', { name: 'Ask quay-h1' })).toBeNull();
    server({ 'GET /api/places': places, 'GET /api/inventory': () => new Refusal(503, 'PostgreSQL cannot be reached') });
    show(<InventoryPage />);
    await screen.findByText('PostgreSQL cannot be reached');
  });
});
