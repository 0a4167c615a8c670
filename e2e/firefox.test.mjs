// The extension in Firefox, from the package that the device app hands out.
import test, { after, before } from "node:test";
import assert from "node:assert/strict";
import { connect, drawn, drawnSomewhere, firefox, offerAt, own, pageAt, pause, until } from "./firefox.mjs";
import { insisting, maren, soon } from "./harness.mjs";

let all, d, b, desk;

before(async () => {
  all = await firefox(17500);
  ({ d, b, desk } = all);
});
after(() => all?.end());

async function choose(page, field) {
  await page.click(field);
  await drawn(page);
  await pause(700);
  const [x, y] = await offerAt(page, field);
  await page.mouse.move(x, y);
  await page.mouse.click(x, y);
}

test("connect from the device's own page, with the same four words", async () => {
  const { here, there, says } = await connect(all);
  assert.equal(here.length, 4);
  assert.deepEqual(there, here);
  assert.match(await desk.$eval("#browsers", (e) => e.textContent), /Firefox/);
  assert.match(says, /^Connected to Maren/);
});

test("the extension's window lists, finds, and says that the vault is locked", async () => {
  const site = await b.newPage();
  await site.goto(d.site("lanternfish", "/sign-in"));
  const c = await own(b, "connect.html?app=");
  await c.evaluate(
    async (at) => {
      const [tab] = await browser.tabs
        .query({ url: at.replace(/:\d+/, "") + "*" })
        .then((l) =>
          l.length ? l : browser.tabs.query({}).then((all) => all.filter((t) => t.url.includes("lanternfish"))),
        );
      await browser.tabs.create({ url: browser.runtime.getURL(`window.html?tab=${tab.id}`), active: false });
    },
    d.site("lanternfish", "/sign-in"),
  );
  const w = await own(b, "window.html");
  const says = async (what) => {
    const text = () => w.evaluate(() => document.body?.innerText ?? "");
    if (!(await soon(async () => (await text()).includes(what))))
      assert.fail(`the window doesn't say ${what}: ${await text()}`);
  };
  await says("Logins for lanternfish.localhost");
  const find = (q) =>
    w.evaluate((q) => {
      const f = document.querySelector("#find");
      f.value = q;
      f.dispatchEvent(new Event("input"));
    }, q);
  await find("ferryl");
  await says("Ferrylink");
  await find("");
  await says("Logins for lanternfish.localhost");
  await w.evaluate(() => document.querySelector("#lock").click());
  await says("The vault is locked.");
  await desk.waitForSelector("#password");
  await site.close();
  await desk.type("#password", maren.password);
  await desk.click("button[type=submit]");
  await desk.waitForSelector(".book-count");
});

test("fill a sign-in on one page and one on two, and sign in", async () => {
  const site = await b.newPage();
  await site.goto(d.site("lanternfish", "/sign-in"));
  await choose(site, "#user");
  await until(site, () => document.querySelector("#password").value !== "");
  assert.equal(await site.$eval("#user", (e) => e.value), maren.email);
  await Promise.all([site.waitForNavigation(), site.click("main button")]);
  assert.match(site.url(), /\/welcome$/);
  await site.goto(d.site("cormorant", "/sign-in"));
  await choose(site, "#user");
  await until(site, () => document.querySelector("#user").value !== "");
  await Promise.all([site.waitForNavigation(), site.click("main button")]);
  await choose(site, "#password");
  await until(site, () => document.querySelector("#password").value !== "");
  await Promise.all([site.waitForNavigation(), site.click("main button")]);
  assert.match(site.url(), /\/welcome$/);
  await site.close();
});

test("sign up with a made password; the slip keeps it", async () => {
  const site = await b.newPage();
  await site.goto(d.site("gullwing", "/sign-up"));
  await site.type("#user", "wren.t");
  await down(site, await site.$("#password"));
  await until(site, () => document.querySelector("#repeat").value !== "");
  await Promise.all([site.waitForNavigation(), site.click("main button")]);
  await drawn(site);
  await pause(900);
  let y = 440;
  while (
    y > 150 &&
    !(await site.evaluate((y) => document.elementFromPoint(922, y)?.matches(":popover-open") ?? false, y))
  )
    y -= 6;
  await site.mouse.click(922, y - 30);
  await pause(400);
  await desk.goto(d.laptop + "/logins?q=wren.t");
  await desk.waitForSelector(".line");
  await site.close();
});

test("a page that only looks like it raises the alarm, and gets nothing", async () => {
  const site = await b.newPage();
  await site.goto(d.site("gullwing.localhost.trickster")).catch(() => {}); // the alarm takes its place while it comes
  const alarm = await own(b, "alarm.html");
  await alarm.waitForSelector("h2");
  assert.match(await alarm.$eval("h2", (e) => e.textContent), /^This is not the Gullwing/);
  await alarm.close();
});

