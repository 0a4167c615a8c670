// Weak spots mended one after the other: from the list to the site's change page, until each has left the list.
import test from "node:test";
import assert from "node:assert/strict";
import { accessible, pressDrawn, says, settled } from "./harness.mjs";
import { at, b, choose, d, desk, filled, inTown, signIn } from "./town.mjs";

inTown(17760);

const weak = {
  thriftmarket: "Thrift Marketplace (practice)",
  "tidewater-library": "Tidewater Library (practice)",
  topsail: "Topsail Payroll (practice)",
};
const line = (title) => desk.locator(".weak-list .line-main", { hasText: title });

test("three are mended in five minutes, and leave the list", async () => {
  const began = Date.now();
  await desk.bringToFront();
  await desk.goto(d.laptop + "/weak");
  await accessible(desk, "weak spots");
  for (const [name, title] of Object.entries(weak)) {
    await desk.bringToFront();
    await desk.goto(d.laptop + "/weak");
    await line(title).first().click();
    await desk.waitForSelector("#sheet h1");
    assert.match(await desk.innerText("#sheet .reasons >> nth=0"), /The same password opens/);
    const before = await desk.innerText("#sheet h2");
    assert.match(before, /If a thief knows it, \d+ others fall/);
    if (name === "thriftmarket") await accessible(desk, "a weak spot with its reach");
    const [page] = await Promise.all([b.context.waitForEvent("page"), desk.click("#sheet [data-key=g]")]);
    await page.waitForLoadState();
    await page.goto(d.site(name, "/sign-in"));
    await signIn(page, name);
    await page.goto(d.site(name, "/change"));
    await settled(page);
    await choose(page, page.locator("#password"));
    await filled(page.locator("#password"), `${name}: a new password`);
    await page.click("main form button");
    await page.waitForSelector("[role=status]");
    await pressDrawn(page, "It worked");
    await page.close();
    await desk.goto(d.laptop + "/weak");
    await desk.waitForSelector(".weak-list");
    assert.equal(await line(title).count(), 0, `${title} has left the list`);
  }
  assert.ok(Date.now() - began < 5 * 60 * 1000);
});

test("a sign-up with a password that others have: the slip says so, and leads to a new one", async () => {
  const page = await at("lanternfish", "/sign-up");
  for (const [field, value] of [
    ["#user", "petrel@cormorant.example"],
    ["#password", "Tolliver85"],
    ["#repeat", "Tolliver85"],
  ])
    await page.fill(field, value);
  await page.click("main button");
  await page.waitForURL("**/welcome");
  await says(page, /isn’t this site’s alone/);
  const [change] = await Promise.all([b.context.waitForEvent("page"), pressDrawn(page, "Keep it, and make a new one")]);
  await change.waitForURL("**/change");
  assert.match(change.url(), /lanternfish/, "where the site changes passwords");
  await change.close();
  await desk.goto(d.laptop + "/logins?q=petrel");
  await desk.waitForSelector(".line-main:has-text('petrel')");
  await page.close();
});
