import { describe, expect, it } from 'vitest';
import { byName, bytes, count, daysLater, duration, localTime, readLocal, startOfDay, utc, writeLocal } from './format';
import { localTicks } from './timeAxis';

describe('duration', () => {
  it.each([
    [0, '0 s'],
    [0.4, '0.4 s'],
    [59.6, '1 min'],
    [250, '4 min 10 s'],
    [3600, '1 h'],
    [93_600, '1 d 2 h'],
  ])('%d s is %s', (seconds, words) => expect(duration(seconds)).toBe(words));

  it('says when it is not known', () => expect(duration(null)).toBe('not known'));
});

describe('bytes', () => {
  it.each([
    [999, '999 B'],
    [1500, '1.5 kB'],
    [420e9, '420 GB'],
    [6e12, '6.0 TB'],
  ])('%d is %s', (n, words) => expect(bytes(n)).toBe(words));
});

describe('local time', () => {
  const oslo = 'Europe/Oslo';

  it('is read as the site reads it, in summer and in winter', () => {
    expect(utc(readLocal('2026-11-23 07:40', oslo)!)).toBe('2026-11-23T06:40:00Z');
    expect(utc(readLocal('2026-07-01 07:40:05.250', oslo)!)).toBe('2026-07-01T05:40:05.250Z');
    expect(utc(readLocal('2026-11-23T06:40:00Z', oslo)!)).toBe('2026-11-23T06:40:00Z');
  });

  it('is written so that it reads back the same', () => {
    for (const t of [
      '2026-03-29T00:59:59Z',
      '2026-03-29T01:00:00Z',
      '2026-09-01T12:00:00.001Z',
      '2026-12-31T23:30:00Z',
    ]) {
      expect(utc(readLocal(writeLocal(Date.parse(t), oslo), oslo)!)).toBe(t);
    }
  });

  it.each(['', 'yesterday', '2026-02-30 10:00', '2026-11-23', '23.11.2026 07:40'])('refuses %s', (text) =>
    expect(readLocal(text, oslo)).toBeNull(),
  );

  it('names day and time', () => expect(localTime('2026-11-23T06:40:00Z', oslo)).toBe('Mon 23 Nov 07:40:00'));

  it('begins a day where the clock is changed at midnight', () => {
    // Santiago puts the clock forward from 24:00 to 01:00, and back from 24:00 to 23:00.
    expect(utc(startOfDay(Date.parse('2026-09-06T12:00:00Z'), 'America/Santiago'))).toBe('2026-09-06T04:00:00Z');
    expect(utc(startOfDay(Date.parse('2026-04-04T12:00:00Z'), 'America/Santiago', 1))).toBe('2026-04-05T04:00:00Z');
    expect(utc(startOfDay(Date.parse('2026-10-24T12:00:00Z'), oslo, 1))).toBe('2026-10-24T22:00:00Z');
    expect(utc(startOfDay(Date.parse('2026-10-24T12:00:00Z'), oslo, 2))).toBe('2026-10-25T23:00:00Z');
    expect(utc(daysLater(Date.parse('2026-10-24T12:00:00Z'), oslo, 1))).toBe('2026-10-25T13:00:00Z');
  });
});

describe('ticks', () => {
  it('fall on local midnights across a clock change', () => {
    const from = Date.parse('2026-10-23T00:00:00Z');
    const ticks = localTicks(from, from + 5 * 86_400_000, 800, 'Europe/Oslo').filter((t) => t.day);
    expect(ticks.map((t) => utc(t.at))).toEqual([
      '2026-10-23T22:00:00Z',
      '2026-10-24T22:00:00Z',
      '2026-10-25T23:00:00Z',
      '2026-10-26T23:00:00Z',
      '2026-10-27T23:00:00Z',
    ]);
  });

  it('are never crowded', () => {
    for (const days of [0.05, 1, 7, 30, 365]) {
      expect(localTicks(0, days * 86_400_000, 900, 'UTC').length).toBeLessThanOrEqual(14);
    }
  });
});

describe('numbers and names', () => {
  it('keep their thousands apart', () => expect(count(1_234_567)).toBe('1,234,567'));

  it('are ordered as people order them', () =>
    expect(['Database 1200', 'database 300', 'Aft', 'Database 30'].toSorted(byName)).toEqual([
      'Aft',
      'Database 30',
      'database 300',
      'Database 1200',
    ]));
});
