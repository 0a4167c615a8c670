// The first day, as somebody new goes through it: from an empty computer to a book of their own, with the browser
// connected and the old passwords in it. Timed, but for what a person thinks meanwhile.
import test, { after, before } from "node:test";
import assert from "node:assert/strict";
import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { accessible, browser, build, sheetOn, start, typeSheet } from "./harness.mjs";

const dir = mkdtempSync(join(tmpdir(), "redlocket-first-"));
const at = "http://redlocket.localhost:17990";
let own, b, page;

before(async () => {
  own = await start(
    build({ released: true }),
    ["--data", join(dir, "data"), "--port", "17990", "--no-browser"],
    "Ctrl-C ends it",
  );
  b = await browser({ extension: true });
  page = await b.page();
});
after(async () => {
  await b?.close();
  await own?.stop();
  rmSync(dir, { recursive: true, force: true });
});

/** Where the mark says that one is. */
const step = () => page.innerText(".first-mark p");

test("from nothing to a book, in seven screens and under three minutes of acts", async () => {
  const began = Date.now();
  const seen = [];
  const note = async () => seen.push(await step());
  await page.goto(at + "/");
  await page.click("text=Create a vault");
  await note();
  await page.fill("#name", "Bryony Tern");
  await page.fill("#email", "bryony.tern@cormorant.example");
  await page.fill("#cloud", "");
  await page.click("text=Go on");
  await note();
  await page.click("text=Make one of five words");
  await page.waitForSelector("text=drawn by chance");
  const master = await page.inputValue("#password");
  await page.click("text=Create the vault");
  await page.waitForURL("**/sheet");
  await note();
  await typeSheet(page, await sheetOn(page));
  await page.click("text=I have it on paper");
  await page.waitForURL("**/first/browser");
  await note();
  const [window] = await Promise.all([b.context.waitForEvent("page"), page.click("[data-connect-browser]")]);
  await window.click("text=Go on");
  await window.click("text=Connect to Bryony");
  await window.waitForSelector("#words li");
  const there = await window.locator("#words li").allInnerTexts();
  await page.bringToFront();
  await page.waitForSelector(".waiting");
  assert.deepEqual(await page.locator(".waiting .fingerprint li").allInnerTexts(), there);
  await accessible(page, "comparing words on the first day");
  await page.fill("#connect-password", master);
  await page.click("text=The same words");
  await page.waitForURL("**/first/browser");
  await window.bringToFront();
  await window.click("#yes");
  await window.waitForSelector("#connected:has-text('Connected')");
  await page.bringToFront();
  await page.waitForSelector(".device-list:has-text('connected')");
  await accessible(page, "connected on the first day");
  await page.click("text=Go on");
  await page.waitForURL("**/import");
  await note();
  assert.match(await page.innerText(".how-files"), /Firefox/);
  const file = join(dir, "passwords.csv");
  const rows = Array.from({ length: 120 }, (_, i) => `https://shop-${i}.example/,bryony,Gull-${i}-turns-north`);
  writeFileSync(file, ["url,username,password", ...rows].join("\n"));
  await page.setInputFiles("#import-files", file);
  if (await page.isVisible("text=Read them")) await page.click("text=Read them");
  await page.waitForSelector("text=Import 120 logins");
  await note();
  await accessible(page, "the plan on the first day");
  await page.click("text=Import 120 logins");
  await page.waitForSelector("text=120 new logins");
  await page.click("#plan button:text-is('Go on')");
  await page.waitForURL("**/logins");
  await page.waitForSelector("text=Your vault is set up");
  const took = (Date.now() - began) / 1000;
  assert.deepEqual(
    seen.map((s) => Number(/Step (\d) of 7/.exec(s)[1])),
    [1, 2, 3, 4, 5, 6],
  );
  assert.ok(took < 180, `${took} seconds`);
  console.log(`first day: ${took.toFixed(1)} s of acts`);
  await page.goto(at + "/import");
  assert.equal(await page.locator(".first-mark").count(), 0, "it is over");
});

test("everything can be left for later, and stands on the day's page until it is done", async () => {
  await page.goto(at + "/new");
  await page.fill("#email", "idris.tolliver@cormorant.example");
  await page.fill("#cloud", "");
  await page.click("text=Go on");
  for (const f of ["#password", "#repeat"]) await page.fill(f, "oar lamp tide winkle");
  await page.click("text=Create the vault");
  await page.waitForURL("**/sheet");
  const sheet = await sheetOn(page);
  await page.goto(at + "/logins");
  assert.match(page.url(), /\/sheet$/, "left by nobody yet");
  await accessible(page, "a sheet on the first day");
  await page.click("text=Later >> nth=0");
  await page.waitForURL("**/first/browser");
  await page.click("text=Later");
  await page.waitForURL("**/import");
  await page.click("button:text-is('Later')");
  await page.waitForURL("**/logins");
  await page.click("text=The recovery sheet is missing"); // the first thing of an empty book
  await page.waitForURL("**/sheet");
  await page.click("text=Later >> nth=0");
  await page.waitForURL("**/logins");
  await page.goto(at + "/items/new");
  await page.fill("#title", "Gullwing");
  await page.click(".sheet-acts button");
  await page.waitForSelector("#sheet h1:has-text('Gullwing')");
  await page.goto(at + "/logins");
  const says = page.locator(".day-waits");
  for (const s of ["The recovery sheet is missing", "No browser is connected", "Bring the passwords"])
    await says.locator(`text=${s}`).waitFor();
  await accessible(page, "the day's page with what was left");
  await page.click("text=The recovery sheet is missing");
  await page.waitForURL("**/sheet");
  assert.deepEqual(await sheetOn(page), sheet, "the same sheet");
  await typeSheet(page, sheet);
  await page.click("text=I have it on paper");
  await page.waitForURL("**/logins");
  await says.locator("text=No browser is connected").waitFor();
  assert.equal(await says.locator("text=The recovery sheet is missing").count(), 0);
});
