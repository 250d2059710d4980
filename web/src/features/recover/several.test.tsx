import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import type { Schemas } from '../../api/client';
import { fleetPage, fleetRow } from '../../tests/fixtures';
import { places, Refusal, server, show } from '../../tests/page';
import SeveralPage from './SeveralPage';

const member = (changes: Partial<Schemas['SeveralMemberView']>): Schemas['SeveralMemberView'] => ({
  database: 'tickets',
  name: 'Tickets',
  latest: '2026-11-23T11:59:00Z',
  givesUpSeconds: 540,
  holdsBack: false,
  host: 'hill-h1',
  readySeconds: 900,
  whyNot: null,
  ...changes,
});
const sheet: Schemas['SeveralView'] = {
  title: 'Tickets and 1 more',
  common: '2026-11-23T11:50:00Z',
  seconds: 1500,
  members: [
    member({}),
    member({ database: 'fares', name: 'Fares', latest: '2026-11-23T11:50:00Z', givesUpSeconds: 0, holdsBack: true }),
  ],
  refused: null,
};
const open = (answer: Schemas['SeveralView'], at: string, more: Record<string, unknown> = {}) => {
  const asked = server({
    'GET /api/places': places,
    'GET /api/fleet': fleetPage(fleetRow()),
    'POST /api/recover/several/worksheet': answer,
    ...more,
  });
  show(<SeveralPage />, at, ['operate'], '/recover/several');
  return asked;
};

describe('several databases to one instant', () => {
  it('says which instant that is, who holds it back and what each gives up, and does what is shown', async () => {
    const asked = open(sheet, '/recover/several?databases=tickets,fares&loss=site', {
      'POST /api/recover/several': { id: 'r-8' },
    });
    const rows = within(await screen.findByRole('region', { name: 'Databases' }));
    rows.getByText('9 min');
    rows.getByText('nothing');
    expect(rows.getByText('holds the others back').closest('div')!.parentElement!.textContent).toContain('Fares');
    screen.getByText('25 min');
    fireEvent.click(screen.getByRole('button', { name: 'Restore all to this instant' }));
    await waitFor(() => expect(screen.getByTestId('address').textContent).toContain('/runs/r-8'));
    expect(asked.find((a) => a.path === '/api/recover/several')!.body).toEqual({
      databases: ['tickets', 'fares'],
      target: '2026-11-23T11:50:00Z',
      loss: 'site',
      suffix: null,
    });
  });

  it('takes all of a host, and no others that were found with it', async () => {
    open(sheet, '/recover/several', {
      'GET /api/places': { ...places, things: [{ kind: 'host', id: 'quay-h1', name: 'quay-h1', site: 'quayside' }] },
      'GET /api/fleet': fleetPage(
        fleetRow({ id: 'tickets', host: 'quay-h1' }),
        fleetRow({ id: 'server', host: 'quay-h1' }),
        fleetRow({ id: 'named-quay-h1', host: 'hill-h1' }),
      ),
    });
    fireEvent.mouseDown(await screen.findByRole('combobox', { name: 'All of a host' }));
    fireEvent.click(await screen.findByRole('option', { name: /quay-h1/ }));
    await waitFor(() => expect(screen.getByTestId('address').textContent).toContain('databases=tickets,server'));
    expect(screen.getByTestId('address').textContent).not.toContain('named');
  });

  it('asks nothing before one is chosen, and leaves out whom one does not want', async () => {
    const asked = open(sheet, '/recover/several');
    await screen.findByText('Choose at least one database.');
    expect(asked.some((a) => a.path.includes('worksheet'))).toBe(false);
  });

  it('leaves one out again', async () => {
    open(sheet, '/recover/several?databases=tickets,fares');
    fireEvent.click(await screen.findByRole('button', { name: 'Leave Fares out' }));
    expect(screen.getByTestId('address').textContent).toBe('/recover/several?databases=tickets');
  });

  it('says why it cannot be begun, and what the server refuses', async () => {
    open(
      { ...sheet, common: null, seconds: null, refused: 'there is no instant that all of them can be brought to' },
      '/recover/several?databases=tickets,fares',
    );
    await screen.findByText(/It cannot be begun: there is no instant/);
    const button = screen.getByRole<HTMLButtonElement>('button', { name: 'Restore all to this instant' });
    expect(button.disabled).toBe(true);
  });

  it('keeps what one chose when somebody else was there first', async () => {
    open(sheet, '/recover/several?databases=tickets,fares', {
      'POST /api/recover/several': new Refusal(409, 'tickets: somebody else is at it', 'databases'),
    });
    fireEvent.click(await screen.findByRole('button', { name: 'Restore all to this instant' }));
    await screen.findByText('tickets: somebody else is at it');
  });
});
