// The extension in Chromium, on the practice town.
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
  inClear,
  lockPage,
  maren,
  offerAt,
  offered,
  pressDrawn,
  readable,
  settled,
  shownText,
  soon,
  unlock,
} from "./harness.mjs";

let d, b, desk, site;

before(async () => {
  d = await demo(build(), 17400);
  b = await browser({ extension: true });
  desk = await b.page();
  await unlock(desk, d.laptop, maren.password);
  site = await b.page();
});
after(async () => {
  await b?.close();
  await d?.stop();
  d?.clean();
});

/** What the extension drew stands in a closed root: pressed by place, as a person does. */
async function press(page, dx, dy) {
  await page.mouse.click(dx, dy);
}

/** Presses the first line of the offer at a field. */
async function choose(page, field) {
  await page.click(field);
  await offered(page);
  await readable(page); // a press right after the drawing is not taken: nobody could have read it
  const at = await offerAt(page);
  await press(page, at.x, at.y);
}

test("before it is connected, and while the words are compared", async () => {
  const w = await b.page();
  await w.goto(`chrome-extension://${b.id}/window.html`);
  await w.waitForSelector("text=isn’t connected yet");
  await w.goto(`chrome-extension://${b.id}/connect.html`);
  await w.fill("#app", "trickster.example");
  await w.click("button");
  await w.waitForSelector("text=ends in .localhost");
  await w.close();
  // From the device's own page there is nothing to type.
  await desk.goto(d.laptop + "/devices");
  const [opened] = await Promise.all([b.context.waitForEvent("page"), desk.click("[data-connect-browser]")]);
  await opened.click("text=Go on");
  await opened.click("text=Connect to Maren");
  await opened.waitForSelector("#words li");
  await desk.bringToFront();
  await desk.click("text=No, refuse it");
  await opened.waitForSelector("text=Refused in Red Locket");
  await opened.close();
  const { there, here } = await connect(b, desk, d.laptop);
  assert.equal(there.length, 4);
  assert.deepEqual(there, here, "the same words on both sides");
  const may = await b.context.serviceWorkers()[0].evaluate(() => chrome.permissions.getAll());
  assert.deepEqual(may.permissions.includes("privacy"), false, "the browser's own saving is changed only if asked for");
});

test("one page: the offer fills user name and password, and signs in", async () => {
  await site.goto(d.site("lanternfish", "/sign-in"));
  await choose(site, "#user");
  await hasValue(site, "#password");
  assert.equal(await site.inputValue("#user"), maren.email);
  await site.click("main button");
  await site.waitForURL("**/welcome");
});

test("two pages: the user name on one, the password on the next", async () => {
  await site.goto(d.site("cormorant", "/sign-in"));
  await choose(site, "#user");
  await hasValue(site, "#user");
  await site.click("main button");
  await site.waitForSelector("#password");
  await choose(site, "#password");
  await hasValue(site, "#password");
  await site.click("main button");
  await site.waitForURL("**/welcome");
});

/** Goes to a field and takes the first line offered there, by the keyboard. @param {string} field */
const takeFirst = (field) => chooseByKeys(site, site.locator(field));

test("by keyboard alone", async () => {
  await site.goto(d.site("gullwing", "/sign-in"));
  await takeFirst("#user");
  await hasValue(site, "#password");
  assert.equal(await site.inputValue("#user"), "mtolliver");
});

/** Has a password made on the sign-up page, by the keyboard. */
async function makeOne() {
  await takeFirst("#password");
  await hasValue(site, "#repeat");
}

test("sign up: a made password in both boxes, kept by the slip, and on the other device", async () => {
  await site.context().clearCookies({ name: "session" });
  await site.goto(d.site("gullwing", "/sign-up"));
  await choose(site, "#user"); // the user name used most is offered
  await hasValue(site, "#user");
  assert.equal(await site.inputValue("#user"), maren.email);
  await site.fill("#user", "wren.t");
  await makeOne();
  const made = await site.inputValue("#password");
  assert.equal(made, await site.inputValue("#repeat"));
  assert.ok(made.length >= 20);
  await site.click("main button");
  await site.waitForURL("**/welcome");
  await offered(site);
  await desk.goto(d.laptop + "/logins?q=wren.t"); // kept before anything is answered
  await desk.waitForSelector(".line-main:has-text('wren.t')");
  await site.bringToFront();
  await pressDrawn(site, "Keep it");
  await desk.goto(d.laptop + "/logins?q=wren.t");
  await desk.locator(".line-main", { hasText: "wren.t" }).first().click();
  await desk.waitForSelector("#sheet h1:has-text('Gullwing Credit Union')");
  await desk.keyboard.press("s");
  await desk.waitForSelector(".grouped");
  assert.equal((await desk.locator(".glyphs").allInnerTexts()).join(""), made);
  const other = await b.page();
  await unlock(other, d.desk, maren.password);
  await other.goto(d.desk + "/logins?q=wren.t");
  await other.waitForSelector("text=wren.t");
  await other.close();
});

