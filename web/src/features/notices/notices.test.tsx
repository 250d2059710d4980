import { screen } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import { places, Refusal, server, show } from '../../tests/page';
import NoticesPage from './NoticesPage';

const notice = (changes: object) => ({
  id: 1,
  firstAt: '2026-11-23T01:00:00Z',
  lastAt: '2026-11-23T01:30:00Z',
  kind: 'failed',
  people: ['ada', 'night watch'],
  subject: 'hill-s1 holds no more',
  count: 1,
  databases: ['tickets'],
  ...changes,
});

describe('the mailbox', () => {
  it('tells what has one cause as one message', async () => {
    const databases = Array.from({ length: 400 }, (_, i) => `d${i}`);
    server({ 'GET /api/places': places, 'GET /api/notices': [notice({ count: 400, databases })] });
    show(<NoticesPage />);
    const subject = await screen.findByText('hill-s1 holds no more');
    expect(subject.parentElement!.textContent).toContain(
      '400 times since Mon 23 Nov 02:00 · d0, d1, d2, d3, d4, d5 and 394 more',
    );
    screen.getByText('to ada, night watch');
  });

  it('tells a single failure without a since', async () => {
    server({ 'GET /api/places': places, 'GET /api/notices': [notice({})] });
    show(<NoticesPage />);
    expect((await screen.findByText(/1 time/)).textContent).toBe('1 time · tickets');
  });

  it('says what belongs there while it is empty', async () => {
    server({ 'GET /api/places': places, 'GET /api/notices': [] });
    show(<NoticesPage />);
    await screen.findByText(/Nobody was told anything yet/);
  });

  it('says what went wrong', async () => {
    server({ 'GET /api/places': places, 'GET /api/notices': () => new Refusal(503, 'PostgreSQL cannot be reached') });
    show(<NoticesPage />);
    await screen.findByText('PostgreSQL cannot be reached');
  });
});
