import { expect, test } from '@playwright/test';
import { signIn } from './person';

test('a plan for ticketing: the worst exposure follows the log task while it is typed, and the plan is saved', async ({
  page,
}) => {
  await signIn(page, 'plan', '/plans');
  await expect(page.getByRole('row', { name: /Counters and tickets/ })).toContainText('5 of 5');
  await expect(page.getByRole('complementary', { name: 'Not covered' })).toContainText('paint-shop');
  await page.getByRole('button', { name: 'New plan…' }).click();
  await page.getByRole('menuitem', { name: 'Tier of minutes' }).click();
  await page.getByLabel('Name of the plan').fill('Ticketing, tried');
  await page.getByLabel('Service').click();
  await page.getByRole('option', { name: 'ticketing' }).click();
  await expect(page.getByTestId('caught')).toContainText('catches 4');
  const exposure = page.getByTestId('designed-none');
  await page.getByLabel('When log').fill('every 15 minutes');
  await expect(exposure).toContainText(/^15 min/);
  await page.getByLabel('When log').fill('every 5 minutes');
  await expect(exposure).toContainText(/^5 min/);
  await expect(page.getByRole('complementary', { name: 'Consequence' })).toContainText('2 plans catch it');
  await page.getByLabel('When log').fill('now and then');
  await expect(page.getByTestId('plan-fault')).toContainText('cannot be understood');
  await expect(page.getByRole('button', { name: 'Save' })).toBeDisabled();
  await page.getByLabel('When log').fill('every 5 minutes');
  await page.getByRole('button', { name: 'Save' }).click();
  await expect(page).toHaveURL(/plans\/minutes-/);
  await expect(page.getByText('version 1', { exact: true })).toBeVisible();
  await page.getByRole('button', { name: 'Remove…' }).click();
  await expect(page.getByText(/nothing backs up/)).toContainText('ticket-payments');
  await page.getByRole('button', { name: 'Remove it' }).click();
  await expect(page).toHaveURL(/plans$/);
  await expect(page.getByRole('row', { name: /Ticketing, tried/ })).toHaveCount(0);
});

test('a shorter retention shows at once what would go and how far back one could then go', async ({ page }) => {
  await signIn(page, 'plan', '/plans/gates');
  const clean = page.getByTestId('clean-up');
  await expect(clean).toContainText('copies');
  const before = Number(/today (\d+) of/.exec((await clean.textContent())!)![1]);
  await page.getByTestId('task-log').getByLabel('Keep', { exact: true }).fill('2 d');
  await expect(async () => {
    expect(Number(/today (\d+) of/.exec((await clean.textContent())!)![1])).toBeGreaterThan(before + 500);
  }).toPass();
  await expect(page.getByRole('complementary', { name: 'Consequence' })).toContainText('tasks.log.keep.forSeconds');
});

test('a clash is seen, the proposal that spreads the exports is taken over, and the plans have new versions', async ({
  page,
}) => {
  await signIn(page, 'plan', '/timetable?by=plan');
  const side = page.getByRole('complementary', { name: 'Clashes' });
  await expect(side).toContainText('wait for a slot');
  await page
    .getByRole('button', { name: /export of passenger-counts, expected/ })
    .first()
    .click();
  await expect(side).toContainText('export of passenger-counts');
  await page.getByRole('button', { name: '15 min later' }).click();
  await expect(page.getByRole('table', { name: 'A week before and after' })).toContainText('windows missed');
  await page.getByRole('button', { name: 'Leave it' }).click();
  await page.getByRole('button', { name: 'Propose start times' }).click();
  await page.getByRole('button', { name: /Take over all/ }).click();
  await expect(page.getByTestId('accepted')).toContainText('moves taken over');
  await page.goto('/plans/exports');
  await expect(page.getByText(/^version [2-9]/)).toBeVisible();
});

test('the job that nobody saw failing is found, and its runs are in the address', async ({ page }) => {
  await signIn(page, 'look');
  await expect(page.getByRole('complementary', { name: 'Needs you' })).toContainText('has failed');
  await page.goto('/runs?state=failed&find=notice');
  const row = page.getByRole('row', { name: /Notice archive/ }).first();
  await expect(row).toContainText('sign-in for backups has expired');
  // The failures of one job stand in one row, which leads to the last of them and to all.
  await expect(row).toContainText(/failed \d+ times/);
  await row.getByRole('link').first().click();
  await expect(page.getByTestId('run-state')).toHaveText('failed');
  await expect(page.getByText('2 attempts')).toBeVisible();
});

test('a task is run now by an operator, and its run ends in a set', async ({ page }) => {
  await signIn(page, 'admin', '/plans/hours');
  await page.getByRole('button', { name: 'More about full' }).click();
  await page.getByRole('group', { name: 'Ask for a run' }).getByRole('button', { name: 'Run now' }).click();
  await expect(page).toHaveURL(/runs\/[0-9a-f-]{36}/);
  await expect(page.getByText('asked for by admin').first()).toBeVisible();
});

test('designed stands beside observed, and what differs is said with why', async ({ page }) => {
  await signIn(page, 'look', '/databases/tickets');
  await expect(page.getByText('designed, worst of a week')).toBeVisible();
  await expect(
    page.getByText(/tickets-hill (is looked at every 10 s, and between|was .* behind at the worst)/).first(),
  ).toBeVisible();
  await page.goto('/databases/voyage-log');
  await expect(page.getByText('Designed and observed agree within a tenth for every loss.')).toBeVisible();
});

