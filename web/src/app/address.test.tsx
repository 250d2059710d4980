import { fireEvent, render, screen } from '@testing-library/react';
import { MemoryRouter, useLocation, useNavigate } from 'react-router';
import { describe, expect, it } from 'vitest';
import { useAddress } from './address';

function Page() {
  const [params, put] = useAddress();
  const { search } = useLocation();
  const back = useNavigate();
  return (
    <>
      <p>{search || 'nothing'}</p>
      <p>loss: {params.get('loss') ?? 'none'}</p>
      <button onClick={() => put({ loss: 'site' })}>site</button>
      <button onClick={() => put({ loss: '', way: 'copy' })}>empty</button>
      <button onClick={() => put({ loss: null }, true)}>away</button>
      <button onClick={() => back(-1)}>back</button>
    </>
  );
}

const press = (name: string) => fireEvent.click(screen.getByRole('button', { name }));

const open = (address: string) =>
  render(
    <MemoryRouter initialEntries={[address]}>
      <Page />
    </MemoryRouter>,
  );

describe('what was chosen, in the address', () => {
  it('keeps what is not spoken of, takes away what is null, and holds what is empty', () => {
    open('/x?at=now');
    press('site');
    expect(screen.getByText('?at=now&loss=site')).toBeDefined();
    press('empty');
    expect(screen.getByText('?at=now&loss=&way=copy')).toBeDefined();
    press('away');
    expect(screen.getByText('?at=now&way=copy')).toBeDefined();
    expect(screen.getByText('loss: none')).toBeDefined();
  });

  it('leads back by what was pushed, and not by what was replaced', () => {
    open('/x');
    press('site');
    press('empty');
    press('away');
    press('back');
    expect(screen.getByText('?loss=site')).toBeDefined();
    press('back');
    expect(screen.getByText('nothing')).toBeDefined();
  });
});
