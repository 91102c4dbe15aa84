// What every browser test needs: a server of its own, a page, and a look at the stage's pixels.
import assert from "node:assert/strict";
import { execFileSync, spawn } from "node:child_process";
import { mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { chromium } from "playwright-core";

const binary = process.env.FENNIK_BIN ?? new URL("../target/release/fennik", import.meta.url).pathname;
const FLAGS = [
  "--no-sandbox",
  "--disable-gpu",
  "--disable-quic",
  "--no-first-run",
  "--disable-background-networking",
  "--disable-component-update",
  "--disable-sync",
];

/** A fresh data folder, removed by the caller. */
export function freshFolder() {
  const path = mkdtempSync(join(tmpdir(), "fennik-e2e-"));
  return { path, remove: () => rmSync(path, { recursive: true, force: true, maxRetries: 10, retryDelay: 200 }) };
}

/** Starts Fennik on a free port, over the plain project unless told otherwise, and waits for its address. */
export async function startServer(data, ...command) {
  if (!command.length) command = ["demo", "--plain"];
  const child = spawn(binary, [...command, "--data", data, "--port", "0"], { stdio: ["ignore", "pipe", "inherit"] });
  const address = await new Promise((resolve, reject) => {
    let text = "";
    child.stdout.on("data", (chunk) => {
      text += chunk;
      const found = text.match(/http:\/\/[\d.]+:\d+\//);
      if (found) resolve(found[0]);
    });
    child.on("exit", (code) => reject(new Error(`the server ended with ${code}`)));
  });
  const ended = new Promise((resolve) => child.on("exit", resolve));
  return {
    address,
    stop: (signal = "SIGTERM") => {
      child.kill(signal);
      return ended;
    },
  };
}

/** Makes a clip, or pictures, of so many frames of a moving pattern; gives its path. */
export function makeClip(path, size, frames, ...more) {
  const source = `testsrc2=size=${size}:rate=25`;
  execFileSync("ffmpeg", ["-v", "error", "-f", "lavfi", "-i", source, "-frames:v", String(frames), ...more, path]);
  return path;
}

export async function openBrowser() {
  return chromium.launch({ executablePath: "/usr/bin/chromium", args: FLAGS });
}

/** How long something may take that comes, ms. */
const PATIENCE = 120_000;

/** A page at 1280x800 that fails the test on any error of its scripts. */
export async function openPage(browser, url) {
  const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
  // A machine with other work is slow to answer; what never comes fails all the same.
  page.setDefaultTimeout(PATIENCE);
  page.setDefaultNavigationTimeout(PATIENCE);
  page.faults = [];
  page.on("pageerror", (error) => page.faults.push(error.message));
  await page.goto(url);
  return page;
}

/** Opens a station of the route. */
export async function openStation(page, name) {
  await page.waitForSelector(`.station[data-station="${name}"]`);
  if (!(await page.locator(`.station[data-station="${name}"][open]`).count()))
    await page.click(`.station[data-station="${name}"] > summary`);
}

/** Unfolds a part of a station. */
export async function unfold(page, id) {
  await page.waitForSelector(`#${id}`);
  if (!(await page.locator(`#${id}[open]`).count())) await page.click(`#${id} > summary`);
}

/** The shot as the page has it. */
export const stateOf = (page) => page.evaluate(() => globalThis.fennik.model.state);

/** Does something, and waits until the shot has a new revision. */
export async function edited(page, act) {
  const was = (await stateOf(page)).revision;
  await act();
  await page.waitForFunction((r) => globalThis.fennik.model.state.revision !== r, was);
}

/** Waits until the picture of a frame is on the stage. */
export async function showFrame(page, frame) {
  // What is typed before the scripts listen would be lost.
  await page.waitForFunction(() => globalThis.fennik?.model.state);
  await page.fill("#frame", String(frame));
  await page.press("#frame", "Enter");
  await page.waitForFunction((f) => document.getElementById("plate").dataset.shown === String(f), frame, {
    timeout: PATIENCE,
  });
  await page.evaluate(() => new Promise((r) => requestAnimationFrame(() => requestAnimationFrame(r))));
}

/** Mean colour of a small square of the stage's own pixels round a picture pixel. */
export async function colourAt(page, [x, y], half = 2) {
  return page.evaluate(
    ([px, py, h]) => {
      const { stage } = globalThis.fennik;
      const [sx, sy] = stage.toStage([px, py]);
      const d = window.devicePixelRatio;
      const canvas = document.getElementById("plate");
      const data = canvas
        .getContext("2d")
        .getImageData(Math.round((sx - h) * d), Math.round((sy - h) * d), (2 * h + 1) * d, (2 * h + 1) * d).data;
      const sum = [0, 0, 0];
      for (let i = 0; i < data.length; i += 4) for (let k = 0; k < 3; k++) sum[k] += data[i + k];
      return sum.map((v) => v / (data.length / 4));
    },
    [x, y, half],
  );
}

/** Where a place of the picture lies on the page, px. */
export const placeOnPage = (page, at) =>
  page.evaluate(([x, y]) => {
    const { stage } = globalThis.fennik,
      box = stage.canvas.getBoundingClientRect(),
      p = stage.toStage([x, y]);
    return [p[0] + box.left, p[1] + box.top];
  }, at);

/** Waits until the exact picture of the shot as it now is stands on the stage. */
export async function exactlyDrawn(page) {
  await page.evaluate(() => new Promise((r) => requestAnimationFrame(() => requestAnimationFrame(r))));
  await page.waitForFunction(() => document.getElementById("plate").dataset.quality === "exact", null, {
    timeout: PATIENCE,
  });
}

/** Waits until the picture at a place is of a colour: a test of r, g and b. */
export const seenAt = (page, at, test, what) =>
  page
    .waitForFunction(
      async ([at, source]) => {
        const { stage } = globalThis.fennik,
          [x, y] = stage.toStage(at),
          d = window.devicePixelRatio;
        const [r, g, b] = document
          .getElementById("plate")
          .getContext("2d")
          .getImageData(Math.round(x * d), Math.round(y * d), 1, 1).data;
        return new Function("r", "g", "b", `return ${source}`)(r, g, b);
      },
      [at, test],
      { timeout: PATIENCE },
    )
    .catch(async () => assert.fail(`${what}: ${await colourAt(page, at, 1)}`));

export const distance = (a, b) => Math.hypot(...a.map((v, i) => v - b[i]));

/** Pixel of a world point through a true camera (see docs/formats.md). */
export function trueProject(camera, p) {
  const c = camera.rotation.map((row, i) => row[0] * p[0] + row[1] * p[1] + row[2] * p[2] + camera.translation[i]);
  const u = c[0] / c[2],
    v = c[1] / c[2],
    r2 = u * u + v * v;
  const gain = camera.focal_length_px * (1 + r2 * (camera.k1 + r2 * camera.k2));
  return [gain * u + camera.principal_point_px[0], gain * v + camera.principal_point_px[1]];
}

/** Where a pixel of a true camera meets the true ground, y = 0. */
export function trueGround(camera, [x, y]) {
  const d = [
    (x - camera.principal_point_px[0]) / camera.focal_length_px,
    (y - camera.principal_point_px[1]) / camera.focal_length_px,
  ];
  let [u, v] = d;
  for (let i = 0; i < 30; i++) {
    const r2 = u * u + v * v,
      gain = 1 + r2 * (camera.k1 + r2 * camera.k2);
    [u, v] = d.map((k) => k / gain);
  }
  const { rotation: r, translation: t } = camera;
  const along = [0, 1, 2].map((i) => r[0][i] * u + r[1][i] * v + r[2][i]);
  const eye = [0, 1, 2].map((i) => -(r[0][i] * t[0] + r[1][i] * t[1] + r[2][i] * t[2]));
  const far = -eye[1] / along[1];
  return along.map((a, i) => eye[i] + far * a);
}

/** A folder, the demo server over it, a browser and a page of it, to be ended by `endAll`. */
export async function startAll(path = "") {
  const all = { folder: freshFolder() };
  try {
    all.server = await startServer(all.folder.path);
    all.browser = await openBrowser();
    all.page = await openPage(all.browser, all.server.address + path);
    return all;
  } catch (error) {
    await endAll(all);
    throw error;
  }
}

/**
 * Ends everything, and only then fails where a script of the page failed or complained: what is left open would hang
 * the run.
 */
export async function endAll({ page, quiet, browser, server, folder }) {
  const notes = quiet ? await page?.textContent("#notes").catch(() => "") : "";
  await browser?.close();
  await server?.stop();
  folder?.remove();
  if (page?.faults.length) throw new Error(`scripts failed: ${page.faults.join("; ")}`);
  if (notes) throw new Error(`the page complained: ${notes}`);
}
