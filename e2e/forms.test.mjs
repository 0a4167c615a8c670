// Forms as web applications make them, at a kept site and in Chromium: sent by script, with types that nobody knows, of
// settings, and with pages that come at once.
import test, { after, before } from "node:test";
import assert from "node:assert/strict";
import {
  chooseByKeys,
  hasValue,
  formPages,
  maren,
  offered,
  papers,
  pressDrawn,
  says,
  settled,
  shownText,
} from "./harness.mjs";

let all, d, desk, page, pages, show;

before(async () => {
  all = await formPages(17880, 17860);
  ({ d, desk, page, pages, show } = all);
});
after(() => all?.end());

/** @param {string} user @param {string} password */
async function typed(user, password) {
  await page.locator("#user").pressSequentially(user);
  await page.locator("#password").pressSequentially(password);
}

test("a type of input that nobody knows is text", async () => {
  await show(`<h1>Sign in</h1><form action="/x"><input type="username" id="user" name="login">
    <input type="password" id="password"><button>Sign in</button></form>`);
  await chooseByKeys(page, page.locator("#user"));
  await hasValue(page, "#password");
  assert.equal(await page.inputValue("#user"), maren.email);
});

for (const [what, html] of Object.entries({
  "a script that nobody here reads, right to left": `<html dir="rtl" lang="he"><h1>כניסה</h1><form action="/x">
    <p><span>מזהה</span><input id="user" name="f1"></p><p><span>סוד</span><input type="password" id="password" name="f2"></p>
    <button>המשך</button></form>`,
  "Georgian, without labels": `<h1>შესვლა</h1><form action="/x"><input id="user" name="a1" placeholder="სახელი">
    <input type="password" id="password" name="a2" placeholder="კოდი"><button>გაგრძელება</button></form>`,
  "no words at all, and no form": `<div><input id="user"><input type="password" id="password"><span role="button">→</span></div>`,
}))
  test(`a sign-in in ${what} is filled`, async () => {
    await show(html);
    await chooseByKeys(page, page.locator("#user"));
    await hasValue(page, "#password");
    assert.equal(await page.inputValue("#user"), maren.email);
  });

test("Escape closes the offer, and not the dialog that it stands in", async () => {
  await show(`<dialog id="d"><h1>Sign in</h1><form action="/x"><label>E-mail <input id="user" type="email"></label>
    <label>Password <input type="password" id="password"></label><button>Sign in</button></form></dialog>
    <script>d.showModal()</script>`);
  await page.click("#user");
  await offered(page);
  await page.keyboard.press("Escape");
  await settled(page);
  assert.equal(await shownText(page), "");
  assert.ok(await page.evaluate(() => document.querySelector("dialog").open), "the dialog is open still");
  await page.keyboard.press("Escape");
  assert.ok(!(await page.evaluate(() => document.querySelector("dialog").open)), "a second one closes it");
});

test("an offer leaves the next field and the button free, where there is room", async () => {
  await show(`<h1>Sign in</h1><form action="/x" style="width:300px">
    <p><label>E-mail<br><input id="user" type="email"></label></p>
    <p><label>Password<br><input type="password" id="password"></label></p><button>Sign in</button></form>`);
  await page.click("#user");
  await offered(page);
  await settled(page);
  const frame = papers(page).find((f) => f.url().includes("paper"));
  const offer = await (await frame.frameElement()).boundingBox();
  for (const at of ["#password", "button"]) {
    const r = await page.locator(at).boundingBox();
    const apart =
      offer.x >= r.x + r.width ||
      offer.x + offer.width <= r.x ||
      offer.y >= r.y + r.height ||
      offer.y + offer.height <= r.y;
    assert.ok(apart, `${at} is free`);
  }
});

for (const [what, script] of Object.entries({
  "a press whose page cancels it": `document.querySelector("button").addEventListener("click", go)`,
  "a key whose page cancels it": `document.querySelector("#password").addEventListener("keydown", (e) => {
      if (e.key === "Enter") go(e);
    })`,
}))
  test(`${what} and sends by script counts as sent`, async () => {
    const user = `wren.${what.length}@cormorant.example`;
    await show(
      `<h1>Sign in</h1><form><label>E-mail <input id="user" type="email" required></label>
      <label>Password <input id="password" type="password" required></label><button>Sign in</button></form>
      <script>
      async function go(e) {
        e.preventDefault();
        await fetch("/welcome");
        document.querySelector("form").remove();
        document.querySelector("h1").textContent = "Welcome back";
      }
      ${script}
      </script>`,
      "whelk",
    );
    await typed(user, "reed-Lantern-44");
    if (what.startsWith("a key")) await page.keyboard.press("Enter");
    else await page.click("button");
    assert.match(await says(page, /cormorant\.example/), new RegExp(user.replaceAll(".", "\\.")));
    await pressDrawn(page, "Not now");
  });

test("a sign-in typed by hand whose page comes at once is asked about, each time", async () => {
  for (let i = 0; i < 8; i++) {
    const user = `guest${i}@cormorant.example`;
    await show(
      `<h1>Sign in</h1><form method="post" action="/form"><label>E-mail <input id="user" type="email"></label>
      <label>Password <input id="password" type="password"></label><button>Sign in</button></form>`,
      "whelk",
    );
    await page.fill("#user", "");
    await page.locator("#user").pressSequentially(user);
    await page.locator("#password").pressSequentially(`tide-${i}-Table`);
    await Promise.all([page.waitForURL("**/welcome"), page.keyboard.press("Enter")]);
    await says(page, new RegExp(`guest${i}@`));
    await pressDrawn(page, "Not now");
  }
});

/** How many logins of the kept site there are. */
async function kept() {
  await desk.bringToFront();
  await desk.goto(`${d.laptop}/logins?q=lanternfish`);
  return desk.locator(".line").count();
}

/** What the first line of a sign-in's offer fills as password. */
async function first() {
  await show(`<h1>Sign in</h1><form action="/x"><label>E-mail <input id="user" type="email"></label>
    <label>Password <input type="password" id="password"></label><button>Sign in</button></form>`);
  await chooseByKeys(page, page.locator("#user"));
  await hasValue(page, "#password");
  return page.inputValue("#password");
}

for (const [what, answer, n] of [
  ["whose page says that it was done", "<h1>Your account</h1><p role='status'>Your password has been changed.</p>", 1],
  ["whose page says nothing", "", 2],
])
  test(`a form of settings changes the password of the account that it names: one ${what}`, async () => {
    const before = await kept();
    const password = `dune-Kettle-6${n}`;
    const form = `<h1>Your account</h1><form method="post" action="/form">
      <label>E-mail <input id="user" type="email" value="${maren.email}"></label>
      <label>Password <input id="password" type="password" autocomplete="new-password"></label>
      <label>Repeat password <input id="again" type="password" autocomplete="new-password"></label>
      <button>Save</button></form>`;
    await show(form);
    await page.locator("#password").pressSequentially(password);
    await page.locator("#again").pressSequentially(password);
    pages["/welcome"] = answer || form;
    await Promise.all([page.waitForURL("**/welcome"), page.click("button")]);
    await settled(page);
    delete pages["/welcome"];
    assert.equal(await first(), password, "the new one is offered first");
    assert.equal(await kept(), before, "no second login");
  });
