// Makes the pictures of light, holdouts, match and finish again, from the demo data.
import {
  edited,
  exactlyDrawn,
  freshFolder,
  openBrowser,
  openPage,
  openStation,
  placeOnPage,
  showFrame,
  startServer,
  unfold,
} from "./support.mjs";

const to = (name) => new URL(`../docs/screenshots/${name}.png`, import.meta.url).pathname;
const folder = freshFolder();
const server = await startServer(folder.path, "demo");
const browser = await openBrowser();
try {
  const page = await openPage(browser, `${server.address}shots/2`);
  await page.waitForFunction(() => globalThis.fennik?.model.state);
  await page.waitForFunction(() => !document.querySelector('.job[data-kind="decode"]'), null, { timeout: 120_000 });
  const type = (form, name, value) =>
    edited(page, async () => {
      await page.fill(`${form} [name="${name}"]`, String(value));
      await page.press(`${form} [name="${name}"]`, "Tab");
    });
  await showFrame(page, 60);
  await openStation(page, "light");
  await unfold(page, "light-around");
  await edited(page, () => page.selectOption("#around-picture", "library:evening"));
  await page.waitForFunction(() => document.getElementById("around-look")?.naturalWidth > 0);
  await unfold(page, "catch-0");
  await type("#catch-0", "contact", 0.8);
  await type("#catch-0", "mirror", 0.35);
  await page.evaluate(() => document.getElementById("light-around").scrollIntoView({ block: "start" }));
  await exactlyDrawn(page);
  await page.screenshot({ path: to("light") });

  await openStation(page, "holdouts");
  await page.click('[data-act="draw"][data-mode="holdout"]');
  for (const at of [
    [645, 395],
    [690, 395],
    [700, 520],
    [640, 520],
  ])
    await page.mouse.click(...(await placeOnPage(page, at)));
  await edited(page, () => page.keyboard.press("Enter"));
  await page.waitForSelector("#sheet .form-head");
  await page.selectOption("#matte-view", "over");
  await exactlyDrawn(page);
  await page.waitForTimeout(1500);
  await page.screenshot({ path: to("holdouts") });
  await page.selectOption("#matte-view", "");
  await page.keyboard.press("Escape");
  await edited(page, () => page.click("#undo"));

  await openStation(page, "inserts");
  await page.locator(".insert-line").first().click();
  await openStation(page, "match");
  await edited(page, () => page.click('[data-act="draw-towards"]'));
  // The demo's plate was measured before: measured again it stays as it is.
  await page.click('[data-act="measure-plate"]');
  await page.waitForFunction(
    () => document.querySelector('.job[data-kind="measure"]')?.textContent.includes("as it was found before"),
    null,
    { timeout: 120_000 },
  );
  await exactlyDrawn(page);
  await page.screenshot({ path: to("match") });
  await page.keyboard.press("Escape");

  await openStation(page, "finish");
  await type("#finish", "exposure", 0.4);
  await type("#finish", "saturation", 1.25);
  await page.click('[data-act="wipe"]');
  await exactlyDrawn(page);
  await page.waitForTimeout(500);
  await page.screenshot({ path: to("finish") });
} finally {
  await browser.close();
  await server.stop();
  folder.remove();
}
