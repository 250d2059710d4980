import { chromium } from '@playwright/test';
const [,, out, path, who='admin', scheme='light', w='1280', h='800', ...steps] = process.argv;
const b = await chromium.launch({ executablePath: '/usr/bin/chromium', args: ['--no-sandbox','--host-resolver-rules=MAP * ~NOTFOUND, EXCLUDE 127.0.0.1, EXCLUDE localhost'] });
const p = await b.newPage({ viewport: { width: +w, height: +h }, colorScheme: scheme });
const logs=[]; p.on('console', m => { if (m.type()==='error') logs.push(m.text()); }); p.on('pageerror', e => logs.push(String(e)));
await p.goto('http://127.0.0.1:8420'+path);
await p.getByLabel('Name').fill(who); await p.getByLabel('Password').fill('tarnholt-demo-1'); await p.getByRole('button',{name:'Sign in'}).click();
await p.getByTestId('answer').waitFor();
await p.evaluate(() => document.fonts.ready);
await p.waitForLoadState('networkidle').catch(()=>{}); 
for (const s of steps) { await eval(`(async()=>{${s}})()`); }
await new Promise(r=>setTimeout(r,1500));
await p.screenshot({ path: out }); console.log(p.url(), logs.slice(0,5)); await b.close();
