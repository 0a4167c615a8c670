// A leak service is switched on, something turns up, and a mail says that it did; then it is away, and something new
// leaks. The watch house and the post office are the practice town's.
import test, { after, before } from "node:test";
import assert from "node:assert/strict";
import { accessible, browser, build, demo, maren, unlock } from "./harness.mjs";

let d, b, page, town;

before(async () => {
  d = await demo(build(), 17780);
  b = await browser();
  page = await b.page();
  town = await b.page();
  await unlock(page, d.laptop, maren.password);
});
after(async () => {
  await b?.close();
  await d?.stop();
  d?.clean();
});

const service = () => page.locator("details", { hasText: "A leak service:" }).first();
async function open() {
  await page.goto(d.laptop + "/weak");
  if (!(await page.isVisible("#service"))) await service().locator("summary").first().click();
}
async function ask() {
  await page.click("text=Save and ask now");
  await page.locator("summary", { hasText: "asked daily, last on" }).waitFor();
}
const turned = () => page.locator(".turned li").allInnerTexts();

test("nothing is asked until it is switched on, and a service that isn't one is refused", async () => {
  await open();
  assert.match(await service().innerText(), /not asked/);
  await town.goto(d.site("leaks"));
  assert.match(await town.innerText("main p"), /asked 0 times/);
  await page.check("[name=names]");
  await page.fill("#service", d.site("post"));
  await page.click("text=Save and ask now");
  await page.waitForSelector("text=doesn’t answer as one does");
  assert.equal(await page.inputValue("#service"), d.site("post"), "what was typed is there");
  assert.ok(await page.isChecked("[name=names]"));
  await page.fill("#service", "http://leaks.example");
  await page.click("text=Save and ask now");
  await page.waitForSelector("text=no address of a service");
});

test("what turned up is shown with what to do, and a mail says that something did", async () => {
  await open();
  for (const name of ["passwords", "names", "cards", "mail"]) await page.check(`[name=${name}]`);
  await ask();
  const list = await turned();
  const of = (who) => list.find((l) => l.includes(who)) ?? "";
  assert.match(of("Barnacle Books"), /may have had its present password then/);
  assert.match(of("1881"), /Ask your bank/);
  assert.doesNotMatch(list.join(), /4012/, "of a card the last digits alone");
  assert.match(of("Harbour Museum"), /None of your logins/);
  const older = page.locator("summary", { hasText: "need nothing any more" });
  assert.ok(await older.isVisible(), "leaks from before a change");
  await page.waitForSelector(".weak-list :text('lost by its site')");
  await accessible(page, "weak spots with leaks");
  await town.goto(d.site("post"));
  const mail = await town.innerText("article");
  assert.match(mail, /Something turned up in a leak/);
  assert.doesNotMatch(mail, /Barnacle|Museum|Samphire|1881|password/);
});

test("what is seen goes, and what leaks later comes", async () => {
  await page.bringToFront();
  await page.locator(".turned li", { hasText: "Harbour Museum" }).locator("text=Seen").click();
  const unseen = page.locator("h1#turned ~ .turned li");
  await unseen.filter({ hasText: "Harbour Museum" }).waitFor({ state: "detached" });
  await unseen.first().waitFor();
  await town.goto(d.site("leaks"));
  await town.fill("#text", maren.email);
  await town.fill("#name", "Driftwood Choir");
  await town.click("text=Let it leak");
  await town.waitForSelector("li:has-text('Driftwood Choir')");
  await page.goto(d.laptop + "/logins");
  await page.waitForSelector(".day-list :text('turned up in a leak')");
  await open();
  await ask();
  await page.locator(".turned li", { hasText: "Driftwood Choir" }).waitFor();
  await town.goto(d.site("post"));
  assert.equal(await town.locator("article:has-text('turned up')").count(), 2, "and another mail");
});
