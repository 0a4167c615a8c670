// The first walk in a real browser: from an empty machine to a vault on two devices.
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
  inClear,
  lockPage,
  maren,
  newVault,
  picture,
  sheetOn,
  start,
  typeSheet,
  unlock,
} from "./harness.mjs";

let program, d, b, page;
/** @type {string[]} */
const troubles = [];

before(async () => {
  program = build();
  d = await demo(program, 17300);
  b = await browser();
  page = await b.page();
  page.on("pageerror", (e) => troubles.push(String(e)));
  page.on("console", (m) => /violates|Refused/.test(m.text()) && troubles.push(m.text()));
});
after(async () => {
  await b?.close();
  await d?.stop();
  d?.clean();
});

test("create a vault, check its sheet, make a login, find it, archive it", async () => {
  const dir = mkdtempSync(join(tmpdir(), "redlocket-own-"));
  const own = await start(
    program,
    ["--data", dir, "--port", "17350", "--no-browser", "--cloud", d.cloud],
    "Ctrl-C ends it",
  );
  const at = "http://redlocket.localhost:17350";
  try {
    await page.goto("http://localhost:17350/");
    assert.equal(page.url(), `${at}/front`, "plain localhost leads to the own name");
    await accessible(page, "welcome");
    await page.click("text=Create a vault");
    await accessible(page, "create");
    await page.fill("#name", "Bryony Tern");
    await page.fill("#email", "bryony.tern@cormorant.example");
    await page.click("text=Go on");
    await page.waitForSelector("#repeat");
    await accessible(page, "the master password");
    await page.locator("#password").pressSequentially("password1");
    await page.waitForSelector("#strength .bad");
    await page.fill("#repeat", "password1");
    await page.click("text=Create the vault");
    await page.waitForSelector(".bad[role=alert]");
    assert.equal(await page.inputValue("[name=email]"), "bryony.tern@cormorant.example", "it is still there");
    await page.click("text=Make one of five words");
    await page.waitForSelector("text=drawn by chance");
    assert.equal((await page.inputValue("#password")).split(" ").length, 5);
    assert.equal(await page.inputValue("#password"), await page.inputValue("#repeat"));
    await accessible(page, "five words");
    for (const f of ["#password", "#repeat"]) await page.fill(f, "oar lamp tide winkle");
    await page.click("text=Create the vault");
    await page.waitForURL("**/account");
    await accessible(page, "what the cloud asks for");
    const sent = await codeMailed(page, d, "bryony.tern@cormorant.example");
    await page.fill("#code", sent === "1234 5678" ? "8765 4321" : "1234 5678");
    await page.click("button:has-text('Go on')");
    await page.waitForSelector(".bad");
    assert.equal(await page.inputValue("#code"), "", "a code that was wrong isn't shown again");
    await page.fill("#code", sent.replace(" ", ""));
    await page.click("button:has-text('Go on')");
    await page.waitForURL("**/sheet");
    await accessible(page, "sheet");
    assert.equal(await page.locator("svg.qr").count(), 2);
    const sheet = await sheetOn(page);
    assert.deepEqual([sheet.carried.length, sheet.recovery.length], [8, 8]);
    await page.goto(`${at}/logins`);
    assert.match(page.url(), /\/sheet$/, "the sheet first");
    await page.fill("#carried", "00000");
    await page.fill("#recovery", "00000");
    await page.click("text=I have it on paper");
    await page.waitForSelector(".bad");
    await typeSheet(page, { ...sheet, carried: sheet.carried.map((g) => g.toLowerCase()) });
    await page.click("text=I have it on paper");
    await page.waitForURL("**/first/browser");
    await accessible(page, "the browser, on the first day");
    await page.click("text=Later");
    await page.waitForURL("**/import");
    await accessible(page, "old passwords, on the first day");
    await page.click("button:text-is('Later')");
    await page.waitForURL("**/logins");
    await accessible(page, "empty book");

    await page.keyboard.press("n");
    await page.waitForSelector("#title");
    await accessible(page, "form");
    await page.fill("[name=address]", "HTTPS://KelpAndCrown.example/in;jsessionid=1?next=/");
    await page.fill("#username", "bryony");
    await page.waitForSelector("#made .grouped");
    await page.fill("[name=length]", "30");
    await page.waitForFunction(() => document.querySelector("#made [data-use]")?.dataset.use.length === 30);
    await page.click("text=Use this one");
    const made = await page.inputValue("#password");
    assert.equal(made.length, 30);
    await page.fill("#notes", "<b>beans</b>");
    await page.dblclick(".sheet-acts button:has-text('Save')");
    await page.waitForSelector("#sheet h1:has-text('Kelp & Crown')");
    assert.match(await page.innerText("#sheet"), /kelpandcrown\.example\/in\s/);
    assert.equal(await page.locator(".line").count(), 1, "a double press makes one login");
    assert.ok(!(await page.content()).includes(made), "hidden until asked for");
    await page.keyboard.press("s");
    await page.waitForSelector(".grouped");
    assert.equal((await page.locator(".glyphs").allInnerTexts()).join(""), made);
    await accessible(page, "sheet of a login");
    await page.context().grantPermissions(["clipboard-read", "clipboard-write"], { origin: at });
    await page.keyboard.press("p");
    await page.waitForSelector("text=Copied");
    assert.equal(await page.evaluate(() => navigator.clipboard.readText()), made);
    await page.keyboard.press("e");
    await page.waitForSelector("#title");
    await page.fill("#title", "Kelp for Bryony");
    await page.fill("#password", "beans-and-tides");
    await page.click(".sheet-acts button:has-text('Save')");
    await page.waitForSelector("#sheet h1:has-text('Kelp for Bryony')");
    await page.click("text=Show all versions");
    await page.waitForSelector("text=Every version");
    await page.click("#sheet .secret button");
    await page.waitForSelector(".grouped");
    assert.equal((await page.locator(".glyphs").allInnerTexts()).join(""), made, "the earlier password is readable");
    await accessible(page, "earlier values");
    await page.click("text=Back to the sheet");
    await page.click(".sheet-foot >> text=Archive");
    await page.waitForSelector("#sheet >> text=in the archive");
    const put = page.url();
    await page.goto(`${at}/archive`);
    await accessible(page, "archive");
    await page.goto(put);
    await page.click("#sheet >> text=Restore");
    await page.waitForSelector(".sheet-foot >> text=Archive");

    // Killed, a press is answered by words; started again, the vault is locked, and everything is there.
    await own.stop("SIGKILL");
    for (const press of [() => page.click("#sheet .secret button"), () => page.fill("#find", "kelp")]) {
      await page.evaluate(() => document.getElementById("notices")?.replaceChildren());
      await press();
      await page.waitForSelector("#notices :text('didn’t answer')");
    }
    await picture(page, "no answer");
    const again = await start(program, ["--data", dir, "--port", "17350", "--no-browser"], "Ctrl-C ends it");
    try {
      await unlock(page, at, "oar lamp tide winkle");
      assert.equal(await page.locator(".line").count(), 1);
      await page.goto(`${at}/sheet`);
      assert.equal(await page.locator(".groups").count(), 1, "the recovery code is not shown again");
      await page.goto("about:blank"); // a page of a program that ends goes to an error of the browser, in its own time
    } finally {
      await again.stop();
    }
  } finally {
    await own.stop();
    rmSync(dir, { recursive: true, force: true });
  }
});

