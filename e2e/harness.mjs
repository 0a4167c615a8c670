// Starts the demo on ports of its own and browsers on top of it.
import { spawn, execFileSync } from "node:child_process";
import { cpSync, mkdtempSync, readFileSync, readdirSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join, dirname } from "node:path";
import { fileURLToPath } from "node:url";
import { createInterface } from "node:readline";
import assert from "node:assert/strict";
import { createRequire } from "node:module";
import { createServer } from "node:http";
import { chromium } from "playwright-core";

export const root = dirname(dirname(fileURLToPath(import.meta.url)));
export const maren = { email: "maren.tolliver@cormorant.example", password: "kelp ferry lantern forty" };
export const idris = { email: "idris.tolliver@cormorant.example", password: "slack tide over ropewalk" };
export const wren = { email: "wren.tolliver@cormorant.example", password: "oar lamp tide winkle" };

const which = (name) => execFileSync("sh", ["-c", `command -v ${name}`], { encoding: "utf8" }).trim();
const flags = [
  "--no-sandbox",
  "--disable-gpu",
  "--no-first-run",
  "--disable-background-networking",
  "--disable-component-update",
  "--disable-sync",
];

/**
 * What is off in the browser that has the extension. RenderDocument makes a frame of its own for every document; taking
 * the debugger's focus from one that has no document yet ends the page's process (Chromium 156, measured: once in some
 * ten pages that left by themselves while another was in front, and in none of a hundred without it).
 */
const off = ["DisableLoadExtensionCommandLineSwitch", "RenderDocument"];

/** What draws pages alone, without a window around them, takes a third less of a processor. */
const plain = (() => {
  try {
    return which("chromium-headless-shell");
  } catch {
    return which("chromium");
  }
})();

/** Whether every case is tried, and not one of each kind: `make thorough`. */
export const thorough = process.env.REDLOCKET_THOROUGH === "1";

/** How long anything is waited for, in milliseconds: the machine may have other work, and get to this one late. */
export const PATIENCE = 60_000;

/** @param {number} ms */
export const after = (ms) => new Promise((done) => setTimeout(done, ms));

/**
 * Asks until something is so, and returns it; after a minute whatever it is then, for the test to say what was wanted.
 * @template T
 * @param {() => Promise<T> | T} is
 * @param {() => Promise<unknown>} [pause] between two questions
 */
export async function soon(is, pause = () => after(50)) {
  for (const end = Date.now() + PATIENCE; ; await pause()) {
    const v = await is();
    if (v || Date.now() > end) return v;
  }
}

/**
 * Asks until something is so, as soon does, and does a step once more each so many questions: a press that came too
 * early isn't taken, and a person presses again.
 * @template T
 * @param {() => Promise<T> | T} is
 * @param {() => Promise<unknown>} step
 */
export async function insisting(is, step, every = 80) {
  let asked = 0;
  return soon(async () => {
    const v = await is();
    if (!v && ++asked % every === 0) await step();
    return v;
  });
}

/**
 * Builds the program; ./test has built it once for all and says where: with quick stretching of master passwords, as
 * vaults are opened again and again, and as it is released.
 */
export function build({ released = false } = {}) {
  if (released && process.env.REDLOCKET_RELEASED) return process.env.REDLOCKET_RELEASED;
  if (process.env.REDLOCKET_PROGRAM) return process.env.REDLOCKET_PROGRAM;
  const out = join(mkdtempSync(join(tmpdir(), "redlocket-build-")), "redlocket");
  execFileSync("go", ["build", "-o", out, "./cmd/redlocket"], { cwd: root, stdio: "inherit" });
  return out;
}

