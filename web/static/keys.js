// The keys of the book. Each presses what is on the page already.
"use strict";

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
  for (const l of all) l.classList.toggle("at", l === next);
  next.querySelector("a")?.focus();
  next.scrollIntoView({ block: "nearest" });
}

/** Presses the act of a key: on the line at hand, else on the sheet. @param {string} key @param {string} inLine */
function press(key, inLine) {
  const line = lines().find((l) => l.classList.contains("at"));
  const el = (inLine && line?.querySelector(inLine)) || document.querySelector(`#sheet [data-key="${key}"]`);
  if (el instanceof HTMLElement) el.click();
}

/** @type {Record<string, () => void>} */
const acts = {
  "/": () => /** @type {HTMLElement | null} */ (document.getElementById("find"))?.focus(),
  j: () => move(1), k: () => move(-1), ArrowDown: () => move(1), ArrowUp: () => move(-1),
  n: () => location.assign("/logins/new"),
  e: () => press("e", ""),
  u: () => press("u", "[data-copy=username]"),
  p: () => press("p", "[data-copy=password]"),
  s: () => press("s", ""),
  g: () => press("g", "a.go"),
  L: () => /** @type {HTMLFormElement | null} */ (document.querySelector(".top-lock"))?.requestSubmit(),
  "?": () => /** @type {HTMLDialogElement | null} */ (document.getElementById("keys-help"))?.showModal(),
};

document.addEventListener("keydown", (e) => {
  if (e.ctrlKey || e.metaKey || e.altKey || document.querySelector("dialog[open]")) return;
  const el = /** @type {HTMLElement} */ (e.target);
  const typing = el.matches("input, textarea, select, [contenteditable]");
  if (el.id === "find" && (e.key === "ArrowDown" || e.key === "Enter")) {
    e.preventDefault();
    move(1);
    if (e.key === "Enter") /** @type {HTMLElement | null} */ (at()?.querySelector(".line-main"))?.click();
    return;
  }
  if (el.id === "find" && e.key === "Escape") {
    const f = /** @type {HTMLInputElement} */ (el);
    f.value = "";
    f.dispatchEvent(new Event("search", { bubbles: true }));
    return;
  }
  if (e.key === "Escape") press("Escape", "");
  if (typing || !(e.key in acts)) return;
  e.preventDefault();
  acts[e.key]();
});

// The thumb index jumps inside the book, and the line that was opened is marked.
document.addEventListener("click", (e) => {
  const el = /** @type {HTMLElement} */ (e.target);
  const thumb = el.closest(".thumbs a");
  if (thumb instanceof HTMLElement) {
    const to = document.getElementById(`letter-${thumb.dataset.letter}`);
    if (to) {
      e.preventDefault();
      to.scrollIntoView({ block: "start" });
    }
    for (const a of document.querySelectorAll(".thumbs a")) a.classList.toggle("here", a === thumb);
  }
  if (el.closest("[data-clear]")) return;
  const main = el.closest(".line-main");
  if (main) {
    document.body.classList.add("at-sheet");
    for (const l of lines()) {
      const open = l.contains(main);
      l.toggleAttribute("data-open", open);
      l.classList.toggle("at", open);
    }
  }
});

// A book that was drawn anew still shows which login is on the sheet.
document.addEventListener("htmx:afterSettle", () => {
  const id = /** @type {HTMLElement | null} */ (document.querySelector("#sheet[data-id]"))?.dataset.id;
  for (const l of lines()) l.toggleAttribute("data-open", l.dataset.id === id);
});
