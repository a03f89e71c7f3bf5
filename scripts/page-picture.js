// Takes the picture of a page: node scripts/page-picture.js PAGE PICTURE. The
// library that drives the browser is where scripts/check-page has put it.
const { createRequire } = require('node:module');
const { chromium } = createRequire(process.cwd() + '/build/page/')('playwright-core');

const [page_path, picture] = process.argv.slice(2);
(async () => {
  const browser = await chromium.launch({ executablePath: '/usr/bin/chromium', args: ['--headless', '--no-sandbox', '--disable-gpu'] });
  const context = await browser.newContext({ offline: true, viewport: { width: 1280, height: 800 }, colorScheme: 'dark' });
  const page = await context.newPage();
  await page.goto('file://' + page_path);
  // the press that the sitting gull lets through, of which the drag comes
  await page.fill('#search', 'grab');
  await page.focus('#list');
  await page.keyboard.press('ArrowDown');
  await page.fill('#search', '');
  await page.screenshot({ path: picture });
  await browser.close();
})();
