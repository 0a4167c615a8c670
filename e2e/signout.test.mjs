// A shared computer, in Chromium: once the vault locks, the sites that were filled are signed out, and no others.
import test, { after, before } from "node:test";
import assert from "node:assert/strict";
import {
  accessible,
  arrived,
  browser,
  build,
  chooseByKeys,
  connect,
  demo,
  hasValue,
  idris,
  lockPage,
  maren,
  settled,
  soon,
  unlock,
} from "./harness.mjs";

let d, b, desk, filled, typed;

before(async () => {
  d = await demo(build(), 17960);
  b = await browser({ extension: true, granted: ["cookies", "browsingData"] });
  desk = await b.page();
  await unlock(desk, d.laptop, maren.password);
  await connect(b, desk, d.laptop);
});
after(async () => {
  await b?.close();
  await d?.stop();
  d?.clean();
});

async function signInByFill(page, site) {
  await page.goto(d.site(site, "/sign-in"));
  await chooseByKeys(page, page.locator("#user"));
  await hasValue(page, "#password");
  await page.click("main button");
  await page.waitForURL("**/welcome");
  await settled(page);
}

/** Leaves what sites leave: in a frame's storage of every kind. */
const leaveThings = (page) =>
  page.evaluate(async () => {
    localStorage.setItem("basket", "3 rowlocks");
    sessionStorage.setItem("draft", "Dear harbour master");
    await new Promise((done) => {
      const r = indexedDB.open("drafts", 1);
      r.onsuccess = done;
    });
    await caches.open("pages");
    const disk = await navigator.storage.getDirectory();
    await disk.getFileHandle("letters", { create: true });
    window.name = "token";
    history.replaceState("token", "", "?session=token");
  });

/** A page that asks whether it may be left, and writes down once more what it knows when it goes. */
const resist = async (page) => {
  await page.evaluate(() => {
    addEventListener("beforeunload", (e) => {
      e.preventDefault();
      localStorage.setItem("token", "once more");
    });
    addEventListener("pagehide", () => localStorage.setItem("token", "and again"));
    document.cookie = "second=1; path=/";
  });
  await page.click("h1"); // a browser asks only for pages that were used
};

const left = (page) =>
  page.evaluate(async () => [
    ...Object.keys(localStorage),
    ...Object.keys(sessionStorage),
    ...(await indexedDB.databases()).map((x) => x.name),
    ...(await caches.keys()),
    ...(await Array.fromAsync((await navigator.storage.getDirectory()).keys())),
    ...[window.name, history.state, location.search].filter(Boolean),
  ]);

const signedIn = async (site) => {
  const page = await b.page();
  await page.goto(d.site(site, "/welcome"));
  const there = new URL(page.url()).pathname === "/welcome";
  await page.close();
  return there;
};

test("one press sets all that a shared computer wants, and says what it does", async () => {
  await desk.goto(d.laptop + "/settings");
  await desk.click("text=shared with others");
  await desk.waitForSelector(".done:has-text('shared computer')");
  assert.match(await desk.innerText(".settings"), /locks after 1 minute.*signs out of sites then/s);
  await accessible(desk, "settings of a shared computer");
});

test("sites that were filled are signed out at locking, and one that was typed into isn't", async () => {
  filled = await b.page();
  await signInByFill(filled, "lanternfish");
  await leaveThings(filled);
  await resist(filled);
  typed = await b.page();
  await typed.goto(d.site("gullwing", "/sign-up"));
  await typed.fill("#user", idris.email);
  for (const f of ["#password", "#repeat"]) await typed.fill(f, "Winch-handle-5-turns");
  await typed.click("main button");
  await typed.waitForURL("**/welcome");
  await leaveThings(typed);
  assert.equal(await signedIn("lanternfish"), true);
  await desk.goto(d.laptop + "/logins");
  await desk.evaluate(() => document.activeElement?.blur());
  await desk.keyboard.press("Shift+L");
  await lockPage(desk);
  await arrived(filled, d.site("lanternfish", "/")); // its first page
  await filled.waitForTimeout(1500); // what it wrote while it ended goes too
  await soon(async () => !(await signedIn("lanternfish")));
  await soon(async () => (await left(filled)).length === 0);
  assert.equal(await signedIn("lanternfish"), false);
  assert.deepEqual(await left(filled), []);
  assert.equal(await signedIn("gullwing"), true, "nobody filled it");
  assert.deepEqual((await left(typed)).sort(), [
    "?session=token",
    "basket",
    "draft",
    "drafts",
    "letters",
    "pages",
    "token",
    "token",
  ]);
});

test("also when the app ends, and when the vault was opened again before anybody looked", async () => {
  await unlock(desk, d.laptop, maren.password);
  await signInByFill(filled, "lanternfish");
  const kept = () => b.context.serviceWorkers()[0].evaluate(async () => chrome.storage.local.get());
  assert.deepEqual((await kept()).sites.domains, ["lanternfish.localhost"]);
  await desk.goto(d.laptop + "/logins");
  await desk.evaluate(() => document.activeElement?.blur());
  await desk.keyboard.press("Shift+L");
  await lockPage(desk);
  await unlock(desk, d.laptop, maren.password);
  await arrived(filled, d.site("lanternfish", "/")); // its first page
  await filled.waitForTimeout(1500);
  assert.deepEqual(await kept(), {});
  await signInByFill(filled, "lanternfish");
  await d.stop();
  await soon(async () => !(await kept()).sites);
  assert.deepEqual(await kept(), {});
  assert.deepEqual(await b.context.cookies(d.site("lanternfish", "/")), []);
});
