// Takes the pictures of docs/screenshots again, from the demo data: node e2e/screenshots.mjs
import { mkdirSync } from "node:fs";
import { join } from "node:path";
import {
  browser,
  build,
  chooseByKeys,
  codeMailed,
  connect,
  demo,
  maren,
  offered,
  readable,
  root,
  settled,
  start,
  unlock,
} from "./harness.mjs";
import { mkdtempSync } from "node:fs";
import { tmpdir } from "node:os";

const out = join(root, "docs/screenshots");
mkdirSync(out, { recursive: true });
const program = build();
const d = await demo(program, 7300);
const b = await browser({ extension: true });
const own = await start(
  program,
  ["--data", mkdtempSync(join(tmpdir(), "redlocket-")), "--port", "7340", "--no-browser", "--cloud", d.cloud],
  "Ctrl-C ends it",
);
try {
  const page = await b.page();
  const shot = (name, p = page) => p.screenshot({ path: join(out, name + ".png") });
  const pause = (ms) => page.waitForTimeout(ms);
  await page.goto("http://redlocket.localhost:7340/new");
  await page.fill("#name", "Bryony Tern");
  await page.fill("#email", "bryony.tern@cormorant.example");
  await page.fill("#device", "attic");
  await page.click("text=Go on");
  await page.locator("#password").pressSequentially("oar lamp tide winkle");
  await pause(500);
  await shot("create");
  await page.fill("#repeat", "oar lamp tide winkle");
  await page.click("text=Create the vault");
  await page.waitForURL("**/account");
  await page.fill("#code", await codeMailed(page, d, "bryony.tern@cormorant.example"));
  await page.click("button:has-text('Go on')");
  await page.waitForURL("**/sheet");
  await page.setViewportSize({ width: 1280, height: 1000 });
  await shot("recovery-sheet");
  await page.setViewportSize({ width: 1280, height: 800 });
  await page.goto(d.desk);
  await shot("lock");
  await unlock(page, d.desk, maren.password);
  await page.click(".thumbs a[data-letter=G]");
  await page.goto(d.desk + "/logins?q=gullwing");
  await page.locator(".site .account", { hasText: maren.email }).first().click();
  await page.waitForSelector("#sheet h1");
  await page.fill("#find", "");
  await page.waitForSelector(".letter");
  await page.click(".thumbs a[data-letter=G]");
  await page.click("#sheet .secret button");
  await page.waitForSelector(".grouped");
  await page.mouse.move(900, 600);
  await pause(400);
  await shot("book");
  await page.goto(d.desk + "/items/new");
  await page.fill("#title", "Kelp & Crown");
  await page.fill("[name=address]", "https://kelpandcrown.example/sign-in");
  await page.fill("#username", "mtolliver");
  await page.waitForSelector("#made .grouped");
  await page.mouse.move(900, 100);
  await pause(400);
  await shot("new-login");
  await page.goto(d.desk + "/cards");
  await page.locator(".line-main", { hasText: "debit card" }).click();
  await page.waitForSelector("#sheet h1");
  await pause(400);
  await shot("cards");
  await page.goto(d.desk + "/logins?q=mooring");
  await page.locator(".line-main").first().click();
  await page.waitForSelector("#sheet h1");
  await page.keyboard.press("e");
  await page.fill("#title", "Mooring Mutual savings");
  await page.click(".sheet-acts button:has-text('Save')");
  await page.waitForSelector("#notices");
  await page.click("#sheet a:has-text('Show all versions')");
  await page.waitForSelector(".versions");
  await pause(300);
  await page.goto(d.desk + "/import");
  const text = (name, rows) => ({ name, mimeType: "text/csv", buffer: Buffer.from(rows.join("\r\n")) });
  const birds = ["Avocet", "Curlew", "Dotterel", "Plover", "Puffin", "Shelduck", "Turnstone", "Whimbrel"],
    trades = ["Bakery", "Chandlery", "Insurance", "Kitchens", "Museum", "Tickets", "Tools"];
  const sites = birds.flatMap((bird) => trades.map((trade) => `${bird}-${trade}.example`.toLowerCase()));
  await page.setInputFiles("#import-files", [
    text("desk-browser.csv", [
      "name,url,username,password,note",
      `gullwing.example,https://gullwing.example/sign-in,${maren.email},vq7RtumKaleW9oxBfent,`,
      "ferrylink.example,https://ferrylink.example/,mtolliver,Tolliver85,",
      "brackish.example,https://brackish.example/sign-in,mtolliver,longwave-Harbour-6,",
      ...sites.slice(0, 34).map((s, i) => `${s},https://${s}/in,${maren.email},slack-Water-${i},`),
      ",,mtolliver,winkle7,",
    ]),
    text("laptop-browser.csv", [
      '"url","username","password","timePasswordChanged"',
      '"https://brackish.example","mtolliver","longwave-Harbour-8","1795000000000"',
      ...sites
        .slice(22, 50)
        .map(
          (s, i) =>
            `"https://www.${s}","${maren.email}","${i === 4 ? "neap-Tide-4" : `slack-Water-${i + 22}`}","17${60 + i}000000000"`,
        ),
    ]),
    text(
      "old-notebook.txt",
      sites
        .slice(48)
        .map((s, i) => `${s.split("-")[0]} ${s.split("-")[1].split(".")[0]}\t${s}\tmaren.t\tebb&flow-${i}`),
    ),
  ]);
  await page.waitForSelector("#plan");
  await pause(400);
  await shot("import-plan");
  await page.click("text=Drop these files");
  await page.setInputFiles("#import-files", [
    text("old-browser.csv", [
      "name,url,username,password,note",
      "Ferrylink,https://www.ferrylink.example/login,maren.tolliver,kelp ferry lantern 8,season ticket 2024",
      "Brackish Radio,https://brackish.example/login,mt*****er,Saltmarsh-22,",
      "Oystercatcher Pharmacy,https://oystercatcher.example/,+44 7700 900 123,Pharm4cy,",
      "oystercatcher.example,https://www.oystercatcher.example/signin,07700900123,Pharm4cy,",
    ]),
  ]);
  await page.waitForSelector("#plan");
  await page.click("#plan button.btn-primary");
  await page.waitForSelector("text=/to decide|sure/");
  await page.goto(d.desk + "/tidy");
  await page.locator(".tidy-list a", { hasText: "Ferrylink" }).first().click();
  await page.waitForSelector("#bench");
  await pause(400);
  await shot("tidy");
  await page.goto(d.desk + "/weak");
  await pause(2500);
  await page.locator(".weak-list a", { hasText: "Cormorant Mail" }).first().click();
  await page.waitForSelector(".reach");
  await pause(300);
  await shot("weak-spots");
  await page.goto(d.desk + "/logins");
  await page.waitForSelector(".day-waits li");
  await pause(300);
  await shot("day");
  await connect(b, page, d.desk);
  await page.goto(d.desk + "/devices");
  await pause(400);
  await shot("devices");
  const site = await b.page();
  await site.goto(d.site("lanternfish", "/sign-in"));
  await site.click("#user");
  await offered(site);
  await readable(site);
  await shot("offer", site);
  await site.goto(d.site("gullwing", "/sign-up"));
  await site.fill("#user", "bryony.t");
  await chooseByKeys(site, site.locator("#password"));
  await settled(site);
  await site.click("main button");
  await site.waitForURL("**/welcome");
  await offered(site);
  await readable(site);
  await shot("slip", site);
  await site.goto(d.site("gu11wing")).catch(() => {}); // the alarm takes its place while it comes
  await site.waitForSelector(".alarm");
  await shot("alarm", site);
  await site.goto(d.site("pantryandpier", "/sign-in"));
  await chooseByKeys(site, site.locator("#user"));
  await site.click("main form button");
  await site.waitForURL("**/welcome");
  const tab = await b.context
    .serviceWorkers()[0]
    .evaluate(async (url) => (await chrome.tabs.query({ url: url + "*" }))[0].id, d.site("pantryandpier"));
  const small = await b.page();
  await small.setViewportSize({ width: 380, height: 560 });
  await small.goto(`chrome-extension://${b.id}/window.html?tab=${tab}`);
  await small.waitForSelector("li");
  await shot("window", small);
  await page.goto(d.desk + "/household");
  await page.click(".known .line-main");
  await page.locator(".passed > li").nth(1).locator("button:has-text('Show')").click();
  await page.waitForSelector(".passed-open");
  await pause(300);
  await shot("household");
  await page.goto(d.desk + "/household");
  await page.click("#people .line-main:has-text('Family')");
  await page.waitForSelector(".members");
  await shot("shared");
  await page.goto(d.desk + "/hand");
  await page.waitForSelector("text=holds a share");
  await shot("hand");
  await page.emulateMedia({ colorScheme: "dark" });
  await page.setViewportSize({ width: 390, height: 800 });
  await page.goto(d.desk + "/logins");
  await pause(300);
  await shot("narrow");
} finally {
  await b.close();
  await own.stop();
  await d.stop();
  d.clean();
}
