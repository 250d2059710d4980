import { expect, test } from '@playwright/test';
import { signIn } from './person';
import { expectReadable } from './readable';

const areas: Record<string, string[]> = {
  fleet: ['/fleet', '/fleet?loss=site', '/databases/harbour-sailings', '/databases/tickets/copy', '/replicas'],
  plans: ['/plans', '/plans/counters', '/timetable', '/runs', '/notices', '/evidence'],
  recover: [
    '/recover',
    '/recover/tickets',
    '/recover/several?databases=tickets,fares-tariffs',
    '/copies',
    '/copies/new?database=tickets&as=clone',
    '/copies/new?database=tickets&as=open-for-log',
    '/second/new?database=tickets&as=copy',
    '/moves/new?database=plan-archive&to=hill-h2',
  ],
  setup: [
    '/changes',
    '/changes/to-15?database=tickets',
    '/setup',
    '/setup/fleet/databases',
    '/setup/fleet/objectives/counter',
    '/setup/inventory',
    '/agreed',
  ],
};

for (const [area, pages] of Object.entries(areas)) {
  test(`no violation of accessibility rules, ${area}, by day and by night`, async ({ page }) => {
    // Every page in turn: longer than a test of one flow.
    test.slow();
    await page.goto('/');
    await page.getByLabel('Name').waitFor();
    if (area === 'setup') await expectReadable(page);
    await signIn(page, 'admin');
    for (const path of pages) {
      await page.goto(path);
      await expect(page.getByTestId('answer')).toBeVisible();
      await page.waitForLoadState('load');
      await expect(page.locator('h1').first()).toBeVisible();
      await expect(page.locator('main')).toHaveAttribute('aria-busy', 'false');
      if (path === '/plans/counters') await page.getByRole('button', { name: 'More about log' }).click();
      await expectReadable(page, path);

      // On the narrowest screen it is made for nothing is cut off at the side.
      await page.setViewportSize({ width: 1024, height: 768 });
      const widest = () =>
        page.evaluate(() =>
          Math.max(...[...document.querySelectorAll('html, main, main > *')].map((e) => e.scrollWidth)),
        );
      await expect.poll(widest, { message: path }).toBeLessThanOrEqual(1024);
      await page.setViewportSize({ width: 1280, height: 800 });
    }
  });
}
