// Forms as web applications and component libraries make them, in Chromium: elements of their own kinds, shadow roots,
// forms drawn late and put out of sight, steps, dialogs, passwords that a site makes itself.
import test, { after, before } from "node:test";
import assert from "node:assert/strict";
import { createReadStream } from "node:fs";
import { join, normalize } from "node:path";
import {
  drawnAt,
  formPages,
  maren,
  offerAt,
  offered,
  pressDrawn,
  readable,
  root,
  says,
  settled,
  shownText,
  soon,
} from "./harness.mjs";

let all, d, desk, page, pages, show;

before(async () => {
  all = await formPages(17881, 17840, (path, res) => {
    if (!path.startsWith("/modules/")) return false;
    res.writeHead(200, { "Content-Type": "text/javascript" });
    createReadStream(join(root, "node_modules", normalize(path.slice(9)))).pipe(res);
    return true;
  });
  ({ d, desk, page, pages, show } = all);
});
after(() => all?.end());

/** What is in each field, in shadow roots too. @returns {Promise<string[]>} */
const values = () =>
  page.evaluate(() => {
    const out = [];
    const walk = (/** @type {Document | ShadowRoot} */ r) => {
      for (const el of r.querySelectorAll("*")) {
        if (el instanceof HTMLInputElement && el.checkVisibility()) out.push(el.value);
        if (el.shadowRoot) walk(el.shadowRoot);
      }
    };
    walk(document);
    return out;
  });

/** Waits until the fields hold what they should. @param {string[]} wanted */
async function hold(wanted) {
  await soon(async () => JSON.stringify(await values()) === JSON.stringify(wanted));
  assert.deepEqual(await values(), wanted);
}

/** Has a password made at a field, and returns it. @param {number} n of the field */
async function make(n) {
  await choose(n, "Make and fill it");
  const made = await soon(async () => (await values())[n]);
  assert.ok(made.length > 10);
  return made;
}

/** Presses a line of the offer at a field. @param {number} n of the field @param {string} line */
async function choose(n, line) {
  await page.locator("input:visible").nth(n).click();
  await offered(page);
  await pressDrawn(page, line);
}

/** @param {...string} texts for the fields, in their order */
async function byHand(...texts) {
  for (const [i, text] of texts.entries()) {
    if (!text) continue;
    await page.locator("input:visible").nth(i).click();
    await page.keyboard.type(text);
  }
}

const ME = "maren.tolliver@cormorant.example Practice town";
const SECRET = "Cuttle!bone42";

const names = ["lit", "lit-html", "lit-element", "@lit/reactive-element", "@lit/context", "@material/web"];
const main = { lit: "index.js", "lit-html": "lit-html.js", "lit-element": "index.js", "@lit/context": "index.js" };
const imports = {
  tslib: "/modules/tslib/tslib.es6.mjs",
  "@lit/reactive-element": "/modules/@lit/reactive-element/reactive-element.js",
  ...Object.fromEntries(Object.entries(main).map(([name, file]) => [name, `/modules/${name}/${file}`])),
  ...Object.fromEntries(names.map((name) => [`${name}/`, `/modules/${name}/`])),
};
/** The elements of a component library, as its package has them: @material/web. @param {string} html */
const material = (html) => `<script type="importmap">${JSON.stringify({ imports })}</script>
  <script type="module">
    import "@material/web/textfield/outlined-text-field.js";
    import "@material/web/button/filled-button.js";
    document.body.insertAdjacentHTML("beforeend", ${JSON.stringify(html)});
    const form = document.querySelector("form");
    form?.addEventListener("submit", (e) => {
      e.preventDefault();
      window.got = [...new FormData(form).values()];
      document.body.innerHTML = "<h1>Welcome</h1>";
    });
  </script>`;
const fieldOf = (/** @type {string} */ label, /** @type {string} */ type) =>
  `<p><md-outlined-text-field label="${label}" name="${label}" type="${type}"></md-outlined-text-field></p>`;
const button = (/** @type {string} */ text) => `<md-filled-button>${text}</md-filled-button>`;

test("a sign-in made of a library's elements, whose fields show themselves when somebody comes", async () => {
  const form = `<h1>Sign in</h1><form>${fieldOf("E-mail", "email")}${fieldOf("Password", "password")}${button("Sign in")}</form>`;
  await show(material(form));
  await page.waitForSelector("md-filled-button");
  await choose(0, ME);
  await hold([maren.email, SECRET]);
  await page.click("md-filled-button");
  assert.deepEqual(await page.evaluate(() => window.got), [maren.email, SECRET], "the form has them");

  await show(material(form), "whelk");
  await page.waitForSelector("md-filled-button");
  await byHand("library@cormorant.example", "reed-Lantern-44");
  await page.click("md-filled-button");
  await says(page, /Keep this sign-in[\s\S]*library@cormorant/);
  await pressDrawn(page, "Not now");
});

