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
