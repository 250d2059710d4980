import { fireEvent, screen, waitFor } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import { places, Refusal, server, show } from '../../tests/page';
import { AskForRun } from './AskForRun';

const tasks = [
  { plan: 'counters', task: 'full', kind: 'full' },
  { plan: 'counters', task: 'log', kind: 'log' },
];
const oslo = 'Europe/Oslo';
const answers = { 'GET /api/places': places, 'POST /api/runs': { id: 'r1', due: '2026-11-24T01:30:00Z' } };

describe('asking for a run', () => {
  it('runs now and aside from the chain unless one says otherwise, and goes to the run', async () => {
    const asked = server(answers);
    show(<AskForRun tasks={tasks} databases={['tickets']} zone={oslo} />);
    fireEvent.click(screen.getByRole('button', { name: 'Run now' }));
    await waitFor(() => expect(screen.getByTestId('address').textContent).toBe('/runs/r1'));
    expect(asked.at(-1)!.body).toEqual({
      plan: 'counters',
      task: 'full',
      database: 'tickets',
      outsideChain: true,
      at: null,
    });
  });

  it('runs at a local time, said back before it is asked', async () => {
    const asked = server(answers);
    show(<AskForRun tasks={tasks.slice(0, 1)} databases={['tickets']} zone={oslo} />);
    fireEvent.change(screen.getByLabelText('At'), { target: { value: '2026-11-24 02:30' } });
    expect(screen.getByText('Tue 24 Nov 02:30 in Europe/Oslo')).toBeTruthy();
    fireEvent.click(screen.getByLabelText('outside the chain'));
    fireEvent.click(screen.getByRole('button', { name: 'Run then' }));
    await waitFor(() => expect(asked.length).toBeGreaterThan(0));
    expect(asked.at(-1)!.body).toMatchObject({ at: '2026-11-24T01:30:00Z', outsideChain: false });
  });

  it('does not ask for a time that cannot be read, nor for a log outside its chain', () => {
    server(answers);
    show(<AskForRun tasks={tasks.slice(1)} databases={['tickets']} zone={oslo} />);
    expect(screen.queryByLabelText('outside the chain')).toBeNull();
    fireEvent.change(screen.getByLabelText('At'), { target: { value: 'tomorrow' } });
    expect(screen.getByText('such as 2026-11-24 02:30')).toBeTruthy();
    expect(screen.getByRole('button', { name: 'Run now' }).hasAttribute('disabled')).toBe(true);
  });

  it('says why it was refused', async () => {
    server({
      ...answers,
      'POST /api/runs': new Refusal(409, 'you asked for this run at this time already', 'at'),
    });
    show(<AskForRun tasks={tasks.slice(0, 1)} databases={['tickets']} zone={oslo} />);
    fireEvent.click(screen.getByRole('button', { name: 'Run now' }));
    expect(await screen.findByText('you asked for this run at this time already')).toBeTruthy();
    expect(screen.getByTestId('address').textContent).toBe('/');
  });
});
