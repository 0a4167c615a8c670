// A page of a kept site that has turned hostile, against the extension in Firefox, where a frame can't say itself
// whether it is seen. Each class has a control that an honest page is served.
import test, { after, before } from "node:test";
import assert from "node:assert/strict";
import { createServer } from "node:http";
import { connect, drawn, firefox, offerAt, pause } from "./firefox.mjs";
import { maren } from "./harness.mjs";

const PORT = 17590;
let all,
  page,
  server,
  body = "";

before(async () => {
  server = createServer((_, res) => {
    res.writeHead(200, { "Content-Type": "text/html; charset=utf-8" });
    res.end(`<!doctype html><title>Lanternfish</title><h1>Sign in</h1>${body}`);
  }).listen(PORT, "127.0.0.1");
  all = await firefox(17560);
  await connect(all);
});
after(async () => {
  await all?.end();
  server?.close();
});

const FORM =
  '<form action="/"><label>E-mail <input id="user" type="email"></label>' +
  '<label>Password <input id="password" type="password"></label><button>Sign in</button></form>';
const COVER = '<div id="cover" popover="manual">Win a prize: press here</div>';

/** Shows a page in a tab of its own: a press of the test before may have sent a form, and its answer may still come. */
async function show(html) {
  body = html;
  const before = page;
  page = await all.b.newPage();
  await before?.close();
  await page.goto(`http://lanternfish.localhost:${PORT}/`);
  await pause(250);
}

/** Opens the offer as a person does, and waits until it could be pressed. */
async function opened(html) {
  await show(html);
  await page.click("#user");
  await drawn(page);
  await pause(800);
}

/** Where the offer's first line stands, or would. */
const line = () => offerAt(page, "#user");
async function press(at = line()) {
  const [x, y] = await at;
  await page.mouse.move(x, y);
  await page.mouse.click(x, y);
}
/** Whether a field got the password, within the time that it takes at most. An honest page has more of it. */
const taken = (timeout = 900) =>
  page
    .waitForFunction(
      (user) => [...document.querySelectorAll("input")].some((f) => f.value === "Cuttle!bone42" || f.value === user),
      { timeout },
      maren.email,
    )
    .then(
      () => true,
      () => false,
    );

test("an honest page is filled: by the pointer, and by the keyboard", async () => {
  await opened(FORM);
  await press();
  assert.ok(await taken(5000));
  await show(FORM);
  await page.click("#user");
  await drawn(page);
  await pause(600);
  await page.keyboard.press("ArrowDown");
  await pause(700);
  await page.keyboard.press("Enter");
  assert.ok(await taken(5000));
});

test("an honest page with much on it that moves is filled", async () => {
  await opened(`${FORM}<p id="ticker" style="margin-top:400px">0</p>
    <script>setInterval(() => (ticker.textContent = Math.random()), 30)</script>`);
  await press();
  assert.ok(await taken(5000));
});

const over = (css) => `
  const c = document.querySelector("#cover");
  c.style.cssText = "inset:auto;position:fixed;border:0;margin:0;padding:0;pointer-events:none;${css}";
  c.showPopover();`;
const whole = "left:0;top:0;width:100vw;height:100vh;background:#fff;";
/** Puts the cover above what the extension shows, again and again: a page has the last word where nobody looks. */
const onTop = (css) => `${over(css)}
  setInterval(() => { c.hidePopover(); c.showPopover(); }, 15);`;

