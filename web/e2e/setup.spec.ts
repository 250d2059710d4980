import { expect, test } from '@playwright/test';
import { signIn } from './person';

test('who administers sets the pace and a fault, and the page tells', async ({ page }) => {
  await signIn(page, 'admin', '/setup');
  await page.getByRole('button', { name: 'Paused' }).click();
  await expect(page.getByText('demo world, paused')).toBeVisible();
  const clock = await page.getByTestId('clock').textContent();
  await page.getByRole('button', { name: 'Forward an hour' }).click();
  await expect(page.getByTestId('clock')).not.toHaveText(clock!);
  await page.getByLabel('north-t1 is full').click();
  await expect(page.getByRole('region', { name: 'What happened lately' })).toContainText('store north-t1 is full');
  await page.getByLabel('north-t1 is full').click();
  await expect(page.getByRole('region', { name: 'What happened lately' })).toContainText('has room again');
  await page.getByRole('button', { name: 'Real pace' }).click();
  await expect(page.getByText('demo world, real pace')).toBeVisible();
});

test('who only looks is told who may do it', async ({ page }) => {
  await signIn(page, 'look', '/setup');
  await expect(page.getByText('Who administers finds the controls of the simulated world here.')).toBeVisible();
});

test('a wrong password says so', async ({ page }) => {
  await page.goto('/');
  await page.getByLabel('Name').fill('look');
  await page.getByLabel('Password').fill('not this one');
  await page.getByRole('button', { name: 'Sign in' }).click();
  await expect(page.getByRole('alert')).toHaveText('Name or password is wrong');
});

test('a wrong file lists every fault, and nothing is imported', async ({ page }) => {
  await signIn(page, 'plan', '/setup');
  const fleet = {
    format: 'imbrek-fleet/1',
    sites: [{ id: 'a' }],
    arrays: [{ id: 'x', site: 'b' }],
    hosts: [{ id: 'h', site: 'a', writeBytesPerSecond: 0 }],
  };
  await page
    .getByLabel('Fleet file')
    .setInputFiles({ name: 'mine.json', mimeType: 'application/json', buffer: Buffer.from(JSON.stringify(fleet)) });
  await page.getByRole('button', { name: 'Import', exact: true }).click();
  await expect(page.getByRole('alert')).toContainText('Nothing was imported: 2 faults');
  await expect(page.getByRole('alert')).toContainText('arrays[0].site');
  await expect(page.getByRole('alert')).toContainText('hosts[0].writeBytesPerSecond');
});

test('somebody is added, sets a password by the address they are handed, and changes it', async ({ page, browser }) => {
  await signIn(page, 'admin', '/setup');
  const name = `nils-${Date.now().toString(36)}`;
  await page.getByRole('button', { name: 'Add somebody…' }).click();
  await page.getByLabel('Name to sign in by').fill(name);
  await page.getByLabel('They operates').check();
  await page.getByRole('button', { name: 'Add', exact: true }).click();
  const address = await page.getByTestId('one-time').textContent();
  await expect(page.getByTestId(`person-${name}`)).toContainText('no password yet');

  const theirs = await (await browser.newContext()).newPage();
  await theirs.goto(address!);
  await theirs.getByLabel('Password').fill('a-long-password-1');
  await theirs.getByRole('button', { name: 'Set it and sign in' }).click();
  await expect(theirs.getByTestId('answer')).toBeVisible();
  await theirs.getByRole('button', { name }).click();
  await theirs.getByRole('menuitem', { name: 'Change your password' }).click();
  await theirs.getByLabel('Password now').fill('a-long-password-1');
  await theirs.getByLabel('New password').fill('another-long-one-2');
  await theirs.getByRole('button', { name: 'Change it' }).click();
  await expect(theirs.getByRole('dialog')).toContainText('It is changed');
  await theirs.goto(address!);
  await expect(theirs.getByRole('alert')).toContainText('was used');

  // Kept out, they are out at once, and only then.
  await page.getByTestId(`person-${name}`).getByRole('button', { name: 'Keep out' }).click();
  await expect(page.getByTestId(`person-${name}`)).toContainText('may not sign in');
  await theirs.goto('/fleet');
  await expect(theirs.getByRole('button', { name: 'Sign in' })).toBeVisible();
});

test('a token is made for a script, shown once, works, and is revoked', async ({ page, request }) => {
  await signIn(page, 'admin', '/setup');
  const name = `report ${Date.now()}`;
  await page.getByLabel('What it is for').fill(name);
  await page.getByRole('button', { name: 'Make a token' }).click();
  const token = await page.getByTestId('one-time').textContent();
  const ask = () => request.get('/metrics', { headers: { Authorization: `Bearer ${token}` } });
  expect(await (await ask()).text()).toContain('imbrek_verdict');
  await page.getByRole('button', { name: 'Done' }).click();
  await page
    .getByRole('region', { name: 'Tokens for scripts' })
    .locator('div', { hasText: name })
    .getByRole('button', { name: 'Revoke' })
    .first()
    .click();
  await expect(page.getByText('revoked').first()).toBeVisible();
  expect((await ask()).status()).toBe(401);
});

test('equal failures are one row with their number, and each of them when asked', async ({ page }) => {
  await signIn(page, 'look', '/runs?state=failed');
  const row = page.getByRole('row', { name: /the database discards its log/ });
  await expect(row).toHaveCount(1);
  await expect(row).toContainText(/failed [\d,]+ times/);
  await row.getByRole('link', { name: /^since/ }).click();
  await expect.poll(() => row.count()).toBeGreaterThan(5);
});
