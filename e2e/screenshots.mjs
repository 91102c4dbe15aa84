// Makes docs/screenshots again from the demo data.
import { edited, freshFolder, openBrowser, openPage, openStation, showFrame, startServer, unfold } from "./support.mjs";

const to = (name) => new URL(`../docs/screenshots/${name}.png`, import.meta.url).pathname;
const folder = freshFolder();
const server = await startServer(folder.path, "demo");
const browser = await openBrowser();
try {
  const page = await openPage(browser, `${server.address}shots/2`);
  await page.waitForFunction(() => globalThis.fennik?.model.state);
  await page.waitForFunction(() => !document.querySelector('.job[data-kind="decode"]'), null, { timeout: 120_000 });
  await showFrame(page, 205);
  await page.waitForFunction(() => globalThis.fennik.frames.ready(215), null, { timeout: 120_000 });
  await page.click(".insert-line");
  await page.waitForSelector(".insert-form");
  await page.waitForTimeout(300);
  await page.screenshot({ path: to("workbench") });
  await page.keyboard.press("Escape");
  await page.uncheck("#show-inserts");
  await openStation(page, "track");
  await showFrame(page, 100);
  await page.click("#look-first");
  await page.waitForFunction(
    () => globalThis.fennik.model.look && /covered/.test(document.getElementById("look-reading").textContent),
  );
  await page.waitForTimeout(300);
  await page.screenshot({ path: to("look") });
  await page.click("#look-first");
  await page.waitForFunction(() => globalThis.fennik.model.look === null);
  // A keep-out round the people who cross, and what else does not follow the camera.
  await page.click('[data-act="draw"][data-mode="keep-out"]');
  for (const [x, y] of [
    [368, 352],
    [408, 340],
    [440, 368],
    [432, 452],
    [368, 455],
  ]) {
    const at = await page.evaluate(
      ([px, py]) => {
        const { stage } = globalThis.fennik,
          b = stage.canvas.getBoundingClientRect(),
          [sx, sy] = stage.toStage([px, py]);
        return [sx + b.left, sy + b.top];
      },
      [x, y],
    );
    await page.mouse.click(...at);
  }
  await page.keyboard.press("Enter");
  await page.waitForSelector(".mask-form");
  await page.evaluate(() => {
    const { model } = globalThis.fennik,
      [mask] = model.state.masks;
    return model.edit({
      edit: "change-mask",
      mask: { ...mask, name: "people", smooth: mask.keys[0].outline.map(() => true) },
    });
  });
  await page.click('[data-act="follow-mask"]');
  await page.waitForFunction(() => globalThis.fennik.model.state.masks[0].keys.length > 3, null, { timeout: 120_000 });
  await page.waitForTimeout(500);
  await page.screenshot({ path: to("masks") });
  await page.evaluate(() => {
    const { model } = globalThis.fennik;
    const outliers = [...model.outliers.values()]
      .filter((a) => a.reason === "independent-motion")
      .map((a) => model.tracks.find((t) => t.id === a.id))
      .filter((t) => t.first <= 100 && t.first + t.xy.length / 2 > 110);
    outliers.sort((a, b) => b.xy.length - a.xy.length);
    model.choose(null);
    model.selected = new Set([outliers[0].id]);
    model.select();
    document.querySelector('[data-act="lasso"]').scrollIntoView();
  });
  await page.waitForFunction(() => document.getElementById("track-patches")?.naturalWidth > 0);
  await page.waitForTimeout(300);
  await page.screenshot({ path: to("track") });
  await page.evaluate(() => globalThis.fennik.model.edit({ edit: "remove-mask", id: 1 }));
  await page.keyboard.press("Escape");
  await openStation(page, "solve");
  await page.fill('[name="focal"]', "870");
  await page.press('[name="focal"]', "Tab");
  await page.waitForSelector('.station[data-station="solve"] >> text=settings changed');
  await page.click("#start-solve");
  await page.waitForFunction(() => document.querySelectorAll(".kept").length === 2, null, { timeout: 120_000 });
  await page.locator('[data-act="compare"]').first().click();
  await page.waitForFunction(() => /lower error/.test(document.getElementById("compare-reading").textContent));
  await page.waitForTimeout(300);
  await page.evaluate(() => document.querySelector("#compare-reading").scrollIntoView({ block: "end" }));
  await page.screenshot({ path: to("solve") });
  await page.click(".kept button:has-text('Use')");
  await page.waitForFunction(() => document.querySelector(".kept.current input").value === "solve 1");
  await page.check("#show-inserts");
  await openStation(page, "datum");
  await showFrame(page, 60);
  await unfold(page, "found");
  await edited(page, () => page.click("#take-datum"));
  await page.evaluate(() => {
    const { model } = globalThis.fennik;
    model.choose({ kind: "surface", id: model.state.surfaces[0].id });
    document.querySelector("#datum-verdict").scrollIntoView({ block: "center" });
  });
  await page.waitForSelector(".surface-form");
  await page.waitForTimeout(400);
  await page.screenshot({ path: to("datum") });
  await page.keyboard.press("Escape");
  await edited(page, () => page.click("#undo"));
  await openStation(page, "inserts");
  await page.click('[data-act="place"][data-kind="title"][data-stance=""]');
  const box = await page.locator("#plate").boundingBox();
  await page.mouse.move(box.x + box.width * 0.33, box.y + box.height * 0.72);
  await page.mouse.move(box.x + box.width * 0.335, box.y + box.height * 0.72);
  await page.waitForFunction(() => /tilt/.test(document.getElementById("tile-reading").textContent));
  await page.waitForTimeout(300);
  await page.screenshot({ path: to("placing") });
  await page.keyboard.press("Escape");
  await page.keyboard.press("v");
  await page.selectOption("#view-2 [name=view]", "free");
  await page.check("#view-2 [name=show-firm]");
  await page.evaluate(() => {
    globalThis.fennik.model.choose({ kind: "insert", id: 1 });
  });
  await page.keyboard.press("v");
  await page.selectOption("#view-3 [name=view]", "front");
  await page.waitForTimeout(300);
  await page.screenshot({ path: to("outside") });
  await page.selectOption("#panes", "one");
  await page.evaluate(() => {
    document.getElementById("shown-files").open = false;
    document.getElementById("library").open = true;
  });
  await page.waitForTimeout(15_000);
  for (const [item, x, y] of [
    ["bollard", 350, 560],
    ["kiosk", 420, 430],
    ["mast", 560, 650],
    ["crest", 640, 330],
    ["lifebelt", 840, 600],
  ]) {
    await page.locator(`[data-item="${item}"]`).evaluate((b) => b.click());
    await page.waitForFunction(() => globalThis.fennik.model.tool.kind === "place", null, { timeout: 60_000 });
    const [px, py] = await page.evaluate(([x, y]) => globalThis.fennik.stage.toStage([x, y]), [x, y]);
    const plate = await page.locator("#plate").boundingBox();
    const before = await page.evaluate(() => globalThis.fennik.model.state.revision);
    await page.mouse.move(plate.x + px, plate.y + py);
    await page.waitForTimeout(400);
    await page.mouse.click(plate.x + px, plate.y + py);
    await page.waitForFunction((r) => globalThis.fennik.model.state.revision !== r, before);
    await page.keyboard.press("Escape");
  }
  await page.evaluate(() => {
    const { model } = globalThis.fennik;
    model.choose({ kind: "insert", id: 2 });
  });
  await page.waitForTimeout(500);
  await page.evaluate(() => {
    const { model } = globalThis.fennik;
    const insert = structuredClone(model.insert(2));
    insert.copies = { count: 6, layout: "row", step: [1.1, 0, 0] };
    return model.edit({ edit: "change-insert", insert });
  });
  await page.evaluate(() => document.getElementById("library").scrollIntoView({ block: "start" }));
  await page.waitForTimeout(6000);
  await page.screenshot({ path: to("inserts") });
  await page.goto(server.address);
  await page.waitForLoadState("networkidle");
  await page.click("#room > summary");
  await page.waitForSelector("#room-part:has-text('previews')");
  await page.screenshot({ path: to("shots") });
} finally {
  await browser.close();
  await server.stop();
  folder.remove();
}
