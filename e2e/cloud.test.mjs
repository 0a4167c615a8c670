// A cloud of its own and two devices, as people meet them: one is shut out and let in again, the cloud is set back to a
// backup, another cloud takes its place, and the account is deleted.
import test, { after, before } from "node:test";
import assert from "node:assert/strict";
import { execFileSync } from "node:child_process";
import { mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { accessible, browser, build, firstDay, newVault, sheetOn, soon, start, typeSheet } from "./harness.mjs";

const program = build();
const dir = mkdtempSync(join(tmpdir(), "redlocket-cloud-"));
const email = "wren.tolliver@cormorant.example";
const master = "oar lamp tide winkle";
const url = "http://127.0.0.1:17930";
const other = "http://127.0.0.1:17933";
const cloudAt = (file, port) =>
  start(program, ["cloud", "--data", join(dir, file), "--listen", `127.0.0.1:${port}`], "Its data is in");
let cloud, second, one, two, b1, b2, p1, p2, sheet;
const at1 = "http://redlocket.localhost:17931",
  at2 = "http://redlocket.localhost:17932";

before(async () => {
  cloud = await cloudAt("cloud.db", 17930);
  const device = (name, port) =>
    start(
      program,
      ["--data", join(dir, name), "--port", String(port), "--no-browser", "--cloud", url],
      "Ctrl-C ends it",
    );
  one = await device("one", 17931);
  two = await device("two", 17932);
  b1 = await browser();
  b2 = await browser();
  p1 = await b1.page();
  p2 = await b2.page();
});
after(async () => {
  await b1?.close();
  await b2?.close();
  for (const p of [one, two, cloud, second]) await p?.stop();
  rmSync(dir, { recursive: true, force: true });
});

async function write(p, at, title) {
  await p.goto(at + "/items/new");
  await p.fill("#title", title);
  await p.click(".sheet-acts button");
  await p.waitForSelector(`#sheet h1:has-text('${title}')`);
}

/** Waits until a device's book has a login. */
async function has(p, at, title) {
  const found = await soon(async () => {
    await p.goto(at + "/logins?q=" + encodeURIComponent(title));
    return p.locator(".line-main", { hasText: title }).count();
  });
  assert.ok(found, `${at} has no ${title}`);
}

/** Waits until a device says something about its cloud. */
async function says(p, at, text) {
  const said = await soon(async () => {
    await p.goto(at + "/devices");
    return (await p.innerText("main")).includes(text);
  });
  assert.ok(said, `${at} doesn't say: ${text}`);
}

test("a vault on two computers", async () => {
  await newVault(p1, at1, { email, password: master, device: "attic" });
  sheet = await firstDay(p1);
  await p2.goto(at2 + "/join");
  await p2.fill("#email", email);
  await p2.fill("#password", master);
  await p2.fill("#carried", sheet.carried.join(" "));
  await p2.fill("#device", "cellar");
  await p2.click("text=Bring it here");
  await p2.waitForURL("**/logins");
  await write(p1, at1, "Ferrylink");
  await has(p2, at2, "Ferrylink");
});

test("a computer is shut out: with the master password, and with a new sheet to print", async () => {
  await says(p1, at1, "cellar");
  await p1.click("summary:text('Shut out')");
  await accessible(p1, "shutting out");
  const form = p1.locator(".device-list details[open]");
  await form.locator("[type=password]").fill("not the one");
  await form.locator("button").click();
  await p1.waitForSelector("text=That isn’t the master password");
  await form.locator("[type=password]").fill(master);
  await form.locator("button").click();
  await p1.waitForSelector("text=That device is shut out");
  await p1.waitForSelector("text=A new recovery sheet waits to be printed");
  assert.match(await p1.innerText(".device-list"), /cellar[^]*shut out/);
  await says(p2, at2, "signed out at the cloud");
  await accessible(p2, "signed out");
  await p2.fill("#again", master);
  await p2.click("text=Sign in again");
  await p2.waitForSelector("text=not right");
  await write(p1, at1, "After it");
});

test("the new sheet puts the old one out of force, and lets that computer in again", async () => {
  await p1.goto(at1 + "/sheet");
  await p1.waitForSelector("text=takes the place of the one that you have");
  await accessible(p1, "a new sheet");
  const fresh = await sheetOn(p1);
  assert.notDeepEqual(fresh, sheet);
  await typeSheet(p1, fresh);
  await p1.fill("#password", "not the one");
  await p1.click("text=I have it on paper");
  await p1.waitForSelector("text=That isn’t the master password");
  await typeSheet(p1, fresh);
  await p1.fill("#password", master);
  await p1.click("text=I have it on paper");
  await p1.waitForURL("**/logins");
  await p2.goto(at2 + "/devices");
  await p2.fill("#again", master);
  await p2.fill("#again-carried", sheet.carried.join(" "));
  await p2.click("text=Sign in again");
  await p2.waitForSelector("text=not right");
  await p2.fill("#again", master);
  await p2.fill("#again-carried", fresh.carried.join(" "));
  await p2.click("text=Sign in again");
  await p2.waitForSelector("text=kept in step");
  await has(p2, at2, "After it");
  sheet = fresh;
});

test("the cloud is set back to a backup, and gets what the computers have", async () => {
  await write(p1, at1, "Before the backup");
  await has(p2, at2, "Before the backup");
  const copy = join(dir, "copy.db");
  execFileSync(program, ["cloud", "backup", "--data", join(dir, "cloud.db"), copy]);
  await write(p1, at1, "Since the backup");
  await has(p2, at2, "Since the backup");
  await cloud.stop();
  for (const tail of ["", "-wal", "-shm"]) rmSync(join(dir, "cloud.db" + tail), { force: true });
  cloud = await cloudAt("copy.db", 17930);
  await says(p1, at1, "The cloud’s answer was refused");
  await write(p2, at2, "Meanwhile");
  await p1.goto(at1 + "/devices");
  await p1.click("text=The cloud was set back, or has lost something");
  await accessible(p1, "set back");
  await p1.fill("#publish", master);
  await p1.click("text=Bring it what is here");
  await p1.waitForSelector("text=The cloud has what this computer has");
  await has(p1, at1, "Meanwhile");
  await has(p2, at2, "Since the backup");
});

test("another cloud takes its place", async () => {
  await cloud.stop();
  second = await cloudAt("second.db", 17933);
  for (const [p, at] of [
    [p1, at1],
    [p2, at2],
  ]) {
    await says(p, at, "The cloud is away");
    await p.click("text=The cloud is another one now");
    await p.fill("#move-cloud", other);
    await p.fill("#move-password", master);
    await p.click("text=Go on there");
    await p.waitForSelector("text=kept in step");
  }
  await write(p2, at2, "At the other cloud");
  await has(p1, at1, "At the other cloud");
});

test("the account is deleted, and the vault stays", async () => {
  await p1.goto(at1 + "/devices");
  await p1.click("text=Delete the account at the cloud");
  await p1.fill("#delete-account", master);
  await p1.click("button:text('Delete the account')");
  await p1.waitForSelector("text=The account is deleted");
  await has(p1, at1, "Ferrylink");
  await says(p2, at2, "signed out at the cloud");
  await has(p2, at2, "Ferrylink");
});
