// A page of a kept site that has turned hostile, against the extension in Chromium. None of it gets a value that its
// user didn't place there.
import test, { after, before } from "node:test";
import assert from "node:assert/strict";
import { createServer, request } from "node:http";
import { browser, build, connect, demo, maren, unlock, readable, settled } from "./harness.mjs";

const PORT = 17890;
let d,
  b,
  desk,
  page,
  server,
  body = "";

before(async () => {
  // in a frame of a payment company
  const card = '<input id="field" aria-label="Card number" autocomplete="cc-number">';
  server = createServer((req, res) =>
    res
      .writeHead(200, { "Content-Type": "text/html; charset=utf-8" })
      .end(
        `<!doctype html><title>Lanternfish</title>${req.headers.host?.startsWith("company") ? card : "<h1>Sign in</h1>" + body}`,
      ),
  ).listen(PORT, "127.0.0.1");
  d = await demo(build(), 17900);
  b = await browser({ extension: true });
  desk = await b.page();
  await unlock(desk, d.laptop, maren.password);
  await connect(b, desk, d.laptop);
  page = await b.page();
});
after(async () => {
  await b?.close();
  await d?.stop();
  d?.clean();
  server?.close();
});

const FORM =
  '<form action="/"><label>E-mail <input id="user" type="email"></label><label>Password <input id="password" type="password"></label><button>Sign in</button></form>';

/** Shows a page at the kept site, and has the offer drawn. @param {string} html @param {string} [field] */
async function hostile(html, field = "#user") {
  body = html;
  await page.bringToFront();
  await page.goto(`http://lanternfish.localhost:${PORT}/`);
  await readable(page);
  await page.focus(field);
  await readable(page);
}
const offered = () =>
  page.evaluate(() =>
    [...document.querySelectorAll("*")].some((e) => e.matches(":popover-open") && e.shadowRoot === null && !e.id),
  );

/** Presses where the offer's first line stands. */
async function press() {
  const r = await page.locator("#user").boundingBox();
  await page.mouse.click(r.x + 40, r.y + r.height + 22);
  await readable(page);
}
const all = () => page.evaluate(() => [...document.querySelectorAll("input")].map((f) => f.value).join("|"));
const secret = "Cuttle!bone42";
/** Whether the fields hold the password; waits a while for it, on a busy machine. */
const filled = () =>
  page
    .waitForFunction((s) => [...document.querySelectorAll("input")].some((f) => f.value === s), secret, {
      timeout: 5000,
    })
    .then(
      () => true,
      () => false,
    );

test("an honest page is filled, so that the rest of this file can fail", async () => {
  await hostile(FORM);
  await press();
  assert.ok(await filled());
  assert.match(await all(), /maren.*Cuttle!bone42/);
});

for (const [what, script] of Object.entries({
  "covered by something that lets presses through":
    'const c = document.createElement("div"); c.id = "cover"; c.popover = "manual"; c.textContent = "Win a lantern"; c.style.cssText = "position:fixed;inset:0;width:100vw;height:100vh;background:#fff;pointer-events:none"; document.body.append(c); c.showPopover();',
  "made see-through": 'document.documentElement.style.opacity = "0.02"',
  shrunk: 'document.documentElement.style.zoom = "0.1"',
  "turned over": 'document.documentElement.style.rotate = "180deg"',
  blurred: 'document.documentElement.style.filter = "blur(20px)"',
  masked: 'document.documentElement.style.clipPath = "circle(1px)"',
  "its host hidden":
    'for (const e of document.querySelectorAll(":popover-open")) e.style.setProperty("opacity", "0", "important")',
  "its host moved":
    'const s = document.createElement("style"); s.textContent = "div[popover] { transform: translateY(-300px) !important; opacity: 0.01 !important; translate: 0 -300px !important }"; document.head.append(s)',
})) {
  test(`the offer ${what}: either it stays to be seen, or a press isn't taken`, async () => {
    await hostile(FORM);
    await page.evaluate(script);
    await readable(page);
    const looks = await page.evaluate(() =>
      [...document.querySelectorAll(":popover-open")]
        .filter((e) => !e.id)
        .map((e) => {
          const s = getComputedStyle(e);
          return `${s.opacity} ${s.visibility} ${s.display} ${s.translate}`;
        }),
    );
    const r = await page.locator("#user").boundingBox();
    const raised = await page.evaluate(
      ([x, y]) => {
        // where presses aren't let through, what stands above is met
        const c = document.getElementById("cover");
        if (!c) return false;
        c.style.pointerEvents = "auto";
        const top = document.elementFromPoint(x, y);
        c.style.pointerEvents = "none";
        return top !== c;
      },
      [r ? r.x + 40 : 300, r ? r.y + r.height + 22 : 200],
    );
    await page.mouse.click(r ? r.x + 40 : 300, r ? r.y + r.height + 22 : 200);
    await readable(page);
    const taken = (await all()).includes(secret);
    if (what.startsWith("covered") && taken)
      assert.ok(raised, "a press is taken only where the offer was put above again");
    else if (!what.startsWith("its host")) assert.ok(!taken, "a press isn't taken");
    else if (taken) assert.deepEqual(looks, ["1 visible block none"], "a press is taken only on what was there to see");
  });
}

