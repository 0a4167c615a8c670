// Takes snapshots of pages for testdata/pages: node e2e/corpus.mjs FOLDER-OF-TEMPLATE-PAGES. The practice town's pages
// are taken
// too. What each field is for is written beside them by hand (testdata/pages/truth.tsv).
import { readFileSync, writeFileSync, existsSync } from "node:fs";
import { join } from "node:path";
import { browser, build, demo, root } from "./harness.mjs";
import { lean, source } from "./snapshots.mjs";

const out = join(root, "testdata/pages/pages.json");
const b = await browser();
const page = await b.page();
const take = () => page.evaluate(`(() => { ${source}; return snapshots.snapshot(); })()`);
/** @type {Record<string, {from: string, snapshot: any}>} */
const pages = existsSync(out) ? JSON.parse(readFileSync(out, "utf8")) : {};
/** Keeps a snapshot, without what is empty. @param {string} name @param {string} from @param {any} s */
function keep(name, from, s) {
  s.fields = s.fields.filter((f) => f.visible);
  for (const f of s.forms)
    for (const k of ["submit", "text"])
      f[k] = f[k].replace(
        /\b(Login|Register|Sign in|Sign up|Log in) with [A-Z]\w+( [A-Z]\w+)?/gi,
        "$1 with another account",
      );
  lean(s);
  if (s.fields.length > 0 && s.fields.length <= 40) pages[name] = { from, snapshot: s };
}
const [folder, list] = process.argv.slice(2);
if (folder)
  for (const line of readFileSync(list, "utf8").trim().split("\n")) {
    const [, pack, path] = line.match(/^\.\/(.+?)-\d[\d.]*\/package\/(.+)$/) ?? [];
    if (!pack) continue;
    await page.goto(`file://${join(folder, line)}`, { waitUntil: "load", timeout: 15000 }).catch(() => {});
    await page.waitForTimeout(150);
    const s = await take().catch(() => null);
    if (!s) continue;
    s.path = "/" + path.replace(/^.*\//, "").replace(/\.html$/, "");
    keep(`${pack}: ${path}`, `${pack}, an npm package of page templates`, s);
  }
const d = await demo(build(), 18900);
const names = readFileSync(join(root, "practice/sites.go"), "utf8")
  .match(/\{Name: "([\w-]+)", Title/g)
  .map((m) => m.match(/"([\w-]+)"/)[1]);
for (const name of names) {
  for (const path of ["/sign-in", "/sign-up", "/forgot"]) {
    await page.goto(d.site(name, path));
    await page.waitForTimeout(path === "/sign-in" || path === "/sign-up" ? 850 : 50);
    if (await page.locator("[data-dialog]").count()) await page.click("[data-dialog]");
    if (path === "/sign-up" && (await page.locator("[data-tab=up]").count())) await page.click("[data-tab=up]");
    keep(`town: ${name}${path}`, "the practice town", await take());
  }
  const user = `corpus.${name}@x.example`,
    password = ["tidewater-library", "undertow"].includes(name) ? "winkle77" : "Sea-Glass.27x";
  await page.evaluate(
    async ([user, password]) => {
      const body = new URLSearchParams({
        user,
        password,
        repeat: password,
        company: "TS-1",
        first: "Wren",
        last: "T",
        town: "S",
        day: "9",
        month: "05",
        year: "1999",
      });
      await fetch("/sign-up", { method: "POST", body, headers: { Accept: "application/json" } });
    },
    [user, password],
  );
  for (const path of ["/change", "/pay", "/code"]) {
    await page.goto(d.site(name, path));
    if (path === "/code" && !["mooringmutual", "islandpost"].includes(name)) continue;
    if (page.url().endsWith(path)) keep(`town: ${name}${path}`, "the practice town", await take());
  }
}
writeFileSync(
  out,
  "{\n" +
    Object.entries(pages)
      .sort(([a], [b]) => (a < b ? -1 : 1))
      .map(([k, v]) => `${JSON.stringify(k)}: ${JSON.stringify(v)}`)
      .join(",\n") +
    "\n}\n",
);
console.log(Object.keys(pages).length, "pages");
await b.close();
await d.stop();
d.clean();