test("a wrong master password is refused and slowed down", async () => {
  for (const p of ["/nowhere", "/"]) {
    await page.goto(d.desk + p);
    await accessible(page, p);
  }
  await page.click("text=Forgotten?");
  await accessible(page, "forgotten");
  await page.goto(d.desk);
  await accessible(page, "lock page");
  for (let i = 0; i < 3; i++) {
    await page.fill("#password", "not it");
    await page.click("button:has-text('Open')");
    await page.waitForSelector("#wrong");
  }
  assert.ok(await page.isDisabled("button[data-wait]"));
  await page.waitForSelector("button[data-wait]:not([disabled])");
});

test("find in the book by typing, by keys and by letter", async () => {
  await unlock(page, d.desk, maren.password);
  await accessible(page, "book");
  assert.match(await page.innerText("#found"), /^8\d logins/);
  await page.keyboard.press("/");
  await page.keyboard.type("gul");
  await page.waitForSelector("text=Show all");
  assert.match(await page.locator(".site b").first().innerText(), /^gullwing|^Gullwing/);
  await page.keyboard.press("ArrowDown");
  await page.keyboard.press("Enter");
  await page.waitForSelector("#sheet h1:has-text('Gullwing')");
  await page.click("#find");
  await page.keyboard.press("Escape");
  await page.waitForSelector(".letter");
  await page.click(".thumbs a[data-letter=S]");
  assert.ok(await page.locator(".chunk[data-letter=S]").evaluate((e) => e.getBoundingClientRect().top < 200));
});