/** Runs the program until it prints the given line. Its output is kept in log. */
export async function start(program, args, ready) {
  const child = spawn(program, args, { stdio: ["ignore", "pipe", "pipe"] });
  const p = { child, log: "", ended: new Promise((r) => child.on("exit", r)) };
  child.stderr.on("data", (b) => (p.log += b));
  await new Promise((ok, fail) => {
    const lines = createInterface({ input: child.stdout });
    lines.on("line", (l) => {
      p.log += l + "\n";
      if (l.includes(ready)) ok();
    });
    p.ended.then((code) => fail(new Error(`ended with ${code}: ${p.log}`)));
  });
  p.stop = async (signal = "SIGINT") => {
    child.kill(signal);
    return p.ended;
  };
  return p;
}

/** The whole demo on eleven ports from the given one. */
export async function demo(program, port, more = []) {
  const dir = mkdtempSync(join(tmpdir(), "redlocket-e2e-"));
  const p = await start(program, ["demo", "--port", String(port), "--data", dir, ...more], "Ctrl-C ends it");
  return {
    ...p,
    dir,
    desk: `http://desk.localhost:${port + 1}`,
    laptop: `http://laptop.localhost:${port + 2}`,
    idris: `http://idris.localhost:${port + 3}`,
    cloud: `http://127.0.0.1:${port}`,
    site: (name, path = "/") => `http://${name}.localhost:${port + 10}${path}`,
    clean: () => rmSync(dir, { recursive: true, force: true }),
  };
}

/**
 * Every value of the demo's logins, and whatever else was typed, that stands in clear in a file of the demo's folder or
 * in what it printed. The people's names and e-mail addresses are known to the lock page and the cloud, and what the
 * demo
 * prints has the master passwords, and the town's name, on purpose.
 * @param {{dir: string, log: string}} d @param {string[]} typed
 */
export function inClear(d, typed = []) {
  const source = readFileSync(join(root, "demo/data.go"), "utf8");
  const rows = source
    .slice(source.indexOf("var marens"))
    .split("\n")
    .filter((l) => l.startsWith("\t{") || l.startsWith("\t\t{"));
  const known = [maren.email, idris.email, wren.email, "Maren Tolliver", "Idris Tolliver", "Saltmarsh Quay"].join(" ");
  const values = rows
    .flatMap((l) => [...l.matchAll(/"((?:[^"\\]|\\.)*)"/g)].map((m) => m[1]))
    .filter((v) => v.length >= 6 && !known.includes(v));
  const texts = [
    d.log,
    ...readdirSync(d.dir, { recursive: true, withFileTypes: true })
      .filter((e) => e.isFile())
      .map((e) => readFileSync(join(e.parentPath ?? e.path, e.name), "latin1")),
  ];
  const all = [...new Set([...values, ...typed])];
  if (all.length < 100 || texts.length < 5) throw new Error("there is too little to search");
  return all.filter((v) => texts.some((t) => t.includes(Buffer.from(v).toString("latin1"))));
}

/**
 * A Chromium with an empty profile; with the extension if asked for, and with the permissions that a person would be
 * asked for in a window of the browser's own.
 */
export async function browser({ extension = false, granted = [], camera = "", ...options } = {}) {
  const profile = mkdtempSync(join(tmpdir(), "redlocket-profile-"));
  const args = [...flags];
  if (camera) args.push("--use-fake-device-for-media-stream", `--use-file-for-fake-video-capture=${camera}`);
  if (extension) {
    const dir = join(profile, "extension");
    cpSync(join(root, "extension/files"), dir, { recursive: true });
    const manifest = JSON.parse(readFileSync(join(dir, "manifest.json"), "utf8"));
    manifest.permissions.push(...granted);
    manifest.optional_permissions = manifest.optional_permissions.filter((p) => !granted.includes(p));
    writeFileSync(join(dir, "manifest.json"), JSON.stringify(manifest));
    args.push(
      "--headless=new",
      `--disable-extensions-except=${dir}`,
      `--load-extension=${dir}`,
      `--disable-features=${off.join()}`,
    );
  }
  const context = await chromium.launchPersistentContext(join(profile, "data"), {
    executablePath: extension || camera ? which("chromium") : plain,
    args,
    viewport: { width: 1280, height: 800 },
    ignoreDefaultArgs: extension ? ["--disable-extensions"] : [],
    ...options,
  });
  context.setDefaultTimeout(PATIENCE);
  let id = "";
  if (extension) {
    const worker = context.serviceWorkers()[0] ?? (await context.waitForEvent("serviceworker"));
    id = new URL(worker.url()).host;
  }
  return {
    context,
    id,
    page: () => looked(context),
    close: async () => {
      await context.close();
      rmSync(profile, { recursive: true, force: true });
    },
  };
}