for (const [what, script] of Object.entries({
  "covered whole by what lets presses through": onTop(whole),
  "covered whole by a dialog": `${over(whole)}
    c.remove();
    const d = document.createElement("dialog");
    d.style.cssText = "position:fixed;inset:0;width:100vw;height:100vh;max-width:none;max-height:none;border:0;margin:0;" +
      "background:#fff;pointer-events:none";
    document.body.append(d);
    d.showModal();
    d.inert = true;`,
  "half seen through a cover": onTop(`${whole}opacity:0.6`),
  "with other words laid over its line": onTop("left:0;top:0;width:700px;height:160px;background:#fff"),
  "with the rest of it covered, but for the place of the press": onTop(
    "left:0;top:0;width:100vw;height:100vh;background:#fff;clip-path:path(evenodd,'M0 0H2000V2000H0ZM300 150h60v60h-60Z')",
  ),
  "covered by a picture of itself in other colours": onTop(`${whole}background:none;backdrop-filter:invert(1)`),
  "blurred by what lies over it": onTop(`${whole}background:none;backdrop-filter:blur(12px)`),
  "made see-through": 'document.documentElement.style.opacity = "0.02"',
  shrunk: 'document.documentElement.style.zoom = "0.1"',
  blurred: 'document.documentElement.style.filter = "blur(20px)"',
  masked: 'document.documentElement.style.clipPath = "circle(1px)"',
  "turned over": 'document.documentElement.style.rotate = "180deg"',
  "its host hidden": `for (const e of document.querySelectorAll(":popover-open"))
    e.style.setProperty("opacity", "0", "important")`,
  "its host moved": `const s = document.createElement("style");
    s.textContent = "div[popover] { translate: 0 -300px !important }";
    document.head.append(s);`,
  "its host animated": `document.querySelector(":popover-open").animate([{ opacity: 0.01 }, { opacity: 0.01 }],
    { duration: 1e6, fill: "both" });`,
}))
  test(`the offer ${what}: either it stays to be seen, or a press isn't taken`, async () => {
    await opened(FORM + COVER);
    const at = await line();
    await page.evaluate(`{${script}}`);
    await pause(600);
    const [mine] = await page.$$eval(":popover-open", (l) =>
      l.filter((e) => e.id !== "cover").map((e) => [getComputedStyle(e).opacity, getComputedStyle(e).translate].join()),
    );
    await press(at);
    const stays = what.startsWith("its host") && mine === "1,none"; // what the page did to it came to nothing
    assert.ok(!(await taken()) || stays);
  });

test("an offer that was covered until the press itself isn't taken", async () => {
  await opened(FORM + COVER);
  const at = await line();
  await page.evaluate(`{${onTop(whole)}
    const free = () => { c.remove(); for (let i = 1; i < 9999; i++) clearInterval(i); };
    addEventListener("blur", free);
    addEventListener("pointermove", free);
    document.documentElement.addEventListener("pointerleave", free);}`);
  await pause(600);
  await press(at);
  assert.ok(!(await taken()));
});

test("an offer that is moved under the pointer isn't taken", async () => {
  await opened(FORM);
  const [x, y] = await line();
  await page.mouse.move(x, y + 300);
  await page.evaluate(() => {
    document.querySelector("form").style.marginTop = "300px";
  });
  await page.mouse.click(x, y + 300);
  assert.ok(!(await taken()));
});

test("a focus that the page sets shows nothing, and keys pressed for the page choose nothing", async () => {
  await show(FORM);
  await page.evaluate(() => document.querySelector("#user").focus());
  await pause(500);
  await press();
  assert.ok(!(await taken()));
  await show(`${FORM}<script>
    addEventListener("keydown", () => document.querySelector("#user").focus());
  </script>`);
  for (const key of ["a", "ArrowDown", "Enter"]) await page.keyboard.press(key);
  assert.ok(!(await taken()));
});

test("fields that can't be seen get nothing", async () => {
  const hidden = {
    clip: "clip-path:inset(100%)",
    filter: "filter:opacity(0)",
    mask: "mask-image:linear-gradient(transparent,transparent)",
    away: "position:absolute;left:-3000px",
    ink: "opacity:0.01",
    turned: "transform:rotateY(180deg);backface-visibility:hidden",
  };
  const more = Object.entries(hidden)
    .map(([k, css]) => `<div style="${css}"><input type="password" id="${k}" autocomplete="current-password"></div>`)
    .join("");
  await opened(`<form action="/"><label>E-mail <input id="user" type="email"></label>
    <label>Password <input id="password" type="password"></label>${more}<button>Sign in</button></form>`);
  await press();
  await taken();
  for (const k of Object.keys(hidden)) assert.equal(await page.$eval(`#${k}`, (f) => f.value), "", k);
});
