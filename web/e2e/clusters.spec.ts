import { execFileSync } from 'node:child_process';
import { expect, test } from '@playwright/test';
import { post, signIn } from './person';

// A demo of real clusters; the other specs look at the simulated world.
test.use({ baseURL: process.env.IMBREK_CLUSTERS_URL });

test('a cluster is destroyed under load, restored to just before a named commit, looked at, released, proven', async ({
  page,
}) => {
  await signIn(page, 'admin', '/setup');
  const cluster = page.getByTestId('cluster-harbour');
  await expect(cluster).toContainText(/everything committed until (0\.\d|[1-3]) s ago/);

  // A full must be there before the day comes.
  await page.goto('/databases/harbour');
  await expect(page.getByText(/^could lose (0\.\d|[1-4]) s/).first()).toBeVisible({ timeout: 120_000 });
  execFileSync('./imbrek', ['demo', '--postgresql', '--lose', 'harbour'], { cwd: '..' });
  await page.goto('/setup');
  await expect(cluster).toContainText('Its log is not received');

  await page.goto('/recover/harbour');
  await page.getByRole('button', { name: 'Just before a commit' }).click();
  const last = page.getByRole('button', { name: /^Stop before trail/ }).last();
  const name = (await last.getAttribute('aria-label'))!.replace('Stop before trail ', '');
  await last.click();
  await expect(page.getByTestId('before')).toContainText(`trail ${name}`);
  await page.getByLabel('A query of your own to check').fill(`select max(n) < ${name} from imbrek_trail`);
  await page.getByRole('button', { name: 'Restore to a new instance' }).click();
  await expect(page.getByText('Held for a look')).toBeVisible({ timeout: 150_000 });
  const measured = page.getByRole('complementary', { name: 'Measured' });
  await expect(measured).toContainText('All 6 checks passed');
  await expect(measured).toContainText(`commits 1 to ${Number(name) - 1}`);
  await page.getByRole('button', { name: 'Release: let clients in' }).click();
  await expect(page.getByTestId('run-state')).toHaveText('done', { timeout: 150_000 });
  await page.getByRole('link', { name: 'Its entry in the ledger' }).click();
  await expect(page.getByTestId('ledger-state')).toContainText('hold');
  await expect(page.getByRole('listitem').first()).toContainText('restore, released');
});

test('a cluster is looked at before it is added, and what is in the way is said with its member', async ({ page }) => {
  await signIn(page, 'admin', '/setup');
  await page.getByRole('button', { name: 'Add a cluster' }).click();
  const add = page.getByRole('region', { name: 'Add a cluster' });
  await add.getByLabel('Role').fill('keeper');
  await add.getByLabel('Credential').fill('there-is-none');
  await add.getByRole('button', { name: 'Look at it' }).click();
  await expect(add).toContainText("no credential named 'there-is-none'");
  await add.getByLabel('Credential').fill('keeper');
  await add.getByLabel('Port').fill('1');
  await add.getByRole('button', { name: 'Look at it' }).click();
  await expect(add).toContainText('does not answer');
  const port = await page.evaluate(async () => {
    const all = (await (await fetch('/api/clusters')).json()) as { database: string; port: number }[];
    return all.find((c) => c.database === 'crew')!.port;
  });
  await add.getByLabel('Port').fill(String(port));
  await add.getByRole('button', { name: 'Look at it' }).click();
  const seen = add.getByRole('region', { name: 'What was seen' });
  await expect(seen).toContainText('Version 15');
  await expect(seen).toContainText('amcheck');
  await add.getByLabel('What to call it').fill('crew-again');
  await add.getByLabel('Site it stands in').fill('hill');
  await add.getByLabel('Store', { exact: true }).fill('quay-shelf');
  await add.getByLabel('Host to restore on').fill('quay-spare');
  await add.getByRole('button', { name: 'Add it' }).click();
  await expect(add).toContainText('cluster is here already, as crew');
  expect(await post(page, '/api/clusters/look', { address: 'x,y', port: 5432, user: 'a' })).toBe(400);
});
