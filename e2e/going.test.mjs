// From the vault to the site and back, in Chromium: Go, the keys, a vault locked meanwhile, a refused change, what
// can't be filled.
import test, { after, before } from "node:test";
import assert from "node:assert/strict";
import {
  browser,
  build,
  chooseByKeys,
  connect,
  demo,
  drawnAt,
  hasValue,
  maren,
  pressDrawn,
  readable,
  settled,
  unlock,
} from "./harness.mjs";

let d, b, desk;

before(async () => {
  d = await demo(build(), 17800);
  b = await browser({ extension: true });
  desk = await b.page();
  await unlock(desk, d.laptop, maren.password);
  await connect(b, desk, d.laptop);
});
after(async () => {
  await b?.close();
  await d?.stop();
  d?.clean();
});

const worker = () => b.context.serviceWorkers()[0];
/** Waits until a slip is drawn that can be answered by a press of this name. */
async function slip(page, answer) {
  while (!(await drawnAt(page, answer))) await settled(page);
  await readable(page);
}
async function sheetOf(words) {
  await desk.bringToFront();
  await desk.goto(`${d.laptop}/logins?q=${encodeURIComponent(words)}`);
  await desk.locator(".line-main").first().click();
  await desk.waitForSelector("#sheet h1");
  return desk.locator("#sheet").getAttribute("data-id");
}
async function choose(page, sel) {
  await chooseByKeys(page, page.locator(sel));
  await settled(page);
}

test("Go opens the sign-in page and fills it; with the login's leave it signs in", async () => {
  const id = await sheetOf("lanternfish practice");
  let [site] = await Promise.all([b.context.waitForEvent("page"), desk.click("[data-key=g]")]);
  await hasValue(site, "#password");
  assert.match(site.url(), /\/sign-in$/, "filled, and left to be sent");
  await site.reload();
  await readable(site);
  assert.equal(await site.inputValue("#password"), "", "once, and not again");
  await site.close();
  await desk.goto(`${d.laptop}/items/${id}/edit`);
  await desk.check("#submit");
  await desk.click("button:has-text('Save')");
  await desk.waitForSelector("#sheet h1");
  await desk.goto(`${d.laptop}/items/${id}`);
  [site] = await Promise.all([b.context.waitForEvent("page"), desk.click("[data-key=g]")]);
  await site.waitForURL("**/welcome");
  // From there to where the password is changed, by the site's own well-known address.
  await desk.bringToFront();
  const [change] = await Promise.all([b.context.waitForEvent("page"), desk.click("text=Change password")]);
  await change.waitForURL("**/change");
  await change.close();
  await site.close();
  await desk.click("text=Find its apps");
  await desk.waitForSelector("text=names 1 program");
  await desk.waitForSelector("text=example.lanternfish.app");
});

test("filling without asking is a choice for one login", async () => {
  const id = await sheetOf("gullwing practice");
  await desk.goto(`${d.laptop}/items/${id}/edit`);
  await desk.check("#fill-alone");
  await desk.click("button:has-text('Save')");
  await desk.waitForSelector("#sheet h1");
  const site = await b.page();
  await site.goto(d.site("gullwing", "/sign-in"));
  await hasValue(site, "#password");
  assert.match(site.url(), /\/sign-in$/);
  await site.close();
});

test("by the key: the likely login, and pressed again the next", async () => {
  await desk.bringToFront();
  await desk.goto(`${d.laptop}/items/new?address=${encodeURIComponent(d.site("pantryandpier", "/sign-in"))}`);
  await desk.fill("#title", "Wren’s groceries");
  await desk.fill("#username", "wren@x.example");
  await desk.fill("#password", "wren-1");
  await desk.click("button:has-text('Save')");
  await desk.waitForSelector("#sheet h1:has-text('Wren')");
  const site = await b.page();
  await site.goto(d.site("pantryandpier", "/sign-in"));
  await readable(site);
  const names = [];
  for (let i = 0; i < 3; i++) {
    await worker().evaluate(async (url) => {
      const [t] = await chrome.tabs.query({ url: url + "*" });
      await fillTab(t.id);
    }, d.site("pantryandpier"));
    await readable(site);
    names.push(await site.inputValue("#user"));
  }
  assert.deepEqual(new Set(names), new Set([maren.email, "wren@x.example"]));
  assert.notEqual(names[0], names[1]);
  await site.close();
});