/**
 * A new page of a browser. Whoever goes to an address looks at it: a browser draws a page that nobody sees once a
 * second. A page that is on its way elsewhere, as one whose vault has just locked, is gone from once it is there.
 * @param {import("playwright-core").BrowserContext} context
 */
async function looked(context) {
  const page = await context.newPage();
  const goto = page.goto.bind(page);
  page.goto = async (...at) => {
    await page.bringToFront();
    for (let tries = 0; ; tries++) {
      try {
        return await goto(...at);
      } catch (e) {
        if (tries > 1 || !/interrupted by another navigation/.test(String(e))) throw e;
        await page.waitForLoadState();
      }
    }
  };
  return page;
}

/**
 * The code that the demo's cloud mailed to an address, as the town's post office shows it.
 * @param {import("playwright-core").Page} page
 * @param {Awaited<ReturnType<typeof demo>>} d
 * @param {string} email
 */
export async function codeMailed(page, d, email) {
  const post = await page.context().newPage();
  try {
    const code = await soon(async () => {
      await post.goto(d.site("post"));
      const mails = (await post.innerText("body")).split("To ").filter((m) => m.startsWith(email));
      return mails.map((m) => /^ {4}(\d{4} \d{4})$/m.exec(m)).find(Boolean);
    });
    if (!code) throw new Error(`no code was mailed to ${email}`);
    return code[1];
  } finally {
    await post.close();
  }
}

/** What the extension itself waits: until a page is quiet, and until what was drawn can have been read. */
const QUIET = 60;
const READING = 250;

/**
 * Waits until the extension has dealt with what happened in a page: it has looked again once the page was quiet, no
 * question is under way, and what came of it is drawn. In a browser without the extension it takes the same time.
 * @param {import("playwright-core").Page} page
 */
export async function settled(page) {
  const worker = page.context().serviceWorkers().at(0);
  for (let calm = 0; calm < 2;) {
    await after(QUIET + 20);
    calm = (await worker?.evaluate(() => underWay())) ? 0 : calm + 1;
  }
  try {
    await page.evaluate(() => new Promise((drawn) => requestAnimationFrame(() => requestAnimationFrame(drawn))));
  } catch (e) {
    if (!/context was destroyed/.test(String(e))) throw e;
    await page.waitForLoadState(); // it went elsewhere meanwhile
    await settled(page);
  }
}

/** Waits until what the extension shows may be pressed: a press on what nobody can have read isn't taken. */
export async function readable(page) {
  await page.bringToFront(); // what nobody can see is never seen for long enough
  await settled(page);
  for (let i = 0; i < 15; i++) {
    const states = await Promise.all(
      papers(page).map((f) =>
        f.evaluate(() => !document.body.firstElementChild || globalThis.ripe()).catch(() => true),
      ),
    );
    // what it never gets to be, as a frame that is covered, isn't waited for
    if (states.every(Boolean) && (i >= 3 || (await shownText(page)))) return;
    await after(READING / 3);
  }
}

/** The frames in which the extension shows something in a page. @param {import("playwright-core").Page} page */
export const papers = (page) => page.frames().filter((f) => /^chrome-extension:.*\/paper\.html/.test(f.url()));

/** All that the extension shows in its frames in a page, as text. @param {import("playwright-core").Page} page */
export async function shownText(page) {
  const texts = await Promise.all(papers(page).map((f) => f.evaluate(() => document.body.innerText).catch(() => "")));
  return texts.join("\n").trim();
}

