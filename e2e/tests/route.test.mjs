// Stations are drawn anew whenever a job or an edit calls for it; whoever is at work in them must not notice.
import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import { endAll, openStation, startAll, unfold } from "../support.mjs";

const TRIM = '.station[data-station="footage"] button:has-text("Trim")';
let folder, server, browser, page;

before(async () => {
  ({ folder, server, browser, page } = await startAll());
});
after(() => endAll({ page, quiet: true, browser, server, folder }));

/** The route as the server has it now, as word of a job would bring it. */
const drawAnew = () =>
  page.evaluate(async () =>
    globalThis.fennik.model.dispatchEvent(
      new CustomEvent("parts", {
        detail: { html: await (await fetch(globalThis.fennik.model.url("route"))).text(), form: null },
      }),
    ),
  );
const frames = (n) => page.waitForFunction((n) => globalThis.fennik.model.state.frames === n, n, { timeout: 60_000 });

/** Holds the answer to the next request of a pattern; what it gives, once it is there, passes the answer on. */
function held(pattern) {
  return new Promise((resolve) => {
    page.route(
      pattern,
      async (route) => {
        const response = await route.fetch();
        resolve(() => route.fulfill({ response }));
      },
      { times: 1 },
    );
  });
}

test("a station that somebody opens while the page is still loading stays open", async () => {
  const state = held("**/shots/1/state");
  await page.goto(`${server.address}shots/1`);
  const pass = await state;
  assert.equal(
    await page.getAttribute(".station[open]", "data-station"),
    "track",
    "what is next is open from the start",
  );
  await page.click('.station[data-station="footage"] > summary');
  await pass();
  await page.waitForFunction(() => globalThis.fennik.model.state);
  await page.waitForFunction(() => !document.querySelector('.job[data-kind="decode"]'), null, { timeout: 120_000 });
  assert.equal(await page.getAttribute(".station[open]", "data-station"), "footage");
});

test("what is typed and waits for its button outlasts a drawing anew", async () => {
  await openStation(page, "footage");
  await page.fill('[name="last"]', "120");
  await page.focus("#frame");
  await drawAnew();
  assert.equal(await page.inputValue('[name="last"]'), "120");
});

test("a click on a button is not lost when the route is drawn in the middle of it", async () => {
  const { x, y, width, height } = await page.locator(TRIM).boundingBox();
  await page.mouse.move(x + width / 2, y + height / 2);
  await page.mouse.down();
  await drawAnew();
  await page.mouse.up();
  await frames(121);
  assert.equal(await page.inputValue('[name="last"]'), "120");
});

test("a change is taken up though the route was drawn before its answer came", async () => {
  const trim = held("**/shots/1/trim");
  await page.fill('[name="last"]', "89");
  await page.click(TRIM);
  const pass = await trim;
  await drawAnew();
  await pass();
  await frames(90);
});

test("an answer that was overtaken does not bring back the older route", async () => {
  const route = held("**/shots/1/route");
  await page.evaluate(() => {
    globalThis.fennik.model.dispatchEvent(new Event("stale"));
  });
  const older = await route;
  await page.click("#undo");
  await frames(121);
  const answered = page.waitForResponse((r) => r.url().endsWith("/shots/1/route"));
  await older();
  await answered;
  // One more question and two pictures: what the page makes of the answer is made by then.
  await page.evaluate(async () => {
    await (await fetch("/shots/1/state")).text();
    await new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)));
  });
  // The state of the same revision may still be on its way.
  await page.waitForFunction(() => {
    const { model } = globalThis.fennik;
    return Number(model.api.head) === model.state.revision;
  });
  const [drawn, known] = await page.evaluate(() => [
    globalThis.fennik.model.api.head,
    globalThis.fennik.model.state.revision,
  ]);
  assert.equal(Number(drawn), known);
  assert.equal(await page.inputValue('[name="last"]'), "120");
});

test("what was half typed when the route was drawn is sent when the field is left", async () => {
  await openStation(page, "track");
  for (const [density, leave] of [
    ["777", "Tab"],
    ["888", "Enter"],
  ]) {
    await page.fill('[name="density"]', density);
    await drawAnew();
    await page.press('[name="density"]', leave);
    await page.waitForFunction((d) => document.querySelector('[name="density"]').defaultValue === d, density, {
      timeout: 60_000,
    });
  }
});

test("the next key writes where it would have written before the drawing anew", async () => {
  await page.fill('[name="density"]', "650");
  // Tab selects all of the next field, then the answer to this one draws the form anew.
  await page.press('[name="density"]', "Tab");
  await page.waitForFunction(() => document.querySelector('[name="density"]').defaultValue === "650");
  await page.keyboard.type("31");
  assert.equal(await page.inputValue('[name="spacing"]'), "31");
  await page.goto(`${server.address}shots/2`);
  await openStation(page, "datum");
  await unfold(page, "by-values");
  await page.fill("#turn-y", "15");
  await page.press("#turn-y", "ArrowLeft");
  await drawAnew();
  await page.keyboard.type("0");
  assert.equal(await page.inputValue("#turn-y"), "105");
});

test("a name is taken with Enter, and the page stays", async () => {
  await page.goto(`${server.address}shots/2`);
  await openStation(page, "solve");
  await page.click("#start-refine");
  await page.waitForSelector(".kept", { timeout: 120_000 });
  await page.evaluate(() => {
    globalThis.here = true;
  });
  const name = page.locator(".kept input").first();
  await name.fill("by hand");
  await name.press("Enter");
  await page.waitForFunction(() => document.querySelector(".kept input").defaultValue === "by hand", null, {
    timeout: 60_000,
  });
  assert.ok(await page.evaluate(() => globalThis.here), "the page was not loaded anew");
});

test("a step that was made is not made again by the next click", async () => {
  await page.goto(`${server.address}shots/2`);
  await openStation(page, "datum");
  await unfold(page, "by-values");
  await unfold(page, "by-points");
  await page.fill("#turn-y", "5");
  await page.fill("#distance", "2.5");
  await page.click('[data-act="nudge"]');
  await page.waitForFunction(
    () => document.querySelector("#undo").title.startsWith("Undo: ") && document.querySelector("#turn-y").value === "0",
  );
  assert.equal(await page.inputValue("#distance"), "2.5", "what was not asked for yet stays typed");
});

test("an edit draws anew only what looks otherwise, and what is typed elsewhere stays as it is", async () => {
  await page.goto(`${server.address}shots/2`);
  await page.waitForFunction(() => globalThis.fennik?.model.state);
  await openStation(page, "light");
  await page.evaluate(() => {
    // Half typed at another station, with the caret in the middle of it.
    const field = document.querySelector('[name="density"]');
    field.value = "12";
    globalThis.untouched = field;
  });
  const answer = page.waitForResponse((r) => r.url().endsWith("/light"));
  await page.fill('[name="sun"]', "0.7");
  await page.press('[name="sun"]', "Tab");
  const parts = [...(await (await answer).text()).matchAll(/data-part="([^"]+)"/g)].map((m) => m[1]);
  assert.deepEqual(parts.sort(), ["station/light", "steps"]);
  await page.waitForFunction(() => document.querySelector('[name="sun"]').defaultValue === "0.7");
  assert.ok(await page.evaluate(() => globalThis.untouched.isConnected && globalThis.untouched.value === "12"));
  assert.equal(
    await page.evaluate(() => document.activeElement.getAttribute("name")),
    "sun-colour",
    "the focus went on though its station was drawn anew",
  );
  await page.keyboard.press("Control+z");
  await page.waitForFunction(() => document.querySelector('[name="sun"]').defaultValue !== "0.7");
});
