import { fireEvent, screen, waitFor } from '@testing-library/react';
import { afterAll, describe, expect, it, vi } from 'vitest';
import { places, Refusal, server, show, type Asked } from '../../tests/page';
import { PasswordDialog } from './PasswordDialog';
import { PeoplePanel } from './PeoplePanel';
import { TokensPanel } from './TokensPanel';
import WelcomePage from './WelcomePage';

const ada = {
  name: 'ada',
  displayName: 'Ada',
  roles: ['administer'],
  disabled: false,
  hasPassword: true,
  fromDemo: false,
};
const nils = { ...ada, name: 'nils', displayName: 'Nils (nights)', roles: ['look'], hasPassword: false };
const type = (label: string, value: string) => fireEvent.change(screen.getByLabelText(label), { target: { value } });
const press = (name: string) => fireEvent.click(screen.getByRole('button', { name }));
const sent = (asked: Asked[], method: string) => asked.filter((a) => a.method === method);

describe('people', () => {
  it('are added with roles, and their address is shown once', async () => {
    const asked = server({ 'GET /api/people': [ada], 'POST /api/people': { path: '/welcome#c0de', goodForHours: 48 } });
    show(<PeoplePanel />);
    await screen.findByText('Ada');
    press('Add somebody…');
    type('Name to sign in by *', 'nils');
    fireEvent.click(screen.getByLabelText('They operates'));
    press('Add');
    expect((await screen.findByTestId('one-time')).textContent).toContain('/welcome#c0de');
    expect(sent(asked, 'POST')[0]!.body).toEqual({ name: 'nils', displayName: null, roles: ['look', 'operate'] });
    press('Done');
    expect(screen.queryByTestId('one-time')).toBeNull();
  });

  it('get other roles, are kept out and let in again, and the last who administers stays', async () => {
    let answer: unknown = undefined;
    const asked = server({
      'GET /api/people': [ada, nils],
      'PUT /api/people/nils': () => answer ?? {},
      'PUT /api/people/ada': () => new Refusal(409, 'ada is the last who administers: nobody could change this again'),
    });
    show(<PeoplePanel />);
    await screen.findByText('no password yet');
    fireEvent.click(screen.getByLabelText('nils plans'));
    await waitFor(() => expect(sent(asked, 'PUT')).toHaveLength(1));
    expect(sent(asked, 'PUT')[0]!.body).toMatchObject({ roles: ['look', 'plan'], disabled: false });
    answer = {};
    fireEvent.click(screen.getAllByRole('button', { name: 'Keep out' })[1]!);
    await waitFor(() => expect(sent(asked, 'PUT')[1]?.body).toMatchObject({ disabled: true }));
    fireEvent.click(screen.getAllByRole('button', { name: 'Keep out' })[0]!);
    await screen.findByText(/the last who administers/);
  });
});

describe('tokens', () => {
  it('are made for a purpose, shown once, and revoked', async () => {
    const token = {
      id: 't1',
      name: 'nightly report',
      role: 'look',
      madeBy: 'ada',
      madeAt: '2026-11-20T08:00:00Z',
      endsAt: '2027-02-20T08:00:00Z',
      usedAt: null,
      revokedAt: null as string | null,
    };
    const asked = server({
      'GET /api/places': places,
      'GET /api/tokens': () => [token],
      'POST /api/tokens': { id: 't2', token: 'imbrek_secret', endsAt: token.endsAt },
      'POST /api/tokens/t1/revoke': () => {
        token.revokedAt = '2026-11-23T12:00:00Z';
        return {};
      },
    });
    show(<TokensPanel />);
    await screen.findByText('nightly report');
    expect(screen.getByText(/never used/)).toBeTruthy();
    type('What it is for *', 'metrics');
    press('Make a token');
    expect((await screen.findByTestId('one-time')).textContent).toBe('imbrek_secret');
    expect(sent(asked, 'POST')[0]!.body).toEqual({ name: 'metrics', role: 'look', days: 90 });
    press('Revoke');
    await screen.findByText('revoked');
  });
});

describe('the own password', () => {
  it('is changed by who knows the old one', async () => {
    const asked = server({
      'POST /api/me/password': (a: Asked) =>
        (a.body as { current: string }).current === 'old'
          ? {}
          : new Refusal(400, 'The password you have now is another'),
    });
    show(<PasswordDialog onClose={() => undefined} />);
    type('Password now *', 'wrong');
    type('New password *', 'a-long-password-1');
    press('Change it');
    await screen.findByText(/is another/);
    type('Password now *', 'old');
    press('Change it');
    await screen.findByText(/It is changed/);
    expect(sent(asked, 'POST').at(-1)!.body).toEqual({ current: 'old', wanted: 'a-long-password-1' });
  });
});

describe('a one-time address', () => {
  const went = vi.fn();
  const here = window.location;
  vi.stubGlobal('location', { ...here, hash: '#c0de', assign: went, origin: 'http://imbrek.test' });
  afterAll(() => vi.stubGlobal('location', here));

  it('asks who comes first of all for a name, and signs them in', async () => {
    const asked = server({
      'POST /api/welcome/look': { name: null, displayName: null },
      'POST /api/welcome': { name: 'first' },
      'POST /api/sign-in': {},
    });
    show(<WelcomePage />);
    await screen.findByLabelText('Name *');
    type('Name *', 'first');
    type('Password *', 'a-long-password-1');
    press('Set it and sign in');
    await waitFor(() => expect(went).toHaveBeenCalledWith('/'));
    expect(sent(asked, 'POST').map((a) => a.path)).toEqual(['/api/welcome/look', '/api/welcome', '/api/sign-in']);
    expect(asked[1]!.body).toMatchObject({ code: 'c0de', name: 'first', password: 'a-long-password-1' });
  });

  it('says when it was used', async () => {
    server({ 'POST /api/welcome/look': new Refusal(404, 'This address was used, or its time is over') });
    show(<WelcomePage />);
    await screen.findByText(/was used/);
  });
});
