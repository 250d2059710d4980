import { render, screen } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import { Said, saidIn } from './Said';

const text =
  'Hole of 14 h from 2026-11-24T09:57:00Z; copy in quay-s2 is there only from 2026-11-25 00:47:05.250Z, set s-20261124T0957 follows';

describe('what the server says', () => {
  it('has its instants in local time, and nothing else changed', () =>
    expect(saidIn(text, 'Europe/Oslo')).toBe(
      'Hole of 14 h from Tue 24 Nov 10:57:00; copy in quay-s2 is there only from Wed 25 Nov 01:47:05, set s-20261124T0957 follows',
    ));

  it('says the same on a page, with UTC on hover', () => {
    const { container } = render(<Said text={text} zone="Europe/Oslo" />);
    expect(container.textContent).toBe(saidIn(text, 'Europe/Oslo'));
    expect(screen.getByText('Tue 24 Nov 10:57:00')).toHaveProperty('title', '2026-11-24T09:57:00Z');
    expect(screen.getByText('Wed 25 Nov 01:47:05')).toHaveProperty('title', '2026-11-25T00:47:05.250Z');
  });

  it('may hold no instant', () =>
    expect(saidIn('nothing has been backed up since', 'UTC')).toBe('nothing has been backed up since'));
});
