// A second passphrase: it is set up, something is left out, and nothing that is drawn under it says so.
import test, { after, before } from "node:test";
import assert from "node:assert/strict";
import { createServer } from "node:http";
import { mkdtempSync, readFileSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import {
  accessible,
  again,
  browser,
  build,
  connect,
  firstDay,
  lockPage,
  newVault,
  offered,
  shownText,
  settled,
  start,
  unlock,
} from "./harness.mjs";

const dir = mkdtempSync(join(tmpdir(), "redlocket-second-"));
const at = "http://redlocket.localhost:18020";
const wren = { name: "Wren Tolliver", email: "wren.tolliver@cormorant.example", password: "kelp ferry lantern forty" };
const second = "gravel opera thicket nineteen";
const site = "http://lighthouse.localhost:18024/";
let own, b, page, sheet, pages;

before(async () => {
  pages = createServer((_, res) => {
    res.writeHead(200, { "Content-Type": "text/html; charset=utf-8" });
    res.end(`<!doctype html><title>Lighthouse</title><form method="post"><label>User name <input id="user"
      name="user" autocomplete="username"></label><label>Password <input id="password" type="password"
      autocomplete="current-password"></label><button>Sign in</button></form>`);
  }).listen(18024, "127.0.0.1");
  own = await start(build(), ["--data", join(dir, "data"), "--port", "18020", "--no-browser"], "Ctrl-C ends it");
  b = await browser({ extension: true });
  page = await b.page();
  await newVault(page, at, { ...wren, cloud: "" });
  sheet = await firstDay(page);
  await connect(b, page, at, wren);
  await page.bringToFront();
  const csv = [
    "name,url,username,password",
    `Lighthouse,${site},keeper,Third-Rock-9`,
    "Ferrylink,https://ferrylink.example/,wren,Lamp-Over-4",
    "Brackish,https://brackish.example/,wren,Kelp-Under-5",
  ].join("\n");
  await page.goto(at + "/import");
  await page.setInputFiles("#import-files", { name: "a.csv", mimeType: "text/csv", buffer: Buffer.from(csv) });
  await page.waitForSelector("#plan");
  await page.click("#plan button.btn-primary");
  await page.waitForSelector("text=/3 (logins|items)|new/");
});
after(async () => {
  await b?.close();
  await own?.stop();
  pages?.close();
  rmSync(dir, { recursive: true, force: true });
});

/** What a page says, without what differs each time. @param {string} path */
const said = async (path) => {
  await page.goto(at + path);
  await page.waitForLoadState();
  return (await page.locator("body").innerText()).replace(/\d+ (seconds|minutes) ago|just now/g, "");
};

/** Locks the vault, and opens it by a passphrase. */
const reopen = async (passphrase) => {
  await page.goto(at + "/logins");
  await page.click("button.medallion");
  await lockPage(page); // whoever goes on before it is there may find the vault open still
  await unlock(page, at, passphrase);
};

const places = [
  "/logins",
  "/archive",
  "/cards",
  "/notes",
  "/tidy",
  "/weak",
  "/day",
  "/devices",
  "/settings",
  "/import",
];
let unset;

test("set up with the sheet at hand, refused without it", async () => {
  unset = await said("/second");
  await accessible(page, "a second passphrase, not set up");
  const fill = async (code) => {
    await page.fill("#master", wren.password);
    await page.fill("#code", code);
    await page.fill("#password", second);
    await page.fill("#repeat", second);
    await page.click("text='Set it up' >> visible=true >> nth=-1");
  };
  await fill(sheet.carried.join(" "));
  await page.waitForSelector(".bad:visible");
  await fill(sheet.recovery.join(" "));
  await page.waitForSelector(".done:has-text('opens the vault from now on')");
  await page.waitForSelector("text=Nothing is left out yet");
});

test("a login is left out, and is there as before", async () => {
  await again(page, async () => {
    await page.goto(at + "/logins?q=lighthouse");
    await page.click(".line-main");
    await page.click("#sheet button:has-text('Leave out')", { timeout: 10_000 });
  });
  await page.waitForSelector(".done:has-text('doesn’t show it any more')");
  assert.match(await page.innerText("main"), /Lighthouse/);
  await accessible(page, "a second passphrase, set up");
  await page.goto(at + "/logins?q=lighthouse");
  await page.waitForSelector(".line-end:has-text('left out')");
  const form = await b.page();
  await form.goto(site);
  await settled(form);
  await form.click("#user");
  await offered(form);
  await form.close();
});

test("under the second passphrase nothing says that there is more", async () => {
  await reopen(second);
  for (const path of places) assert.doesNotMatch(await said(path), /lighthouse|keeper|left out under/i, path);
  assert.equal(await said("/second"), unset, "as if it had never been set up");
  await page.goto(at + "/logins?q=lighthouse");
  await page.waitForSelector("text=/[Nn]othing|No /");
  assert.equal(await page.locator(".line").count(), 0);
  const drawnAt = async (url) => {
    const form = await b.page();
    await form.goto(url);
    await settled(form);
    await form.click("#user");
    await form.waitForTimeout(1000); // it may be that nothing comes
    const text = await shownText(form);
    await form.close();
    return text;
  };
  assert.doesNotMatch(await drawnAt(site), /keeper|lighthouse/i);
  assert.equal(await drawnAt(site), await drawnAt("http://buoy.localhost:18024/"), "as at a site that is unknown");
});

test("what is saved there is in the whole vault", async () => {
  const csv = "name,url,username,password\nMeanwhile,https://meanwhile.example/,wren,Made-Under-It-7\n";
  await page.goto(at + "/import");
  await page.setInputFiles("#import-files", { name: "b.csv", mimeType: "text/csv", buffer: Buffer.from(csv) });
  await page.waitForSelector("#plan");
  await page.click("#plan button.btn-primary");
  await page.waitForLoadState();
  await reopen(wren.password);
  await page.waitForSelector(".line-main:has-text('Meanwhile')");
  await page.waitForSelector(".line-main:has-text('Lighthouse')");
});

test("nothing of it is in clear in any file, and it ends", async () => {
  const file = readFileSync(join(dir, "data", "running.json"), "utf8");
  assert.doesNotMatch(file, /lighthouse/i);
  await page.goto(at + "/second");
  await page.click("li:has-text('Lighthouse') button");
  await page.waitForSelector(".done:has-text('shows it like everything else')");
  await page.click("summary:has-text('End it')");
  await page.fill("#end-master", wren.password);
  await page.click("text=End the second passphrase");
  await page.waitForSelector(".done:has-text('opens nothing any more')");
  await page.goto(at + "/logins");
  await page.click("button.medallion");
  await lockPage(page);
  await page.fill("#password", second);
  await page.keyboard.press("Enter");
  await page.waitForSelector(".bad");
});
