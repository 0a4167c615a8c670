// Test files run beside each other: no two of them use one port.
import test from "node:test";
import assert from "node:assert/strict";
import { readFileSync, readdirSync } from "node:fs";
import { join } from "node:path";
import { root } from "./harness.mjs";

test("each file has ports of its own", () => {
  /** @type {Map<number, string>} */
  const taken = new Map();
  const folder = join(root, "e2e");
  for (const file of readdirSync(folder).filter((f) => f.endsWith(".test.mjs"))) {
    const text = readFileSync(join(folder, file), "utf8");
    for (const [, port] of text.matchAll(/\b(1[78]\d{3})\b/g)) {
      // a demo, which a town and a Firefox have too, has eleven from it on
      const eleven = RegExp(`(demo\\(.*|inTown\\(|firefox\\(|formPages\\(\\d+, )${port}\\b`).test(text);
      for (let p = Number(port); p <= Number(port) + (eleven ? 10 : 0); p++) {
        assert.ok((taken.get(p) ?? file) === file, `${p} is used by ${taken.get(p)} and ${file}`);
        taken.set(p, file);
      }
    }
  }
  assert.ok(taken.size > 200, `only ${taken.size} ports were found`);
});