/** A form four shadow roots deep, whose fields are parts of the page's own elements. @param {string} form */
const deep = (form) => `<deep-box n="3"></deep-box><script>
  customElements.define("own-field", class extends HTMLElement {
    static formAssociated = true;
    inside = this.attachInternals();
    connectedCallback() {
      const s = this.attachShadow({ mode: "open" });
      s.innerHTML = "<label>" + this.getAttribute("label") + " <input></label>";
      const box = s.querySelector("input");
      box.type = this.getAttribute("type");
      box.addEventListener("input", () => this.inside.setFormValue(box.value));
    }
  });
  customElements.define("own-button", class extends HTMLElement {
    static formAssociated = true;
    inside = this.attachInternals();
    connectedCallback() {
      this.attachShadow({ mode: "open" }).innerHTML = "<span><slot></slot></span>";
      this.addEventListener("click", () => this.inside.form.requestSubmit());
    }
  });
  customElements.define("deep-box", class extends HTMLElement {
    connectedCallback() {
      const s = this.attachShadow({ mode: "open" }), n = Number(this.getAttribute("n"));
      s.innerHTML = n > 1 ? "<deep-box n=" + (n - 1) + "></deep-box>" : ${JSON.stringify(form)};
      s.querySelector("form")?.addEventListener("submit", (e) => {
        e.preventDefault();
        window.got = [...new FormData(e.target).values()];
        document.body.innerHTML = "<h1>Welcome</h1>";
      });
    }
  });</script>`;

test("a form four shadow roots deep is filled, sent and asked about", async () => {
  const form = `<h1>Sign in</h1><form><own-field label="E-mail" type="email" name="a"></own-field>
    <own-field label="Password" type="password" name="b"></own-field><own-button>Sign in</own-button></form>`;
  await show(deep(form));
  await choose(1, ME);
  await hold([maren.email, SECRET]);
  await page.click("own-button");
  assert.deepEqual(await page.evaluate(() => window.got), [maren.email, SECRET]);
  await show(deep(form), "whelk");
  await byHand("deep@cormorant.example", "reed-Lantern-44");
  await page.click("own-button");
  await says(page, /deep@cormorant/);
  await pressDrawn(page, "Not now");
});

test("a clear layer over a field keeps nothing from being filled, an opaque one does", async () => {
  const layer = (
    /** @type {string} */ style,
  ) => `<h1>Sign in</h1><form action="/x"><p><label>E-mail <input type="email"></label></p>
    <p style="position:relative"><label>Password <input type="password"></label>
    <span style="position:absolute;inset:0;pointer-events:none;${style}"></span></p><button>Sign in</button></form>`;
  await show(layer("background:rgba(0,0,0,.04);border-bottom:1px solid"));
  await choose(0, ME);
  await hold([maren.email, SECRET]);
  await show(layer("background:#fff"));
  await choose(0, ME);
  await says(page, /can’t be seen/);
  assert.deepEqual(await values(), [maren.email, ""]);
});

test("a second offer in a page takes a press as soon as the first", async () => {
  await show(`<h1>Sign in</h1><form action="/x"><p><label>E-mail <input type="email"></label></p>
    <p><label>Password <input type="password"></label></p><button>Sign in</button></form>`);
  for (const n of [0, 1]) {
    await page.evaluate(() => document.querySelectorAll("input").forEach((i) => (i.value = "")));
    await page.mouse.move(600, 600);
    await choose(n, ME);
    await hold([maren.email, SECRET]);
  }
});

test("a refused password isn't offered for keeping where its form is drawn late", async () => {
  const late = `<div id="app"></div><script>setTimeout(() => app.innerHTML = '<h1>Sign in</h1><form method="post" action="/form">' +
    '<label>E-mail <input type="email"></label><label>Password <input type="password"></label><button>Sign in</button></form>', 250)</script>`;
  await show(late, "dory");
  await page.waitForSelector("form");
  await byHand("late@cormorant.example", "wrong-Tide-11");
  pages["/welcome"] = late;
  await Promise.all([page.waitForURL("**/welcome"), page.click("button")]);
  await page.waitForSelector("form");
  for (let i = 0; i < 12; i++) {
    assert.equal(await shownText(page), "");
    await settled(page);
  }
  delete pages["/welcome"];
});

