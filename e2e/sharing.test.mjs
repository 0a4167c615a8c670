// Books, and what is shared: Maren on her desk computer, Idris on his, each in a browser of their own.
import test, { after, before } from "node:test";
import assert from "node:assert/strict";
import { accessible, browser, build, demo, fits, idris, inClear, maren, picture, unlock } from "./harness.mjs";

const program = build();
let d, b, b2, desk, his;

before(async () => {
  d = await demo(program, 18080);
  b = await browser();
  b2 = await browser();
  desk = await b.page();
  his = await b2.page();
  await unlock(desk, d.desk, maren.password);
  await unlock(his, d.idris, idris.password);
});
after(async () => {
  await b?.close();
  await b2?.close();
  await d?.stop();
  d?.clean();
});

const line = (page, title) => page.locator(".book-list .line", { hasText: title }).first();

/** Opens an item of the list by its title. */
async function open(page, at, title) {
  await page.goto(`${at}/logins?q=${encodeURIComponent(title)}`);
  await page.locator(".book-list .line-main").first().click();
  await page.waitForSelector(`#sheet h1:has-text("${title}")`);
}

/** Waits until a page shows something, looking again as a person would who is told that it changed. */
const shows = (page, text) => page.waitForSelector(`text=${text}`);

test("books are seen apart and together, by one press", async () => {
  await desk.goto(d.desk + "/logins");
  await desk.click(".ribbon:has-text('Family')");
  await desk.waitForSelector(".ribbon[aria-pressed=true]:has-text('Family')");
  assert.equal(await desk.locator(".book-list .line").count(), 5);
  await accessible(desk, "the open book");
  await fits(desk, "the open book");
  await desk.fill("#find", "gullwing");
  await desk.waitForSelector(".beyond");
  await desk.click("button:has-text('Show all books')");
  await desk.waitForSelector(".ribbon[aria-pressed=true]:has-text('All')");
  await desk.waitForSelector(".book-list .line:has-text('Gullwing')");

  await desk.goto(d.desk + "/books");
  await accessible(desk, "books");
  await fits(desk, "books");
  await desk.click("summary:has-text('Begin another')");
  await desk.fill("#new-book", "Family");
  await desk.click("button:has-text('Begin it')");
  await shows(desk, "A book has this name already");
  await desk.fill("#new-book", "Harbour Choir");
  await desk.click("button:has-text('Begin it')");
  await desk.waitForSelector("#book-name");
  await desk.goto(d.desk + "/items/new");
  assert.equal(await desk.locator("#in-book option:checked").innerText(), "Harbour Choir");
  await desk.fill("#title", "Shed");
  await desk.click("button:has-text('Save')");
  await desk.waitForSelector("#sheet h1:has-text('Shed')");
  await desk.goto(d.desk + "/logins");
  assert.equal(await desk.locator(".book-list .line").count(), 1, "what is made in the open book is in it");
  await desk.click(".ribbon:has-text('All')");
  await desk.waitForSelector(".ribbon[aria-pressed=true]:has-text('All')");
});

test("one item is moved, and several are", async () => {
  await open(desk, d.desk, "Cockle & Thread");
  await desk.click("a:has-text('Move or copy')");
  await desk.selectOption("#book", { label: "Harbour Choir" });
  await accessible(desk, "move or copy");
  await desk.click("button:has-text('Make a copy there')");
  await shows(desk, "A copy is there.");
  await desk.goto(d.desk + "/logins");
  await desk.waitForSelector(".site-head:has-text('Cockle & Thread')"); // two accounts of one site
  await desk.click("button:has-text('Choose several')");
  await line(desk, "Dunlin Outdoors").locator(".choose").click();
  await desk.selectOption("#choose-book", { label: "Harbour Choir" });
  await desk.click("[data-act='to-book']");
  await shows(desk, "1 moved to another book.");
  await desk.click("[data-undo]");
  await shows(desk, "Undone.");
});

