// Takes snapshots of the forms in testdata/pages/{cases,details}.html, with what each field is for: node e2e/cases.mjs
import { readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { browser, root } from "./harness.mjs";
import { lean, source } from "./snapshots.mjs";

const folder = join(root, "testdata/pages");
const b = await browser();
const page = await b.page();
for (const name of ["cases", "details"]) {
  const cases = readFileSync(join(folder, name + ".html"), "utf8")
    .split(/^=== /m)
    .slice(1);
  const out = [];
  for (const c of cases) {
    const [title, kind, path] = c.slice(0, c.indexOf("\n")).split(" | ");
    await page.setContent("<!doctype html>" + c.slice(c.indexOf("\n") + 1));
    // What a field is for is taken off it, so that nothing of it gets into the snapshot.
    const roles = await page.evaluate(() =>
      [...document.querySelectorAll("input, select, textarea")].map((el) => {
        const role = el.dataset.r ?? "";
        delete el.dataset.r;
        return role;
      }),
    );
    const snapshot = await page.evaluate(
      `(() => { ${source}; const s = snapshots.snapshot();
    const all = [...document.querySelectorAll("input, select, textarea")];
    s.fields.forEach((f) => (f.at = all.indexOf(snapshots.fieldByNumber(f.id)))); return s; })()`,
    );
    snapshot.path = path;
    delete snapshot.doc; // another one each time
    snapshot.fields = snapshot.fields.filter((f) => f.visible);
    const truth = snapshot.fields.map((f) => roles[f.at]);
    for (const f of snapshot.fields) delete f.at;
    lean(snapshot);
    out.push({ name: title, kind, roles: truth, snapshot });
  }
  writeFileSync(join(folder, name + ".json"), "[\n" + out.map((c) => JSON.stringify(c)).join(",\n") + "\n]\n");
  console.log(out.length, "forms");
}
await b.close();
