import { fireEvent, render, screen, waitFor } from '@testing-library/react';
import { useRef } from 'react';
import { describe, expect, it, vi } from 'vitest';
import { fleetPage, fleetRow } from '../tests/fixtures';
import { places, server, show } from '../tests/page';
import { FindField } from './FindField';
import { PageFault } from './PageFault';
import { withPremise } from './premise';
import { PremiseLine } from './PremiseLine';
import { moveInstant, useKeys } from './useKeys';

const page = {
  ...fleetPage(fleetRow()),
  answer: { databases: 48, hold: 44, loseTooMuch: 3, takeTooLong: 1, nothing: 2 },
};
const address = () => screen.getByTestId('address').textContent;
const answers = {
  'GET /api/places': {
    ...places,
    things: [
      { kind: 'site', id: 'quay', name: 'Quayside' },
      { kind: 'host', id: 'quay-h1', name: 'quay-h1' },
    ],
  },
  'GET /api/fleet': page,
};

describe('the premise', () => {
  it('is answered for the whole fleet in words', async () => {
    const asked = server(answers);
    show(<PremiseLine />, '/fleet?loss=host');
    expect((await screen.findByTestId('answer')).textContent).toBe(
      '44 of 48 hold · 3 lose too much · 1 takes too long · 2 could not be restored',
    );
    expect(asked.find((a) => a.path === '/api/fleet')!.query.get('loss')).toBe('host');
    expect(screen.getByRole('region').textContent).toMatch(/^Suppose we lose ?the host of each database ?at ?now/);
  });

  it('names one site, and goes back to now as a whole', async () => {
    server(answers);
    show(<PremiseLine />, '/fleet?loss=site%3Aquay&at=2026-11-20T06:00:00Z&only=breached');
    await screen.findByRole('button', { name: 'Loss: site Quayside' });
    screen.getByRole('button', { name: /^Instant: Fri 20 Nov/ });
    fireEvent.click(screen.getByRole('button', { name: 'Back to now' }));
    expect(address()).toBe('/fleet?only=breached');
    expect(screen.queryByRole('button', { name: 'Back to now' })).toBeNull();
  });

  it('takes one of the places of the fleet', async () => {
    server(answers);
    show(<PremiseLine />, '/fleet');
    fireEvent.click(screen.getByRole('button', { name: 'Loss: nothing' }));
    fireEvent.click(await screen.findByRole('menuitem', { name: 'Quayside' }));
    expect(address()).toBe('/fleet?loss=site:quay');
  });

  it('takes an instant in local time, none that is to come and none that is no time', async () => {
    server(answers);
    show(<PremiseLine />, '/fleet');
    await screen.findByTestId('answer');
    fireEvent.click(screen.getByRole('button', { name: 'Instant: now' }));
    const field = screen.getByLabelText(/^Instant, local time/);
    const suppose = screen.getByRole<HTMLButtonElement>('button', { name: 'Suppose' });
    fireEvent.change(field, { target: { value: 'noon' } });
    expect(suppose.disabled).toBe(true);
    fireEvent.change(field, { target: { value: '2999-01-01 12:00' } });
    screen.getByText('Lies in the future');
    expect(suppose.disabled).toBe(true);
    fireEvent.change(field, { target: { value: '2026-11-20 07:00' } });
    fireEvent.click(suppose);
    await waitFor(() => expect(address()).toBe('/fleet?at=2026-11-20T06:00:00Z'));
  });

  it('goes along to other pages, and nothing else does', () => {
    expect(withPremise('/plans', '?loss=host&only=breached&at=x', { add: 'y' })).toBe('/plans?loss=host&at=x&add=y');
    expect(withPremise('/plans', '?only=breached')).toBe('/plans');
  });
});

describe('the find field', () => {
  function Find() {
    return <FindField inputRef={useRef<HTMLInputElement>(null)} />;
  }

  it('asks the server and goes to what is chosen, the premise kept', async () => {
    const asked = server(answers);
    show(<Find />, '/plans?loss=host');
    const field = screen.getByRole('combobox');
    expect(asked).toHaveLength(0);
    fireEvent.change(field, { target: { value: 'tick' } });
    fireEvent.click(await screen.findByRole('option', { name: /Tickets · Ticketing · quay-h1/ }));
    expect(asked.at(-1)!.query.get('find')).toBe('tick');
    expect(address()).toBe('/databases/tickets?loss=host');
  });
});

describe('keys', () => {
  const find = vi.fn();
  const help = vi.fn();
  function Page() {
    useKeys({ find, help });
    return (
      <>
        <input aria-label="text" />
        <div role="dialog">
          <button>within</button>
        </div>
        <div data-database="fares">
          <button>row</button>
        </div>
      </>
    );
  }
  const press = (key: string, on: Element = document.body, more: object = {}) =>
    fireEvent.keyDown(on, { key, ...more });

  it('go to areas, find, and help', () => {
    show(<Page />, '/fleet?loss=host');
    press('2');
    expect(address()).toBe('/plans?loss=host');
    press('/');
    press('?');
    expect([find, help].map((f) => f.mock.calls.length)).toEqual([1, 1]);
  });

  it('go through the losses and round, and back to now', () => {
    show(<Page />, '/fleet?at=2026-11-20T06:00:00Z');
    const seen = ['host', 'array', 'site', 'hostile', 'none'].map(
      () => (press('x'), address()!.match(/loss=(\w+)/)?.[1]),
    );
    expect(seen).toEqual(['host', 'array', 'site', 'hostile', undefined]);
    press('n');
    expect(address()).toBe('/fleet');
  });

  it('recover the chosen row, or the database one looks at', () => {
    show(<Page />, '/fleet');
    press('r');
    expect(address()).toBe('/fleet');
    press('r', screen.getByText('row'));
    expect(address()).toBe('/recover/fares');
  });

  it('leave alone who writes, who chose a combination, and who answers a question', () => {
    show(<Page />, '/fleet');
    press('2', screen.getByLabelText('text'));
    press('2', screen.getByText('within'));
    press('2', document.body, { ctrlKey: true });
    expect(address()).toBe('/fleet');
  });

  it('move the instant by a set, with Shift by a day', () => {
    show(<Page />, '/fleet');
    const moves: unknown[] = [];
    const hear = (e: Event) => moves.push((e as CustomEvent).detail);
    window.addEventListener(moveInstant, hear);
    press(',');
    press('>', document.body, { shiftKey: true });
    window.removeEventListener(moveInstant, hear);
    expect(moves).toEqual([
      { by: -1, day: false },
      { by: 1, day: true },
    ]);
  });
});

describe('a page that cannot be drawn', () => {
  it('says so within the frame, and another page is drawn', async () => {
    const quiet = vi.spyOn(console, 'error').mockImplementation(() => undefined);
    const Broken = () => {
      throw new Error('it has no name');
    };
    const { rerender } = render(
      <PageFault page="/a">
        <Broken />
      </PageFault>,
    );
    await screen.findByText(/it has no name/);
    rerender(<PageFault page="/b">all is well</PageFault>);
    screen.getByText('all is well');
    quiet.mockRestore();
  });
});