test("a slip is taken back when the form that was out of sight comes back", async () => {
  await show(
    `<h1>Sign in</h1><div id="w"><form><label>E-mail <input type="email"></label>
    <label>Password <input type="password"></label><button>Sign in</button></form></div><script>
    const f = document.querySelector("form");
    f.onsubmit = (e) => { e.preventDefault(); f.remove(); setTimeout(() => w.append(f), 2500); };</script>`,
    "dory",
  );
  await byHand("flicker@cormorant.example", "wrong-Tide-12");
  await page.click("button");
  await says(page, /Keep this sign-in/);
  await page.waitForSelector("form");
  await soon(async () => !(await shownText(page)));
  assert.equal(await shownText(page), "");
});

test("an offer lies on top of the slip that it reaches under", async () => {
  const next = `<h2>Where to?</h2><form style="position:fixed;top:60px;right:410px"><label>Name
    <input style="width:110px" autocomplete="name"></label><label>Town <input style="width:90px" autocomplete="address-level2">
    </label><button>Send</button></form>`;
  await show(
    `<h1>Sign in</h1><form><label>E-mail <input type="email"></label><label>Password <input type="password"></label>
    <button>Sign in</button></form><script>document.querySelector("form").onsubmit = (e) => {
    e.preventDefault(); document.body.innerHTML = ${JSON.stringify(next)}; };</script>`,
    "dory",
  );
  await byHand("under@cormorant.example", "under-Tide-12");
  await page.click("button");
  await says(page, /Keep this sign-in/);
  await page.locator("input").last().click();
  await says(page, /name, town/);
  await readable(page);
  const at = await offerAt(page);
  const slip = await drawnAt(page, "Not now");
  assert.ok(at.y > 0 && slip, "both are shown");
  await page.mouse.click(at.x + 200, at.y); // where the slip begins
  assert.ok(await soon(async () => (await values())[1]), "it is filled");
  await pressDrawn(page, "Not now");
});

test("a dialog that closes at any press outside of it is filled", async () => {
  await show(`<h1>Home</h1><button id="o">Sign in</button>
    <div id="m" style="position:fixed;left:300px;top:200px;width:300px;padding:20px;background:#fff" hidden><h2>Sign in</h2>
    <form action="/x"><label>E-mail <input type="email"></label><label>Password <input type="password"></label>
    <button>Sign in</button></form></div><script>
    o.onclick = () => (m.hidden = false);
    for (const k of ["pointerdown", "mousedown", "click"])
      document.addEventListener(k, (e) => { if (!m.contains(e.target) && e.target !== o) m.hidden = true; }, true);
    m.addEventListener("focusout", (e) => { if (e.relatedTarget && !m.contains(e.relatedTarget)) m.hidden = true; });
    </script>`);
  await page.click("#o");
  await choose(0, ME);
  await hold([maren.email, SECRET]);
});

/** A form whose parts come one after the other, in one page. @param {string} head @param {string[]} parts */
const steps = (head, parts) => `<h1>${head}</h1><div id="s"></div><script>
  const parts = ${JSON.stringify(parts)};
  let at = 0;
  function next() {
    s.innerHTML = at < parts.length ? "<form>" + parts[at] + "<button>Next</button></form>" : "<p>All done</p>";
    at++;
    document.querySelector("form")?.addEventListener("submit", (e) => { e.preventDefault(); setTimeout(next, 120); });
  }
  next();</script>`;
const box = (/** @type {string} */ label, type = "text") => `<label>${label} <input type="${type}"></label>`;

test("a sign-in in steps, whose first asks for a user name alone", async () => {
  const html = steps("Hello", [box("User name"), box("Password", "password")]);
  await show(html);
  await choose(0, ME);
  await hold([maren.email]);
  await page.click("button");
  await page.waitForSelector("[type=password]");
  await choose(0, ME);
  await hold([SECRET]);

  await show(html, "whelk");
  await byHand("stepper");
  await page.click("button");
  await page.waitForSelector("[type=password]");
  await byHand("reed-Lantern-46");
  await page.click("button");
  await says(page, /Keep this sign-in[\s\S]*stepper/);
  await pressDrawn(page, "Not now");
});

test("a sign-up in steps is kept under its e-mail address, with one made password", async () => {
  const parts = [
    box("Your name"),
    box("E-mail"),
    box("Phone"),
    box("Password", "password"),
    box("Password again", "password"),
  ];
  await show(steps("Create your account", parts), "whimbrel");
  for (const text of ["Maren T", "wizard@cormorant.example", "+44 7700 900123"]) {
    await byHand(text);
    await page.click("button");
    await settled(page);
  }
  const made = await make(0);
  await page.click("button");
  await settled(page);
  assert.equal(await make(0), made);
  await page.click("button");
  await says(page, /wizard@cormorant/);
});

