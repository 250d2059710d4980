import { expect, test } from '@playwright/test';
import { signIn } from './person';

test('the hole in the log chain is on the strip with its reason', async ({ page }) => {
  await signIn(page, 'look', '/databases/cargo-manifests');
  await expect(page.getByRole('img', { name: /Cover strip .* 1 gaps|Cover strip .* gap/ })).toBeVisible();
  await page.getByText(/stretch(es)? that cannot be restored/).click();
  await expect(page.getByRole('listitem').filter({ hasText: /is in no set/ })).toBeVisible();
  await expect(page.getByText('at risk').first()).toBeVisible();
});

test('a set lights up its chain, a drag zooms, and the address remembers both', async ({ page }) => {
  await signIn(page, 'look', '/databases/tickets');
  await page.getByLabel('Kind').click();
  await page.getByRole('option', { name: 'differential' }).click();
  await page.getByRole('table', { name: 'Backup sets' }).getByRole('button').first().click();
  await expect(page.getByRole('status')).toContainText('needs 1 set');
  const strip = page.getByRole('img', { name: /Cover strip/ });
  // The set chosen may have scrolled the strip away, and figures that come in move it.
  await expect(async () => {
    await strip.scrollIntoViewIfNeeded();
    const box = (await strip.boundingBox())!;
    await page.mouse.move(box.x + 300, box.y + 60);
    await page.mouse.down();
    await page.mouse.move(box.x + 420, box.y + 60, { steps: 4 });
    await page.mouse.up();
    await expect(page).toHaveURL(/from=.*to=/, { timeout: 3000 });
  }).toPass();
  await page.reload();
  await expect(page.getByRole('status')).toContainText('needs 1 set');
});

test('thirty days of logs every five minutes stay readable and keep their gap', async ({ page }) => {
  await signIn(page, 'look', '/databases/cargo-manifests?days=30');
  const strip = page.getByRole('img', { name: /Cover strip/ });
  await expect(strip).toBeVisible();
  expect(await strip.locator('path').count()).toBeLessThan(400);
  expect(await strip.locator('rect[fill="url(#gap)"]').count()).toBeGreaterThan(0);
});

test('an incident is noted and can be gone behind', async ({ page }) => {
  await signIn(page, 'operate', '/databases/work-orders');
  await page.getByRole('button', { name: 'Note an incident' }).click();
  await page.getByLabel('What happened').fill('Stock count overwritten');
  await page.getByRole('button', { name: 'Note it' }).click();
  await expect(page.getByRole('complementary', { name: 'About this database' })).toContainText(
    'Stock count overwritten',
  );
  await page.getByRole('button', { name: 'Recover…' }).click();
  await page.getByLabel('Just before').click();
  await expect(page.getByRole('option', { name: /Stock count overwritten/ }).first()).toBeVisible();
});
