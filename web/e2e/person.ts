import { expect, type Page } from '@playwright/test';

export async function signIn(page: Page, name: string, path = '/fleet') {
  await page.goto(path);
  await page.getByLabel('Name').fill(name);
  await page.getByLabel('Password').fill('tarnholt-demo-1');
  await page.getByRole('button', { name: 'Sign in' }).click();
  await expect(page.getByTestId('answer')).toBeVisible();
}

/** Asks the API as the person of the page. */
export async function post(page: Page, path: string, body: object): Promise<number> {
  return page.evaluate(
    async ([p, b]) => {
      const me = (await (await fetch('/api/me')).json()) as { antiforgeryToken: string };
      const answer = await fetch(p as string, {
        method: 'POST',
        headers: { 'content-type': 'application/json', 'X-Imbrek-Token': me.antiforgeryToken },
        body: JSON.stringify(b),
      });
      return answer.status;
    },
    [path, body] as const,
  );
}
