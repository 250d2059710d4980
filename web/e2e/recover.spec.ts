import { expect, test } from '@playwright/test';
import { post, signIn } from './person';

test('behind the bad change of Monday, held, checked, released, proven', async ({ page }) => {
  await signIn(page, 'admin', '/recover/harbour-sailings');
  expect(await post(page, '/api/world/pace', { pace: 900 })).toBe(204);
  await page.getByLabel('Just before').click();
  await page.getByRole('option', { name: /Timetable import cancels 312 sailings/ }).click();
  await expect(page.getByLabel('Instant, local time')).toHaveValue(/07:39:59\.999$/);
  await expect(page.getByText('nothing before the instant wanted is lost')).toBeVisible();
  await expect(page.getByRole('region', { name: 'Ways compared' })).toContainText('best here');
  await page.getByLabel('Name of the new instance').fill('e2e-behind-monday');
  await page.getByLabel('A query of your own to check').fill('count cancelled');
  await page.getByRole('button', { name: 'Restore to a new instance' }).click();
  await expect(page.getByText('Held for a look')).toBeVisible({ timeout: 120_000 });
  const measured = page.getByRole('complementary', { name: 'Measured' });
  await expect(measured).toContainText('All 6 checks passed');
  await expect(measured).toContainText('absent, committed after the instant restored to');
  await page.getByRole('button', { name: 'Release: let clients in' }).click();
  await expect(page.getByTestId('run-state')).toHaveText('done');
  await page.getByRole('link', { name: 'Its entry in the ledger' }).click();
  await expect(page.getByTestId('ledger-state')).toContainText('hold');
  await expect(page.getByRole('listitem').first()).toContainText('restore, released');
  await page.getByRole('listitem').first().getByRole('link', { name: 'harbour-sailings' }).click();
  await expect(
    page.getByRole('complementary', { name: 'About this database' }).getByRole('link', { name: 'the run' }).first(),
  ).toBeVisible();
  await post(page, '/api/world/pace', { pace: 1 });
});

test('a change of premise changes the ways back', async ({ page }) => {
  await signIn(page, 'operate', '/recover/tickets');
  const ways = page.getByRole('region', { name: 'By sets' });
  await expect(ways).toContainText('quay-h4');
  await page.getByRole('button', { name: /^Loss:/ }).click();
  await page.getByRole('menuitem', { name: /^the site / }).click();
  await expect(ways).not.toContainText('quay-h4');
  await expect(ways).toContainText('hill-h1');
});

test('an instant that cannot be restored offers the nearest ones', async ({ page }) => {
  await signIn(page, 'look', '/databases/cargo-manifests');
  const gap = await page.evaluate(async () => {
    const cover = (await (await fetch('/api/databases/cargo-manifests/cover')).json()) as {
      gaps: { from: string; atEnd: boolean }[];
    };
    return Date.parse(cover.gaps.find((g) => !g.atEnd)!.from) + 1_800_000;
  });
  await page.goto(`/recover/cargo-manifests?target=${new Date(gap).toISOString()}`);
  await expect(page.getByText('This instant cannot be restored.')).toBeVisible();
  await page.getByRole('button', { name: /^Nearest before/ }).click();
  await expect(page.getByText('This instant cannot be restored.')).toHaveCount(0);
  await expect(page.getByRole('button', { name: 'Restore to a new instance' })).toBeDisabled();
  await expect(page.getByText('Only who operates or administers may begin a restore.')).toBeVisible();
});

test('a run that is cancelled says that nothing is left behind', async ({ page }) => {
  await signIn(page, 'operate', '/recover/passes');
  await page.getByLabel('Name of the new instance').fill('e2e-cancelled');
  await page.getByRole('button', { name: 'Restore to a new instance' }).click();
  await page.getByRole('button', { name: 'Cancel and leave nothing behind' }).click();
  await expect(page.getByTestId('run-state')).toHaveText('ended by hand', { timeout: 60_000 });
});

test('beside itself under another name: what clashes is mapped first, it is looked at, and thrown away', async ({
  page,
}) => {
  await signIn(page, 'admin', '/recover/passes');
  expect(await post(page, '/api/world/pace', { pace: 900 })).toBe(204);
  await page.getByRole('region', { name: 'Ways compared' }).getByRole('link', { name: 'Under another name' }).click();
  await page.getByLabel('It is called').fill('passes-as-they-were');
  await page.getByRole('combobox', { name: 'Lives on' }).click();
  await page.getByRole('option', { name: 'quay-h1' }).click();
  const names = page.getByRole('region', { name: 'Names it brings' });
  await expect(names.getByRole('row').filter({ hasText: 'passes.pages' })).toContainText('Season passes');
  const file = names.getByLabel('file passes.pages is called');
  await expect(file).toHaveAttribute('placeholder', 'passes-as-they-were.pages');
  await file.fill('passes.log');
  await expect(page.getByText(/there is a file called 'passes.log' already/)).toBeVisible();
  await file.fill('');
  await page.getByRole('button', { name: 'Restore it, and hold it' }).click();
  await expect(page.getByText('Held for a look')).toBeVisible({ timeout: 120_000 });
  await expect(page.getByRole('complementary', { name: 'Decide and measured' })).toContainText(
    'passes-as-they-were.pages',
  );
  await page.getByRole('button', { name: 'Throw away' }).click();
  await expect(page.getByTestId('run-state')).toHaveText('done');
  await post(page, '/api/world/pace', { pace: 1 });
});