test("an offer that is thrown under a press isn't taken", async () => {
  await hostile(FORM);
  await page.evaluate(() => {
    document.activeElement.blur();
    document.addEventListener("pointermove", () => document.querySelector("#user").focus(), { once: true });
  });
  const r = await page.locator("#user").boundingBox();
  await page.mouse.move(5, 5);
  await page.mouse.move(r.x + 40, r.y + r.height + 22);
  await page.mouse.click(r.x + 40, r.y + r.height + 22);
  await readable(page);
  assert.ok(!(await all()).includes(secret));
});

test("forged presses and keys do nothing", async () => {
  await hostile(FORM);
  await page.evaluate(() => {
    const host = [...document.querySelectorAll(":popover-open")][0];
    for (const type of ["pointerdown", "mousedown", "mouseup", "click"])
      host.dispatchEvent(new MouseEvent(type, { bubbles: true, composed: true, clientX: 400, clientY: 200 }));
    host.click();
    for (const key of ["ArrowDown", "Enter"])
      for (const type of ["keydown", "keyup"])
        for (const at of [host, document.querySelector("#user"), document])
          at.dispatchEvent(new KeyboardEvent(type, { key, bubbles: true, composed: true }));
  });
  await readable(page);
  assert.ok(!(await all()).includes(secret));
});

test("fields that can't be seen get nothing: away, tiny, see-through, cut off, behind", async () => {
  const decoys = [
    "position:absolute;left:-4000px",
    "position:absolute;top:-4000px",
    "width:1px;height:1px;padding:0;border:0",
    "opacity:0.01",
    "visibility:hidden",
    "position:absolute;left:9000px",
    "clip-path:inset(50%)",
    "transform:scale(0.01)",
  ];
  await hostile(
    FORM.replace(
      "<button>",
      decoys
        .map(
          (s) =>
            `<input type="password" class="decoy" style="${s}"><input class="decoy" name="email" autocomplete="username" style="${s}">`,
        )
        .join("") +
        '<div style="height:0;overflow:hidden"><input type="password" class="decoy"></div><div style="opacity:0.05"><input type="password" class="decoy"></div><button>',
    ),
  );
  await press();
  assert.ok(await filled(), "the real one is filled");
  assert.equal(await page.evaluate(() => [...document.querySelectorAll(".decoy")].map((f) => f.value).join("")), "");
});

test("a form that sends to another site says so first", async () => {
  await hostile(FORM.replace('action="/"', 'action="http://trickster.example/collect"'));
  await page.keyboard.press("ArrowDown");
  await settled(page);
  assert.ok(!(await all()).includes(secret));
  await hostile(FORM.replace("<button>", '<button formaction="http://trickster.example/collect">'));
  await press();
  assert.ok(!(await all()).includes(secret), "by the button's own address too");
});

test("a small frame's offer stands beside it, but not if it can't be seen; nobody else calls for one", async () => {
  const frame = (style) =>
    `<iframe style="border:0;width:300px;height:60px;${style}" src="http://company.localhost:${PORT}/"></iframe>`;
  const show = async (style) => {
    body = frame(style);
    await page.goto(`http://lanternfish.localhost:${PORT}/`);
    await readable(page);
    const f = page.frames().find((x) => x.url().includes("company"));
    await f.focus("#field");
    await readable(page);
    return f;
  };
  const box = async () => page.locator("iframe").boundingBox();
  const covered = async (x, y) =>
    page.evaluate(([x, y]) => document.elementFromPoint(x, y)?.matches(":popover-open") ?? false, [x, y]);
  let f = await show("");
  const r = await box();
  const line = [r.x + 40, r.y + r.height + 14]; // an offer is as near to its field as that
  const near = async () => {
    for (let dy = -30; dy < 40; dy += 6) if (await covered(line[0], line[1] + dy)) return true;
    return false;
  };
  assert.ok(await near(), "so that this test can fail");
  assert.equal(await f.inputValue("#field"), "", "not without a press");
  for (const style of ["opacity:.05", "clip-path:circle(1px)", "width:20px;height:6px"]) {
    f = await show(style);
    assert.ok(!(await near()), style);
  }
  f = await show("");
  await page.keyboard.press("Escape");
  await page.evaluate(() => {
    for (let i = 0; i < 60; i++) window.postMessage({ redLocket: "0123456789abcdef01234567" }, "*");
  });
  await settled(page);
  assert.equal(await f.inputValue("#field"), "");
});

