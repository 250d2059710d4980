import AxeBuilder from '@axe-core/playwright';
import { expect, test } from '@playwright/test';
import { signIn } from './person';

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

const all = ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice'];

const each = (['light', 'dark'] as const).flatMap((scheme) =>
  Object.entries(areas).map(([area, pages]) => ({ scheme, area, pages })),
);

for (const { scheme, area, pages } of each) {
  test(`no violation of accessibility rules, ${area}, ${scheme}`, async ({ page }) => {
    // Every page in turn: longer than a test of one flow.
    test.slow();
    // The dark page is the light one in other colours: only what looks at colours can differ.
    const rules = (axe: AxeBuilder) => (scheme === 'light' ? axe.withTags(all) : axe.withRules('color-contrast'));
    // What is still turning from one colour into another has neither.
    await page.emulateMedia({ colorScheme: scheme, reducedMotion: 'reduce' });
    await page.goto('/');
    await page.getByLabel('Name').waitFor();
    if (area === 'setup') expect((await new AxeBuilder({ page }).analyze()).violations).toEqual([]);
    await signIn(page, 'admin');
    for (const path of pages) {
      await page.goto(path);
      await expect(page.getByTestId('answer')).toBeVisible();
      await page.waitForLoadState('load');
      await expect(page.locator('h1').first()).toBeVisible();
      if (path === '/plans/counters') await page.getByRole('button', { name: 'More about log' }).click();
      const { violations } = await rules(new AxeBuilder({ page })).analyze();
      expect(
        violations.map((v) => `${path}: ${v.id}: ${v.nodes.map((n) => n.html.slice(0, 160)).join(' | ')}`),
      ).toEqual([]);
      if (scheme === 'dark') continue;

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
