// People who know each other by six words, and what they pass: Maren on two computers, Idris on his, and Bryony, who
// has no vault yet.
import test, { after, before } from "node:test";
import assert from "node:assert/strict";
import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import {
  accessible,
  browser,
  build,
  codeMailed,
  demo,
  firstDay,
  fits,
  idris,
  inClear,
  maren,
  newVault,
  picture,
  start,
  unlock,
} from "./harness.mjs";

const program = build();
const dir = mkdtempSync(join(tmpdir(), "redlocket-household-"));
const bryony = { name: "Bryony Tern", email: "bryony.tern@cormorant.example", password: "oar lamp tide winkle" };
const camera = join(dir, "camera.mjpeg");
const attic = "http://redlocket.localhost:18060";
let d, own, b, b2, desk, his, hers;

before(async () => {
  d = await demo(program, 18040);
  own = await start(program, ["--data", dir, "--port", "18060", "--no-browser", "--cloud", d.cloud], "Ctrl-C ends it");
  b = await browser({ camera, permissions: ["camera"] });
  b2 = await browser();
  desk = await b.page();
  his = await b2.page();
  hers = await b2.page();
  await unlock(desk, d.desk, maren.password);
  await unlock(his, d.idris, idris.password);
});
after(async () => {
  await b?.close();
  await b2?.close();
  await own?.stop();
  await d?.stop();
  d?.clean();
  rmSync(dir, { recursive: true, force: true });
});

/** The words that a page shows. */
const words = async (page) => {
  await page.waitForSelector(".fingerprint.six li");
  return page.locator(".fingerprint.six li").allInnerTexts();
};

/** What a camera sees of the code on a page. */
async function codeOf(page) {
  if (!(await page.locator(".lens .qr").isVisible())) await page.click("summary:has-text('You sit together?')");
  const at = await page.locator(".lens .qr").boundingBox();
  const clip = { x: Math.max(0, at.x - 80), y: Math.max(0, at.y - 60), width: 480, height: 360 };
  return page.screenshot({ type: "jpeg", clip, fullPage: true });
}

/** Says that the words are the same. */
async function same(page, password) {
  await page.fill("#same-password", password);
  await page.click("button:has-text('They are the same')");
  await page.waitForSelector("text=From now on you can pass");
}

/** Opens somebody's page. */
async function open(page, at, who) {
  await page.goto(at + "/household");
  await page.click(`.known .line:has-text('${who}') .line-main`);
  await page.waitForSelector("#sheet h1");
}

/** The mails to an address that the town's post office has. */
async function mails(to) {
  const post = await b.page();
  await post.goto(d.site("post"));
  const text = await post.innerText("body");
  await post.close();
  return text.split("To ").filter((m) => m.startsWith(to));
}

test("what was passed waits on the day's page, covered, and is kept", async () => {
  await desk.goto(d.desk + "/logins");
  await desk.click("a:has-text('Idris passed you something')");
  await desk.waitForSelector(".passed .unread-note");
  assert.doesNotMatch(await desk.innerText("body"), /4471|Low-Water-0620/, "nothing is shown before it is asked for");
  await accessible(desk, "notes, covered");
  const second = desk.locator(".passed > li").nth(1);
  await second.locator("button:has-text('Show')").click();
  await desk.waitForSelector("text=Low-Water-0620");
  await accessible(desk, "a note, opened");
  await second.locator("button:has-text('Keep it in my book')").click();
  await desk.waitForURL(/items/);
  assert.match(await desk.innerText("#sheet"), /Slipway Moorings/);
  await open(desk, d.desk, "Idris");
  await desk.locator(".passed > li").nth(1).locator("button:has-text('Show')").click();
  await desk.click(".passed-open a:has-text('In your book')");
  await desk.waitForSelector("#sheet h1:has-text('Slipway Moorings')");
});