test("a page can't talk to the device app, under any name", async () => {
  await hostile(FORM);
  const answers = await page.evaluate(async (app) => {
    const out = [];
    for (const [path, init] of [
      ["/logins", {}],
      ["/logins", { credentials: "include" }],
      ["/bridge/state", { method: "POST", body: "{}" }],
      ["/bridge/message", { method: "POST", headers: { "Content-Type": "application/json" }, body: "{}" }],
      ["/lock", { method: "POST" }],
    ]) {
      out.push(
        await fetch(app + path, init).then(
          async (r) => `${r.status} ${(await r.text()).length}`,
          () => "refused",
        ),
      );
    }
    return out;
  }, d.laptop);
  assert.deepEqual(answers, ["refused", "refused", "refused", "refused", "refused"]);
  const frame = await page.evaluate(async (app) => {
    const f = document.createElement("iframe");
    f.src = app + "/logins";
    const shown = new Promise((r) => {
      f.onload = r;
      setTimeout(r, 10000);
    }); // until then it holds an empty page of this one's own
    document.body.append(f);
    await shown;
    try {
      return f.contentDocument?.body.textContent ?? "closed";
    } catch {
      return "closed";
    }
  }, d.laptop);
  assert.equal(frame, "closed");
  const status = await new Promise((r) =>
    request(
      { host: "127.0.0.1", port: new URL(d.laptop).port, path: "/front", headers: { Host: "trickster.example" } },
      (res) => r(res.statusCode),
    ).end(),
  ); // its name points here now
  assert.equal(status, 421);
  await desk.bringToFront();
  await desk.reload();
  await desk.waitForSelector(".book-count, #devices, .device-list");
});

test("a page of 10,000 fields takes little longer for being looked at", async () => {
  const many = FORM + "<div>" + '<input type="password"><input name="email">'.repeat(5000) + "</div>";
  /**
   * Until the page is there, its field has the focus and it has answered again.
   * @param {import("playwright").Page} at
   */
  const timed = async (at) => {
    body = many;
    await at.bringToFront();
    const from = Date.now();
    await at.goto(`http://lanternfish.localhost:${PORT}/`);
    for (const step of [() => at.focus("#user"), () => at.evaluate(() => 1)]) {
      await readable(at);
      await step();
    }
    return Date.now() - from;
  };
  const plain = await browser();
  const floor = await timed(await plain.page()).finally(() => plain.close());
  const looked = await timed(page);
  assert.ok(looked < 2.5 * floor, `${looked} ms, and ${floor} in a browser without the extension`);
  assert.equal(await page.evaluate(() => [...document.querySelectorAll("div input")].map((f) => f.value).join("")), "");
});

test("markup in names stays text, in the page and in what is drawn over it", async () => {
  await hostile(FORM.replace("E-mail", "&lt;img src=x onerror=window.pwned=1&gt; E-mail"));
  await page.evaluate(() => (document.title = "<img src=x onerror=window.pwned=1> Lanternfish"));
  await page.fill("#user", '<img src=x onerror="window.pwned=1">@x.example'.replaceAll(" ", "\u00a0"));
  await page.evaluate(() => (document.querySelector("#user").type = "text"));
  await page.fill("#password", "markup-1");
  body = "<h1>Welcome</h1>";
  await page.click("form button");
  await readable(page);
  assert.equal(await page.evaluate(() => window.pwned), undefined);
});

test("on a page that never rests the offer can be read and pressed all the same; put away, it stays away", async () => {
  await hostile(`${FORM}<p id="clock"></p>`);
  await page.evaluate(() =>
    setInterval(() => {
      const p = document.createElement("i");
      document.querySelector("#clock").replaceChildren(p);
    }, 40),
  );
  await readable(page);
  await press();
  assert.ok(await filled());
  await hostile(`${FORM}<p id="clock"></p>`);
  await page.keyboard.press("Escape");
  await page.evaluate(() => document.querySelector("#clock").append(document.createElement("i")));
  await readable(page);
  await press();
  assert.ok(!(await all()).includes(secret), "what was put away comes back only when its field is gone to anew");
});

test("nothing that was drawn can be read by the page", async () => {
  await hostile(FORM);
  assert.ok(await offered());
  assert.ok(!(await page.content()).includes("maren"), "neither names nor lines are in the page's own tree");
});
