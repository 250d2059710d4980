import { expect, test } from '@playwright/test';
import { post, signIn } from './person';
import { expectReadable } from './readable';

test('the wake and a replica, by keyboard, readable by all', async ({ page }) => {
  await signIn(page, 'look');
  await page.keyboard.press('5');
  await expect(page.getByRole('heading', { name: 'Replicas', level: 1 })).toBeVisible();
  // Those in step stand last; of a long list only what is in sight is drawn.
  await page.getByLabel('Filter').fill('gates');
  await expect(page.getByRole('row', { name: /gate-scans-hill/ })).toBeVisible();
  await page.getByLabel('Filter').fill('');
  await expectReadable(page);

  await page.getByRole('link', { name: 'tickets-north' }).focus();
  await page.keyboard.press('Enter');
  await expect(page).toHaveURL(/replicas\/tickets-north/);
  await page.getByRole('button', { name: 'Take over' }).click();
  await expect(page.getByText('A second person approves it')).toBeVisible();
  await expect(page.getByRole('button', { name: 'Ask for it' })).toBeDisabled();
  await expectReadable(page);

  for (const width of [1024, 390]) {
    await page.setViewportSize({ width, height: 800 });
    for (const path of ['/replicas', '/replicas/tickets-north', '/replicas/new?database=tickets&host=hill-h2']) {
      await page.goto(path);
      await expect(page.locator('h1')).toBeVisible();
      await expect
        .poll(() => page.evaluate(() => document.documentElement.scrollWidth), { message: `${path} at ${width}` })
        .toBeLessThanOrEqual(width);
    }
  }
});

test('a full volume for log is mended, and what it is worth is there again', async ({ page }) => {
  await signIn(page, 'admin', '/replicas/customs-hill');
  await expect(page.getByText('It cannot go on:')).toBeVisible();
  await expect(page.getByText('It is no way back from any loss now.')).toBeVisible();
  expect(await post(page, '/api/world/pace', { pace: 900 })).toBe(204);
  await page.getByRole('button', { name: 'Mend' }).click();
  await page.getByRole('button', { name: 'Mend it' }).click();
  await expect(page.getByTestId('run-state')).toHaveText('done');
  await expect(page.getByText('customs-hill is back, by log').first()).toBeVisible();
  await post(page, '/api/world/pace', { pace: 1 });
  await page.goto('/replicas/customs-hill');
  await expect(page.getByText(/It is a way back from 3 of 5 losses/)).toBeVisible();
});
