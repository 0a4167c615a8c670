// The sites of the practice town, by the extension in Chromium: signed up at, kept, and the password changed.
import test from "node:test";
import assert from "node:assert/strict";
import { pressAway, settled, soon, thorough } from "./harness.mjs";
import { at, choose, d, desk, filled, inTown, newcomer, signUp, sites } from "./town.mjs";

inTown(17720);

/** Waits until the device app shows a password for a site's newcomer. */
async function kept(name, password) {
  await desk.goto(`${d.laptop}/logins?q=${encodeURIComponent(newcomer(name))}`);
  await desk
    .locator(".line-main", { hasText: newcomer(name) })
    .first()
    .click();
  await desk.waitForSelector("#sheet h1");
  await desk.keyboard.press("s");
  const shown = async () => (await desk.locator(".glyphs").allInnerTexts()).join("");
  await soon(async () => (await shown()) === password);
  assert.equal(await shown(), password, name);
}

for (const [name, site] of Object.entries(sites)) {
  if (site.upAs && !thorough) continue;
  test(`${name}: signed up, kept, and the password changed`, async () => {
    const page = await at(name, "/sign-up");
    const made = await signUp(page, name);
    await pressAway(page, "Keep it"); // what stays covers the offers of the next page
    // The present one is filled, the new one made and filled, and the same login holds it.
    const change = new URL("/change", page.url()).href;
    const make = async () => {
      await page.goto(change);
      await settled(page);
      await choose(page, page.locator("#password"));
      return filled(page.locator("#password"), `${name}: a new password`);
    };
    const fresh = await make().catch(make); // beside other tests a page may take long: loaded once more
    assert.equal(await filled(page.locator("#current"), `${name}: the present password`), made);
    assert.notEqual(fresh, made);
    await page.click("main form button");
    await page.waitForSelector("[role=status]");
    await pressAway(page, "It worked"); // the page's word alone confirms nothing
    await kept(name, fresh);
    await page.close();
  });
}
