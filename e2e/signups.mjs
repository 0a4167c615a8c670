// A site of the practice town, by the extension in Chromium: signed up at, kept, and the password changed.
import test from "node:test";
import assert from "node:assert/strict";
import { pressAway, settled } from "./harness.mjs";
import { at, choose, d, desk, filled, newcomer, signUp } from "./town.mjs";

/** @param {string[]} names of sites */
export function signedUpAt(names) {
  for (const name of names) {
    test(`${name}: signed up, kept, and the password changed`, async () => {
      const page = await at(name, "/sign-up");
      const made = await signUp(page, name);
      await pressAway(page, "Keep it"); // what stays covers the offers of the next page
      const fits = async (password) => {
        await desk.goto(`${d.laptop}/logins?q=${encodeURIComponent(newcomer(name))}`);
        await desk
          .locator(".line-main", { hasText: newcomer(name) })
          .first()
          .click();
        await desk.waitForSelector("#sheet h1");
        await desk.keyboard.press("s");
        const shown = async () => (await desk.locator(".glyphs").allInnerTexts()).join("");
        for (let i = 0; i < 100 && (await shown()) !== password; i++) await new Promise((done) => setTimeout(done, 50));
        assert.equal(await shown(), password, name);
      };
      await fits(made);
      // The present one is filled, the new one made and filled, and the same login holds it.
      await page.bringToFront();
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
      await fits(fresh);
      await page.close();
    });
  }
}
