// Makes docs/screenshots again from the demo data.
import { freshFolder, openBrowser, openPage, openStation, showFrame, startServer } from "./support.mjs";

const to = (name) => new URL(`../docs/screenshots/${name}.png`, import.meta.url).pathname;
const folder = freshFolder();
const server = await startServer(folder.path);
const browser = await openBrowser();
try {
  const page = await openPage(browser, `${server.address}shots/2`);
  await page.waitForFunction(() => globalThis.fennik?.model.state);
  await page.waitForFunction(() => globalThis.fennik.frames.blobs.size > 60, null, { timeout: 120_000 });
  await showFrame(page, 60);
  await page.uncheck("#show-tracks");
  await page.screenshot({ path: to("workbench") });
  await page.check("#show-tracks");
  await page.uncheck("#show-grid");
  await page.uncheck("#show-inserts");
  await openStation(page, "solve");
  await showFrame(page, 100);
  await page.screenshot({ path: to("solve") });
  await page.check("#show-inserts");
  await page.uncheck("#show-tracks");
  await page.check("#show-grid");
  await openStation(page, "inserts");
  await showFrame(page, 60);
  await page.click("#place-standing");
  const box = await page.locator("#plate").boundingBox();
  await page.mouse.move(box.x + box.width * 0.33, box.y + box.height * 0.72);
  await page.mouse.move(box.x + box.width * 0.335, box.y + box.height * 0.72);
  await page.waitForFunction(() => /tilt/.test(document.getElementById("tile-reading").textContent));
  await page.waitForTimeout(300);
  await page.screenshot({ path: to("placing") });
  await page.keyboard.press("Escape");
  await page.uncheck("#show-tracks");
  await page.keyboard.press("v");
  await page.selectOption("#stage-2 [name=view]", "free");
  await page.evaluate(() => { const { model } = globalThis.fennik; model.chosen = 1; model.select(); });
  await page.waitForTimeout(200);
  await page.screenshot({ path: to("outside") });
  await page.goto(server.address);
  await page.waitForLoadState("networkidle");
  await page.screenshot({ path: to("shots") });
} finally {
  await browser.close();
  await server.stop();
  folder.remove();
}