/**
 * Waits until the extension says something, and returns all that it says.
 * @param {import("playwright-core").Page} page
 * @param {RegExp} what
 */
export async function says(page, what) {
  let text = "";
  const said = async () => what.test((text = await shownText(page)));
  if (!(await soon(said, () => settled(page)))) assert.fail(`it never says ${what}, but “${text}”`);
  return text;
}

/**
 * Where something stands that the extension shows: what has just this text, in a frame of its own origin that no page
 * can look into.
 * @param {import("playwright-core").Page} page
 * @param {string} text
 * @returns {Promise<{x: number, y: number} | undefined>} its middle
 */
export async function drawnAt(page, text) {
  for (const frame of papers(page)) {
    try {
      const inside = await frame.evaluate((text) => {
        const words = (/** @type {Node} */ n) =>
          n.nodeType === 3 ? n.nodeValue.trim() : [...n.childNodes].map(words).filter(Boolean).join(" ").trim();
        const el = [...document.body.querySelectorAll("*")].findLast((e) => words(e) === text);
        const r = el?.getBoundingClientRect();
        return r && { x: r.left + r.width / 2, y: r.top + r.height / 2 };
      }, text);
      const at = inside && (await (await frame.frameElement()).boundingBox());
      if (at) return { x: at.x + inside.x, y: at.y + inside.y };
    } catch {
      // it was put away meanwhile
    }
  }
  return undefined;
}

/**
 * Where the first thing to press of the offer is, in the page. An offer stands below its field, or where it covers
 * less.
 * @param {import("playwright-core").Page} page
 * @returns {Promise<{x: number, y: number}>}
 */
export async function offerAt(page) {
  for (const frame of papers(page)) {
    const line = frame.locator(".offer button").first();
    const first = (await line.count().catch(() => 0)) && (await line.boundingBox({ timeout: 5000 }).catch(() => null));
    if (first) return { x: first.x + 36, y: first.y + first.height / 2 };
  }
  throw new Error("no offer is shown");
}

/** Waits until the extension shows something in a page. */
export async function offered(page) {
  await page.bringToFront();
  if (!(await soon(() => shownText(page)))) throw new Error("nothing is shown");
}

/**
 * The keyboard's way through the offer at a field: down to a line, and enter.
 * @param {import("playwright-core").Page} page
 * @param {import("playwright-core").Locator} field
 * @param {number} [down]
 */
export async function chooseByKeys(page, field, down = 1) {
  await page.bringToFront();
  await settled(page);
  await field.focus();
  await settled(page); // a frame and the page around it have told each other
  await page.keyboard.press("ArrowDown");
  await offered(page);
  for (let i = 1; i < down; i++) await page.keyboard.press("ArrowDown");
  await readable(page);
  await page.keyboard.press("Enter");
  await after(260); // it looks once more
}

/** Waits until something with this text is drawn, and presses it as a person does. */
export async function pressDrawn(page, text) {
  await press(page, text);
  await after(260); // it looks once more
  await settled(page);
}

async function pressAt(page, { x, y }) {
  await page.mouse.move(x, y);
  await page.mouse.click(x, y);
}

async function press(page, text) {
  await page.bringToFront(); // what nobody sees may never be drawn
  const at = await soon(async () => {
    if (!(await drawnAt(page, text))) return undefined;
    await readable(page);
    return drawnAt(page, text);
  });
  if (!at) throw new Error(`“${text}” is not drawn`);
  await pressAt(page, at);
}

/**
 * Presses what is drawn until it is gone.
 * @param {import("playwright-core").Page} page
 * @param {string} text
 */
export async function pressAway(page, text) {
  await press(page, text);
  const gone = async () => !(await drawnAt(page, text));
  const once = async () => {
    const at = await drawnAt(page, text);
    if (at) await pressAt(page, at);
  };
  if (!(await insisting(gone, once, 40))) throw new Error(`“${text}” stays`);
}

/**
 * The recovery sheet that a page shows, in groups.
 * @param {import("playwright-core").Page} page
 */
