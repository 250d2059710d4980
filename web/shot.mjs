import { chromium } from '@playwright/test';
const [url, user, out, ...paths] = process.argv.slice(2);
const b = await chromium.launch({ executablePath: '/usr/bin/chromium', args: ['--no-sandbox'] });
const p = await b.newPage({ viewport: { width: 1280, height: 800 } });
await p.goto(url + '/fleet');
await p.getByLabel('Name').fill(user);
await p.getByLabel('Password').fill('tarnholt-demo-1');
await p.getByRole('button', { name: 'Sign in' }).click();
await p.waitForTimeout(2500);
for (const x of paths) {
  const [name, path, ...steps] = x.split('|');
  await p.goto(url + path);
  await p.waitForTimeout(3500);
  for (const s of steps) {
    const [k, v, t] = s.split('=');
    if (k === 'click') await p.getByRole('button', { name: v, exact: true }).first().click();
    if (k === 'text') await p.getByText(v).first().click();
    if (k === 'scroll') await p.evaluate((y) => window.scrollTo(0, y), Number(v));
    if (k === 'view') await p.getByText(v).first().scrollIntoViewIfNeeded();
    if (k === 'fill') await p.getByLabel(v).first().fill(t);
    if (k === 'wait') await p.waitForTimeout(Number(v));
    await p.waitForTimeout(600);
  }
  await p.screenshot({ path: `${out}/${name}.png` });
}
await b.close();
