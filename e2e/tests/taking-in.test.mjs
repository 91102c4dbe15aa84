// Clips come in through the page: video under an odd name, stills, a zip, EXR; and what is no clip is refused.
import assert from "node:assert/strict";
import { execFileSync } from "node:child_process";
import { mkdirSync, readFileSync, readdirSync, truncateSync, writeFileSync } from "node:fs";
import { basename, join } from "node:path";
import { after, before, test } from "node:test";
import { zipSync } from "fflate";
import { endAll, freshFolder, makeClip, openBrowser, openPage, startServer } from "../support.mjs";

let folder, server, browser, page;

before(async () => {
  folder = freshFolder();
  server = await startServer(join(folder.path, "data"));
  browser = await openBrowser();
  page = await openPage(browser, server.address);
});
after(() => endAll({ page, browser, server, folder }));

const make = (name, frames, ...more) => makeClip(join(folder.path, name), "322x180", frames, ...more);

function stills(name, extension, ...more) {
  mkdirSync(join(folder.path, name));
  make(`${name}/still %d.${extension}`.replaceAll(" ", "_"), 4, ...more);
  return readdirSync(join(folder.path, name)).map((f) => join(folder.path, name, f));
}

/** Chooses files and gives the reading of the shot that opens. */
async function take(files) {
  await page.goto(server.address);
  await page.setInputFiles("#files", files);
  await page.waitForURL(/shots\/\d+$/, { timeout: 60_000 });
  await page.waitForFunction(
    () => globalThis.fennik?.model.state && !document.querySelector('.job[data-kind="decode"]'),
    null,
    { timeout: 60_000 },
  );
  await page.waitForFunction(() => document.getElementById("plate").dataset.shown === "0");
  return page.evaluate(() => ({
    name: document.querySelector(".head h1").textContent,
    frames: globalThis.fennik.model.state.frames,
    width: globalThis.fennik.model.state.width,
  }));
}

test("a video under a name with spaces, quotes and foreign letters", async () => {
  const shot = await take(make("it's “a” čłip.mp4", 12, "-pix_fmt", "yuv420p"));
  assert.deepEqual(shot, { name: "it's “a” čłip", frames: 12, width: 322 });
});

for (const [extension, more] of [
  ["png", []],
  ["jpg", ["-q:v", "3"]],
  ["tiff", []],
  ["exr", ["-pix_fmt", "gbrpf32le"]],
]) {
  test(`several ${extension} pictures make a clip`, async () => {
    const shot = await take(stills(extension, extension, ...more));
    assert.deepEqual([shot.frames, shot.width], [4, 322]);
    const colours = await page.evaluate(() => {
      const c = document.getElementById("plate"),
        d = c.getContext("2d").getImageData(0, 0, c.width, c.height).data;
      const seen = new Set();
      for (let i = 0; i < d.length; i += 400) seen.add(`${d[i] >> 5} ${d[i + 1] >> 5} ${d[i + 2] >> 5}`);
      return seen.size;
    });
    assert.ok(colours > 12, `${colours} colours are seen`);
  });
}

test("a zip of pictures, dropped on the page", async () => {
  const files = stills("zipped", "png");
  const bytes = Buffer.from(zipSync(Object.fromEntries(files.map((f) => [`deep/${basename(f)}`, readFileSync(f)]))));
  await page.goto(server.address);
  await page.evaluate((b64) => {
    const data = new DataTransfer();
    data.items.add(new File([Uint8Array.from(atob(b64), (c) => c.charCodeAt(0))], "quay.zip"));
    document.dispatchEvent(new DragEvent("drop", { dataTransfer: data, bubbles: true, cancelable: true }));
  }, bytes.toString("base64"));
  await page.waitForURL(/shots\/\d+$/);
  await page.waitForFunction(() => globalThis.fennik?.model.state?.frames === 4);
});

test("what is no clip is refused with the reason, and leaves nothing behind", async () => {
  const text = join(folder.path, "notes.mp4"),
    sound = join(folder.path, "sound.m4a");
  writeFileSync(text, "these are notes");
  execFileSync("ffmpeg", ["-v", "error", "-f", "lavfi", "-i", "sine=duration=1", sound]);
  const cut = make("cut.mp4", 30, "-pix_fmt", "yuv420p");
  truncateSync(cut, 3000);
  const kept = readdirSync(join(folder.path, "data", "clips")).length;
  for (const [file, reason] of [
    [text, /“notes\.mp4” cannot be read as a clip/],
    [sound, /no picture|no video/i],
    [cut, /“cut\.mp4”/],
  ]) {
    await page.goto(server.address);
    await page.setInputFiles("#files", file);
    await page.waitForSelector("#upload-error:not([hidden])");
    assert.match(await page.textContent("#upload-error"), reason);
  }
  assert.equal(readdirSync(join(folder.path, "data", "clips")).length, kept);
});