test("what goes into a shared book is asked about once more", async () => {
  await open(desk, d.desk, "Harbour Water");
  await desk.click("#sheet a:has-text('Move or copy')");
  await desk.selectOption("#book", { label: "Allotment Society (with Idris and Rosa)" });
  await desk.click("button:has-text('Make a copy there')");
  await shows(desk, "would see it from then on");
  await accessible(desk, "what others would see");
  await picture(desk, "what others would see");
  await desk.click("button:has-text('Make a copy there')");
  await shows(desk, "A copy is there.");
  await desk.goto(d.desk + "/logins");
  await desk.click("button:has-text('Choose several')");
  await line(desk, "Dunlin Outdoors").locator(".choose").click();
  await desk.selectOption("#choose-book", { label: "Allotment Society" });
  await desk.click("[data-act='to-book']");
  await shows(desk, "Idris and Rosa would see it from then on. Press again");
  await desk.click("[data-act='to-book']");
  await shows(desk, "1 moved to another book.");
  await desk.click("[data-undo]");
  await shows(desk, "Undone.");
});

test("one changes what is shared, and the other one sees it", async () => {
  await open(his, d.idris, "Sloop Music");
  await his.click("#sheet a:has-text('Edit')");
  await his.fill("#username", "both.tollivers");
  await his.click("button:has-text('Save')");
  await his.waitForSelector("#sheet dd:has-text('both.tollivers')");
  await open(desk, d.desk, "Sloop Music");
  await desk.waitForSelector("#sheet dd:has-text('both.tollivers')");
  await desk.click("a:has-text('Show all versions')");
  await desk.waitForSelector(".versions");
  assert.match(await desk.locator(".versions").innerText(), /on Idris/, "the history says who");
});

test("one login is shared to be filled in: it is there, and isn't shown", async () => {
  await open(desk, d.desk, "Tidewater Library");
  await desk.click("#sheet a:has-text('Share')");
  await desk.check("input[value=fill]");
  await accessible(desk, "sharing an item");
  await fits(desk, "sharing an item");
  await desk.click("button:has-text('Share it')");
  await desk.waitForSelector(".members");
  await accessible(desk, "what is shared");
  await fits(desk, "what is shared");
  await his.goto(d.idris + "/logins");
  await his.click("a:has-text('shares something with you')");
  await accessible(his, "something to be taken");
  await his.click("button:has-text('Take it')");
  await shows(his, "It is among your items now.");
  await his.waitForSelector("a:has-text('The item')");
  await his.click("a:has-text('The item')");
  await shows(his, "filled in at its site, not shown to you");
  const id = new URL(his.url()).pathname.split("/").pop();
  assert.equal(await his.locator("#sheet a:has-text('Edit'), #sheet button:has-text('Archive')").count(), 0);
  for (const path of [`/items/${id}/show?field=password`, `/items/${id}/copy?field=password`]) {
    const text = await his.evaluate(async (p) => {
      const r = await fetch(p, { method: "POST", headers: { "HX-Request": "true" } });
      return r.text();
    }, path);
    assert.doesNotMatch(text, /Quayside/, path);
  }
  const printed = await his.evaluate(async (p) => (await fetch(p)).text(), `/items/${id}/print`);
  assert.match(printed, /Tidewater/);
  assert.ok(!inClear(d).some((word) => word && printed.includes(word) && /password/i.test(word)));
});

test("it ends at once, and what could have been seen is listed", async () => {
  await desk.goto(d.desk + "/household");
  await desk.click("#people .line-main:has-text('Family')");
  await desk.waitForSelector(".members");
  await desk.click("button:has-text('Take them out')");
  await shows(desk, "It is ended");
  await his.goto(d.idris + "/logins");
  await his.waitForSelector(".ribbon:has-text('Family')", { state: "detached" });
  assert.equal(await his.locator(".book-list .line", { hasText: "Sloop Music" }).count(), 0);
  await desk.goto(d.desk + "/logins");
  await desk.click("a:has-text('passwords that Idris could have seen')");
  await shows(desk, "It isn’t shared any more.");
  assert.equal(await desk.locator(".cover-leaf li").count(), 5);
  await accessible(desk, "what was shared");
});

test("a member leaves by themselves", async () => {
  await his.goto(d.idris + "/household");
  await his.click("#people .line-main:has-text('Tidewater')");
  await his.click("button:has-text('Leave it')");
  await shows(his, "You have left it.");
  await his.goto(d.idris + "/logins");
  assert.equal(await his.locator(".book-list .line", { hasText: "Tidewater Library" }).count(), 0);
});
