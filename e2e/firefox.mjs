// Firefox with the extension that the device app hands out, installed from its package, and Maren's vault open.
//
// It has a driver of its own: Playwright drives a Firefox as Debian has it by WebDriver BiDi, but begins with commands
// that one doesn’t know yet (Playwright 1.65, Firefox ESR 153: emulation.setMediaFeaturesOverride, which no option
// leaves out).
import assert from "node:assert/strict";
import { execFileSync } from "node:child_process";
import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import puppeteer from "puppeteer-core";
import { build, demo, maren, soon } from "./harness.mjs";

const uuid = "7d1f6c1e-52a1-4b0e-9a55-0d1c2b3a4f5e";
const id = "red-locket@redlocket.example";

/** Goes to the lock page of Maren's vault, where others are on the device, too. */
export async function toDoor(page, device) {
  await page.goto(device + "/front");
  const door = await page.evaluate(
    () => [...document.querySelectorAll(".people a")].find((a) => /Maren/.test(a.textContent))?.href,
  );
  if (door) await page.goto(door);
}

/** @param {number} port the first of the demo's */
export async function firefox(port) {
  const d = await demo(build(), port);
  const dir = mkdtempSync(join(tmpdir(), "redlocket-firefox-"));
  const b = await puppeteer.launch({
    browser: "firefox",
    executablePath: execFileSync("sh", ["-c", "command -v firefox-esr"], { encoding: "utf8" }).trim(),
    headless: true,
    args: ["-remote-allow-system-access"],
    extraPrefsFirefox: {
      "extensions.webextensions.uuids": JSON.stringify({ [id]: uuid }),
      "xpinstall.signatures.required": false,
      "extensions.webextOptionalPermissionPrompts": false, // what is asked for in a press is given
      "network.proxy.type": 0,
    },
    defaultViewport: { width: 1280, height: 800 },
  });
  const xpi = join(dir, "redlocket-firefox.xpi");
  const desk = await b.newPage();
  const resp = await fetch(d.laptop.replace("laptop.localhost", "127.0.0.1") + "/extension/redlocket-firefox.xpi", {
    redirect: "manual",
  });
  assert.equal(resp.status, 307);
  await desk.goto(d.laptop + "/front");
  const bytes = await desk.evaluate(async () => [
    ...new Uint8Array(await (await fetch("/extension/redlocket-firefox.xpi")).arrayBuffer()),
  ]);
  writeFileSync(xpi, Buffer.from(bytes));
  await b.installExtension(xpi);
  await toDoor(desk, d.laptop);
  await desk.type("#password", maren.password);
  await desk.click("button[type=submit]");
  await desk.waitForSelector(".book-count");
  return {
    d,
    b,
    desk,
    /** Installs the package once more, as an update does. */
    update: () => b.installExtension(xpi),
    async end() {
      await b.close();
      await d.stop();
      d.clean();
      rmSync(dir, { recursive: true, force: true });
    },
  };
}

export { after as pause } from "./harness.mjs";

/** Waits until something is so in a page. Asked from here: the driver's own wait is code that some pages forbid. */
export async function until(page, so) {
  assert.ok(await soon(() => page.evaluate(so).catch(() => false)), `it never is: ${so}`);
}

const isDrawn = () => [...document.documentElement.children].some((e) => e.matches(":popover-open"));

/** Waits until the extension shows something in a page. */
export const drawn = (page) => until(page, isDrawn);

/** Whether the extension shows something in a page or in one of its frames. */
export async function drawnSomewhere(page) {
  const all = await Promise.all(page.frames().map((f) => f.evaluate(isDrawn).catch(() => false)));
  return all.some(Boolean);
}

/**
 * The page whose address is so. A driver sees one that the extension opened as an empty one until it asks.
 * @param {(at: string) => boolean} so
 */
export async function pageAt(b, so) {
  const found = await soon(async () => {
    for (const p of await b.pages()) if (so(await p.evaluate(() => location.href).catch(() => ""))) return p;
    return undefined;
  });
  assert.ok(found, `there is no such page: ${so}`);
  return found;
}

/** The extension's own page whose address has the given part. */
export const own = (b, part) => pageAt(b, (at) => at.startsWith("moz-extension:") && at.includes(part));

/**
 * Where the first line of the offer is: what stands in the extension's frames can't be seen from a page, but that there
 * is one can.
 */
export async function offerAt(page, field) {
  const r = await (await page.$(field)).boundingBox();
  const at = await page.evaluate(({ x, y, width, height }) => {
    const shown = (/** @type {number} */ a, /** @type {number} */ b) =>
      document.elementFromPoint(a, b)?.matches(":popover-open:not(#cover)") ?? false;
    for (const [from, to] of [
      [y + height + 1, y + height + 16],
      [y - 160, y - 2],
    ])
      for (let b = from; b < to; b += 2) if (shown(x + 40, b)) return { x: x + 40, y: b + 20 };
    for (let b = y - 80; b < y + height; b += 2) if (shown(x + width + 60, b)) return { x: x + width + 60, y: b + 20 };
    return { x: x + 40, y: y + height + 22 };
  }, r);
  return [at.x, at.y];
}

/** Connects the browser from the device's own page, and returns the words on both sides. */
export async function connect({ d, b, desk }) {
  const begun = async () => {
    await desk.bringToFront();
    await desk.goto(d.laptop + "/devices");
    await desk.waitForSelector("[data-connect-browser]");
    await desk.click("[data-connect-browser]");
    return own(b, "connect.html?app=");
  };
  const c = await begun().catch(async (e) => {
    const at = await Promise.all((await b.pages()).map((p) => p.evaluate(() => location.href).catch(String)));
    console.log(`nothing opened, pressed once more: ${e.message}; there is ${at.join(", ")}`);
    return begun();
  });
  await c.click("#form button");
  await c.waitForSelector("#vaults button");
  await c.click("#vaults button");
  await desk.waitForSelector(".waiting .fingerprint li");
  const here = await desk.$$eval(".waiting .fingerprint li", (l) => l.map((e) => e.textContent));
  const there = await c.evaluate(() => [...document.querySelectorAll("#words li")].map((e) => e.textContent));
  await desk.type("#connect-password", maren.password);
  await desk.click(".waiting .btn-primary");
  await desk.waitForSelector(".done");
  await c.waitForSelector("#yes:not([hidden])");
  await c.click("#yes");
  await c.waitForSelector("#done:not([hidden])");
  await c.waitForSelector("#saving:not([hidden])");
  await c.click("#stop");
  await until(c, () => document.querySelector("#saving").textContent.includes("is off"));
  return { here, there, says: await c.$eval("#connected", (e) => e.textContent) };
}
