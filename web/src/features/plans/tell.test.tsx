import { fireEvent, screen } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import { show } from '../../tests/page';
import type { PlanDraft } from './draft';
import { TellPanel } from './TellPanel';

const tell = { people: ['database-team'], failure: true, lateness: true, silenceSeconds: null, recovery: false };

describe('who is told', () => {
  const changes: PlanDraft['tell'][] = [];
  const open = () => {
    changes.length = 0;
    show(<TellPanel tell={tell} onChange={(t) => changes.push(t)} />);
  };

  it('is a list of people and groups', () => {
    open();
    const field = screen.getByLabelText('People or groups');
    fireEvent.change(field, { target: { value: 'night-shift' } });
    fireEvent.keyDown(field, { key: 'Enter' });
    expect(changes).toEqual([{ ...tell, people: ['database-team', 'night-shift'] }]);
  });

  it('is told of what is chosen', () => {
    open();
    fireEvent.click(screen.getByLabelText('Lateness'));
    fireEvent.click(screen.getByLabelText('First success after a failure'));
    expect(changes).toEqual([
      { ...tell, lateness: false },
      { ...tell, recovery: true },
    ]);
  });

  it('is told of silence after a while that can be read', () => {
    open();
    const field = screen.getByLabelText('Silence for');
    fireEvent.change(field, { target: { value: 'a while' } });
    expect(changes).toEqual([]);
    fireEvent.change(field, { target: { value: '26 h' } });
    expect(changes).toEqual([{ ...tell, silenceSeconds: 93_600 }]);
  });
});