test("a sign-up that isn't wanted after all goes into the archive by the slip", async () => {
  await site.context().clearCookies({ name: "session" });
  await site.goto(d.site("gullwing", "/sign-up"));
  await site.fill("#user", "petrel.t");
  await makeOne();
  await site.click("main button");
  await site.waitForURL("**/welcome");
  await offered(site);
  await pressDrawn(site, "Archive it");
  await desk.goto(d.laptop + "/logins?q=petrel.t");
  await desk.waitForSelector(".empty");
  await desk.goto(d.laptop + "/logins?q=petrel.t+%3Darchived");
  await desk.waitForSelector(".line-main:has-text('petrel.t')");
});

test("an unknown sign-in raises the slip; a refused one doesn't; Never here is kept", async () => {
  await site.context().clearCookies({ name: "session" });
  await site.goto(d.site("lanternfish", "/sign-up"));
  for (const [f, v] of [
    ["#user", "idris@x.example"],
    ["#password", "thole-pin-88"],
    ["#repeat", "thole-pin-88"],
  ])
    await site.fill(f, v);
  await site.click("main button");
  await site.waitForURL("**/welcome");
  await offered(site);
  await pressDrawn(site, "Not now");
  await site.click("text=Sign out");
  await site.goto(d.site("lanternfish", "/sign-in"));
  await site.fill("#user", "idris@x.example");
  await site.fill("#password", "wrong-one-99");
  await site.click("main button");
  await site.waitForSelector(".error");
  await readable(site);
  assert.ok(!(await drawnAt(site, "Never here")), "a refused sign-in isn't asked about");
  await site.fill("#user", "idris@x.example");
  await site.fill("#password", "thole-pin-88");
  await site.click("main button");
  await site.waitForURL("**/welcome");
  await offered(site);
  await pressDrawn(site, "Never here");
  await desk.goto(d.laptop + "/devices");
  await desk.waitForSelector("text=lanternfish.localhost");
  await desk.goto(d.laptop + "/logins?q=idris%40x");
  await desk.waitForSelector("text=Nothing fits");
});

test("a page that imitates a kept site raises the alarm, and gets nothing", async () => {
  for (const name of ["gullwing.localhost.trickster", "gu11wing", "gulwling", "gullwing-login", "gullvving"]) {
    await site.goto(d.site(name)).catch(() => {}); // the alarm takes its place while it comes
    await soon(() => site.url().includes("/alarm.html"));
    await site.waitForSelector("h2:has-text('This is not the Gullwing')");
    await site.click("text=Show the page, without filling");
    await site.waitForSelector("#password");
    await site.focus("#password");
    await site.keyboard.press("ArrowDown");
    await readable(site);
    assert.equal(await shownText(site), "", `${name}: nothing is offered`);
    const window = await b.page();
    const tab = await b.context
      .serviceWorkers()[0]
      .evaluate(async (url) => (await chrome.tabs.query({ url: url + "*" }))[0].id, d.site(name));
    await window.goto(`chrome-extension://${b.id}/window.html?tab=${tab}`);
    await window.waitForSelector("text=No login is kept for");
    await window.close();
    assert.equal(await site.inputValue("#password"), "", name);
  }
});

test("the alarm's user can say that an address is right", async () => {
  await desk.goto(d.laptop + "/logins?q=gullwing+practice");
  await desk.locator(".line-main").first().click();
  await desk.waitForSelector("#sheet h1");
  const id = await desk.locator("#sheet").getAttribute("data-id");
  const address = d.site("gullvving");
  await desk.goto(`${d.laptop}/items/${id}/vouch?address=${encodeURIComponent(address)}`);
  await desk.click("text=It is right");
  await desk.waitForSelector("text=belongs to the login from here on");
  await site.bringToFront();
  await site.goto(address);
  await choose(site, "#user");
  await hasValue(site, "#password");
  await desk.locator("[data-undo]").click();
  await desk.waitForSelector("text=Undone");
});

test("a frame of another site gets nothing until its user says so", async () => {
  await site.bringToFront();
  await site.goto(d.site("framed"));
  await readable(site);
  const frame = site.frames().find((f) => f.url().includes("lanternfish"));
  await chooseByKeys(site, frame.locator("#user")); // Fill here all the same
  assert.equal(await frame.inputValue("#password"), "");
  await chooseByKeys(site, frame.locator("#user"));
  await hasValue(frame, "#password");
});

