// Parts that lenses are made of, as they are pressed and looked at: words of marks, frames that scroll, views of one page.
import AxeBuilder from '@axe-core/playwright';
import { expect, test } from './test.ts';

test('what a shortened name is in full is said under the pointer and on keys, and nothing that can be read already', async ({
  page,
}) => {
  await page.goto('/parts');
  const frame = page.getByRole('region', { name: 'More than there is room for' });
  const tip = page.locator('[data-radix-popper-content-wrapper]');
  const line = frame.getByText('Line 2:');
  const words = (await line.getAttribute('title'))!;
  await line.hover();
  await expect(tip).toContainText(words);
  // The browser does not say it once more, and what it says comes back.
  await expect(line).not.toHaveAttribute('title');
  await expect(async () => {
    const { violations } = await new AxeBuilder({ page }).analyze();
    expect(violations.map((v) => v.id)).toEqual([]);
  }).toPass();
  await page.keyboard.press('Escape');
  await expect(tip).toHaveCount(0);
  await page.mouse.move(2, 2);
  await expect(line).toHaveAttribute('title', words);

  // By keyboard: a link of the frame that is cut to its letter.
  await page.goto('/');
  await page.keyboard.press('Tab');
  await page.keyboard.press('Tab');
  for (let i = 0; i < 4 && (await tip.count()) === 0; i++) {
    await page.keyboard.press('Tab');
    await page.waitForTimeout(700);
  }
  await expect(tip).toContainText(/, key \d/);
  // A name that is read whole is not said once more.
  await page.getByRole('navigation').first().hover();
  await page.mouse.move(600, 400);
  await expect(tip).toHaveCount(0);
});

test('a frame scrolls by keyboard and shows its bar; views have addresses, arrows go between them', async ({
  page,
}) => {
  await page.goto('/parts');
  const frame = page.getByRole('region', { name: 'More than there is room for' });
  await frame.focus();
  await page.keyboard.press('End');
  await expect.poll(() => frame.evaluate((own) => own.scrollTop)).toBeGreaterThan(20);
  await expect(frame.locator('..').locator('> [data-orientation="vertical"]')).toBeVisible();

  await page.goto('/settings');
  const tabs = page.getByRole('tablist', { name: 'Settings' });
  await expect(tabs.getByRole('tab', { selected: true })).toHaveText('Kinds of files');
  await tabs.getByRole('tab', { selected: true }).focus();
  await page.keyboard.press('ArrowRight');
  await expect(tabs.getByRole('tab', { name: 'Templates' })).toBeFocused();
  await page.keyboard.press('Space');
  await expect(page).toHaveURL(/show=templates/);
  await expect(page.getByRole('tabpanel', { name: 'Templates' })).toBeVisible();
  await page.goBack();
  await expect(tabs.getByRole('tab', { selected: true })).toHaveText('Kinds of files');
});

for (const colorScheme of ['light', 'dark'] as const)
  for (const width of [1280, 600])
    test(`every part in every state is photographed, ${colorScheme}, ${width} wide, and nothing is wider than it`, async ({
      page,
    }, info) => {
      await page.emulateMedia({ colorScheme });
      await page.setViewportSize({ width, height: 800 });
      await page.goto('/parts');
      const main = page.getByRole('main');
      await expect(main.getByRole('heading', { name: 'Frames and views' })).toBeVisible();
      expect(await main.evaluate((own) => own.scrollWidth - own.clientWidth)).toBeLessThanOrEqual(0);
      const tall = await main.evaluate((own) => own.scrollHeight);
      await page.setViewportSize({ width, height: tall + 140 });
      const body = await page.screenshot({ path: info.outputPath(`parts-${colorScheme}-${width}.png`) });
      await info.attach(`parts-${colorScheme}-${width}`, { body, contentType: 'image/png' });
      // A picture of nothing is small.
      expect(body.length).toBeGreaterThan(40_000);
    });