test("a repeat that comes later gets the same password", async () => {
  await show(
    `<h1>Account</h1><form action="/x">${box("E-mail", "email")}${box("Choose a password", "password")}<p id="s"></p>
    <button>Create account</button></form><script>document.querySelector("[type=password]").addEventListener("input", () => {
      if (!s.firstChild) s.innerHTML = ${JSON.stringify(box("Confirm password", "password"))};
    })</script>`,
    "turnstone",
  );
  await byHand("later@cormorant.example");
  const made = await make(1);
  await hold(["later@cormorant.example", made, ""]);
  await make(2);
  await hold(["later@cormorant.example", made, made]);
});

test("a password that the site made itself is asked about", async () => {
  await show(
    `<h1>Create your account</h1><form method="post" action="/form">${box("User name")}
    <label>Password <input autocomplete="new-password" value="Xk9!fooBar22"></label><button>Create account</button></form>`,
    "dory",
  );
  await byHand("prefilled");
  await page.click("button");
  await says(page, /Keep this sign-in[\s\S]*prefilled/);
  await pressDrawn(page, "Not now");
});

test("a password that is set behind an invitation's link, where no name is asked for, is kept", async () => {
  const html = `<h1>Set your password</h1><form method="post" action="/form">${box("New password", "password")}
    ${box("Confirm new password", "password")}<button>Set password</button></form>`;
  await show(html, "sandpiper");
  const made = await make(0);
  await hold([made, made]);
  await page.click("button");
  await says(page, /The new password waits/);

  await show(html, "dunlin");
  await byHand("dune-Grass-77", "dune-Grass-77");
  await page.click("button");
  await says(page, /Keep this sign-in/);
  await pressDrawn(page, "Not now");
});

test("an account that is made for somebody else isn't asked about", async () => {
  await show(
    `<a href="/logout">Log out</a><h1>Add user</h1><form method="post" action="/form">${box("User name")}
    ${box("Password", "password")}${box("Password again", "password")}<button>Save</button></form>`,
    "plover",
  );
  await byHand("somebody", "some-Body-11", "some-Body-11");
  await Promise.all([page.waitForURL("**/welcome"), page.click("button")]);
  for (let i = 0; i < 12; i++) {
    assert.equal(await shownText(page), "");
    await settled(page);
  }
});

test("a change whose present password is asked for last, or in a dialog, gets the right one", async () => {
  await show(`<h1>Change password</h1><form method="post" action="/form">${box("New password", "password")}
    ${box("Confirm new password", "password")}${box("Your password now", "password")}<button>Save</button></form>`);
  const made = await make(0);
  await hold([made, made, SECRET]);

  await show(`<h1>Security</h1><div id="f">${box("New password", "password")}${box("Repeat new password", "password")}
    <button id="s">Save</button></div><dialog id="q"><h2>Confirm it’s you</h2>${box("Password", "password")}
    <button id="c">Confirm</button></dialog><script>
    s.onclick = () => q.showModal();
    c.onclick = () => { q.close(); f.innerHTML = "<p role=status>Saved</p>"; };</script>`);
  const fresh = await make(0);
  await page.click("#s");
  await settled(page);
  await choose(2, `${maren.email} the password until now`);
  await hold([fresh, fresh, SECRET]);
  await page.click("#c");
  await says(page, /The new password waits/);

  // the first sign-in with it is what confirms it
  pages["/welcome"] = "<h1>Welcome</h1>";
  await show(`<h1>Sign in</h1><form method="post" action="/form">${box("E-mail", "email")}${box("Password", "password")}
    <button>Sign in</button></form>`);
  await choose(0, `${maren.email} the new one, not confirmed yet`);
  await hold([maren.email, fresh]);
  await page.click("form button");
  await says(page, /The new password is kept/);
});

test("a made password that signs in under another name corrects its login", async () => {
  await show(
    `<h1>Sign up</h1><form method="post" action="/form">${box("Name")}${box("Password", "password")}
    ${box("E-mail", "email")}<button>Sign up</button></form>`,
    "mussel",
  );
  await byHand("marenq", "", "mq@cormorant.example");
  const made = await make(1);
  await page.click("button");
  await says(page, /mq@cormorant/);
  await show(
    `<h1>Sign in</h1><form method="post" action="/form">${box("Name or e-mail")}${box("Password", "password")}
    <button>Sign in</button></form>`,
    "mussel",
  );
  await byHand("marenq", made);
  await Promise.all([page.waitForURL("**/welcome"), page.click("button")]);
  await desk.bringToFront();
  await soon(async () => {
    await desk.goto(`${d.laptop}/logins?q=mussel`);
    return (await desk.locator(".line").allInnerTexts()).join().includes("marenq");
  });
  const lines = await desk.locator(".line").allInnerTexts();
  assert.equal(lines.length, 1, "it is one login still");
  assert.match(lines[0], /marenq/);
});