test("a page's own presses do nothing", async () => {
  await site.goto(d.site("lanternfish", "/sign-in"));
  await site.click("#user");
  await offered(site);
  await settled(site);
  await site.evaluate(() => {
    const host = [...document.documentElement.children].find((e) => e.matches(":popover-open"));
    for (const type of ["mousedown", "mouseup", "click"])
      host.dispatchEvent(new MouseEvent(type, { bubbles: true, clientX: 400, clientY: 200 }));
    host.click();
    for (const key of ["ArrowDown", "Enter"])
      document.querySelector("#user").dispatchEvent(new KeyboardEvent("keydown", { key, bubbles: true }));
  });
  assert.equal(
    await site.evaluate(
      () => [...document.documentElement.children].find((e) => e.matches(":popover-open")).shadowRoot,
    ),
    null,
    "the root is closed",
  );
  const at = await offerAt(site);
  await site.evaluate(() => (document.documentElement.style.opacity = "0.01"));
  await press(site, at.x, at.y);
  await settled(site);
  assert.equal(await site.inputValue("#password"), "", "made invisible, a press isn't taken");
});

test("the extension's window: this page's logins, others, and locking", async () => {
  await site.goto(d.site("lanternfish", "/sign-in"));
  await settled(site);
  const tab = await b.context
    .serviceWorkers()[0]
    .evaluate(async (url) => (await chrome.tabs.query({ url: url + "*" }))[0].id, d.site("lanternfish"));
  const w = await b.page();
  await w.goto(`chrome-extension://${b.id}/window.html?tab=${tab}`);
  await w.waitForSelector("text=Logins for lanternfish.localhost");
  assert.equal(await w.isVisible("#may-sign-out"), false, "nobody wants it");
  await desk.goto(d.laptop + "/settings");
  await desk.click("text=shared with others");
  await desk.waitForSelector(".done:has-text('asks once')");
  await w.reload();
  await w.waitForSelector("#may-sign-out:visible");
  await desk.click("text=my own");
  await desk.waitForSelector(".done:has-text('of your own')");
  await w.reload();
  await w.waitForSelector("#list li");
  assert.equal(await w.isVisible("#may-sign-out"), false);
  await w.fill("#find", "ferryl");
  await w.waitForSelector("#list b:has-text('Ferrylink')");
  await w.fill("#find", "");
  await w.click("#list button:has-text('Lanternfish')");
  await hasValue(site, "#password");
  const w2 = await b.page();
  await w2.goto(`chrome-extension://${b.id}/window.html?tab=${tab}`);
  await w2.click("#lock");
  await w2.waitForSelector("text=The vault is locked");
  await lockPage(desk);
  await site.reload();
  await site.click("#password");
  await offered(site);
  await w2.close();
});

/** Opens the vault on the lock page that a press led to. @param {() => Promise<unknown>} press */
async function openedBy(press) {
  const [lock] = await Promise.all([b.context.waitForEvent("page"), press()]);
  await lock.waitForSelector("#password");
  assert.match(lock.url(), /\/open\/[^/]*\?at-once$/);
  const gone = lock.waitForEvent("close");
  await lock.fill("#password", maren.password);
  await lock.click("button:text-is('Open')");
  await gone;
}

/** Locks the vault beside the page, which is loaded anew. */
async function lockedBeside() {
  await desk.goto(d.laptop + "/logins");
  await desk.evaluate(() => document.activeElement?.blur());
  await desk.keyboard.press("Shift+L");
  await lockPage(desk);
  await site.goto(d.site("lanternfish", "/sign-in"));
}

test("from a locked field to the lock page and back, and the field is filled", async () => {
  await lockedBeside();
  await site.click("#password");
  await openedBy(() => pressDrawn(site, "Open it"));
  await hasValue(site, "#password");
  assert.equal(await site.evaluate(() => document.visibilityState), "visible");
  assert.equal(await site.inputValue("#user"), maren.email);
});

test("and from the extension's window, which fills the tab's sign-in", async () => {
  await lockedBeside();
  const tab = await b.context
    .serviceWorkers()[0]
    .evaluate(async (url) => (await chrome.tabs.query({ url: url + "*" }))[0].id, d.site("lanternfish"));
  const w = await b.page();
  await w.goto(`chrome-extension://${b.id}/window.html?tab=${tab}`);
  await openedBy(() => w.click("text=Open it"));
  await hasValue(site, "#password");
});

test("a page that went elsewhere meanwhile is not filled, nor one that another lock page was opened for", async () => {
  await lockedBeside();
  await site.click("#password");
  await openedBy(async () => {
    await pressDrawn(site, "Open it");
    await site.evaluate(() => history.replaceState(null, "", "/sign-in?elsewhere"));
  });
  await settled(site);
  assert.equal(await site.inputValue("#password"), "");
  await lockedBeside();
  await unlock(desk, d.laptop, maren.password);
  await settled(site);
  assert.equal(await site.inputValue("#password"), "", "opened without having been asked to come back");
});

test("after all that, nothing is in clear in any file or log", () => {
  assert.deepEqual(inClear(d, ["thole-pin-88", "wrong-one-99", "idris@x.example"]), []);
});
