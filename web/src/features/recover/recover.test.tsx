import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import { cover, database, fleetPage, fleetRow, path, ways } from '../../tests/fixtures';
import { places, Refusal, server, show } from '../../tests/page';
import RecoverPage from './RecoverPage';

const answers = {
  'GET /api/databases/tickets': database(),
  'GET /api/databases/tickets/cover': cover(),
  'GET /api/fleet': fleetPage(fleetRow()),
  'GET /api/recover/tickets': ways(),
  'GET /api/places': places,
  'GET /api/runs': { runs: [], next: null },
};
const open = (changes: Record<string, unknown> = {}, address = '/recover/tickets', roles = ['administer']) => {
  const asked = server({ ...answers, ...changes });
  show(<RecoverPage />, address, roles, '/recover/:id');
  return asked;
};
const begin = () => screen.findByRole<HTMLButtonElement>('button', { name: 'Restore to a new instance' });

describe('recover', () => {
  it('begins with the latest instant that can be had', async () => {
    const asked = open();
    await begin();
    expect(asked.find((a) => a.path === '/api/recover/tickets')!.query.get('target')).toBe('2026-11-23T11:55:50Z');
    expect(screen.getByLabelText<HTMLInputElement>(/^Instant, local time/).value).toContain('2026-11-23 12:55:50');
  });

  it('says before one acts what is touched, how long it takes and what is lost', async () => {
    open();
    const column = within(await screen.findByRole('complementary', { name: 'Consequence' }));
    await begin();
    const text = column.getByText(/A new instance on/).textContent;
    expect(text).toContain('Tickets itself is not touched');
    expect(text).toContain('ready for a look in about 18 min 20 s');
    expect(text).toContain('back in service in 22 min, 1 h is allowed');
    expect(text).toContain('4 min 10 s before the instant wanted would be lost');
    column.getByText('800 GB are free');
    column.getByText('Sign-ins of the server');
  });

  it('sets ways side by side, the best first, and marks the one that takes too long', async () => {
    const slow = path({ host: 'north-h1', serviceSeconds: 5400, stores: ['north-o1', 'hill-s1'], logs: 0 });
    open({ 'GET /api/recover/tickets': ways({ alternatives: [slow] }) });
    await begin();
    const cards = within(screen.getByRole('region', { name: 'By sets' }));
    expect(cards.getAllByText(/^(Best by sets|Or)$/).map((x) => x.textContent)).toEqual(['Best by sets', 'Or']);
    cards.getByText('back in 22 min');
    cards.getByText('back in 1 h 30 min');
    expect(cards.getByText(/full → 3 logs/)).toBeTruthy();
  });

  it('goes the way one takes: asks for it and begins it', async () => {
    const other = path({ stores: ['hill-s1'], choice: { host: null, base: null, without: 'quay-s2' } });
    const asked = open({
      'GET /api/recover/tickets': ways({ alternatives: [other] }),
      'POST /api/recover': { id: 'r' },
    });
    await begin();
    fireEvent.click(screen.getByRole('button', { name: 'Go this way' }));
    await waitFor(() => expect(asked.at(-1)!.query.get('without')).toBe('quay-s2'));
    expect((await screen.findByTestId('way')).textContent).toContain('read nothing from quay-s2');
    expect(screen.getByText('Chosen')).toBeTruthy();
    await waitFor(async () => expect((await begin()).disabled).toBe(false));
    fireEvent.click(await begin());
    await waitFor(() => expect(asked.at(-1)!.body).toMatchObject({ without: 'quay-s2', base: null, host: null }));
  });

  it('goes any way again when one no longer insists', async () => {
    open({}, '/recover/tickets?without=quay-s2&base=tickets-full-1');
    expect((await screen.findByTestId('way')).textContent).toContain('by way of tickets-full-1, and that read nothing');
    fireEvent.click(screen.getByRole('button', { name: 'Any way' }));
    expect(screen.getByTestId('address').textContent).toBe('/recover/tickets');
    expect(screen.queryByTestId('way')).toBeNull();
  });

  it('goes to the nearest instant where the one wanted cannot be had', async () => {
    const asked = open(
      {
        'GET /api/recover/tickets': ways({
          nearest: {
            recoverable: false,
            before: '2026-11-23T08:00:00Z',
            after: '2026-11-23T10:00:00Z',
            reasons: ['a log set is damaged'],
          },
        }),
      },
      '/recover/tickets?target=2026-11-23T09:00:00Z',
    );
    await screen.findByText(/a log set is damaged/);
    fireEvent.click(screen.getByRole('button', { name: /^Nearest before/ }));
    await waitFor(() => expect(asked.at(-1)!.query.get('target')).toBe('2026-11-23T08:00:00Z'));
  });

  it('says why there is no way back, and offers none', async () => {
    open({
      'GET /api/recover/tickets': ways({ best: null, reason: 'every copy lies on what is lost', prechecks: [] }),
    });
    await screen.findByText(/every copy lies on what is lost/);
    expect(screen.queryByRole('button', { name: 'Restore to a new instance' })).toBeNull();
  });

  it('goes to a millisecond before what was noted', async () => {
    const asked = open();
    await begin();
    fireEvent.mouseDown(screen.getByRole('combobox', { name: /Just before/ }));
    fireEvent.click(screen.getByRole('option', { name: /Fares overwritten/ }));
    await waitFor(() => expect(asked.at(-1)!.query.get('target')).toBe('2026-11-23T08:59:59.999Z'));
  });

  it('takes an instant in local time, and none that is no time', async () => {
    const asked = open();
    await begin();
    const field = screen.getByLabelText(/^Instant, local time/);
    const before = asked.length;
    fireEvent.change(field, { target: { value: 'yesterday' } });
    fireEvent.keyDown(field, { key: 'Enter' });
    screen.getByText('Write it as 2026-11-23 07:40');
    expect(asked).toHaveLength(before);
    fireEvent.change(field, { target: { value: '2026-11-23 07:40' } });
    fireEvent.keyDown(field, { key: 'Enter' });
    await waitFor(() => expect(screen.getByTestId('address').textContent).toContain('target=2026-11-23T06:40:00Z'));
  });

  it('does what is shown: the target, the host and the names beside the button', async () => {
    const asked = open({ 'POST /api/recover': { id: 'r-9' } }, '/recover/tickets?host=hill-h1&loss=host');
    const button = await begin();
    fireEvent.change(screen.getByLabelText('Name of the new instance'), { target: { value: 'look' } });
    fireEvent.change(screen.getByLabelText('A query of your own to check'), { target: { value: 'count cancelled' } });
    const ends = screen.getByLabelText(/^Ends/);
    fireEvent.change(ends, { target: { value: 'some day' } });
    expect(button).toHaveProperty('disabled', true);
    fireEvent.change(ends, { target: { value: '2026-11-30 18:00' } });
    fireEvent.click(button);
    await waitFor(() => expect(screen.getByTestId('address').textContent).toBe('/runs/r-9?loss=host'));
    expect(asked.find((a) => a.method === 'POST')!.body).toEqual({
      database: 'tickets',
      target: '2026-11-23T12:00:00Z',
      loss: 'host',
      at: null,
      host: 'hill-h1',
      base: null,
      without: null,
      instance: 'look',
      query: 'count cancelled',
      before: null,
      until: '2026-11-30T17:00:00Z',
      checkWithin: null,
      settings: null,
      rehearse: false,
      inPlace: false,
    });
  });

  it('asks when a setting that it needs may be changed, and begins nothing before that is said', async () => {
    const settings = {
      needs: [{ host: 'hill-h2', setting: 'bulk loading', value: 'on', stated: 'off' }],
      window: { from: '2026-11-24T21:00:00Z', to: null, reason: 'new disks' },
    };
    const asked = open({ 'GET /api/recover/tickets': ways({ settings }), 'POST /api/recover': { id: 'r-9' } });
    const button = await begin();
    expect(button).toHaveProperty('disabled', true);
    expect(screen.getByRole('region', { name: 'Settings it needs' }).textContent).toContain(
      'On hill-h2 bulk loading is off, and must be on.',
    );
    fireEvent.mouseDown(screen.getByRole('combobox', { name: 'It may be changed' }));
    fireEvent.click(screen.getByRole('option', { name: /^in its next window, Tue 24 Nov 22:00:00: new disks$/ }));
    fireEvent.click(button);
    await waitFor(() => expect(screen.getByTestId('address').textContent).toContain('/runs/r-9'));
    expect(asked.find((a) => a.method === 'POST')!.body).toMatchObject({ settings: 'window' });
  });

  it('puts the database itself back, with what that costs said before, or says why it cannot be', async () => {
    const asked = open({ 'POST /api/recover': { id: 'r-3' } }, '/recover/tickets?host=hill-h1');
    await begin();
    const said = screen.getByText(/itself is put back to/).textContent;
    expect(said).toContain('the 4 min 10 s since then are not in it afterwards');
    expect(said).toContain('about 19 min and the hold');
    fireEvent.click(screen.getByRole('button', { name: 'Put it back in place' }));
    await waitFor(() => expect(screen.getByTestId('address').textContent).toContain('/runs/r-3'));
    expect(asked.find((a) => a.method === 'POST')!.body).toMatchObject({ inPlace: true, host: null, instance: null });
  });

  it('says why it cannot be put back in place', async () => {
    const none = { reaches: null, lostSeconds: null, seconds: null, serviceSeconds: null, givesUpSeconds: null };
    open({ 'GET /api/recover/tickets': ways({ inPlace: { ...none, whyNot: 'no plan says where to save it' } }) });
    await screen.findByText('It cannot be put back in place: no plan says where to save it.');
    expect(screen.queryByRole('button', { name: 'Put it back in place' })).toBeNull();
  });

  it('begins nothing after a failed precheck', async () => {
    open({
      'GET /api/recover/tickets': ways({
        prechecks: [{ name: 'Key', outcome: 'failed', detail: 'is not at Hillhouse' }],
      }),
    });
    expect((await begin()).disabled).toBe(true);
    screen.getByText('is not at Hillhouse');
    screen.getByText(/A precheck failed/);
  });

  it('begins nothing for who may only look', async () => {
    open({}, '/recover/tickets', ['look']);
    expect((await begin()).disabled).toBe(true);
    screen.getByText(/Only who operates/);
  });

  it('shows why the server refused and stays where it is', async () => {
    open({ 'POST /api/recover': () => new Refusal(409, 'the host has no room left', 'host') });
    fireEvent.click(await begin());
    await screen.findByText('the host has no room left');
    expect(screen.getByTestId('address').textContent).toBe('/recover/tickets');
  });

  it('finds the database by asking the server', async () => {
    const asked = open({
      'GET /api/fleet': (a: { query: URLSearchParams }) =>
        fleetPage(...(a.query.get('find') === 'fare' ? [fleetRow({ id: 'fares', name: 'Fares' })] : [fleetRow()])),
    });
    await begin();
    const field = screen.getByRole('combobox', { name: 'Database' });
    await waitFor(() => expect((field as HTMLInputElement).value).toBe('Tickets'));
    fireEvent.focus(field);
    fireEvent.change(field, { target: { value: 'fare' } });
    fireEvent.click(await screen.findByRole('option', { name: /^Fares/ }));
    expect(screen.getByTestId('address').textContent).toBe('/recover/fares');
    expect(asked.filter((a) => a.path === '/api/fleet').every((a) => a.query.get('take') === '12')).toBe(true);
  });

  it('stops before a commit that one chose, and no longer when another instant is chosen', async () => {
    const commit = {
      before: 17041472,
      at: '2026-11-23T11:55:45.947183Z',
      target: '2026-11-23T11:55:45.948Z',
      position: '0/1040840',
      transaction: 1359,
      name: 'before the change',
    };
    const asked = open({
      'GET /api/recover/tickets': ways({ stopsAtPositions: true }),
      'GET /api/databases/tickets/commits': [commit, { ...commit, before: 17041792, name: null, transaction: 1360 }],
      'POST /api/recover': { id: 'r' },
    });
    await begin();
    fireEvent.click(screen.getByRole('button', { name: 'Just before a commit' }));
    const stop = async () => {
      await screen.findByText('transaction 1360');
      fireEvent.click(screen.getByRole('button', { name: 'Stop before before the change' }));
    };
    await stop();
    fireEvent.click(await screen.findByRole('button', { name: 'Only the instant' }));
    expect(screen.queryByTestId('before')).toBeNull();
    await stop();
    expect((await screen.findByTestId('before')).textContent).toContain('before the change');
    await waitFor(() => expect(asked.some((a) => a.query.get('target') === commit.target)).toBe(true));
    await waitFor(async () => expect((await begin()).disabled).toBe(false));
    fireEvent.click(await begin());
    await waitFor(() => expect(asked.find((a) => a.method === 'POST')?.body).toMatchObject({ before: 17041472 }));
  });
});
