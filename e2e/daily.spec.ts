// What people do every day, with every click and key counted against a bound. Nothing is run here: the last click is the one on
// Run, which is looked at and not pressed, so that what other tests find is as it was.
import type { Locator } from '@playwright/test';
import { expect, type Page, test } from './test.ts';

/** Counts what a hand does. */
class Hand {
  did = 0;
  constructor(readonly page: Page) {}

  async click(target: Locator): Promise<void> {
    await target.click();
    this.did++;
  }

  /** Walks with the Tab key until this has the focus, then presses a key on it. */
  async reach(target: Locator, key: string): Promise<void> {
    await expect(target).toBeVisible();
    for (let i = 0; i < 60; i++) {
      if (await target.evaluate((element) => element === document.activeElement)) break;
      await this.page.keyboard.press('Tab');
      this.did++;
    }
    await expect(target).toBeFocused();
    await this.press(key);
  }

  async press(key: string): Promise<void> {
    await this.page.keyboard.press(key);
    this.did++;
  }
}

const run = (page: Page) => page.getByRole('button', { name: 'Run one step' });

/** The plan as it would be run: that click is counted, and not made. */
async function wouldRun(hand: Hand, most: number): Promise<void> {
  const { page } = hand;
  await expect(run(page)).toBeEnabled();
  hand.did++;
  expect(hand.did).toBeLessThanOrEqual(most);
}

test.afterEach(async ({ page }) => {
  await page.goto('/');
  if (/nothing/.test((await page.getByTestId('plan-summary').textContent())!)) return;
  await page.keyboard.press('p');
  await page.getByRole('button', { name: 'Empty the plan' }).click();
  await expect(page.getByTestId('plan-summary')).toHaveText('nothing in the plan');
});

test('who uses a clip, which parts, and where it lies on every station: one search', async ({ page }) => {
  await page.goto('/');
  const hand = new Hand(page);
  await hand.press('/');
  await page.keyboard.type('A012C004_0427');
  await expect(page.getByRole('listbox').getByRole('option')).toHaveCount(3);
  await hand.press('ArrowDown');
  await hand.press('Enter');
  await expect(page.getByText('in ep3 v11, ep3 v12')).toBeVisible();
  await expect(page.getByRole('list', { name: 'Used parts' }).getByRole('listitem').first()).toHaveText(
    /^09:4\d:\d\d:\d\d to 09:4\d:\d\d:\d\d$/,
  );
  // As the store, and as each station that mounts it, has it.
  await expect(page.getByText('/Volumes/Ropewalk/lamp-keepers/interviews/A012C004_0427.mov')).toBeVisible();
  await expect(page.getByText('R:\\lamp-keepers\\interviews\\A012C004_0427.mov')).toBeVisible();
  expect(hand.did).toBe(3);
});

test('what has strayed is brought home in four clicks', async ({ page }) => {
  await page.goto('/projects/3');
  const hand = new Hand(page);
  await hand.click(page.getByRole('button', { name: /^move .* home: source/ }));
  await hand.click(page.getByRole('button', { name: 'Review plan' }));
  await wouldRun(hand, 4);
});

test('three missing clips are found and relinked in four clicks, one of them chosen between two', async ({ page }) => {
  await page.goto('/projects/3/missing');
  const hand = new Hand(page);
  // What is certain is chosen already; the first that is not is open.
  await hand.click(
    page
      .getByRole('list', { name: 'What lighthouse_model_02.mov may be' })
      .getByRole('button', { name: /from the museum/ }),
  );
  await hand.click(page.getByRole('button', { name: 'Add the relinking of 3 clips to the plan' }));
  await hand.click(page.getByRole('button', { name: 'Review plan' }));
  await wouldRun(hand, 4);
});

test('one timeline of an archive is brought back in six clicks', async ({ page }) => {
  await page.goto('/shelf/4');
  const hand = new Hand(page);
  await hand.click(page.getByRole('button', { name: /^Restore / }));
  const dialog = page.getByRole('dialog');
  await hand.click(dialog.getByRole('radio', { name: 'By timeline' }));
  await hand.click(dialog.getByRole('list', { name: 'Offered' }).getByRole('checkbox', { name: 'reel 1' }));
  await hand.click(dialog.getByRole('button', { name: 'Add the restore to the plan' }));
  await hand.click(dialog.getByRole('button', { name: 'Review plan' }));
  await wouldRun(hand, 6);
});

for (const [lens, add] of [
  ['/reclaim/caches?v=4', /^Add .* to the plan/],
  ['/projects/3', /^move .* home: source/],
  ['/projects/3/missing', /^Add the relinking/],
  ['/archive/4', /^Add (the archive|an archive)/],
] as const)
  test(`by keyboard, something of ${lens} is in the plan in under 12 presses`, async ({ page }) => {
    await page.goto(lens);
    const hand = new Hand(page);
    await hand.reach(page.getByRole('link', { name: 'Skip to content' }), 'Enter');
    await hand.reach(page.getByRole('button', { name: add }).first(), 'Enter');
    await expect(page.getByTestId('plan-summary')).toContainText('1 step');
    expect(hand.did).toBeLessThan(12);
  });