/** What was chosen last. @type {[any, any] | undefined} */
let last;

/** The keyboard way through the offer at a field. */
async function down(page, field) {
  last = [page, field];
  await pause(200);
  await field.focus();
  await pause(200);
  let shown = false;
  for (let i = 0; i < 10 && !shown; i++) {
    // the key opens nothing before it is known what there is to offer
    await page.keyboard.press("ArrowDown");
    for (let t = 0; t < 10 && !shown; t++) {
      shown = await drawnSomewhere(page);
      if (!shown) await pause(100);
    }
  }
  await pause(1000); // an offer counts on having been seen for a while
  await page.keyboard.press("Enter");
  await pause(200);
}
async function filled(field, what) {
  const v = await insisting(
    () => field.evaluate((e) => e.value),
    async () => last && down(...last),
  );
  assert.ok(v, `${what} wasn't filled`);
  return v;
}

for (const [name, s] of Object.entries({
  ferrylink: {
    user: "[data-key=user]",
    password: "[data-key=password]",
    send: "[data-moving='/sign-in'] button",
    then: "[href='/welcome']",
  },
  brackish: { user: "#user", password: "#password", send: "[data-go]", then: "[href='/welcome']" },
  harbourwater: {
    user: "#user >>> input",
    password: "#password >>> input",
    send: "[data-shadowed] button",
    then: "#to-change",
  },
  oystercatcher: { user: ".first", password: ".second", send: "main form button", then: "#to-change" },
  periwinkle: {
    open: "[data-dialog]",
    user: "#user",
    password: "#password",
    send: "dialog button",
    then: "#to-change",
  },
  thriftmarket: { user: "#user", password: "#password", send: "main form button", then: "#to-change" },
})) {
  test(`${name}: signed in`, async () => {
    const site = await b.newPage();
    await site.goto(d.site(name, "/sign-in"));
    if (s.open) await site.click(s.open);
    const user = await site.waitForSelector(s.user),
      password = await site.waitForSelector(s.password);
    await pause(300);
    await down(site, user);
    await filled(password, `${name}: the password`);
    await site.click(s.send);
    await site.waitForSelector(s.then);
    await site.close();
  });
}

test("a frame of the site's own, a change of password and a checkout", async () => {
  const site = await b.newPage();
  await site.goto(d.site("saltmarsh-school", "/sign-in"));
  await pause(500);
  const frame = site.frames().find((f) => f.url().includes("/frame/"));
  const password = await frame.waitForSelector("#password");
  await down(site, await frame.waitForSelector("#user"));
  await filled(password, "the password in the frame");
  await site.goto(d.site("pantryandpier", "/sign-in"));
  await pause(400);
  await down(site, await site.waitForSelector("#user"));
  const old = await filled(await site.$("#password"), "the password");
  await Promise.all([site.waitForNavigation(), site.click("main button")]);
  await site.goto(d.site("pantryandpier", "/change"));
  await pause(400);
  await down(site, await site.waitForSelector("#password"));
  const fresh = await filled(await site.$("#password"), "the new password");
  assert.equal(await filled(await site.$("#current"), "the present one"), old);
  assert.equal(await filled(await site.$("#repeat"), "the new one again"), fresh);
  await Promise.all([site.waitForNavigation(), site.click("main form button")]);
  await pause(500);
  await site.goto(d.site("pantryandpier", "/pay"));
  await pause(400);
  for (const [at, then] of [
    ["#name", "#street"],
    ["#number", "#holder"],
    ["#safety", "#safety"],
  ]) {
    await down(site, await site.waitForSelector(at));
    await filled(await site.$(then), then);
  }
  await Promise.all([site.waitForNavigation(), site.click("main form button")]);
  await site.waitForSelector(".done");
  await site.close();
});

test("a payment company's frames: the offer stands beside the frame", async () => {
  const site = await b.newPage();
  await site.goto(d.site("periwinkle", "/sign-in"));
  await site.click("[data-dialog]");
  await pause(300);
  await down(site, await site.waitForSelector("#user"));
  await filled(await site.$("#password"), "the password");
  await site.click("dialog button");
  await site.waitForSelector("#to-change");
  await site.goto(d.site("periwinkle", "/pay"));
  await pause(700);
  const frame = site.frames().find((f) => f.url().includes("name=number"));
  const number = await frame.waitForSelector("#field");
  for (let i = 0; i < 2; i++) {
    // Fill here all the same; then the card
    await down(site, number);
    await pause(300);
  }
  assert.equal(await filled(number, "the number"), "4012888888881881");
  await site.close();
});

