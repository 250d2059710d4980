import AxeBuilder from '@axe-core/playwright';
import { expect, type Page } from '@playwright/test';

const all = ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice'];

/** The page breaks no rule of accessibility, by day and by night: at night it is the same in other colours, so only what looks at colours can differ. */
export async function expectReadable(page: Page, what = page.url()) {
  for (const scheme of ['light', 'dark'] as const) {
    // What is still turning from one colour into another has neither.
    await page.emulateMedia({ colorScheme: scheme, reducedMotion: 'reduce' });
    await expect(page.locator('html')).toHaveAttribute('data-scheme', scheme);
    // In the page itself, for it has no frames: to name every element that breaks nothing takes ten times as long as to look for what breaks something.
    const axe = new AxeBuilder({ page }).options({ resultTypes: ['violations'] }).setLegacyMode();
    const { violations } = await (scheme === 'light' ? axe.withTags(all) : axe.withRules('color-contrast')).analyze();
    expect(
      violations.map((v) => `${what}, ${scheme}: ${v.id}: ${v.nodes.map((n) => n.html.slice(0, 160)).join(' | ')}`),
    ).toEqual([]);
  }

  await page.emulateMedia({ colorScheme: 'light' });
}