test("a copy is passed from the book, and answered in place", async () => {
  await desk.goto(d.desk + "/logins?q=cormorant");
  await desk.locator(".line-main").first().click();
  await desk.click(".sheet-foot a:has-text('Pass a copy')");
  await desk.waitForSelector("#to");
  await accessible(desk, "pass a copy");
  await desk.fill("#text", "the one for the harbour");
  await desk.click("button:has-text('Pass it')");
  await desk.waitForSelector(".passed > li:nth-child(3):has-text('Cormorant Mail')");
  await open(his, d.idris, "Maren");
  await his.waitForSelector(".passed :text('Cormorant Mail'), a:has-text('Something new has come')");
  await open(his, d.idris, "Maren");
  await his.waitForSelector(".passed .unread-note:has-text('Cormorant Mail')");
  await his.fill("#text", "thank you, got it");
  await his.click("button:has-text('Pass it')");
  await his.waitForSelector(".passed > li:has-text('You')");
  await desk.click("a:has-text('Something new has come')");
  await desk.locator(".passed > li.unread-note").last().locator("button:has-text('Show')").click();
  await desk.waitForSelector("text=thank you, got it");
  const told = await mails(idris.email);
  assert.ok(
    told.some((m) => /Maren passed you something in Red Locket/.test(m)),
    told.join("\n---\n"),
  );
  for (const m of [...told, ...(await mails(maren.email))].map((m) => m.slice(m.indexOf("\n"))))
    assert.doesNotMatch(m, /Tolliver|Cormorant Mail|harbour|https?:/, "a mail says whom it is from and no more");
});

test("a paper is passed with its file, which the other one saves", async () => {
  await desk.goto(d.desk + "/cards?q=passport");
  await desk.locator(".line-main").first().click();
  await desk.waitForSelector("[data-attach]", { state: "attached" });
  await desk.setInputFiles("[data-attach]", {
    name: "scan.txt",
    mimeType: "text/plain",
    buffer: Buffer.from("page one of two"),
  });
  await desk.waitForSelector(".file-list >> text=scan.txt");
  await desk.click(".sheet-foot a:has-text('Pass a copy')");
  await desk.waitForSelector("label:has-text('With its 1 file')");
  await desk.click("button:has-text('Pass it')");
  await desk.waitForSelector(".passed > li:nth-child(5)");
  await open(his, d.idris, "Maren");
  const last = his.locator(".passed > li.unread-note").last();
  await last.locator("button:has-text('Show')").click();
  const saved = his.waitForEvent("download");
  await his.click(".passed-open a:has-text('scan.txt')");
  const stream = await (await saved).createReadStream();
  const parts = [];
  for await (const part of stream) parts.push(part);
  assert.equal(Buffer.concat(parts).toString(), "page one of two");
  await his.locator(".passed-open button:has-text('Keep it in my book')").last().click();
  await his.waitForSelector("#sheet .file-list >> text=scan.txt");
});

test("a note is taken back, and an empty one refused", async () => {
  await open(desk, d.desk, "Idris");
  await desk.click("button:has-text('Pass it')");
  await desk.waitForSelector(".bad:visible");
  await desk.fill("#text", "never mind this");
  await desk.click("button:has-text('Pass it')");
  await desk.waitForSelector(".passed > li:nth-child(6)");
  await desk.locator(".passed > li").last().locator("button:has-text('Take back')").click();
  await desk.waitForFunction(() => document.querySelectorAll(".passed > li").length === 5);
});

test("a file goes with a note", async () => {
  await open(desk, d.desk, "Idris");
  const file = (name, size) => ({ name, mimeType: "application/pdf", buffer: Buffer.alloc(size, "a") });
  await desk.fill("#text", "the plan of the berth");
  await desk.setInputFiles("#files", file("film.pdf", 4 << 20));
  await desk.click("button:has-text('Pass it')");
  await desk.waitForSelector(".bad:has-text('3 MB together')");
  assert.equal(await desk.inputValue("#text"), "the plan of the berth", "what was typed is there");
  await accessible(desk, "a file that is too large");
  await desk.setInputFiles("#files", file("berth.pdf", 2000));
  await desk.click("button:has-text('Pass it')");
  await desk.waitForSelector(".passed > li:nth-child(6):has-text('1 file')");
  await picture(desk, "a file with a note");
  await fits(desk, "a file with a note");
  await open(his, d.idris, "Maren");
  await his.waitForSelector(".passed .unread-note:has-text('1 file')");
  const last = his.locator(".passed > li.unread-note").last();
  await last.locator("button:has-text('Show')").click();
  await his.waitForSelector(".passed-open a:has-text('berth.pdf')");
  await picture(his, "a file that came");
  await his.locator(".passed-open button:has-text('Keep it in my book')").last().click();
  await his.waitForSelector("#sheet .file-list >> text=berth.pdf");
});

