// What takes snapshots of pages for testdata/pages: corpus.mjs and cases.mjs.
import { execFileSync } from "node:child_process";
import { root } from "./harness.mjs";

const bundled = ["--bundle", "--format=iife", "--global-name=snapshots", "extension/src/snapshot.js"];

/** The extension's own reading of a page, as a script that has it in "snapshots". */
export const source = execFileSync("go", ["tool", "esbuild", ...bundled], { cwd: root, encoding: "utf8" });

/** Leaves out of a snapshot's fields and forms what is empty. @param {any} s */
export function lean(s) {
  for (const f of [...s.fields, ...s.forms])
    for (const k of Object.keys(f)) if (f[k] === "" || f[k] === 0 || f[k] === false || f[k] === undefined) delete f[k];
}