export async function sheetOn(page) {
  const all = (await page.locator(".groups").allInnerTexts()).map((t) => t.split(/\s+/).filter((w) => w.length === 5));
  return { carried: all[0], recovery: all[1] };
}

/** Types back what a new sheet asks for. */
export async function typeSheet(page, sheet) {
  for (const n of ["carried", "recovery"])
    await page.fill("#" + n, sheet[n][Number(await page.inputValue(`[name=${n}_group]`)) - 1]);
}

/**
 * Fills in the first two steps of a new vault, on the device whose pages are at the given address.
 * @param {import("playwright-core").Page} page
 * @param {string} at
 * @param {{name?: string, email: string, password: string, cloud?: string, device?: string}} v
 */
export async function newVault(page, at, { password, ...who }) {
  await page.goto(at + "/new");
  for (const [name, value] of Object.entries(who)) await page.fill("#" + name, value);
  await page.click("text=Go on");
  for (const f of ["#password", "#repeat"]) await page.fill(f, password);
  await page.click("text=Create the vault");
}

/** Has a new vault's sheet on paper, and leaves the rest for later. Returns the sheet. */
export async function firstDay(page) {
  await page.waitForURL("**/sheet");
  const sheet = await sheetOn(page);
  await typeSheet(page, sheet);
  await page.click("text=I have it on paper");
  await page.waitForURL("**/first/browser");
  await page.click("text=Later");
  await page.waitForURL("**/import");
  await page.click("text=I have none");
  await page.waitForURL("**/logins");
  return sheet;
}

/** Opens a profile's vault on a device. */
export async function unlock(page, device, password, whose = "Maren") {
  await page.goto(device + "/");
  if (page.url().endsWith("/logins")) return;
  if (page.url().endsWith("/front")) await page.click(`.people a:has-text('${whose}')`);
  await page.fill("#password", password);
  await page.click("button:has-text('Open')");
  await page.waitForURL("**/logins");
}

/**
 * Waits until a page is at an address that something else leads it to, maybe more than once: one way there takes the
 * place of the other.
 * @param {import("playwright-core").Page} page
 * @param {string} url
 */
export async function arrived(page, url, timeout = PATIENCE) {
  for (let tries = 0; ; tries++) {
    try {
      return await page.waitForURL(url, { timeout });
    } catch (e) {
      if (tries > 2 || !/ERR_ABORTED/.test(String(e))) throw e;
    }
  }
}

/** Waits until a page is the lock page. What else is drawn again while the vault locks leads there too. */
export const lockPage = (page) => arrived(page, "**/open/**");

/** Connects a browser's extension to a device whose vault is open in page. */
export async function connect(b, page, device, person = maren) {
  const c = await b.context.newPage();
  await c.goto(`chrome-extension://${b.id}/connect.html`);
  await c.fill("#app", new URL(device).host);
  await c.click("text=Go on");
  await c.locator("#vaults li", { hasText: person.email }).getByRole("button").click();
  await c.waitForSelector("#words li");
  const there = await c.locator("#words li").allInnerTexts();
  await page.bringToFront();
  await page.goto(device + "/devices");
  await page.waitForSelector(".waiting");
  const here = await page.locator(".waiting .fingerprint li").allInnerTexts();
  await page.fill("#connect-password", person.password);
  await page.click("text=The same words");
  await page.waitForSelector(".done");
  await c.bringToFront();
  await c.click("#yes");
  await c.waitForSelector("#connected:has-text('Connected')");
  await c.close();
  return { there, here };
}

/**
 * A browser with Maren's vault, and pages to try at a site that she keeps, or at another one: a form that is sent leads
 * to /welcome.
 * @param {number} port of the pages
 * @param {number} first of the demo's ports
 * @param {(path: string, res: import("node:http").ServerResponse) => boolean} [serve] answers what is no page
 */
