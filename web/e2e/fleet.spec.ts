import { expect, test } from '@playwright/test';
import { signIn } from './person';

test('a newcomer sees which databases would not survive the loss of their site, and why', async ({ page }) => {
  await signIn(page, 'look');
  await expect(page.getByTestId('answer')).toContainText('of 51 hold');
  await page.getByRole('button', { name: /^Loss:/ }).click();
  await page.getByRole('menuitem', { name: /^the site / }).click();
  await expect(page).toHaveURL(/loss=site/);
  await expect(page.getByTestId('answer')).toContainText('could not be restored');
  const spare = page.getByRole('row', { name: /Spare parts/ });
  await expect(spare).toContainText('unprotected');
  await expect(spare).toContainText('all of it');
  await expect(page.getByRole('complementary', { name: 'Needs you' })).toContainText(
    'Every copy (quay-s1) is lost together with the database',
  );
  await page.reload();
  await expect(page.getByRole('row', { name: /Spare parts/ })).toContainText('all of it');
  await page.getByRole('button', { name: 'Back to now' }).click();
  await expect(page.getByRole('row', { name: /Spare parts/ })).not.toContainText('all of it');
  await page.goBack();
  await expect(page).toHaveURL(/loss=site/);
});

test('the address holds filter, order and instant', async ({ page }) => {
  await signIn(page, 'look');
  await page.getByRole('textbox', { name: 'Filter' }).fill('payroll');
  await expect(page.getByRole('row', { name: /Pensions/ })).toBeVisible();
  await expect(page.getByRole('row', { name: /Vessel tracks/ })).toHaveCount(0);
  await expect(page).toHaveURL(/find=payroll/);
  await page.reload();
  await expect(page.getByRole('row', { name: /Vessel tracks/ })).toHaveCount(0);
  await expect(page.getByRole('row', { name: /Pensions/ })).toBeVisible();
});

test('everything by keyboard', async ({ page }) => {
  await signIn(page, 'operate');
  await page.keyboard.press('x');
  await expect(page).toHaveURL(/loss=host/);
  await page.keyboard.press('n');
  await page.keyboard.press('2');
  await expect(page.getByRole('heading', { name: 'Plans', level: 1 })).toBeVisible();
  await page.keyboard.press('4');
  await expect(page.getByRole('heading', { name: 'Recover', level: 1 })).toBeVisible();
  await page.keyboard.press('1');
  await expect(page.getByRole('heading', { name: 'Fleet' })).toBeVisible();
  await page.keyboard.press('/');
  await page.keyboard.type('tickets');
  await page.keyboard.press('Enter');
  await expect(page).toHaveURL(/databases\/tickets/);
  await expect(page.getByRole('img', { name: /Cover strip/ })).toBeVisible();
  await page.locator('h1').click();
  await page.keyboard.press(',');
  await expect(page).toHaveURL(/instant=/);
  const before = page.url();
  await page.keyboard.press(',');
  await expect(page).not.toHaveURL(before);
  await page.keyboard.press('r');
  await expect(page).toHaveURL(/recover\/tickets/);
  await page.keyboard.press('?');
  await expect(page.getByRole('dialog', { name: 'Keys' })).toBeVisible();
});

test('rows by arrows and Enter', async ({ page }) => {
  await signIn(page, 'look', '/fleet?order=need');
  await page
    .getByRole('row', { name: /Paint shop/ })
    .getByRole('link')
    .focus();
  await page.keyboard.press('ArrowDown');
  // The row that is moved to is drawn with the next frame.
  await expect(page.getByRole('row', { name: /Paint shop/ }).getByRole('link')).not.toBeFocused();
  const name = await page.evaluate(() => document.activeElement?.textContent);
  await page.keyboard.press('Enter');
  await expect(page.getByRole('heading', { level: 1 })).toHaveText(name!);
});
