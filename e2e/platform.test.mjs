// Opening by fingerprint, face or PIN, with an authenticator that Chromium plays (WebAuthn, with the extension "prf");
// and taking a vault off the computer.
import test, { after, before } from "node:test";
import assert from "node:assert/strict";
import { mkdtempSync, readFileSync, readdirSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { accessible, browser, build, firstDay, lockPage, newVault, start } from "./harness.mjs";

const dir = mkdtempSync(join(tmpdir(), "redlocket-platform-"));
const master = "oar lamp tide winkle";
const at = "http://redlocket.localhost:17950";
let own, b, page, cdp, authenticator;

before(async () => {
  own = await start(build(), ["--data", dir, "--port", "17950", "--no-browser"], "Ctrl-C ends it");
  b = await browser();
  page = await b.page();
});
after(async () => {
  await b?.close();
  await own?.stop();
  rmSync(dir, { recursive: true, force: true });
});

async function plug({ prf = true } = {}) {
  cdp ??= await b.context.newCDPSession(page);
  await cdp.send("WebAuthn.enable");
  const made = await cdp.send("WebAuthn.addVirtualAuthenticator", {
    options: {
      protocol: "ctap2",
      ctap2Version: "ctap2_1",
      transport: "internal",
      hasResidentKey: true,
      hasUserVerification: true,
      hasPrf: prf,
      isUserVerified: true,
      automaticPresenceSimulation: true,
    },
  });
  authenticator = made.authenticatorId;
}

const verified = (is) => cdp.send("WebAuthn.setUserVerified", { authenticatorId: authenticator, isUserVerified: is });

async function lock() {
  await page.goto(at + "/logins");
  await page.evaluate(() => document.activeElement?.blur());
  await page.keyboard.press("Shift+L");
  await lockPage(page);
}

async function byMaster() {
  await page.fill("#password", master);
  await page.click("button:text-is('Open')");
  await page.waitForURL("**/logins");
}

const byFinger = () => page.click("text=Open with fingerprint, face or PIN");

test("where there is no authenticator, nothing is offered", async () => {
  await newVault(page, at, { email: "wren.tolliver@cormorant.example", password: master, cloud: "" });
  await firstDay(page);
  await page.goto(at + "/items/new");
  await page.fill("#title", "Gullwing");
  await page.click(".sheet-acts button");
  await page.waitForSelector("#sheet h1:has-text('Gullwing')");
  await page.goto(at + "/devices");
  assert.equal(await page.isVisible("#unlocks"), false);
});

test("it is offered once, after the second opening", async () => {
  await plug();
  await page.goto(at + "/logins");
  await page.waitForSelector(".day-waits h2:has-text('What waits')");
  await page.waitForSelector(".day-waits :text('No browser is connected yet')");
  assert.equal(await page.locator(".day-offer").count(), 0, "not yet");
  for (let i = 0; i < 2; i++) {
    await lock();
    assert.equal(await page.isVisible("text=Open with fingerprint"), false, "it isn't set up");
    await byMaster();
  }
  await page.waitForSelector(".day-offer:visible");
  await accessible(page, "the offer");
  await page.click(".day-offer a");
  await page.waitForURL("**/devices#unlocks");
});

test("it is set up with the master password, and opens the vault", async () => {
  await page.click("summary:has-text('Set it up')");
  await page.fill("#unlock-name", "Right thumb");
  await page.fill("#unlock-password", "not the one");
  await page.click("#unlocks button:text-is('Set it up')");
  await page.waitForSelector("#unlocks .bad:has-text('master password')");
  await page.fill("#unlock-password", master);
  await accessible(page, "setting it up");
  await page.click("#unlocks button:text-is('Set it up')");
  await page.waitForSelector(".done:has-text('opens by the fingerprint')");
  assert.match(await page.innerText("#unlocks"), /Right thumb/);
  await accessible(page, "set up");
  await lock();
  await page.waitForSelector("text=Open with fingerprint, face or PIN");
  await accessible(page, "the lock page with it");
  await byFinger();
  await page.waitForURL("**/logins");
  await page.waitForSelector(".line-main:has-text('Gullwing')");
  assert.equal(await page.locator(".day-offer").count(), 0, "it was offered once");
});

test("from the extension's window it asks at once, and from another site's link it doesn't", async () => {
  await lock();
  const door = page.url();
  await page.goto(door + "?at-once");
  await page.waitForURL("**/logins");
  await lock();
  const other = await start(build(), ["practice", "--port", "17951"], "The practice town is at");
  try {
    await page.goto("http://practice.localhost:17951/");
    await page.evaluate((to) => (location.href = to), door + "?at-once");
    await lockPage(page);
    await page.waitForSelector("text=Open with fingerprint, face or PIN");
    await page.waitForTimeout(600);
    assert.equal(new URL(page.url()).pathname, new URL(door).pathname, "a link from elsewhere opens nothing by itself");
  } finally {
    await other.stop();
  }
  await byFinger();
  await page.waitForURL("**/logins");
});

test("an answer is good for one challenge, and for this very port", async () => {
  await lock();
  /** @type {string[]} */
  const sent = [];
  page.on("request", (r) => r.url().endsWith("/platform") && sent.push(r.url(), r.postData() ?? ""));
  await byFinger();
  await page.waitForURL("**/logins");
  await lock();
  const again = (body) =>
    page.evaluate(
      async ([url, body]) =>
        (await fetch(url, { method: "POST", body, headers: { "Content-Type": "application/x-www-form-urlencoded" } }))
          .status,
      [sent[0], body],
    );
  assert.equal(await again(sent[1]), 403, "again");
  const options = await page.evaluate(
    async (url) => (await fetch(url + "/options", { method: "POST" })).json(),
    sent[0],
  );
  const form = new URLSearchParams(sent[1]);
  const answer = JSON.parse(form.get("answer") ?? "");
  const said = JSON.parse(Buffer.from(answer.response.clientDataJSON, "base64url").toString());
  assert.equal(said.origin, at);
  for (const change of [
    { challenge: options.challenge },
    { challenge: options.challenge, origin: at.slice(0, -1) + "1" },
  ]) {
    answer.response.clientDataJSON = Buffer.from(JSON.stringify({ ...said, ...change })).toString("base64url");
    form.set("answer", JSON.stringify(answer));
    assert.equal(await again(form.toString()), 403, JSON.stringify(change));
  }
  await page.reload();
  await byMaster();
});

test("it stands in for the master password where that is asked for again", async () => {
  await page.goto(at + "/settings");
  await page.locator("details summary").evaluateAll((all) => all.forEach((s) => (s.parentElement.open = true)));
  await page.check("[name=ask_to_show]");
  await page.selectOption("#ask-for", "0");
  await page.click(".settings button");
  await page.waitForSelector(".done:has-text('Saved')");
  await lock();
  await byFinger();
  await page.waitForURL("**/logins");
  await page.goto(at + "/sheet");
  await page.waitForSelector("text=Please type your master password again");
  await accessible(page, "asking again");
  await page.click("text=Or use the fingerprint");
  await page.waitForSelector("h1:has-text('Recovery sheet')");
});

test("a forgotten master password: a new one waits for an hour, and can be stopped", async () => {
  await page.goto(at + "/settings");
  await page.click("text=Set a new one by fingerprint");
  await page.waitForURL("**/master");
  await page.waitForSelector("form[action='/master']:visible");
  await accessible(page, "a forgotten master password");
  await page.fill("#password", "winkle oar tide lamp");
  await page.fill("#repeat", "another one altogether");
  await page.click("text=Ask for it");
  await page.waitForSelector(".bad:has-text('not the same')");
  for (const f of ["#password", "#repeat"]) await page.fill(f, "winkle oar tide lamp");
  await page.click("text=Ask for it");
  await page.waitForSelector("text=A new master password waits");
  await page.waitForSelector("text=/in (59|60) minutes/");
  assert.equal(await page.locator("form[action='/master/take']").count(), 0, "not yet");
  await accessible(page, "a new master password that waits");
  await page.goto(at + "/logins");
  await page.waitForSelector(".day-waits:has-text('A new master password waits')");
  await page.click("text=A new master password waits");
  await page.click("text=Stop it");
  await page.waitForURL("**/logins");
  await page.waitForSelector("text=Stopped: the master password stays as it is");
});

test("a finger that isn't known opens nothing, and says so", async () => {
  await lock();
  await verified(false);
  await byFinger();
  await page.waitForSelector(".bad:visible:has-text('Nothing was done')");
  await byMaster(); // this one is blocked for a while, as real ones are
});

test("nothing of the key, nor of the finger, is in a file", () => {
  for (const name of readdirSync(dir)) {
    const bytes = readFileSync(join(dir, name)).toString("latin1");
    assert.ok(!bytes.includes("Gullwing"), name);
  }
});

test("the master password is asked for all the same when it is time, and an end is one", async () => {
  await page.goto(at + "/devices");
  await page.selectOption("#master-days", "1");
  await page.check("[name=restart]");
  await page.click("#unlocks button:text-is('Save')");
  await page.waitForSelector(".done:has-text('Saved')");
  assert.equal(await page.inputValue("#master-days"), "1");
  await page.click("#unlocks button:text-is('End')");
  await page.waitForSelector(".done:has-text('opens this vault no more')");
  await lock();
  assert.equal(await page.isVisible("text=Open with fingerprint"), false);
  await byMaster();
});

test("an authenticator that can't keep a key is told of, and nothing is set up", async () => {
  await cdp.send("WebAuthn.removeVirtualAuthenticator", { authenticatorId: authenticator });
  await plug({ prf: false });
  await page.goto(at + "/devices");
  await page.click("summary:has-text('Set it up')");
  await page.fill("#unlock-password", master);
  await page.click("#unlocks button:text-is('Set it up')");
  await page.waitForSelector("#unlocks .bad:visible:has-text('can’t keep a key')");
  await page.reload();
  assert.equal(await page.locator("#unlocks li").count(), 0);
});

test("the vault is renamed, and taken off this computer", async () => {
  await page.goto(at + "/devices");
  await page.click("summary:has-text('Your name, and how')");
  await page.fill("#person", "Wren of the Quay");
  await page.fill("#door-line", "Mind the third step");
  await page.check("[name=colour][value=sea]");
  await accessible(page, "how the lock page greets");
  await page.click("details[open] button:text-is('Save')");
  await page.waitForSelector(".done:has-text('Saved')");
  await lock();
  await page.waitForSelector(".door-line:has-text('Mind the third step')");
  await page.waitForSelector(".door.in-sea");
  await byMaster();
  await page.goto(at + "/devices");
  await page.click("summary:has-text('Take this vault off')");
  await page.waitForSelector("text=Everything in it would be gone for good");
  await accessible(page, "taking it off");
  await page.check("[name=lose]");
  await page.fill("#take-off", "not the one");
  await page.click("text=Take it off");
  await page.waitForSelector(".bad:has-text('master password')");
  await page.check("[name=lose]");
  await page.fill("#take-off", master);
  await page.click("text=Take it off");
  await page.waitForURL("**/front");
  await page.waitForSelector("text=Create a vault");
  assert.deepEqual(
    readdirSync(dir).filter((f) => f.includes(".vault")),
    [],
  );
});
