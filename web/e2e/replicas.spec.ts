import AxeBuilder from '@axe-core/playwright';
import { expect, test, type Page } from '@playwright/test';
import { replicaRow, replicaView } from '../src/tests/fixtures';
import { signIn } from './person';

const cutOff = replicaRow({
  id: 'gates-north',
  database: 'gates',
  databaseName: 'Boarding gates',
  group: 'Boarding',
  state: 'broken',
  whyBroken: 'what it needs next is no longer kept at its source',
  frozenSince: '2026-11-23T10:00:00Z',
  receivedLagSeconds: 7203,
  appliedLagSeconds: 7400,
  toleratedOutageSeconds: 0,
});

/** The simulated world has no replicas yet: what the server would say of some. */
async function answer(page: Page) {
  const rows = [
    cutOff,
    replicaRow({ state: 'behind', receivedLagSeconds: 90, delaySeconds: 3600 }),
    replicaRow({ id: 'pay-hill' }),
  ];
  await page.route('**/api/replicas', (route) =>
    route.fulfill({ json: { at: '2026-11-23T12:00:00Z', rows, total: rows.length, next: null } }),
  );
  await page.route('**/api/replicas/gates-north', (route) =>
    route.fulfill({
      json: replicaView({
        row: cutOff,
        mending: [{ by: 'log', seconds: 410, sets: 6, whyNot: null }],
        voters: {
          group: 'Boarding',
          hosts: ['quay-h1', 'hill-h1'],
          after: [{ loss: 'site:quay', alive: 1, majority: false }],
        },
      }),
    }),
  );
}

test('a fleet without replicas says how they come into it', async ({ page }) => {
  await signIn(page, 'look', '/replicas');
  await expect(page.getByText('This fleet names no replica')).toBeVisible();
});

for (const scheme of ['light', 'dark'] as const) {
  test(`the wake and a replica, by keyboard, readable by all, ${scheme}`, async ({ page }) => {
    await answer(page);
    await page.emulateMedia({ colorScheme: scheme });
    await signIn(page, 'look');
    await page.keyboard.press('5');
    await expect(page.getByRole('heading', { name: 'Replicas', level: 1 })).toBeVisible();
    await expect(page.getByRole('img', { name: /nothing received for 2 h/ })).toBeVisible();
    await expect(page.getByRole('row', { name: /gates-north/ })).toContainText('too long already');
    expect((await new AxeBuilder({ page }).analyze()).violations).toEqual([]);

    await page.getByRole('link', { name: 'gates-north' }).focus();
    await page.keyboard.press('Enter');
    await expect(page).toHaveURL(/replicas\/gates-north/);
    await expect(page.getByText('It cannot go on')).toBeVisible();
    await expect(page.getByText('no majority')).toBeVisible();
    expect((await new AxeBuilder({ page }).analyze()).violations).toEqual([]);

    for (const width of [1024, 390]) {
      await page.setViewportSize({ width, height: 800 });
      for (const path of ['/replicas', '/replicas/gates-north']) {
        await page.goto(path);
        await expect(page.locator('h1')).toBeVisible();
        await expect
          .poll(() => page.evaluate(() => document.documentElement.scrollWidth), { message: `${path} at ${width}` })
          .toBeLessThanOrEqual(width);
      }
    }
  });
}