test('a host is paused with a reason, and the pause is ended', async ({ page }) => {
  await signIn(page, 'operate', '/timetable');
  await page.getByRole('button', { name: 'Pause something…' }).click();
  const pauses = page.getByRole('region', { name: 'Pauses' });
  await pauses.getByLabel('Which').click();
  await page.getByRole('option', { name: 'hill-h2' }).click();
  await pauses.getByLabel('Why').fill('new disks');
  await pauses.getByRole('button', { name: 'Pause it' }).click();
  await expect(pauses).toContainText('hill-h2: new disks');
  await pauses.getByRole('button', { name: 'End the pause' }).click();
  await expect(pauses).toContainText('Nothing is paused.');
});

test('the ways to copy a database stand side by side', async ({ page }) => {
  await signIn(page, 'look', '/databases/tickets');
  await page.getByText('Ways to copy it, compared').click();
  const ways = page.getByRole('table', { name: 'Ways to copy it' });
  await expect(ways.getByRole('row', { name: /^full every night, log every 15 minutes/ })).toContainText('15 min');
  await expect(ways.getByRole('row', { name: /^full every night \d/ })).toContainText(
    'what changed since the last night',
  );
});

test('a run is dragged in its lane, measured, and left where it was', async ({ page }) => {
  await signIn(page, 'plan', '/timetable?by=plan');
  const side = page.getByRole('complementary', { name: 'Clashes' });
  await expect(side.getByRole('heading', { name: /Runs now/ })).toBeVisible();
  const bar = page.getByRole('button', { name: /export of passenger-counts, expected/ }).first();
  await expect(bar).toBeVisible();
  const box = (await bar.boundingBox())!;
  await page.mouse.move(box.x + 2, box.y + box.height / 2);
  await page.mouse.down();
  await page.mouse.move(box.x + 40, box.y + box.height / 2, { steps: 4 });
  await page.mouse.up();
  await expect(side).toContainText(/\d+ min later each time/);
  await expect(page.getByRole('table', { name: 'A week before and after' })).toContainText('windows missed');
  await page.getByRole('button', { name: 'Leave it' }).click();
  await expect(side).not.toContainText('later each time');
  await bar.focus();
  await page.keyboard.press('Shift+ArrowRight');
  await expect(side).toContainText('60 min later each time');
  await page.getByRole('button', { name: 'Leave it' }).click();
});

test('a database that no plan covers is put under one, and the versions stand side by side', async ({ page }) => {
  await signIn(page, 'plan', '/fleet?find=paint');
  await page.getByLabel('Put it under').click();
  await page.getByRole('option', { name: 'Workshop', exact: true }).click();
  await expect(page).toHaveURL(/plans\/workshop.*add=paint-shop/);
  await expect(page.getByTestId('caught')).toContainText('catches 3');
  await expect(page.getByRole('complementary', { name: 'Consequence' })).toContainText('members.databases');
  await page.getByRole('button', { name: 'Save' }).click();
  await expect(page.getByText('version 2', { exact: true })).toBeVisible();
  const versions = page.getByRole('region', { name: 'Versions' });
  await versions.getByText(/^2 .*by plan, 1 changed/).click();
  await expect(versions).toContainText('paint-shop');
  await versions.getByText(/^1 /).click();
  await versions.getByRole('link', { name: 'Beside the newest' }).click();
  await expect(page.getByRole('table', { name: 'Two plans' })).toContainText('version 2');
  await expect(page.getByRole('table', { name: 'Two plans' })).toContainText('could lose');
  await expect(page.getByText('members.databases')).toBeVisible();

  // As it was, for the tests that follow.
  await page.goto('/plans/workshop');
  await page.getByLabel('By name').click();
  await page.keyboard.press('Backspace');
  await page.getByRole('button', { name: 'Save' }).click();
  await expect(page.getByText('version 3', { exact: true })).toBeVisible();
});

test('a run is asked for at a time, shown in the timetable, and ended before it starts', async ({ page }) => {
  await signIn(page, 'admin', '/databases/passes');
  await page.getByText('Run a task of it, now or at a time').click();
  const ask = page.getByRole('group', { name: 'Ask for a run' });
  await ask.getByLabel('At').fill('yesterday');
  await expect(ask.getByRole('button', { name: 'Run now' })).toBeDisabled();
  const year = new Date().getUTCFullYear() + 1;
  await ask.getByLabel('At').fill(`${year}-01-05 03:30`);
  await expect(ask).toContainText('5 Jan 03:30 in Europe/Oslo');
  await ask.getByRole('button', { name: 'Run then' }).click();
  await expect(page.getByTestId('run-state')).toHaveText('waits');
  await expect(page.getByText('asked for by admin, outside the chain')).toBeVisible();
  await page.getByRole('link', { name: 'Season passes' }).click();
  await expect(page.getByRole('complementary', { name: 'About this database' })).toContainText('asked for by admin');
  await page.goBack();
  await page.getByRole('button', { name: 'End it' }).click();
  await expect(page.getByTestId('run-state')).toHaveText('ended by hand');
  await expect(page.getByText('ended by admin').first()).toBeVisible();
});