export async function formPages(port, first, serve = () => false) {
  /** What each path answers. @type {Record<string, string>} */
  const pages = {};
  const server = createServer((req, res) => {
    const path = new URL(req.url ?? "/", "http://x").pathname;
    if (serve(path, res)) return;
    if (req.method === "POST") return res.writeHead(303, { Location: "/welcome" }).end();
    res.writeHead(200, { "Content-Type": "text/html; charset=utf-8" });
    res.end(`<!doctype html><title>Lanternfish</title>${pages[path] ?? "<h1>Welcome</h1>"}`);
  }).listen(port, "127.0.0.1");
  const d = await demo(build(), first);
  const b = await browser({ extension: true });
  const desk = await b.page();
  await unlock(desk, d.laptop, maren.password);
  await connect(b, desk, d.laptop);
  const page = await b.page();
  return {
    d,
    desk,
    page,
    pages,
    /** @param {string} html @param {string} [host] */
    async show(html, host = "lanternfish") {
      pages["/form"] = html;
      await page.bringToFront();
      await page.goto(`http://${host}.localhost:${port}/form`);
      await settled(page);
    },
    async end() {
      await b.close();
      await d.stop();
      d.clean();
      server.close();
    },
  };
}

/** Waits until a field has a value; also while the page with it is only being built. */
export const hasValue = (page, field) => page.waitForFunction((f) => document.querySelector(f)?.value, field);

/**
 * Does a step, and where it fails says what the page was like and does it once more from its beginning, as a person
 * would whose page went elsewhere meanwhile.
 * @param {import("playwright-core").Page} page
 * @param {() => Promise<unknown>} step
 */
export async function again(page, step) {
  try {
    await step();
  } catch (e) {
    const main = page.locator("main");
    const says = await main.innerText({ timeout: 1000 }).catch(() => ""); // it may have none
    console.log(`again: at ${page.url()} was “${says.slice(0, 400)}”: ${String(e).slice(0, 200)}`);
    await step();
  }
}

const axe = readFileSync(createRequire(import.meta.url).resolve("axe-core/axe.min.js"), "utf8");

/** No page is wider than its window. */
export async function fits(page, what) {
  const was = page.viewportSize();
  await page.setViewportSize({ width: 390, height: 800 });
  const wide = await page.evaluate(() => document.documentElement.scrollWidth - window.innerWidth);
  assert.ok(wide <= 0, `${what} is ${wide} px too wide`);
  await page.setViewportSize(was);
}

/** Takes pictures of a page to be looked at, wide, narrow and dark, where REDLOCKET_PICTURES names a folder. */
export async function picture(page, name) {
  const folder = process.env.REDLOCKET_PICTURES;
  if (!folder) return;
  const file = join(folder, name.replaceAll(" ", "-"));
  const was = page.viewportSize();
  await page.screenshot({ path: file + ".png" });
  await page.emulateMedia({ colorScheme: "dark" });
  await page.setViewportSize({ width: 390, height: 800 });
  await page.screenshot({ path: file + "-narrow-dark.png", fullPage: true });
  await page.emulateMedia({ colorScheme: "light" });
  await page.setViewportSize(was);
}

/**
 * axe finds nothing serious on a page, in light and dark: but for contrast, its rules don't look at colours. It is put
 * into the browser, not into the page: the page's own policy stays as it is.
 */
export async function accessible(page, what) {
  if (!(await page.evaluate(() => "axe" in window))) await page.evaluate(axe);
  const find = async (colorScheme, runOnly) => {
    await page.emulateMedia({ colorScheme, reducedMotion: "reduce" });
    const r = await page.evaluate(
      (runOnly) => window.axe.run(document, { resultTypes: ["violations"], ...(runOnly && { runOnly }) }),
      runOnly,
    );
    const bad = r.violations.filter((v) => v.impact === "serious" || v.impact === "critical");
    assert.deepEqual(
      bad.map((v) => `${v.id}: ${v.nodes.map((n) => n.target).join(" ")}`),
      [],
      `${what}, ${colorScheme}`,
    );
  };
  await find("dark", ["color-contrast"]);
  await find("light");
}
