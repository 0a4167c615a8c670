// The practice town, walked by the extension in Chromium: what its tests share.
import { after, before } from "node:test";
import assert from "node:assert/strict";
import {
  browser,
  build,
  chooseByKeys,
  connect,
  demo,
  insisting,
  maren,
  readable,
  settled,
  unlock,
} from "./harness.mjs";

/** The demo, a browser with the extension, and a page in it at the device app. @type {any} */
export let d;
/** @type {any} */
export let b;
/** @type {any} */
export let desk;

/** Has the town there for a file's tests, on ports of its own. @param {number} port */
export function inTown(port) {
  before(async () => {
    d = await demo(build(), port);
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
}

/**
 * What is particular about a site: where its fields are, and how it is sent. One signs up at some sites as at another,
 * but for the language.
 */
export const sites = {
  lanternfish: { upAs: "gullwing" },
  gullwing: {},
  pantryandpier: { pay: "whole", upAs: "gullwing" },
  "tidewater-library": {},
  thriftmarket: { upAs: "gullwing" },
  topsail: {},
  chandlery: { pay: "parts", upAs: "gullwing" },
  samphirehotels: { pay: "parts", details: true },
  cormorant: { steps: true },
  "sandpiper-rail": { steps: true, upAs: "cormorant" },
  ferrylink: { moving: true },
  whelk: { moving: true, upAs: "ferrylink" },
  brackish: { formless: true, upAs: "undertow" },
  undertow: { formless: true },
  harbourwater: { user: "#user input", password: "#password input", fresh: "#password input", repeat: "#repeat input" },
  oystercatcher: { user: ".first", password: ".second", fresh: ".second", repeat: ".third" },
  kelpandcrown: { show: true, pay: "boxes", upAs: "yawl" },
  yawl: { show: true },
  "saltmarsh-school": { frame: true },
  halyard: { frame: true },
  mooringmutual: { code: true },
  islandpost: { code: true, upAs: "mooringmutual" },
  periwinkle: { dialog: true, pay: "hosted" },
};

/** What was chosen last. @type {Parameters<typeof chooseByKeys> | undefined} */
let last;
/** @param {Parameters<typeof chooseByKeys>} by */
export async function choose(...by) {
  last = by;
  await chooseByKeys(...by);
}

const value = async (field) => field.inputValue();
export async function filled(field, what) {
  const v = await insisting(
    () => value(field).catch(() => ""),
    async () => last && chooseByKeys(...last),
  );
  assert.ok(v, `${what} wasn't filled`);
  return v;
}

/** A tab at a site, signed out. @param {string} name @param {string} path */
export async function at(name, path) {
  const page = await b.page();
  await b.context.clearCookies({ name: "session" });
  await page.goto(d.site(name, path));
  return page;
}

/** Signs in with what is offered. */
export async function signIn(page, name) {
  const s = sites[name];
  if (s.dialog) await page.click("[data-dialog]");
  const root = s.frame ? page.frameLocator("iframe") : page;
  const user = root.locator(s.user ?? (s.moving ? "[data-key=user] >> nth=0" : "#user")),
    password = root.locator(s.password ?? (s.moving ? "[data-key=password] >> nth=0" : "#password"));
  await user.waitFor();
  await settled(page);
  await choose(page, user);
  await filled(user, `${name}: the user name`);
  if (s.steps) {
    await page.click("main form button");
    await password.waitFor();
    await settled(page);
    await choose(page, password);
  }
  await filled(password, `${name}: the password`);
  if (s.show) {
    await page.click("[data-show]");
    assert.equal(await root.locator("#password").getAttribute("type"), "text");
  }
  if (s.formless) await page.click("[data-moving='/sign-in'] [data-go]");
  else if (s.moving) await page.click("[data-moving='/sign-in'] button");
  else
    await root
      .locator(
        s.user?.includes("input")
          ? "[data-shadowed] button"
          : s.dialog
            ? "dialog button"
            : "main form button:not([data-show])",
      )
      .click();
  if (s.code) {
    await page.waitForURL("**/code");
    const box = page.locator("[name=digit], [name=code]").first();
    await settled(page);
    await choose(page, page.locator("[name=digit], [name=code]").last());
    await filled(box, `${name}: the code`);
    await page.click("main form button");
  }
  if (s.frame) await root.locator("h1", { hasText: "Good day" }).waitFor();
  else if (s.moving || s.formless) await page.waitForSelector("[href='/welcome']");
  else await page.waitForURL("**/welcome");
}

const mails = [
  "lanternfish",
  "pantryandpier",
  "thriftmarket",
  "chandlery",
  "samphirehotels",
  "cormorant",
  "sandpiper-rail",
  "ferrylink",
  "whelk",
  "oystercatcher",
  "islandpost",
  "periwinkle",
];
export const newcomer = (name) =>
  name === "yawl" ? "+441632960222" : mails.includes(name) ? `wren.${name}@x.example` : `wren.${name}`;

/** Signs up with a password that is made, and returns it. */
export async function signUp(page, name) {
  const s = sites[name];
  if (s.moving) await page.click("[data-tab=up]");
  const own = s.moving || s.formless;
  const user = page.locator(s.user ?? (own ? "#new-user" : "#user")),
    fresh = page.locator(s.fresh ?? (own ? "#new-password" : "#password")),
    repeat = page.locator(s.repeat ?? (own ? "#new-repeat" : "#repeat"));
  await fresh.waitFor();
  await readable(page);
  if (s.details) {
    await choose(page, page.locator("#first"));
    assert.equal(await filled(page.locator("#first"), "the first name"), "Maren");
    assert.deepEqual(
      await page.evaluate(() =>
        ["last", "street", "house", "town", "post", "country"].map((n) => document.getElementById(n).value),
      ),
      ["Tolliver", "Ropewalk", "7", "Saltmarsh Quay", "SQ1 7RW", "GB"],
    );
    assert.deepEqual(
      await page.evaluate(() => ["day", "month", "year"].map((n) => document.querySelector(`[name=${n}]`).value)),
      ["11", "04", "1985"],
    );
  }
  await user.fill(newcomer(name));
  await choose(page, fresh);
  const made = await filled(fresh, `${name}: a new password`);
  assert.equal(await filled(repeat, `${name}: the repeated one`), made);
  if (s.formless || s.moving) await page.click(`[data-moving='/sign-up'] ${s.formless ? "[data-go]" : "button"}`);
  else await page.click(s.user?.includes("input") ? "[data-shadowed] button" : "main form button");
  if (own) await page.waitForSelector("[href='/welcome']");
  else await page.waitForURL("**/welcome");
  return made;
}
