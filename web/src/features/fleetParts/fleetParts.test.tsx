import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import type { Schemas } from '../../api/client';
import { places, Refusal, server, show } from '../../tests/page';
import AgreedPage from './AgreedPage';
import { lists, put, typed, type ListName } from './members';
import PartPage from './PartPage';
import PartsPage from './PartsPage';

const gate = { id: 'gate', name: 'Gates', rpoSeconds: 30, rtoSeconds: 300, against: ['none', 'host'] };
const preview: Schemas['PartPreview'] = {
  fault: null,
  member: null,
  affected: 3,
  judged: 3,
  better: 0,
  worse: 1,
  changed: [
    {
      database: 'tickets',
      name: 'Tickets',
      before: 'proven',
      after: 'breached',
      losesBefore: 60,
      losesAfter: 60,
      backBefore: 600,
      backAfter: 600,
      why: 'it would take 10 min, 5 min is allowed',
    },
  ],
};
const open = (at: string, more: Record<string, unknown> = {}, may = ['administer']) => {
  const asked = server({
    'GET /api/places': places,
    'GET /api/fleet/parts/objectives': { version: 7, list: 'objectives', parts: [gate], total: 1 },
    'GET /api/fleet/parts/objectives/gate/history': [
      { version: 7, at: '2026-11-23T09:00:00Z', who: 'admin', why: 'agreed with ticketing', part: gate },
      { version: 2, at: '2026-11-01T09:00:00Z', who: 'plan', why: null, part: { ...gate, rpoSeconds: 900 } },
    ],
    'POST /api/fleet/preview': preview,
    'PUT /api/fleet/objectives/gate': { number: 8, at: null, who: null, why: null },
    ...more,
  });
  const page = at.startsWith('/setup/fleet/objectives/') ? <PartPage /> : <PartsPage />;
  show(page, at, may, at.startsWith('/setup/fleet/objectives/') ? '/setup/fleet/:list/:id' : '/setup/fleet/:list');
  return asked;
};

describe('a list of words', () => {
  it('can be typed letter by letter, its commas too', async () => {
    server({
      'GET /api/places': places,
      'GET /api/fleet/parts/hosts': { version: 7, list: 'hosts', parts: [{ id: 'h1', site: 'quay' }], total: 1 },
      'GET /api/fleet/parts/hosts/h1/history': [],
      'POST /api/fleet/preview': preview,
    });
    show(<PartPage />, '/setup/fleet/hosts/h1', ['administer'], '/setup/fleet/:list/:id');
    const field = await screen.findByLabelText<HTMLInputElement>('Versions installed');
    for (const so of ['14', '14,', '14, ', '14, 15']) {
      fireEvent.change(field, { target: { value: so } });
      expect(field.value).toBe(so);
    }
  });
});

describe('a member', () => {
  it('is what stands in the file once it was typed, whatever its unit', () => {
    for (const list of Object.keys(lists) as ListName[])
      for (const m of lists[list].members.filter((x) => x.kind === 'number')) {
        const value = 12 * m.unit;
        expect(put({}, m, typed(m, value))).toEqual({ [m.key]: value });
      }
    const mb = lists.hosts.members.find((m) => m.key === 'writeBytesPerSecond')!;
    expect(typed(mb, put({}, mb, '0,1')![mb.key])).toBe('0.1');
    expect(put({}, mb, 'fast')).toBeNull();
    const settings = lists.hosts.members.find((m) => m.key === 'settings')!;
    const said = [
      { name: 'bulk loading', value: 'off' },
      { name: 'tracking', value: 'a = b' },
    ];
    expect(put({}, settings, ' bulk loading=off , tracking = a = b ,')).toEqual({ settings: said });
    expect(put({}, settings, typed(settings, said))).toEqual({ settings: said });
    expect(put({}, settings, 'bulk loading, tracking = on')).toBeNull();
  });

  it('is left out where it is empty, and others stay as they are', () => {
    const keys = lists.hosts.members.find((m) => m.key === 'keys')!;
    expect(put({ id: 'h', extra: 1, keys: ['a'] }, keys, ' ')).toEqual({ id: 'h', extra: 1 });
    expect(put({ id: 'h', extra: 1 }, keys, 'a, ,b')).toEqual({ id: 'h', extra: 1, keys: ['a', 'b'] });
  });
});

