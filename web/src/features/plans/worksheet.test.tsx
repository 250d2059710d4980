import { act, fireEvent, screen, waitFor, within } from '@testing-library/react';
import { QueryClient, useIsMutating } from '@tanstack/react-query';
import { Link, Route, Routes } from 'react-router';
import { startTransition, useState } from 'react';
import { describe, expect, it } from 'vitest';
import { places, Refusal, server, show, type Asked } from '../../tests/page';
import type { PlanDraft } from './draft';
import PlanPage from './PlanPage';

const plan = {
  id: 'counters',
  name: 'Counters',
  members: { databases: [], services: ['ticketing'], tags: [], engines: [], objectives: [], except: [] },
  tasks: [
    {
      id: 'log',
      kind: 'log',
      recurrence: { rule: 'FREQ=MINUTELY;INTERVAL=15', start: '2026-01-01T00:00:00', timeZone: 'Europe/Oslo' },
      after: [],
      store: 'quay-s2',
      copyTo: ['hill-s1'],
      keep: { forSeconds: 14 * 86_400, newest: 0, daily: 0, weekly: 0, monthly: 0, yearly: 0, continuousSeconds: null },
      keepCopies: null,
      spreadSeconds: 0,
      offsets: [],
      attempts: 2,
    },
  ],
  tell: { people: ['database-team'] },
} as unknown as PlanDraft;

/** What a plan comes to: its log decides what could be lost. */
const consequences = (a: Asked) => {
  const draft = a.body as PlanDraft;
  const often = JSON.stringify(draft.tasks[0]?.recurrence).includes('5 minutes') ? 305 : 905;
  return {
    members: draft.members.services.length * 5 + draft.members.databases.length,
    evaluated: 5,
    caught: ['tickets', 'fares'],
    conflicting: [],
    newlyLeftOut: [],
    losses: [
      {
        loss: 'site',
        worstExposureSeconds: often,
        worstDatabase: 'Tickets',
        longestRestoreSeconds: 1500,
        slowestDatabase: 'Tickets',
        keepsRpo: 5,
        keepsRto: 5,
        judged: 5,
      },
    ],
    week: null,
    stores: [],
    clashes: [],
    findings: [],
    differences: often === 305 ? [{ member: 'tasks.log.recurrence', before: '15', after: '5' }] : [],
    words: { log: { text: often === 305 ? 'every 5 minutes' : 'every 15 minutes', next: [] } },
    milliseconds: 20,
  };
};

/** A plan that can be saved: the server counts its versions, as the real one does. */
function keeping(more: Record<string, unknown> = {}, save: (a: Asked) => unknown = () => undefined) {
  const versions = [{ number: 1, at: '2026-11-20T08:00:00Z', who: 'ada', changes: [], removed: false }];
  let kept = plan;
  return server({
    'GET /api/places': places,
    'GET /api/plans': { plans: [], uncovered: [], conflicting: [] },
    'GET /api/choices': {
      services: ['ticketing', 'harbour'],
      tags: [],
      engines: [],
      objectives: [],
      databases: ['paint-shop'],
    },
    'GET /api/plans/counters': () => ({ plan: kept, version: versions.length, versions: [...versions].reverse() }),
    'POST /api/consequences': consequences,
    'PUT /api/plans/counters': async (a: Asked) => {
      const refused = await save(a);
      if (refused) return refused;
      kept = a.body as PlanDraft;
      versions.push({
        number: versions.length + 1,
        at: '2026-11-23T12:00:00Z',
        who: 'ada',
        changes: [],
        removed: false,
      });
      return { version: versions.length };
    },
    ...more,
  });
}

const type = (label: string, value: string) => fireEvent.change(screen.getByLabelText(label), { target: { value } });
const press = (name: string) => fireEvent.click(screen.getByRole('button', { name }));
const address = () => screen.getByTestId('address').textContent;
const puts = (asked: Asked[]) => asked.filter((a) => a.method === 'PUT');
const opened = async (at: string, roles = ['plan']) => {
  show(<PlanPage />, at, roles, '/plans/:id');
  await screen.findByTestId('designed-site');
};