test("a change shows on another device by itself, and the cloud may be away", async () => {
  const other = await b.page();
  await unlock(other, d.laptop, maren.password);
  await unlock(page, d.desk, maren.password);
  await other.click(".thumbs a[data-letter=Z]");
  await page.goto(d.desk + "/items/new");
  await page.fill("#title", "Zebra Crossing Club");
  await page.click(".sheet-acts button:has-text('Save')");
  await other.bringToFront(); // a page in the background draws no new lines
  await other.waitForSelector("b:has-text('Zebra Crossing Club')");
  await other.click("text=Zebra Crossing Club");
  await other.waitForSelector("#sheet h1:has-text('Zebra')");
  await page.bringToFront();
  await page.keyboard.press("e");
  await page.fill("#notes", "meets on Tuesdays");
  await page.click(".sheet-acts button:has-text('Save')");
  await other.waitForSelector("#sheet >> text=meets on Tuesdays");

  const devices = await b.page();
  await devices.goto(d.desk + "/devices");
  await accessible(devices, "devices");
  assert.match(await devices.innerText(".device-list"), /desk[\s\S]*laptop/);
  await devices.close();
  await other.close();
});

test("an edit from a stale tab doesn't undo what was changed meanwhile", async () => {
  await unlock(page, d.desk, maren.password);
  const stale = await b.page();
  for (const p of [stale, page]) {
    await p.goto(d.desk + "/logins?q=ferrylink");
    await p.locator(".line-main").first().click();
    await p.waitForSelector("#sheet h1");
    await p.keyboard.press("e");
    await p.waitForSelector("#title");
  }
  await page.fill("#notes", "changed here");
  await page.click(".sheet-acts button:has-text('Save')");
  await page.waitForSelector("#sheet >> text=changed here");
  await stale.fill("#folder", "Ferries");
  await stale.click(".sheet-acts button:has-text('Save')");
  await stale.waitForSelector("#sheet >> text=Ferries");
  assert.match(await stale.innerText("#sheet"), /changed here/);
  await stale.close();
});

test("bring the vault to a new computer by introduction", async () => {
  const dir = mkdtempSync(join(tmpdir(), "redlocket-new-"));
  const own = await start(
    program,
    ["--data", dir, "--port", "17360", "--no-browser", "--cloud", d.cloud],
    "Ctrl-C ends it",
  );
  const fresh = await b.page();
  try {
    await fresh.goto("http://redlocket.localhost:17360/join");
    await accessible(fresh, "join");
    await fresh.fill("#arrive-email", maren.email);
    await fresh.click("text=Show the words");
    await fresh.waitForSelector(".fingerprint li");
    const words = await fresh.locator(".fingerprint li").allInnerTexts();
    assert.equal(words.length, 6);
    await accessible(fresh, "introduction");
    await page.goto(d.desk + "/devices");
    await page.fill("#introduce-password", maren.password);
    await page.fill("#words", "six words that are not right");
    await page.click("text=Let it in");
    await page.waitForSelector(".bad:has-text('six words of the list')");
    await page.fill("#introduce-password", "not the one");
    await page.fill("#words", words.join(" "));
    await page.click("text=Let it in");
    await page.waitForSelector("text=isn’t the master password");
    await page.fill("#introduce-password", maren.password);
    await page.click("text=Let it in");
    await page.waitForSelector(".done");
    await fresh.fill("#password", maren.password);
    await fresh.fill("#device", "attic");
    await fresh.click("text=Bring it here");
    await fresh.waitForURL("**/logins");
    assert.match(await fresh.innerText("#found"), /^8\d logins/);
    await page.goto(d.desk + "/devices");
    await page.waitForSelector("text=attic");
  } finally {
    await fresh.close();
    await own.stop();
    rmSync(dir, { recursive: true, force: true });
  }
});