describe('the fleet, part by part', () => {
  it('lists each with its members', async () => {
    open('/setup/fleet/objectives');
    const table = await screen.findByRole('table');
    await waitFor(() => expect(table.textContent).toContain('gate'));
    expect(within(table).getByText('0.5')).toBeTruthy();
    expect(screen.getByRole('link', { name: 'Add an objective' })).toBeTruthy();
  });

  it('says what a change does before it is kept, and keeps it with why and on which version it is based', async () => {
    const asked = open('/setup/fleet/objectives/gate');
    fireEvent.change(await screen.findByLabelText(/Back within/), { target: { value: '2' } });
    expect((await screen.findByTestId('does')).textContent).toContain('0 better, 1 worse of 3');
    expect(screen.getByText('it would take 10 min, 5 min is allowed')).toBeTruthy();
    fireEvent.change(screen.getByLabelText('Why'), { target: { value: 'tried' } });
    fireEvent.click(screen.getByRole('button', { name: 'Keep it' }));
    await waitFor(() => {
      const kept = asked.find((a) => a.method === 'PUT');
      expect(kept?.body).toEqual({ ...gate, rtoSeconds: 120 });
    });
  });

  it('cannot be kept while a number is none, or what it would be is refused', async () => {
    open('/setup/fleet/objectives/gate', {
      'POST /api/fleet/preview': { ...preview, fault: 'rpoSeconds: is too large', member: 'rpoSeconds', changed: [] },
    });
    const lose = await screen.findByLabelText(/May lose/);
    fireEvent.change(lose, { target: { value: 'much' } });
    expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Keep it' }).disabled).toBe(true);
    fireEvent.change(lose, { target: { value: '1' } });
    await screen.findByText(/rpoSeconds: is too large/);
    expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Keep it' }).disabled).toBe(true);
  });

  it('says that somebody was faster', async () => {
    open('/setup/fleet/objectives/gate', {
      'PUT /api/fleet/objectives/gate': () => new Refusal(409, 'is 7, and the fleet is at version 9 by plan'),
    });
    fireEvent.change(await screen.findByLabelText(/Name/), { target: { value: 'Gates, again' } });
    fireEvent.click(screen.getByRole('button', { name: 'Keep it' }));
    expect(await screen.findByText(/at version 9 by plan/)).toBeTruthy();
  });

  it('shows what its removal does before it is removed for good', async () => {
    const asked = open('/setup/fleet/objectives/gate', { 'DELETE /api/fleet/objectives/gate': {} });
    fireEvent.click(await screen.findByRole('button', { name: 'Remove this objective' }));
    expect((await screen.findByTestId('does')).textContent).toContain('0 better, 1 worse');
    expect(asked.find((a) => a.path === '/api/fleet/preview')!.body).toEqual({
      list: 'objectives',
      id: 'gate',
      part: null,
    });
    expect(asked.some((a) => a.method === 'DELETE')).toBe(false);
    fireEvent.click(screen.getByRole('button', { name: 'Remove it for good' }));
    await waitFor(() => expect(asked.some((a) => a.method === 'DELETE')).toBe(true));
  });

  it('does not remove what something else names', async () => {
    open('/setup/fleet/objectives/gate', {
      'POST /api/fleet/preview': { ...preview, fault: 'database Tickets names it', member: 'objective' },
    });
    fireEvent.click(await screen.findByRole('button', { name: 'Remove this objective' }));
    await screen.findByText(/database Tickets names it/);
    expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Remove it for good' }).disabled).toBe(true);
  });

  it('shows how it came to be so, and changes nothing for who may not', async () => {
    open('/setup/fleet/objectives/gate', {}, ['operate']);
    expect(await screen.findByText(/agreed with ticketing/)).toBeTruthy();
    expect(screen.getByText('May lose, minutes: 15 → 0.5')).toBeTruthy();
    expect(screen.queryByRole('button', { name: 'Keep it' })).toBeNull();
  });
});

describe('what was agreed', () => {
  it('stands by service, with who agreed it, and what is past its end', async () => {
    const row: Schemas['AgreedRow'] = {
      database: 'tickets',
      name: 'Tickets',
      service: 'Ticketing',
      serviceOwner: 'head of sales',
      objective: 'gate',
      objectiveName: 'Gates',
      rpoSeconds: 30,
      rtoSeconds: 300,
      against: ['none', 'host'],
      proofDays: 60,
      owner: 'harbour master',
      reason: 'boarding',
      until: '2026-11-01T00:00:00Z',
    };
    server({
      'GET /api/places': places,
      'GET /api/agreed': {
        at: '2026-11-23T12:00:00Z',
        version: 7,
        rows: [row, { ...row, database: 'lost', name: 'Lost things', objective: null, service: null }],
      },
    });
    show(<AgreedPage />, '/agreed', ['operate'], '/agreed');
    const section = await screen.findByRole('region', { name: 'Ticketing' });
    expect(section.textContent).toContain('head of sales answers for it');
    expect(section.textContent).toContain('agreed by harbour master: boarding');
    expect(screen.getByRole('region', { name: 'No service' }).textContent).toContain('nothing was agreed');
  });
});
