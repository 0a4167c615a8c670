// A book of 10,000 logins: scrolling, jumping and walking through it, on a wide and a narrow screen.
import test, { after, before } from "node:test";
import assert from "node:assert/strict";
import { browser, build, demo, maren, unlock } from "./harness.mjs";

let d, b, page;
/** @type {string[]} */
const troubles = [];

before(async () => {
  d = await demo(build(), 17620, ["--size", "10000"]);
  b = await browser();
  page = await b.page();
  await page.addInitScript(() => {
    // What scrolls the list: the leaf, or on a narrow screen the page.
    window.scroller = () =>
      (innerWidth <= 760 ? null : document.getElementById("book-page")) ?? document.scrollingElement;
  });
  page.on("pageerror", (e) => troubles.push(String(e)));
  await unlock(page, d.desk, maren.password);
});
after(async () => {
  await b?.close();
  await d?.stop();
  d?.clean();
  assert.deepEqual(troubles, []);
});

const open = (path) => page.goto(d.desk + path);
/** Whether the middle of what is seen is a drawn line. */
const drawn = () =>
  page.evaluate(() => !document.elementFromPoint(innerWidth < 760 ? 200 : 300, 500)?.classList.contains("undrawn"));
const count = () => page.locator(".book-list .line").count();

for (const width of [1280, 390]) {
  test(`scrolled from A to Z at ${width}`, async () => {
    await page.setViewportSize({ width, height: 800 });
    await open("/logins");
    assert.match(await page.innerText("#found"), /^10,?0\d\d logins/);
    const first = await count();
    assert.ok(first < 200, `${first} lines are there at first`);
    const height = await page.evaluate(() => scroller().scrollHeight);
    await page.evaluate(() => (scroller().scrollTop = scroller().scrollHeight));
    await page.waitForFunction(() => document.querySelector(".chunk:last-child .line"));
    assert.ok((await count()) < first + 400, `what was passed over isn’t drawn: ${await count()} lines`);
    const after_ = await page.evaluate(() => scroller().scrollHeight);
    assert.ok(Math.abs(after_ - height) <= 4, `places are as high as what comes into them: ${height}, ${after_}`);
    await page.waitForFunction(() => /[V-Z]/.test([...document.querySelectorAll(".letter")].at(-1)?.textContent ?? ""));
    await page.evaluate(() => (scroller().scrollTop = scroller().scrollHeight / 2));
    await page.waitForFunction(
      () => !document.elementFromPoint(innerWidth < 760 ? 200 : 300, 500)?.classList.contains("undrawn"),
    );
    assert.ok(await drawn());
    if (width < 760) assert.equal(await page.evaluate(() => document.documentElement.scrollWidth), width);
  });
}

test("a letter of the thumb index is there at once; the keyboard goes on from there, through parts that weren't drawn", async () => {
  await page.setViewportSize({ width: 1280, height: 800 });
  await open("/logins");
  await page.click(".thumbs a[data-letter=S]");
  await page.waitForFunction(() => document.querySelector('.chunk[data-letter="S"] .line'));
  const top = await page.evaluate(
    () =>
      document.querySelector('.chunk[data-letter="S"]').getBoundingClientRect().top -
      document.getElementById("book-page").getBoundingClientRect().top,
  );
  assert.ok(Math.abs(top) < 60, `S is at the top: ${top}`);
  const start = page.locator('.chunk[data-letter="S"] .line-main').first();
  await start.focus();
  await page.evaluate(() => {
    // as a press would leave it
    for (const l of document.querySelectorAll(".line"))
      l.classList.toggle("at", l === document.querySelector('.chunk[data-letter="S"] .line'));
  });
  const order = await page.evaluate(async () => (await (await fetch("/ids?in=logins")).text()).trim().split("\n"));
  const id = () => page.evaluate(() => document.querySelector(".line.at")?.dataset.id);
  const from = order.indexOf(await id());
  for (let i = 0; i < 5; i++) await page.keyboard.press("k");
  await page.waitForFunction((want) => document.querySelector(".line.at")?.dataset.id === want, order[from - 5]);
  for (let i = 0; i < 65; i++) {
    await page.keyboard.press("j");
    await page.waitForFunction((want) => document.querySelector(".line.at")?.dataset.id === want, order[from - 4 + i]);
  }
  assert.equal(await page.evaluate(() => document.activeElement?.closest(".line")?.dataset.id), order[from + 60]);
  const seen = await page.evaluate(() => {
    const r = document.querySelector(".line.at").getBoundingClientRect();
    return r.top >= 0 && r.bottom <= innerHeight;
  });
  assert.ok(seen, "the line at hand is in view");
});

test("the keyboard's place survives a change made elsewhere", async () => {
  const at = await page.evaluate(() => document.querySelector(".line.at").dataset.id);
  const top = await page.evaluate(() => scroller().scrollTop);
  await page.evaluate(() => {
    document.querySelector(".line.at").classList.add("of-before");
    document.body.dispatchEvent(new Event("vault-changed"));
  });
  for (
    const end = Date.now() + 20_000;
    await page.evaluate(() => document.querySelector(".line.of-before") !== null);
  ) {
    assert.ok(
      await page.evaluate(() => document.elementFromPoint(300, 500)?.closest(".line") !== null),
      "nothing goes blank",
    );
    assert.ok(Date.now() < end, "it is drawn anew");
  }
  await page.waitForFunction((id) => document.querySelector(".line.at:not(.of-before)")?.dataset.id === id, at);
  assert.equal(
    await page.evaluate(() => document.activeElement?.closest(".line")?.dataset.id),
    at,
    "and the keyboard is there",
  );
  assert.ok(Math.abs((await page.evaluate(() => scroller().scrollTop)) - top) < 40);
});

test("all of 10,000 chosen, tagged and undone", async () => {
  await open("/logins");
  await page.click("[data-choose]");
  await page.click("#choosing [data-all]");
  await page.waitForFunction(() => Number(document.querySelector("[data-count]")?.textContent) >= 10000);
  await page.fill("#choose-tags", "everything");
  await page.click("#choosing [data-act=tag]");
  const slowly = { timeout: 100_000 }; // beside other tests; how quick it is is measured elsewhere
  await page.waitForSelector("#notices [data-undo]", slowly);
  await page.fill("#find", "tag=everything");
  const says = (re) =>
    page.waitForFunction((re) => RegExp(re).test(document.querySelector("#found")?.textContent ?? ""), re, slowly);
  await says("^10,?0\\d\\d fit");
  await page.click("#notices [data-undo]");
  await says("Nothing fits");
});
