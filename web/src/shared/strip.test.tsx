import { render, screen } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import { CoverStrip, describe as read, type Cover } from './CoverStrip';
import { curvePoints } from './ExposureCurve';

const at = (minutes: number) => new Date(Date.UTC(2026, 2, 1, 0, minutes)).toISOString();

const cover: Cover = {
  at: at(600),
  from: at(0),
  to: at(600),
  rpoSeconds: 900,
  tiles: [
    {
      kind: 'full',
      store: 's1',
      from: at(10),
      to: at(10),
      sets: 1,
      set: 'f',
      damaged: false,
      locked: false,
      removed: false,
      lost: false,
    },
    {
      kind: 'log',
      store: 's1',
      from: at(10),
      to: at(200),
      sets: 12,
      set: null,
      damaged: false,
      locked: false,
      removed: false,
      lost: false,
    },
  ],
  recoverable: [
    { from: at(10), to: at(200) },
    { from: at(300), to: at(300) },
  ],
  gaps: [
    { from: at(200), to: at(200.001), atEnd: false, beforeFirst: false, reasons: ['log l7: copy in s1 is damaged'] },
  ],
  steps: [
    { at: at(0), to: at(20), fromSeconds: null, toSeconds: null },
    { at: at(20), to: at(210), fromSeconds: 600, toSeconds: 12_000 },
    { at: at(210), to: at(600), fromSeconds: 600, toSeconds: 24_000 },
  ],
  columns: [],
  replicas: [],
  marks: [],
};

describe('cover strip', () => {
  it('draws a gap narrower than a pixel', () => {
    const { container } = render(<CoverStrip cover={cover} zone="UTC" />);
    const gaps = [...container.querySelectorAll('rect[fill="url(#gap)"]')];
    expect(
      gaps.some((g) => Number(g.getAttribute('width')) >= 2 && g.querySelector('title')?.textContent?.includes('l7')),
    ).toBe(true);
  });

  it('draws a band for each replica up to what it has received, and steps down where it was cut off', () => {
    const replicas = [
      {
        replica: 'tickets-hill',
        spans: [
          { from: at(0), to: at(200) },
          { from: at(300), to: at(590) },
        ],
        receivedTo: at(590),
        whyNot: null,
      },
      { replica: 'tickets-north', spans: [], receivedTo: null, whyNot: 'it is lost with site:north' },
    ];
    render(<CoverStrip cover={{ ...cover, replicas }} zone="UTC" />);
    const hill = screen.getByTestId('followed-tickets-hill');
    expect(hill.querySelectorAll('rect')).toHaveLength(2);
    expect(hill.querySelectorAll('path')).toHaveLength(1);
    expect(hill.querySelector('title')!.textContent).toContain('has received all up to');
    const north = screen.getByTestId('followed-tickets-north');
    expect(north.querySelectorAll('rect')).toHaveLength(0);
    expect(north.querySelector('title')!.textContent).toBe(
      'tickets-north: nothing of it is known; it is lost with site:north',
    );
  });

  it('says in words what it shows', () => {
    render(<CoverStrip cover={cover} zone="UTC" />);
    expect(screen.getAllByRole('img').some((e) => e.getAttribute('aria-label')?.includes('2 tiles, 1 gaps'))).toBe(
      true,
    );
  });

  it('draws a single instant as a dot and a stretch as a line', () => {
    const { container } = render(<CoverStrip cover={cover} zone="UTC" />);
    expect(container.querySelectorAll('circle')).toHaveLength(1);
  });
});

describe('reading an instant', () => {
  it('tells what can be restored', () => expect(read(cover, Date.parse(at(100)), 'UTC')).toContain('can be restored'));
  it('tells what cannot, and the nearest before', () =>
    expect(read(cover, Date.parse(at(250)), 'UTC')).toContain('Nearest before: Sun 1 Mar 03:20:00, 50 min earlier'));
});

describe('exposure curve', () => {
  it('rises with time, drops when something becomes recoverable, and is broken where nothing is', () => {
    expect(curvePoints(cover).map((p) => p.seconds)).toEqual([null, null, 600, 12_000, 600, 24_000]);
  });
});
