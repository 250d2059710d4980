import { fireEvent, screen, waitFor } from '@testing-library/react';
import { describe, expect, it, vi } from 'vitest';
import { Refusal, server, show } from '../../tests/page';
import { SignInPage } from './SignInPage';

const fill = (name: string, password: string) => {
  fireEvent.change(screen.getByLabelText(/^Name/), { target: { value: name } });
  fireEvent.change(screen.getByLabelText(/^Password/), { target: { value: password } });
  fireEvent.click(screen.getByRole('button', { name: 'Sign in' }));
};

describe('signing in', () => {
  it('hands name and password over once and goes on', async () => {
    const asked = server({ 'POST /api/sign-in': {} });
    const signedIn = vi.fn();
    show(<SignInPage onSignedIn={signedIn} />);
    fill('ada', 'a long password');
    await waitFor(() => expect(signedIn).toHaveBeenCalledOnce());
    expect(asked.map((a) => a.body)).toEqual([{ name: 'ada', password: 'a long password' }]);
  });

  it('says why not, and lets one try again', async () => {
    server({ 'POST /api/sign-in': () => new Refusal(401, 'Name or password is wrong.') });
    const signedIn = vi.fn();
    show(<SignInPage onSignedIn={signedIn} />);
    fill('ada', 'wrong');
    await screen.findByText('Name or password is wrong.');
    expect(signedIn).not.toHaveBeenCalled();
    expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Sign in' }).disabled).toBe(false);
  });
});
