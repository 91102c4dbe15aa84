import { freshFolder, openBrowser, openPage, openStation, showFrame, startServer } from "./support.mjs";
const folder = freshFolder();
const server = await startServer(folder.path);
const browser = await openBrowser();
try {
  const page = await openPage(browser, `${server.address}shots/2`);
  await page.waitForFunction(() => globalThis.fennik?.model.state);
  await page.waitForFunction(() => !document.querySelector('.job[data-kind="decode"]'), null, { timeout: 120_000 });
  await showFrame(page, 60);
  await openStation(page, "inserts");
  await page.click("#library > summary");
  const place = async (item, x, y) => {
    await page.locator(`[data-item="${item}"]`).evaluate((b) => b.click());
    await page.waitForFunction(() => globalThis.fennik.model.tool.kind === "place", null, { timeout: 60_000 });
    const [px, py] = await page.evaluate(([x, y]) => globalThis.fennik.stage.toStage([x, y]), [x, y]);
    const plate = await page.locator("#plate").boundingBox();
    const before = await page.evaluate(() => globalThis.fennik.model.state.revision);
    await page.mouse.move(plate.x + px, plate.y + py);
    await page.waitForTimeout(300);
    await page.mouse.click(plate.x + px, plate.y + py);
    await page.waitForFunction((r) => globalThis.fennik.model.state.revision !== r, before, { timeout: 60_000 });
    await page.keyboard.press("Escape");
  };
  const spots = [["bollard", 350, 560], ["crate", 420, 470], ["mast", 560, 650], ["crest", 640, 430], ["lifebelt", 840, 600], ["buoy", 700, 520], ["kiosk", 900, 480], ["smoke", 300, 620], ["regatta", 500, 450]];
  for (const s of spots) await place(...s);
  await page.evaluate(() => {
    const { model } = globalThis.fennik;
    const insert = structuredClone(model.state.inserts.find((i) => i.name?.toLowerCase().includes("bollard") || i.content.kind === "prop"));
    return insert.id;
  });
  await page.click(".insert-line:has-text('bollard')");
  await page.waitForSelector(".insert-form");
  await page.evaluate(() => document.getElementById("group-copies").setAttribute("open", ""));
  await page.selectOption('.insert-form [name="copies"]', "row");
  await page.waitForTimeout(1500);
  await page.fill('.insert-form [name="count"]', "100");
  await page.press('.insert-form [name="count"]', "Tab");
  await page.waitForTimeout(4000);
  console.log("inserts", await page.evaluate(() => globalThis.fennik.model.state.inserts.map((i) => `${i.name}:${i.copies?.count ?? 1}`).join(" ")));
  const time = async (what, n, act) => {
    const all = [];
    for (let k = 0; k < n; k++) all.push(await act(k));
    all.sort((a, b) => a - b);
    console.log(what, "median", all[n >> 1].toFixed(0), "most", all[n - 1].toFixed(0), "ms");
  };
  const ids = await page.evaluate(() => globalThis.fennik.model.state.inserts.map((i) => i.id));
  await time("choose a thing until its sheet stands", 10, (k) =>
    page.evaluate(async (id) => {
      const t = performance.now();
      globalThis.fennik.model.choose({ kind: "insert", id });
      while (document.querySelector(".insert-form")?.dataset.insert !== String(id)) {
        await new Promise((r) => setTimeout(r, 2));
        if (performance.now() - t > 5000) return 5000;
      }
      return performance.now() - t;
    }, ids[k % ids.length]),
  );
  console.log("form", await page.evaluate(() => document.querySelector(".insert-form")?.outerHTML.slice(0, 160)));
  await time("type a value until the state has it", 8, (k) =>
    page.evaluate(async (v) => {
      const field = document.querySelector('.insert-form [name="lift"]') ?? document.querySelector('.insert-form [name="y"]');
      const r = globalThis.fennik.model.state.revision, t = performance.now();
      field.value = String(v);
      field.dispatchEvent(new Event("change", { bubbles: true }));
      while (globalThis.fennik.model.state.revision === r) {
        await new Promise((q) => setTimeout(q, 2));
        if (performance.now() - t > 5000) return 5000;
      }
      return performance.now() - t;
    }, 0.01 * (k + 1)),
  );
  for (const f of [61, 62, 63, 64]) {
    const t = Date.now();
    await showFrame(page, f);
    console.log("frame", f, Date.now() - t, "ms");
  }
  await page.waitForTimeout(2000);
  // A drag of the title: how many drafts come a second.
  const b = await page.locator("#plate").boundingBox();
  await page.evaluate(() => globalThis.fennik.model.choose({ kind: "insert", id: 1 }));
  await page.waitForTimeout(600);
  const at = await page.evaluate(() => {
    const { model, stage } = globalThis.fennik;
    return [...document.querySelectorAll("#overlay [data-handle]")].map((h) => h.dataset.handle).join(",");
  });
  console.log("handles", at);
  let drafts = 0, waits = [];
  page.on("request", (r) => r.url().endsWith("/draft") && (r.began = Date.now()));
  page.on("response", (r) => {
    if (r.url().endsWith("/draft")) (drafts++, waits.push(Date.now() - r.request().began));
  });
  const foot = await page.evaluate(() => globalThis.fennik.stage.toStage([575, 470]));
  await page.mouse.move(b.x + foot[0], b.y + foot[1]);
  await page.mouse.down();
  const t = Date.now();
  for (let k = 0; k < 60; k++) {
    await page.mouse.move(b.x + foot[0] + k, b.y + foot[1] + k / 4);
    await page.waitForTimeout(16);
  }
  await page.mouse.up();
  waits.sort((a, b) => a - b);
  console.log("in page", await page.evaluate(() => performance.getEntriesByType("resource").filter((e) => e.name.endsWith("/draft")).map((e) => `${Math.round(e.responseStart - e.requestStart)}/${Math.round(e.responseEnd - e.startTime)}`).join(" ")));
  console.log("chosen", await page.evaluate(() => globalThis.fennik.model.chosen?.id));
  console.log("drafts", drafts, "in", Date.now() - t, "ms; each", waits[waits.length >> 1], "median", waits.at(-1), "most");
  await page.screenshot({ path: "/tmp/quick.png" });
} finally {
  await browser.close();
  await server.stop();
  console.log("KEPT", folder.path);
}