test("by the sheet to a second computer; the cloud goes away; both passwords are kept", async () => {
  const dir = mkdtempSync(join(tmpdir(), "redlocket-away-"));
  const cloudArgs = ["cloud", "--data", join(dir, "cloud.db"), "--listen", "127.0.0.1:17370"];
  const device = (name, port) =>
    start(
      program,
      ["--data", join(dir, name), "--port", String(port), "--no-browser", "--cloud", "http://127.0.0.1:17370"],
      "Ctrl-C ends it",
    );
  let cloud = await start(program, cloudArgs, "Its data is in");
  let three;
  const one = await device("one", 17371),
    two = await device("two", 17372);
  // Cookies know no ports, so each device needs a browser of its own.
  const c2 = await browser();
  const p2 = await c2.page();
  try {
    const at1 = "http://redlocket.localhost:17371",
      at2 = "http://redlocket.localhost:17372";
    await newVault(page, at1, {
      email: "bryony.tern@cormorant.example",
      password: "oar lamp tide winkle",
      device: "attic",
    });
    const sheet = await firstDay(page);

    await p2.goto(at2 + "/join");
    await p2.fill("#email", "bryony.tern@cormorant.example");
    await p2.fill("#password", "oar lamp tide winkle");
    await p2.fill("#carried", sheet.recovery.join(" "));
    await p2.click("text=Bring it here");
    await p2.waitForSelector("text=This is the recovery code");
    await p2.fill("#password", "oar lamp tide winkle");
    await p2.fill("#carried", sheet.carried.join("").toLowerCase());
    await p2.click("text=Bring it here");
    await p2.waitForURL("**/logins");

    const write = async (p, at, title, password) => {
      await p.goto(at + "/logins?q=" + title);
      if (await p.locator(".line-main").count()) {
        await p.click(".line-main");
        await p.waitForSelector("#sheet h1");
        await p.keyboard.press("e");
      } else await p.goto(at + "/items/new");
      await p.waitForSelector("#title");
      await p.fill("#title", title);
      await p.fill("#password", password);
      await p.click(".sheet-acts button");
      await p.waitForSelector(`#sheet h1:has-text('${title}')`);
    };
    await write(page, at1, "Brackish", "longwave-1");
    await p2.waitForSelector("b:has-text('Brackish')");
    await cloud.stop("SIGKILL");
    await write(page, at1, "Brackish", "from-the-attic");
    await write(p2, at2, "Brackish", "from-elsewhere");
    await page.waitForSelector("text=1 change waits; the cloud is away");
    await page.goto(at1 + "/devices");
    await page.waitForSelector("text=catches up by itself");
    await accessible(page, "devices, the cloud away");
    cloud = await start(program, cloudArgs, "Its data is in");
    await p2.waitForSelector("text=in step with the cloud");
    await page.goto(at1 + "/logins?q=Brackish");
    await page.waitForSelector(".word-trouble:has-text('undecided')");
    await page.click(".line-main");
    await page.waitForSelector("text=There are several passwords");
    await accessible(page, "an undecided login");
    const shown = [];
    for (const s of await page.locator("#sheet .secret button").all()) await s.click();
    await page.waitForFunction(() => document.querySelectorAll("#sheet .grouped").length === 2);
    for (const g of await page.locator("#sheet .grouped").all())
      shown.push((await g.locator(".glyphs").allInnerTexts()).join(""));
    assert.deepEqual(shown.sort(), ["from-elsewhere", "from-the-attic"]);
    if (process.env.PICTURE) await page.screenshot({ path: process.env.PICTURE });
    await page.locator(".rivals button:has-text('Keep this one')").last().click();
    await page.waitForSelector(".trouble", { state: "detached" });
    await p2.goto(at2 + "/logins?q=Brackish");
    await p2.waitForSelector(".word-trouble", { state: "detached" });

    // A third computer, with the recovery sheet alone.
    three = await device("three", 17373);
    const at3 = "http://redlocket.localhost:17373";
    await page.goto(at3 + "/join");
    await page.click("text=Bring it here with the sheet’s recovery code");
    await page.waitForURL("**/recover");
    await accessible(page, "recovering on an empty computer");
    await page.fill("#email", "bryony.tern@cormorant.example");
    await page.fill("#code", sheet.carried.join(" "));
    for (const f of ["#password", "#repeat"]) await page.fill(f, "winkle oar tide lamp");
    await page.fill("#cloud", "http://127.0.0.1:17370");
    await page.click("button:text-is('Bring it here')");
    await page.waitForSelector(".bad");
    assert.equal(await page.inputValue("#email"), "bryony.tern@cormorant.example");
    await page.fill("#code", sheet.recovery.join(" ").toLowerCase());
    for (const f of ["#password", "#repeat"]) await page.fill(f, "winkle oar tide lamp");
    await page.click("button:text-is('Bring it here')");
    await page.waitForURL("**/logins");
    await page.waitForSelector("b:has-text('Brackish')");
    await p2.goto(at2 + "/logins");
    await p2.waitForSelector("text=signed out at the cloud");
  } finally {
    await c2.close();
    for (const p of [one, two, three, cloud]) await p?.stop();
    rmSync(dir, { recursive: true, force: true });
  }
});

