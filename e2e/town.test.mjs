// Every site of the practice town, by the extension in Chromium: signed in, up, changed and, where it sells, paid at.
import test, { after, before } from "node:test";
import assert from "node:assert/strict";
import { browser, build, connect, demo, maren, unlock } from "./harness.mjs";

let d, b, desk;

before(async () => {
  d = await demo(build(), 17700);
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

/** What is particular about a site: where its fields are, and how it is sent. */
const sites = {
  lanternfish: {}, gullwing: {}, pantryandpier: { pay: "whole" }, "tidewater-library": {}, thriftmarket: {}, topsail: {}, chandlery: { pay: "parts" },
  samphirehotels: { pay: "parts", details: true },
  cormorant: { steps: true }, "sandpiper-rail": { steps: true },
  ferrylink: { moving: true }, whelk: { moving: true },
  brackish: { formless: true }, undertow: { formless: true },
  harbourwater: { user: "#user input", password: "#password input", fresh: "#password input", repeat: "#repeat input" },
  oystercatcher: { user: ".first", password: ".second", fresh: ".second", repeat: ".third" },
  kelpandcrown: { show: true, pay: "boxes" }, yawl: { show: true },
  "saltmarsh-school": { frame: true }, halyard: { frame: true },
  mooringmutual: { code: true }, islandpost: { code: true },
  periwinkle: { dialog: true },
};

/** The keyboard way through the offer at a field: down to a line, and enter. @param {any} page @param {any} field @param {number} [down] */
async function choose(page, field, down = 1) {
  await field.focus();
  await page.waitForTimeout(450); // a press right after the drawing isn't taken: nobody could have read it
  for (let i = 0; i < down; i++) await page.keyboard.press("ArrowDown");
  await page.keyboard.press("Enter");
}

const value = async (field) => field.inputValue();
async function filled(field, what) {
  for (let i = 0; i < 60; i++) {
    const v = await value(field).catch(() => "");
    if (v) return v;
    await new Promise((r) => setTimeout(r, 50));
  }
  assert.fail(`${what} wasn't filled`);
}

/** A tab at a site, signed out. @param {string} name @param {string} path */
async function at(name, path) {
  const page = await b.page();
  await b.context.clearCookies({ name: "session" });
  await page.goto(d.site(name, path));
  return page;
}

/** Signs in with what is offered. */
async function signIn(page, name) {
  const s = sites[name];
  if (s.dialog) await page.click("[data-dialog]");
  const root = s.frame ? page.frameLocator("iframe") : page;
  const user = root.locator(s.user ?? (s.moving ? "[data-key=user] >> nth=0" : "#user")), password = root.locator(s.password ?? (s.moving ? "[data-key=password] >> nth=0" : "#password"));
  await user.waitFor();
  await page.waitForTimeout(250);
  await choose(page, user);
  await filled(user, `${name}: the user name`);
  if (s.steps) {
    await page.click("main form button");
    await password.waitFor();
    await page.waitForTimeout(250);
    await choose(page, password);
  }
  await filled(password, `${name}: the password`);
  if (s.show) {
    await page.click("[data-show]");
    assert.equal(await root.locator("#password").getAttribute("type"), "text");
  }
  if (s.formless) await page.click("[data-moving='/sign-in'] [data-go]");
  else if (s.moving) await page.click("[data-moving='/sign-in'] button");
  else await root.locator(s.user?.includes("input") ? "[data-shadowed] button" : s.dialog ? "dialog button" : "main form button:not([data-show])").click();
  if (s.code) {
    await page.waitForURL("**/code");
    const box = page.locator("[name=digit], [name=code]").first();
    await page.waitForTimeout(250);
    await choose(page, page.locator("[name=digit], [name=code]").last());
    await filled(box, `${name}: the code`);
    await page.click("main form button");
  }
  if (s.frame) await root.locator("h1", { hasText: "Good day" }).waitFor();
  else if (s.moving || s.formless) await page.waitForSelector("[href='/welcome']");
  else await page.waitForURL("**/welcome");
}

for (const name of Object.keys(sites)) {
  test(`${name}: signed in`, async () => {
    const page = await at(name, "/sign-in");
    await signIn(page, name);
    await page.close();
  });
}
