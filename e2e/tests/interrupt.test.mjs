// The end of the program in the middle of a job loses nothing.
import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import { endAll, freshFolder, openBrowser, openPage, openStation, startServer } from "../support.mjs";

let folder, server, browser;

before(async () => {
  folder = freshFolder();
  server = await startServer(folder.path);
  browser = await openBrowser();
});
after(() => endAll({ browser, server, folder }));

test("a job can be stopped, and a killed one is shown as interrupted and runs again", async () => {
  let page = await openPage(browser, `${server.address}shots/1`);
  await openStation(page, "track");
  await page.waitForSelector(".view-empty:has-text('Not tracked yet')");
  await page.click("#start-track");
  await page.waitForSelector(".view-empty", { state: "hidden" });
  await page.waitForFunction(() =>
    /frame \d+ of/.test(document.querySelector('.job[data-kind="track"] .job-reading')?.textContent ?? ""),
  );
  await page.click('.job[data-kind="track"] button:has-text("Stop")');
  await page.waitForSelector('.job[data-kind="track"][data-state="stopped"]');
  await page.click('button:has-text("Run it again")');
  await page.waitForFunction(() =>
    /frame \d+ of/.test(document.querySelector('.job[data-kind="track"] .job-reading')?.textContent ?? ""),
  );
  await server.stop("SIGKILL");
  await page.close();

  server = await startServer(folder.path);
  page = await openPage(browser, `${server.address}shots/1`);
  await openStation(page, "track");
  await page.waitForSelector('.job[data-kind="track"][data-state="interrupted"]');
  await page.click('button:has-text("Run it again")');
  await page.waitForSelector(
    '.job[data-kind="track"][data-state="running"], .job[data-kind="track"][data-state="waiting"]',
  );
  await page.waitForFunction(
    () => /\d+ tracks/.test(document.querySelector('.station[data-station="track"] summary').textContent),
    null,
    { timeout: 240_000 },
  );
  assert.deepEqual(page.faults, []);
  await page.close();
});

test("a file that is no clip is refused in words, and a foreign host too", async () => {
  const page = await openPage(browser, server.address);
  await page.setInputFiles("#files", {
    name: 'it\'s a "née" 写真.mp4',
    mimeType: "video/mp4",
    buffer: Buffer.from("not a video at all"),
  });
  await page.waitForFunction(() =>
    /cannot be read as a clip/.test(document.getElementById("upload-error").textContent),
  );
  assert.match(await page.textContent("#upload-error"), /née/);
  const answer = await fetch(server.address, { headers: { origin: "http://elsewhere.example" } });
  assert.equal(answer.status, 403);
  await page.close();
});