test("Bryony is asked before she has a vault, and compares words; other words are refused", async () => {
  await desk.goto(d.desk + "/household");
  await accessible(desk, "a household");
  await desk.click("summary:has-text('Add somebody')");
  await desk.fill("#email", bryony.email);
  await desk.fill("#name", "Bryony");
  await desk.click("button:has-text('Ask them')");
  await desk.waitForSelector("text=They have your request");
  await accessible(desk, "somebody who was asked");
  await newVault(hers, attic, { ...bryony, device: "attic" });
  await hers.waitForURL("**/account");
  await hers.fill("#code", await codeMailed(hers, d, bryony.email));
  await hers.click("button:has-text('Go on')");
  await firstDay(hers);
  const invited = await mails(bryony.email);
  assert.ok(
    invited.some((m) => /Somebody who gives the name Maren/.test(m)),
    invited.join("\n---\n"),
  );
  await hers.goto(attic + "/logins");
  await hers.waitForSelector("a:has-text('Maren Tolliver asks to be added'), h2:has-text('What to do first')");
  await hers.goto(attic + "/household");
  await hers.waitForSelector(".known .line:has-text('asks you')");
  await hers.click(".known .line-main");
  await accessible(hers, "somebody who asks");
  await hers.click("button:has-text('Answer')");
  assert.deepEqual(await words(hers), await words(desk));
  await accessible(desk, "words to compare");
  await desk.fill("#same-password", "not the master password");
  await desk.click("button:has-text('They are the same')");
  await desk.waitForSelector(".bad:visible");
  await same(desk, maren.password);
  await hers.click("button:has-text('They are others')");
  await hers.waitForSelector("text=somebody was in between");
  assert.equal(await hers.locator(".known .line").count(), 0);
});

test("both are added again, and what is passed shows on each of Maren's computers", async () => {
  await open(desk, d.desk, "Bryony");
  await desk.click("summary:has-text('Another name')");
  await desk.click("button:has-text('Take them off')");
  await desk.waitForSelector("text=They are taken off");
  await hers.goto(attic + "/household");
  await hers.fill("#email", maren.email);
  await hers.fill("#name", "Mother");
  await hers.click("button:has-text('Ask them')");
  await desk.waitForSelector(".known .line:has-text('asks you')");
  await desk.click(".known .line:has-text('asks you') .line-main");
  await desk.click("button:has-text('Answer')");
  assert.deepEqual(await words(hers), await words(desk));
  writeFileSync(camera, await codeOf(desk)); // it looks at the wrong screen
  await desk.click("button:has-text('Read their code')");
  await desk.waitForSelector(".lens-said.trouble:has-text('your own screen')");
  writeFileSync(camera, await codeOf(hers));
  await desk.click("button:has-text('Read their code')");
  await desk.waitForSelector(".lens-said.done:has-text('It is the same code')");
  await desk.waitForSelector("button:has-text('Read their code')"); // the camera is off again
  await accessible(desk, "a code that was read");
  await fits(desk, "a code that was read");
  await picture(desk, "a code that was read");
  const photo = async (picture, says) => {
    await hers.setInputFiles(".lens input[type=file]", { name: "a.jpg", mimeType: "image/jpeg", buffer: picture });
    await hers.waitForSelector(`.lens-said:has-text("${says}")`);
  };
  await photo(await hers.screenshot({ type: "jpeg", clip: { x: 0, y: 0, width: 400, height: 60 } }), "no QR code");
  await photo(await codeOf(hers), "your own screen");
  await photo(await codeOf(desk), "It is the same code");
  await same(desk, maren.password);
  await same(hers, bryony.password);
  await hers.fill("#text", "school film night is moved to Friday");
  await hers.click("button:has-text('Pass it')");
  const laptop = await b.page();
  await unlock(laptop, d.laptop, maren.password);
  await laptop.waitForSelector("a:has-text('Bryony Tern passed you something')");
  await laptop.click("a:has-text('Bryony Tern passed you something')");
  await laptop.click(".passed button:has-text('Show')");
  await laptop.waitForSelector("text=moved to Friday");
  await laptop.setViewportSize({ width: 390, height: 800 });
  await accessible(laptop, "a note at 390 px");
  assert.ok(await laptop.evaluate(() => document.documentElement.scrollWidth <= innerWidth), "nothing is cut off");
  await laptop.close();
});

test("mails are switched off, and nothing is in clear in any file", async () => {
  await desk.goto(d.desk + "/household");
  await desk.click("summary:has-text('Mails that something waits')");
  await desk.click("button:has-text('Switch them off')");
  await desk.waitForSelector("text=Saved.");
  await desk.click("summary:has-text('Mails that something waits')");
  await desk.waitForSelector("text=They are off");
  assert.deepEqual(inClear(d, ["gate is 4471", "plan of the berth", "moved to Friday", "the one for the harbour"]), []);
});