test("the one-time code is copied for the page that comes next and cleared; a program gets its login by two presses", async () => {
  await desk.bringToFront();
  await desk.goto(d.laptop + "/settings");
  await desk.click(".setting-group summary:has-text('Others use this computer')");
  await desk.selectOption("#clipboard", { label: "10 seconds" });
  await desk.click(".settings button");
  await b.context.grantPermissions(["clipboard-read", "clipboard-write"]);
  const site = await b.page();
  await b.context.clearCookies({ name: "session" });
  await site.goto(d.site("mooringmutual", "/sign-in"));
  await readable(site);
  await choose(site, "#user");
  await settled(site);
  assert.match(await site.evaluate(() => navigator.clipboard.readText()), /^\d{6}$/);
  const since = Date.now();
  while (/\d/.test(await site.evaluate(() => navigator.clipboard.readText()))) {
    assert.ok(Date.now() - since < 15_000, "the code is still on the clipboard");
    await settled(site);
  }
  assert.ok(Date.now() - since > 7000, "cleared too soon");
  await site.close();
  await desk.bringToFront();
  await desk.goto(`${d.laptop}/items/new?kind=app`);
  await desk.fill("#title", "Tide clock");
  await desk.fill("#username", "maren.tide");
  await desk.fill("#password", "ebb-and-flow-9");
  await desk.click("button:has-text('Save')");
  await desk.waitForSelector("[data-hand]");
  for (const want of ["maren.tide", "ebb-and-flow-9"]) {
    await desk.click("[data-hand]");
    await settled(desk);
    assert.equal(await desk.evaluate(() => navigator.clipboard.readText()), want);
  }
});

test("what can't be filled is named", async () => {
  const site = await b.page();
  await site.goto(d.site("pantryandpier", "/sign-in"));
  await site.evaluate(() => (document.querySelector("#password").maxLength = 4));
  await readable(site);
  await choose(site, "#user");
  assert.equal(await site.inputValue("#password"), "", "not by half");
  assert.ok(await drawnAt(site, "Filled, but for:"), "a note says so");
  await site.close();
});

test("a change that the site refuses: one press steps back", async () => {
  const site = await b.page();
  await b.context.clearCookies({ name: "session" });
  await site.goto(d.site("thriftmarket", "/sign-in"));
  await readable(site);
  await choose(site, "#user");
  await site.click("main form button");
  await site.waitForURL("**/welcome");
  await site.goto(d.site("thriftmarket", "/change"));
  await readable(site);
  await choose(site, "#password");
  const made = await site.inputValue("#password");
  await site.fill("#current", "not the present one");
  await site.click("main form button");
  await site.waitForSelector(".error");
  await slip(site, "Keep the old one");
  await sheetOf("thrift practice");
  await desk.waitForSelector(".staged");
  await site.bringToFront();
  await pressDrawn(site, "Keep the old one");
  await desk.bringToFront();
  await desk.reload();
  await desk.waitForSelector("#sheet h1");
  assert.equal(await desk.locator(".staged").count(), 0);
  await desk.click("text=Show all versions");
  await desk.locator(".versions button:has-text('Show')").first().click();
  await desk.waitForSelector(".versions .grouped");
  assert.ok(
    (await desk.locator(".versions .glyphs").allInnerTexts()).join("").includes(made),
    "the refused one stays readable",
  );
  await site.close();
});

test("typed while the vault is locked, it is asked about once it's open", async () => {
  const site = await b.page();
  await b.context.clearCookies({ name: "session" });
  await site.goto(d.site("islandpost", "/sign-up"));
  await readable(site);
  await desk.bringToFront();
  await desk.click("button.medallion");
  await desk.waitForSelector("#password");
  await site.bringToFront();
  for (const [f, v] of [
    ["#user", "late@x.example"],
    ["#password", "late-tide-77"],
    ["#repeat", "late-tide-77"],
  ])
    await site.fill(f, v);
  await site.click("main form button");
  await site.waitForURL("**/welcome");
  await readable(site);
  await unlock(desk, d.laptop, maren.password);
  await site.bringToFront();
  await site.goto(d.site("islandpost", "/welcome"));
  await slip(site, "Keep");
  await site.close();
});

test("the window makes passwords that lie in the drawer, and keeps what is typed", async () => {
  const site = await b.page();
  await b.context.clearCookies({ name: "session" });
  await site.goto(d.site("kelpandcrown", "/sign-in"));
  await readable(site);
  await site.fill("#user", "typed-by-hand");
  await site.fill("#password", "by-hand-1");
  const tab = await worker().evaluate(
    async (url) => (await chrome.tabs.query({ url: url + "*" }))[0].id,
    d.site("kelpandcrown"),
  );
  const w = await b.page();
  await w.goto(`chrome-extension://${b.id}/window.html?tab=${tab}`);
  await w.click("#maker summary");
  await w.click("#make");
  await w.waitForFunction(() => document.querySelector("#made")?.textContent.length >= 20);
  const made = await w.locator("#made").innerText();
  await w.waitForSelector("#drawer li");
  await w.click("#take");
  await site.bringToFront();
  await slip(site, "Keep");
  await desk.bringToFront();
  await desk.goto(d.laptop + "/items/new");
  await desk.click(".drawer > summary");
  await desk.locator("[data-drawer]").first().click();
  await desk.waitForFunction(() => /^[^●]+$/.test(document.querySelector("[data-dots]")?.textContent ?? ""));
  assert.equal(await desk.locator("[data-dots]").first().innerText(), made);
  const w2 = await b.page();
  await w2.goto(`chrome-extension://${b.id}/window.html?tab=${tab}`);
  await w2.click("#rule summary");
  await w2.check("#no-offer");
  await settled(w2);
  await desk.goto(d.laptop + "/devices");
  await desk.waitForSelector("text=nothing is offered");
  await desk.click("text=Reset");
  await desk.waitForSelector("text=nothing is offered", { state: "detached" });
  await w2.close();
  await site.close();
});
