import { chromium } from 'playwright';
const [, , who, ...steps] = process.argv;
const b = await chromium.launch({ executablePath: '/usr/bin/chromium', args: ['--no-sandbox'] });
const page = await b.newPage({ viewport: { width: 1280, height: 800 } });
await page.goto('http://127.0.0.1:8600/');
await page.getByLabel('Name').fill(who);
await page.getByLabel('Password').fill('tarnholt-demo-1');
await page.getByRole('button', { name: 'Sign in', exact: true }).click();
await page.waitForTimeout(1500);
for (const s of steps) {
  const [path, file, wait] = s.split('=>');
  await page.goto('http://127.0.0.1:8600' + path);
  await page.waitForTimeout(Number(wait ?? 2500));
  await page.screenshot({ path: file });
}
await b.close();
