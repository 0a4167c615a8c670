// The keys of the book. Each presses what is on the page already.
import { choose, choosing, draw, equip, look, setChoosing, spread } from "./book.js";
import { benchKey } from "./tidy.js";

/** @returns {HTMLElement[]} */
const lines = () => /** @type {HTMLElement[]} */ ([...document.querySelectorAll(".book-list .line")]);

/** The line that keys act on: where the keyboard is, else the open one. @returns {HTMLElement | undefined} */
function at() {
  return lines().find((l) => l.classList.contains("at")) ?? lines().find((l) => "open" in l.dataset);
}

/** @param {number} step */
function move(step) {
  const all = lines();
  if (!all.length) return;
  const now = at();
  const i = now ? all.indexOf(now) + step : step > 0 ? 0 : all.length - 1;
  const next = all[Math.max(0, Math.min(all.length - 1, i))];
  // Where the next line isn't drawn yet, it is drawn first.
  spread();
  const part = now?.closest(".chunk");
  const beside = step > 0 ? part?.nextElementSibling : part?.previousElementSibling;
  if (
    part &&
    beside instanceof HTMLElement &&
    beside.classList.contains("undrawn") &&
    (next === now || next.closest(".chunk") !== part)
  ) {
    void draw(beside).then(() => beside.classList.contains("undrawn") || move(step));
    return;
  }
  for (const l of all) l.classList.toggle("at", l === next);
  keptAt = next.dataset.id;
  next.querySelector("a")?.focus({ preventScroll: true });
  next.scrollIntoView({ block: "nearest" });
}

/** Where the keyboard is, for a book that is drawn again. @type {string | undefined} */
let keptAt;

/** Marks that line again in a fresh list. */
function keepPlace() {
  if (!keptAt || document.querySelector(".book-list .line.at")) return;
  const line = lines().find((l) => l.dataset.id === keptAt);
  if (!line) return;
  line.classList.add("at");
  equip(line); // its keys press them, wherever the focus is
  if (document.activeElement === document.body) line.querySelector("a")?.focus({ preventScroll: true });
}

document.addEventListener("lines-changed", keepPlace);

/** Presses the act of a key: on the line at hand, else on the sheet. @param {string} key @param {string} inLine */
function press(key, inLine) {
  const line = lines().find((l) => l.classList.contains("at"));
  const el = (inLine && line?.querySelector(inLine)) || document.querySelector(`#sheet [data-key="${key}"]`);
  if (el instanceof HTMLElement) el.click();
}

/** @type {Record<string, () => void>} */
const acts = {
  "/": () => {
    const find = /** @type {HTMLInputElement | null} */ (document.getElementById("find"));
    find?.focus();
    find?.select();
  },
  j: () => move(1),
  k: () => move(-1),
  ArrowDown: () => move(1),
  ArrowUp: () => move(-1),
  n: () =>
    /** @type {HTMLElement | null} */ (document.querySelector(".new-login"))?.click() ?? location.assign("/items/new"),
  e: () => press("e", ""),
  u: () => press("u", "[data-copy=username]"),
  p: () => press("p", "[data-copy=password]"),
  o: () => press("o", "[data-copy=one-time]"),
  s: () => press("s", ""),
  g: () => press("g", "a.go"),
  x: () => {
    const line = at();
    if (line) choose(line);
    else setChoosing(true);
  },
  L: () => /** @type {HTMLFormElement | null} */ (document.querySelector(".top-lock"))?.requestSubmit(),
  "?": () => /** @type {HTMLDialogElement | null} */ (document.getElementById("keys-help"))?.showModal(),
};

document.addEventListener("keydown", (e) => {
  if (e.ctrlKey || e.metaKey || e.altKey || document.querySelector("dialog[open]")) return;
  const el = /** @type {HTMLElement} */ (e.target);
  const typing = el.matches("input:not([type=checkbox], [type=radio]), textarea, select, [contenteditable]");
  if (el.id === "find" && (e.key === "ArrowDown" || e.key === "Enter")) {
    e.preventDefault();
    for (const l of lines()) l.classList.remove("at");
    for (const l of document.querySelectorAll(".book-list .line[data-open]")) l.removeAttribute("data-open");
    move(1);
    if (e.key === "Enter") /** @type {HTMLElement | null} */ (at()?.querySelector(".line-main"))?.click();
    return;
  }
  if (el.id === "find" && e.key === "Escape") {
    look("");
    return;
  }
  if (e.key === "Escape") {
    if (choosing()) setChoosing(false);
    else press("Escape", "");
  }
  if (typing || benchKey(e, el)) return;
  if (!(e.key in acts)) return;
  e.preventDefault();
  acts[e.key]();
});
