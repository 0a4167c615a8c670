// A helping hand: Maren's computers, Idris's, Wren's vault on the laptop, and a computer that has nothing yet.
import test, { after, before } from "node:test";
import assert from "node:assert/strict";
import { mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { accessible, browser, build, demo, fits, idris, maren, picture, start, unlock, wren } from "./harness.mjs";

const program = build();
const dir = mkdtempSync(join(tmpdir(), "redlocket-helping-"));
const attic = "http://redlocket.localhost:18120";
const chosen = "gulls over a wet slipway";
let d, own, b, b2, b3, desk, his, hers, fresh;

const startOwn = () =>
  start(program, ["--data", dir, "--port", "18120", "--no-browser", "--cloud", d.cloud], "Ctrl-C ends it");

before(async () => {
  d = await demo(program, 18100);
  own = await startOwn();
  b = await browser();
  b2 = await browser();
  b3 = await browser();
  desk = await b.page();
  his = await b2.page();
  hers = await b3.page();
  fresh = await b3.page();
  await unlock(desk, d.desk, maren.password);
  await unlock(his, d.idris, idris.password);
  await unlock(hers, d.laptop, wren.password, "Wren");
});
after(async () => {
  await b?.close();
  await b2?.close();
  await b3?.close();
  await own?.stop();
  await d?.stop();
  d?.clean();
  rmSync(dir, { recursive: true, force: true });
});

const looked = async (page, name) => {
  await accessible(page, name);
  await fits(page, name);
  await picture(page, name);
};

/** Asks from the computer that has nothing, and returns the words that it shows. */
async function ask() {
  await fresh.goto(attic + "/help");
  await fresh.fill("#email", maren.email);
  await fresh.fill("#password", chosen);
  await fresh.fill("#repeat", chosen);
  await fresh.fill("#device", "attic");
  await looked(fresh, "asking helpers");
  await fresh.click("button:has-text('Ask them')");
  await fresh.waitForSelector(".fingerprint.six li");
  return fresh.locator(".fingerprint.six li").allInnerTexts();
}

/** Types the words that were read out. */
async function help(page, at, words, password) {
  await page.goto(at + "/logins");
  await page.click("a:has-text('Somebody asks for your help in the name of Maren')");
  await page.fill("[name=words]", words);
  await page.fill(".waiting [name=password]", password);
  await page.click(".waiting button:has-text('Help')");
}

test("who helps is seen and chosen anew", async () => {
  await desk.goto(d.desk + "/household");
  await desk.click("a:has-text('A helping hand')");
  await desk.waitForSelector("text=any 2 of the 3 together");
  await desk.waitForSelector("text=holds a share");
  await looked(desk, "a helping hand");
  await desk.click("summary:has-text('Choose others')");
  await desk.fill("#code", "0000");
  await desk.fill("#hand-password", "not this one");
  await desk.click("button:has-text('Give them their shares')");
  await desk.waitForSelector(".bad:has-text('the master password')");
  await desk.fill("#code", "0000");
  await desk.fill("#hand-password", maren.password);
  await desk.click("button:has-text('Give them their shares')");
  await desk.waitForSelector(".bad:has-text('The code is too short')");
  await looked(desk, "choosing helpers");
});

test("what wasn't asked for by the owner is stopped", async () => {
  await desk.goto(d.desk + "/tidy");
  await ask();
  await looked(fresh, "words for helpers");
  await desk.waitForSelector("#status a:has-text('your helpers are asked')"); // on whatever page is open
  await desk.goto(d.desk + "/logins");
  await desk.click("a:has-text('Somebody asks your helpers to open this vault')");
  await desk.waitForSelector("text=So far too few have helped");
  await looked(desk, "somebody asks helpers");
  await desk.click("button:has-text('Stop it')");
  await desk.waitForSelector("text=Stopped: whoever asked gets nothing");
  await fresh.waitForSelector("text=This was stopped on a device that has the vault");
  await fresh.waitForSelector(".fingerprint", { state: "detached" });
  await picture(fresh, "stopped");
  await fresh.click("button:has-text('Ask anew')");
  await fresh.waitForSelector("button:has-text('Ask them')");
});

test("two helpers bring the vault back", async () => {
  const words = (await ask()).join(" ");
  await help(his, d.idris, "abacus abdomen abdominal abide abiding ability", idris.password);
  await his.waitForSelector("text=No device that waits shows these words");
  await looked(his, "helping");
  await help(his, d.idris, words, idris.password);
  await his.waitForSelector("text=You have helped");
  await fresh.waitForSelector("text=1 helper of 2");
  // The program ends in between; the words come back with the password that was chosen.
  await own.stop();
  own = await startOwn();
  await fresh.goto(attic);
  await fresh.click("a:has-text('What you asked your helpers')");
  await fresh.waitForSelector("text=1 helper of 2");
  assert.equal(await fresh.locator(".fingerprint").count(), 0, "the words are for who asked");
  await fresh.fill("#password", "something else entirely");
  await fresh.click("button:has-text('Show the words')");
  await fresh.waitForSelector(".bad");
  await picture(fresh, "coming back");
  await fresh.fill("#password", chosen);
  await fresh.click("button:has-text('Show the words')");
  await fresh.waitForSelector(".fingerprint.six li");
  assert.equal((await fresh.locator(".fingerprint.six li").allInnerTexts()).join(" "), words);
  await help(hers, d.laptop, words, wren.password);
  await hers.waitForSelector("text=You have helped");
  await fresh.waitForSelector("text=Enough have helped");
  await looked(fresh, "enough have helped");
  await fresh.fill("#password", chosen);
  await fresh.click("button:has-text('Bring it here')");
  await fresh.waitForSelector(".book-list");
  await fresh.goto(attic + "/logins?q=tidewater");
  await fresh.waitForSelector(".book-list .line:has-text('Tidewater Library')");
  await picture(fresh, "back");
});
