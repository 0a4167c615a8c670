// Every site of the practice town, by the extension in Chromium: signed in and, where it sells, paid at.
import test from "node:test";
import assert from "node:assert/strict";
import { readable, settled, thorough } from "./harness.mjs";
import { at, choose, d, filled, inTown, signIn, sites } from "./town.mjs";

inTown(17700);

for (const [name, site] of Object.entries(sites)) {
  // where one pays, one signs in first; and some are but for the language as another is
  if (site.pay || (site.upAs && !thorough)) continue;
  test(`${name}: signed in`, async () => {
    const page = await at(name, "/sign-in");
    await signIn(page, name);
    await page.close();
  });
}

for (const [name, s] of Object.entries(sites)) {
  if (!s.pay) continue;
  test(`${name}: paid at`, async () => {
    const page = await at(name, "/sign-in");
    await signIn(page, name);
    await page.goto(d.site(name, "/pay"));
    await settled(page);
    if (s.pay === "hosted") {
      // each field in a frame of the payment company's
      await choose(page, page.locator("#holder"));
      await filled(page.locator("#holder"), "the name on the card");
      const field = (name) =>
        page
          .frames()
          .find((f) => f.url().includes(`name=${name}`))
          .locator("#field");
      await choose(page, field("number")); // asks first
      assert.equal(await field("number").inputValue(), "");
      await page.keyboard.press("ArrowDown"); // the keyboard is in the offer still
      await readable(page);
      await page.keyboard.press("Enter");
      assert.equal((await filled(field("number"), "the number")).replaceAll(" ", ""), "4012888888881881");
      assert.equal(
        (await field("safety").inputValue()) + (await field("expiry").inputValue()),
        "",
        "nothing in the other frames without a press",
      );
      await choose(page, field("expiry"));
      assert.match(await filled(field("expiry"), "the expiry"), /^09\/\d\d$/);
      await choose(page, field("safety"));
      assert.equal(await filled(field("safety"), "the security code"), "118");
      await page.click("main form button");
      await page.waitForSelector(".done");
      return page.close();
    }
    if (s.pay === "whole") {
      await choose(page, page.locator("#name"));
      assert.equal(await filled(page.locator("#street"), "the street"), "7 Ropewalk");
      assert.equal(await page.inputValue("#country"), "GB");
      assert.equal(await page.inputValue("#promo"), "");
    }
    await choose(page, page.locator("#number").first());
    await filled(page.locator("#holder"), "the name on the card");
    assert.equal(
      await page.locator("[name=number]").evaluateAll((l) => l.map((f) => f.value).join("")),
      "4012888888881881",
    );
    assert.equal(await page.inputValue("#safety"), "", "the security code waits for a press of its own");
    await choose(page, page.locator("#safety"));
    assert.equal(await filled(page.locator("#safety"), "the security code"), "118");
    await page.click("main form button");
    await page.waitForSelector(".done");
    await page.close();
  });
}