test("the one-time code is copied, and cleared", async () => {
  await desk.bringToFront();
  await desk.goto(d.laptop + "/settings");
  await desk.select("#clipboard", "10");
  await Promise.all([desk.waitForNavigation(), desk.click(".settings button")]);
  const site = await b.newPage();
  await site.goto(d.site("mooringmutual", "/sign-in"));
  await pause(400);
  await down(site, await site.waitForSelector("#user"));
  await filled(await site.$("#password"), "the password");
  const pasted = async () => {
    await site.$eval("#user", (e) => {
      e.value = "";
    });
    await site.focus("#user");
    await site.keyboard.down("Control");
    await site.keyboard.press("v");
    await site.keyboard.up("Control");
    return site.$eval("#user", (e) => e.value);
  };
  await pause(300);
  assert.match(await pasted(), /^\d{6}$/);
  await pause(11_000);
  assert.doesNotMatch(await pasted(), /\d/);
  await site.close();
});

test("an update with a tab that is open: the old script leaves, the new one serves", async () => {
  const site = await b.newPage();
  await site.goto(d.site("lanternfish", "/sign-in"));
  await site.click("#user");
  await drawn(site);
  const host = "div[data-red-locket]";
  await site.$eval(host, (e) => (e.dataset.before = ""));
  await all.update();
  await site.bringToFront();
  await until(site, () => {
    const all = [...document.querySelectorAll("div[data-red-locket]")];
    return all.length === 1 && !("before" in all[0].dataset);
  });
  await pause(500);
  assert.equal((await site.$$(host)).length, 1, "one of them stands in the page");
  await site.click("#password");
  await choose(site, "#password");
  await until(site, () => document.querySelector("#password").value !== "");
  assert.equal(await site.$eval("#user", (e) => e.value), maren.email);
  await site.close();
});

test("while it is locked, a sign-in page leads to the lock page and back, and is filled", async () => {
  await desk.goto(d.laptop + "/logins");
  await desk.click("button.medallion");
  await desk.waitForSelector("#password");
  const site = await b.newPage();
  await site.goto(d.site("lanternfish", "/sign-in"));
  await site.click("#user");
  await pause(500);
  await site.click("#password");
  await drawn(site);
  await pause(700);
  const [x, y] = await offerAt(site, "#password");
  await site.mouse.move(x - 24, y + 32); // below what it says
  await site.mouse.click(x - 24, y + 32);
  const lock = await pageAt(b, (at) => at.endsWith("?at-once"));
  await lock.type("#password", maren.password);
  await lock.click("button[type=submit]");
  await until(site, () => document.querySelector("#password").value !== "" && document.visibilityState === "visible");
  assert.equal((await b.pages()).includes(lock), false, "the lock page is gone");
  await site.close();
});

test("on a shared computer it signs out of what was filled when the vault locks, once the browser lets it", async () => {
  await desk.goto(d.laptop + "/");
  if (await desk.$("#password")) {
    await desk.type("#password", maren.password);
    await Promise.all([desk.waitForNavigation(), desk.click("button[type=submit]")]);
  }
  await desk.goto(d.laptop + "/settings");
  await Promise.all([desk.waitForNavigation(), desk.click(".computer-acts [value=shared]")]);
  await desk.goto(d.laptop + "/devices");
  await desk.click("[data-connect-browser]");
  const c = await own(b, "connect.html?app=");
  await c.evaluate(() => browser.tabs.create({ url: browser.runtime.getURL("window.html?allow") }));
  const w = await own(b, "window.html?allow");
  await until(w, () => !document.querySelector("#may-sign-out").hidden);
  await w.click("#allow");
  await until(w, () => document.querySelector("#may-sign-out").hidden);
  const site = await b.newPage();
  await site.goto(d.site("lanternfish", "/sign-in"));
  await choose(site, "#user");
  await until(site, () => document.querySelector("#password").value !== "");
  await Promise.all([site.waitForNavigation(), site.click("main button")]);
  assert.match(site.url(), /welcome$/);
  await site.evaluate(() => localStorage.setItem("basket", "3 rowlocks"));
  await desk.bringToFront();
  await desk.goto(d.laptop + "/logins");
  await desk.click("button.medallion");
  await desk.waitForSelector("#password");
  await until(site, () => location.pathname === "/"); // its first page
  await pause(1500);
  assert.deepEqual(await site.evaluate(() => Object.keys(localStorage)), []);
  await site.goto(d.site("lanternfish", "/welcome"));
  assert.match(site.url(), /sign-in/);
  await site.close();
});