describe('the worksheet of a plan', () => {
  it('says while one types what it comes to, and saves nothing by itself', async () => {
    const asked = keeping();
    await opened('/plans/counters');
    expect(screen.getByTestId('designed-site').textContent).toContain('15 min 5 s');
    expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Save' }).disabled).toBe(true);
    type('When log', 'every 5 minutes');
    await waitFor(() => expect(screen.getByTestId('designed-site').textContent).toContain('5 min 5 s'));
    expect(puts(asked)).toEqual([]);
    press('Take back');
    await waitFor(() => expect(screen.getByTestId('designed-site').textContent).toContain('15 min 5 s'));
    expect(screen.queryByRole('button', { name: 'Take back' })).toBeNull();
  });

  it('goes to where a second person is waited for when one must agree first', async () => {
    keeping({ 'PUT /api/plans/counters': () => ({ version: null, waitsFor: 'r-7' }) });
    await opened('/plans/counters');
    type('When log', 'every 5 minutes');
    press('Save');
    await waitFor(() => expect(address()).toContain('/runs/r-7'));
  });

  it('is saved upon the version one saw, and then stands there as the next', async () => {
    const asked = keeping();
    await opened('/plans/counters?loss=site');
    type('When log', 'every 5 minutes');
    press('Save');
    await screen.findByText('version 2');
    expect(puts(asked).map((a) => a.query.get('basedOn'))).toEqual(['1']);
    expect(JSON.stringify(puts(asked)[0]?.body)).toContain('every 5 minutes');
    expect(address()).toBe('/plans/counters?loss=site');
    expect(screen.queryByRole('button', { name: 'Take back' })).toBeNull();
  });

  it('has no place but an age for what is shipped, and neither for what is applied', async () => {
    const asked = keeping();
    await opened('/plans/counters');
    const choose = (kind: string) => {
      fireEvent.mouseDown(within(screen.getByTestId('task-log')).getAllByRole('combobox')[0]!);
      fireEvent.click(screen.getByRole('option', { name: kind }));
    };
    choose('Ship: copy');
    await screen.findByText(/to the side of shipped replicas, kept there/);
    expect(screen.queryByLabelText('Store')).toBeNull();
    const keep = screen.getByLabelText<HTMLInputElement>('Keep');
    expect(keep.value).toBe('14 d');
    fireEvent.change(keep, { target: { value: '4 h' } });
    fireEvent.blur(keep);
    press('Save');
    await screen.findByText('version 2');
    expect((puts(asked)[0]?.body as PlanDraft).tasks[0]).toMatchObject({
      kind: 'shipCopy',
      store: null,
      copyTo: [],
      keep: { forSeconds: 14_400 },
    });
    choose('Ship: apply');
    expect(screen.queryByLabelText('Keep')).toBeNull();
  });

  it('takes databases in that were chosen elsewhere, and forgets them once they are saved', async () => {
    const asked = keeping();
    await opened('/plans/counters?add=paint-shop');
    expect(screen.getByTestId('caught').textContent).toContain('catches 6');
    press('Save');
    await screen.findByText('version 2');
    expect((puts(asked)[0]?.body as PlanDraft).members.databases).toEqual(['paint-shop']);
    await waitFor(() => expect(address()).toBe('/plans/counters'));
    expect(screen.queryByRole('button', { name: 'Take back' })).toBeNull();
  });

  it('leaves who went elsewhere while it was saved where they are', async () => {
    let done: () => void = () => undefined;
    const kept = new Promise<void>((resolve) => (done = resolve));
    const asked = keeping({}, () => kept);
    const Saving = () => {
      const saving = useIsMutating() > 0;
      const [drawn, setDrawn] = useState(false);
      // Where one is led is drawn when there is time for it: what is asked for after it is drawn no sooner.
      return (
        <button onClick={() => startTransition(() => setDrawn(true))}>
          {saving ? 'saving' : drawn ? 'drawn' : 'saved'}
        </button>
      );
    };
    show(
      <>
        <Saving />
        <Link to="/fleet">The fleet</Link>
        <Routes>
          <Route path="/plans/:id" element={<PlanPage />} />
          <Route path="*" element={null} />
        </Routes>
      </>,
      '/plans/counters',
      ['plan'],
    );
    await screen.findByTestId('designed-site');
    type('When log', 'every 5 minutes');
    press('Save');
    await screen.findByText('saving');
    fireEvent.click(screen.getByRole('link', { name: 'The fleet' }));
    done();
    fireEvent.click(await screen.findByText('saved'));
    await screen.findByText('drawn');
    expect(puts(asked)).toHaveLength(1);
    expect(address()).toBe('/fleet');
  });

  it('keeps what one typed when somebody else saved first, and says who may go on', async () => {
    keeping({}, () => new Refusal(409, 'somebody saved version 2 meanwhile'));
    await opened('/plans/counters');
    type('When log', 'every 5 minutes');
    press('Save');
    await screen.findByText(/somebody saved version 2 meanwhile/);
    expect(screen.getByLabelText<HTMLInputElement>('When log').value).toBe('every 5 minutes');
    expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Save' }).disabled).toBe(false);
  });

  it('says what is wrong beside the figures of the plan before, and is not saved', async () => {
    keeping({
      'POST /api/consequences': (a: Asked) =>
        JSON.stringify(a.body).includes('sometimes')
          ? new Refusal(400, '"sometimes" says no time', 'tasks[0].recurrence.words')
          : consequences(a),
    });
    await opened('/plans/counters');
    type('When log', 'sometimes');
    expect((await screen.findByTestId('plan-fault')).textContent).toContain('"sometimes" says no time');
    expect(screen.queryByText('every 15 minutes')).toBeNull();
    expect(screen.getByTestId('designed-site').textContent).toContain('15 min 5 s');
    expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Save' }).disabled).toBe(true);
    type('When log', 'every 5 minutes');
    await waitFor(() => expect(screen.queryByTestId('plan-fault')).toBeNull());
    expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Save' }).disabled).toBe(false);
  });

  it('adds tasks, and takes them out again', async () => {
    keeping();
    await opened('/plans/counters');
    const tasks = within(screen.getByRole('region', { name: 'Tasks' }));
    const kinds = () => tasks.getAllByLabelText(/^Kind of /).length;
    press('Add a task');
    await waitFor(() => expect(kinds()).toBe(2));
    fireEvent.click(tasks.getAllByRole('button', { name: /^More about/ }).at(-1)!);
    fireEvent.click(await tasks.findByRole('button', { name: /Remove/ }));
    await waitFor(() => expect(kinds()).toBe(1));
    expect(screen.queryByRole('button', { name: 'Take back' })).toBeNull();
  });

  it('can be removed by who plans, and then one is at the list', async () => {
    const asked = keeping({ 'DELETE /api/plans/counters': {} });
    await opened('/plans/counters?loss=site');
    press('Remove…');
    press('Keep it');
    expect(screen.queryByText(/nothing backs up/)).toBeNull();
    press('Remove…');
    screen.getByText(/nothing backs up/);
    press('Remove it');
    await waitFor(() => expect(address()).toBe('/plans?loss=site'));
    expect(asked.filter((a) => a.method === 'DELETE').map((a) => a.query.get('basedOn'))).toEqual(['1']);
  });

  it('is only looked at by who may not plan', async () => {
    keeping();
    await opened('/plans/counters', ['look']);
    type('When log', 'every 5 minutes');
    await waitFor(() => expect(screen.getByTestId('designed-site').textContent).toContain('5 min 5 s'));
    expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Only planners save' }).disabled).toBe(true);
    expect(screen.queryByRole('button', { name: /^Remove/ })).toBeNull();
  });

  it('keeps a draft when somebody else saves meanwhile, says so, and lets one save on top of it or take theirs', async () => {
    const versions = [{ number: 1, at: '2026-11-20T08:00:00Z', who: 'ada', changes: [], removed: false }];
    let kept = plan;
    const asked = keeping({
      'GET /api/plans/counters': () => ({ plan: kept, version: versions.length, versions: [...versions].reverse() }),
    });
    const queries = new QueryClient({ defaultOptions: { queries: { retry: false } } });
    show(<PlanPage />, '/plans/counters', ['plan'], '/plans/:id', queries);
    await screen.findByTestId('designed-site');
    type('Name of the plan', 'Counters at night');
    kept = { ...plan, name: 'Counters by day' };
    versions.push({ number: 2, at: '2026-11-23T12:00:00Z', who: 'pia', changes: [], removed: false });
    await act(() => queries.invalidateQueries());
    await screen.findByText(/saved version 2 meanwhile/);
    expect((screen.getByLabelText('Name of the plan') as HTMLInputElement).value).toBe('Counters at night');
    expect((screen.getByRole('button', { name: 'Save' }) as HTMLButtonElement).disabled).toBe(true);
    press('Keep my draft, to save on top of it');
    press('Save');
    await waitFor(() => expect(puts(asked)[0]?.query.get('basedOn')).toBe('2'));

    // Who has no draft simply sees what is newest.
    expect((puts(asked)[0]!.body as PlanDraft).name).toBe('Counters at night');
  });

  it('names a task as people do when its recurrence cannot be understood, and leaves the words of the others alone', async () => {
    const two = { ...plan, tasks: [plan.tasks[0]!, { ...plan.tasks[0]!, id: 'night', kind: 'full' }] };
    keeping({
      'GET /api/plans/counters': { plan: two, version: 1, versions: [] },
      'POST /api/consequences': (a: Asked) =>
        JSON.stringify(a.body).includes('now and then')
          ? new Refusal(
              400,
              "Tasks[1].recurrence.words: 'now and then' cannot be understood",
              'tasks[1].recurrence.words',
            )
          : consequences(a),
      'GET /api/words': (a: Asked) =>
        a.query.get('text') === 'now and then'
          ? { rule: null, start: null, said: null, next: [], error: 'cannot be understood', examples: [] }
          : {
              rule: 'x',
              start: null,
              said: 'every 15 minutes',
              next: ['2026-11-23T12:15:00Z'],
              error: null,
              examples: [],
            },
    });
    await opened('/plans/counters');
    type('When night', 'now and then');
    await waitFor(() =>
      expect(screen.getByTestId('plan-fault').textContent).toContain("Full: 'now and then' cannot be understood"),
    );
    expect((screen.getByLabelText('When log') as HTMLInputElement).value).toBe('every 15 minutes');
    screen.getByText('next Mon 23 Nov 13:15');
  });
});
