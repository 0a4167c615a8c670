// Tidy in a browser: an imported mess is decided by keyboard alone, joined at once, taken back, gone on with after a
// lock and in another tab.
import test, { after, before } from "node:test";
import assert from "node:assert/strict";
import { accessible, browser, build, demo, maren, unlock } from "./harness.mjs";

let d, b, page;
const troubles = [];

before(async () => {
  d = await demo(build(), 17680);
  b = await browser();
  page = await b.page();
  page.on("pageerror", (e) => troubles.push(String(e)));
  page.on("console", (m) => /violates|Refused/.test(m.text()) && troubles.push(m.text()));
  await unlock(page, d.desk, maren.password);
});
after(async () => {
  await b?.close();
  await d?.stop();
  d?.clean();
});

const mess = [
  "name,url,username,password,note",
  ...["Whimbrel", "Dunlin", "Knot", "Curlew", "Godwit"].flatMap((name, i) => {
    const site = name.toLowerCase() + ".example";
    return [
      `${name},https://www.${site}/login,wren.tolliver,pool-${i}-Rope-77,`,
      `${site},http://${site}/,wr*****er,pool-${i}-Rope-77,note ${i}`,
    ];
  }),
  "Sanderling,https://sanderling.example/,maren.tolliver@cormorant.example,slack-Tide-1,",
  "Sanderling,https://sanderling.example/login,maren.tolliver,slack-Tide-2,old",
  "Plover,https://plover.example/,idris,Over-Ropewalk-3,",
  "Plover,https://plover.example/,wren,Lamp-Over-4,",
].join("\n");

const title = () => page.textContent("#sheet h1");
const left = async () => Number(/(\d+) to decide/.exec(await page.innerText(".tidy-left"))?.[1] ?? 0);
/** Presses a key, and waits until another proposal is shown. */
async function next(key) {
  const was = await page.locator("#bench input[name=ids]").first().inputValue();
  await page.keyboard.press(key);
  await page.waitForFunction((was) => document.querySelector("#bench input[name=ids]")?.value !== was, was);
}

test("an import ends at what is there twice", async () => {
  await page.goto(d.desk + "/import");
  await page.setInputFiles("#import-files", { name: "a.csv", mimeType: "text/csv", buffer: Buffer.from(mess) });
  await page.waitForSelector("#plan");
  await page.click("#plan button.btn-primary");
  await page.click("text=/\\d+ sure/");
  await page.waitForSelector("#bench");
  await accessible(page, "tidy");
});

test("decided by keyboard alone", async () => {
  const began = await left();
  const first = await title();
  await next("j");
  assert.notEqual(await title(), first);
  await next("k");
  assert.equal(await title(), first);
  while ((await title()) !== "Sanderling") await next("j");
  const row = page.locator("#bench tr", { hasText: "Password" });
  assert.match(await row.innerText(), /the rest: to the history/);
  assert.doesNotMatch(await row.innerText(), /Tide/);
  await page.keyboard.press("s");
  await page.waitForFunction(() => document.querySelectorAll("#bench .grouped").length === 2);
  await page.keyboard.press("2");
  assert.equal(await page.locator("#bench tr.differs td:nth-of-type(2) input:checked").count(), 2);
  await next("l");
  assert.equal(await left(), began - 1, "it was put off");
  assert.match(await page.innerText("#main"), /Later\s+1/);
  await next("a");
  await next("Enter");
  assert.equal(await left(), began - 3);
  assert.match(await page.innerText(".tidy-done"), /logins joined.*\n[^]*logins kept apart/);
});

test("all sure ones at once, and all of it taken back", async () => {
  const before = await left();
  await page.goto(d.desk + "/tidy/sure");
  await accessible(page, "the sure ones");
  const n = await page.locator(".sure-list li").count();
  await page.locator(".sure-not input").first().check();
  await page.click("text=Join these");
  await page.waitForSelector(".tidy-done");
  assert.equal(await left(), before - n + 1, "all but the one that was marked");
  const book = await b.page();
  await book.goto(d.desk + "/logins?q=plover");
  assert.equal(await book.locator(".site .line").count(), 2, "two people at one site are two logins");
  await book.close();
  await page.click("text=/Take back all/");
  await page.waitForSelector("text=/decisions were taken back/");
  assert.ok((await left()) > before);
});

test("a proposal that was decided in another tab is refused there, and nothing is lost", async () => {
  await page.goto(d.desk + "/tidy");
  const other = await b.page();
  await other.goto(page.url());
  await next("Enter");
  await other.click(".bench .btn-primary");
  await other.waitForSelector(".trouble");
  assert.match(await other.innerText(".trouble"), /changed meanwhile.*Nothing was joined/);
  await other.close();
});

test("the list is there at 390 pixels, and the bench after a press", async () => {
  await page.setViewportSize({ width: 390, height: 800 });
  await page.goto(d.desk + "/tidy");
  assert.equal(await page.locator("#bench").isVisible(), false);
  await page.locator(".tidy-list a").nth(1).click();
  await page.locator("#bench").waitFor();
  assert.equal(await page.locator(".tidy-group").first().isVisible(), false);
  const wide = await page.evaluate(() => document.documentElement.scrollWidth);
  assert.ok(wide <= 390, `the page is ${wide} wide`);
  await accessible(page, "the bench, narrow");
  await page.click("text=To the list");
  await page.locator(".tidy-group").first().waitFor();
  assert.deepEqual(troubles, []);
});
