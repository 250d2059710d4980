import { expect, test } from '@playwright/test';
import { post, signIn } from './person';
import { expectReadable } from './readable';

test('what is due, a drill before it is begun, the loss of a site, readable by all', async ({ page }) => {
  await signIn(page, 'look');
  await page.keyboard.press('6');
  await expect(page.getByRole('heading', { name: 'What must be proved', level: 1 })).toBeVisible();
  await expect(page.getByTestId('shown')).toContainText('With 95 % confidence at least');
  await expectReadable(page);

  await page.goto('/drills/new?database=tickets&kind=forced&ending=keep');
  await expect(page.getByText('Take the runbook along')).toBeVisible();
  await expect(page.getByText('Who operates begins it.')).toBeVisible();
  await expect(page.getByRole('button', { name: 'Begin the drill' })).toBeDisabled();
  await expectReadable(page);

  await page.goto('/drills/site?site=quayside');
  await expect(page.getByText(/miss their RTO/)).toBeVisible();
  await expectReadable(page);

  await page.goto('/drills/joint?of=group&id=gates');
  await expect(page.getByText('2 change roles')).toBeVisible();
  await expectReadable(page);

  for (const width of [1024, 390]) {
    await page.setViewportSize({ width, height: 800 });
    for (const path of [
      '/drills',
      '/drills/new?database=tickets',
      '/drills/site',
      '/drills/joint?of=site&id=quayside',
    ]) {
      await page.goto(path);
      await expect(page.locator('h1')).toBeVisible();
      await expect
        .poll(() => page.evaluate(() => document.documentElement.scrollWidth), { message: `${path} at ${width}` })
        .toBeLessThanOrEqual(width);
    }
  }
});

test('a drill of a service is given a date, people are told, and it is called off', async ({ page }) => {
  await signIn(page, 'admin', '/drills/joint?of=service&id=tides&kind=switchover&ending=home');
  await page.getByRole('button', { name: 'Set a date' }).click();
  await page.getByLabel('When').fill('2027-02-03 03:30');
  await page.getByLabel('Tell', { exact: true }).fill('port control, sales desk');
  await expectReadable(page);
  await page.getByRole('button', { name: 'Set it' }).click();
  const dated = page.getByRole('region', { name: 'Drills with a date' });
  const row = dated.getByText('service Harbour tides and sailings').first();
  await expect(row).toBeVisible();
  await expect(dated.getByText('told: port control, sales desk')).toBeVisible();
  await dated.getByRole('button', { name: 'Call it off' }).last().click();
  await expect(dated.getByText('told: port control, sales desk')).toBeHidden();
  // The gates have one next week, which the scenario has set.
  await dated.getByRole('link', { name: 'Begin it' }).first().click();
  await expect(page.getByText('2 change roles')).toBeVisible();
});

test('the gates are switched over and home again, people confirm it from a phone, and it is proved', async ({
  page,
}) => {
  await signIn(page, 'admin', '/drills/new?database=gate-passes&kind=switchover&ending=home');
  await page.setViewportSize({ width: 390, height: 800 });
  await expect(page.getByText('Take the runbook along')).toBeVisible();
  // Slow enough that a click on a busy machine is not minutes of somebody's time.
  expect(await post(page, '/api/world/pace', { pace: 20 })).toBe(204);
  await page.getByRole('button', { name: 'Begin the drill' }).click();
  for (const word of [
    'Everybody was told',
    'Send clients over',
    'Go home',
    'Everybody was told',
    'Send clients over',
  ]) {
    await page.getByRole('button', { name: word }).click({ timeout: 120_000 });
    await expect(page.getByRole('button', { name: word })).toBeHidden({ timeout: 60_000 });
  }
  await expect(page.getByTestId('run-state')).toHaveText('done', { timeout: 120_000 });
  await expect(page.getByTestId('drill-passed')).toHaveText('Passed');
  await expect(page.getByText(/Nobody could write for/)).toBeVisible();
  await expect(page.getByText(/0 of \d+ markers missing/)).toHaveCount(2);
  await expectReadable(page);
  await post(page, '/api/world/pace', { pace: 1 });
});
