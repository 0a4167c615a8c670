// The try-out with the extension: passwords of one site are tried on the real page, one after the other, and what the
// site makes of them is seen.
import test, { after, before } from "node:test";
import assert from "node:assert/strict";
import { browser, build, connect, demo, hasValue, maren, unlock } from "./harness.mjs";

let d, b, desk;

before(async () => {
  d = await demo(build(), 17660);
  b = await browser({ extension: true });
  desk = await b.page();
  await unlock(desk, d.laptop, maren.password);
  await connect(b, desk, d.laptop);
  // Two rows more of a login that works: without a user name, and with other passwords.
  const site = d.site("lanternfish", "/sign-in");
  const csv = `name,url,username,password\nLanternfish quay,${site},,wrong-Kelp-91\nLanternfish quay,${site},,wrong-Rope-92\n`;
  await desk.goto(d.laptop + "/import");
  await desk.setInputFiles("#import-files", { name: "b.csv", mimeType: "text/csv", buffer: Buffer.from(csv) });
  await desk.waitForSelector("#plan");
  await desk.click("#plan button.btn-primary");
  await desk.waitForSelector("text=/to decide|sure/");
});
after(async () => {
  await b?.close();
  await d?.stop();
  d?.clean();
});

test("refused, refused, taken: joined with the one that works", async () => {
  await desk.bringToFront();
  await desk.goto(d.laptop + "/tidy");
  await desk.locator(".tidy-list a", { hasText: "Lanternfish" }).first().click();
  await desk.locator(".tidy-list [aria-current]", { hasText: "Lanternfish" }).waitFor();
  const began = await desk.locator("#bench thead th").count();
  await desk.click("text=Try them");
  await desk.waitForSelector(".try-list");
  const all = await desk.locator(".try-list li").count();
  assert.ok(all >= 2 && all <= began);
  for (let n = 0; n < all; n++) {
    const [site] = await Promise.all([b.context.waitForEvent("page"), desk.click("[data-key=g]")]);
    await hasValue(site, "#password");
    const as = await site.inputValue("#user");
    assert.ok(as && !as.includes("*"), "one without a name of its own is tried with the one that would stay");
    await site.click("main button");
    await site.waitForLoadState();
    const took = site.url().endsWith("/welcome");
    await desk.bringToFront();
    if (took) {
      await desk.waitForSelector(".tidy-done");
      assert.match(await desk.innerText(".tidy-done"), /logins joined/);
      await site.close();
      return;
    }
    await desk.waitForFunction(
      (n) =>
        document.querySelectorAll(".try-list li .pinned").length &&
        [...document.querySelectorAll(".try-list li .pinned")].filter((e) => e.textContent.startsWith("refused"))
          .length ===
          n + 1,
      n,
    );
    await site.close();
  }
  assert.fail("none was taken");
});