test("a line that breaks leads nobody away from an open vault, but from what an opening before had drawn", async () => {
  await unlock(page, d.desk, maren.password);
  const other = await b.page();
  await other.addInitScript(() => void delete (/** @type {any} */ (window).SharedWorker)); // it has a line of its own
  let broken = 0;
  let held = Promise.resolve();
  await other.route("**/events", async (route) => {
    broken++;
    await held;
    await route.fulfill({ status: 500 });
  });
  await other.goto(d.desk + "/items/new");
  await other.fill("#title", "Half typed");
  while (broken < 2) await other.waitForTimeout(50);
  assert.equal(await other.inputValue("#title"), "Half typed");
  let release = () => {};
  held = new Promise((done) => (release = () => done(undefined)));
  for (const at = broken; broken === at;) await other.waitForTimeout(50);
  await page.bringToFront();
  await page.click("button.medallion");
  await lockPage(page);
  await unlock(page, d.desk, maren.password);
  assert.match(other.url(), /new/, "it has heard nothing");
  release();
  await other.waitForURL("**/logins");
  await other.close();
});

test("locking takes every page of the profile to the lock page at once", async () => {
  await unlock(page, d.desk, maren.password);
  const second = await b.page();
  await second.goto(d.desk + "/devices");
  await page.evaluate(() => document.activeElement?.blur());
  await page.keyboard.press("Shift+L");
  await lockPage(page);
  await lockPage(second);
  await second.goto(d.desk + "/logins");
  assert.match(second.url(), /\/open\//);
  await second.close();
});

test("after all that, nothing is in clear in any file or log", () => {
  assert.deepEqual(inClear(d, ["Zebra Crossing Club", "meets on Tuesdays", "changed here"]), []);
  writeFileSync(join(d.dir, "planted"), "… Zebra Crossing Club …");
  assert.deepEqual(inClear(d, ["Zebra Crossing Club"]), ["Zebra Crossing Club"], "the search can fail");
});

test("the page is fenced in", async () => {
  const r = await fetch(`http://127.0.0.1:17301/front`, { redirect: "manual", headers: {} });
  assert.equal(r.status, 307, "a bare address leads to the device's own name");
  assert.deepEqual(troubles, [], "no script error, nothing the policy refused");
});
