// The book: parts that are drawn as they are scrolled to, lines that open on the
// sheet, several chosen at once, and acts that can be undone.
import { askAgain } from "./ask.js";
import { untilReleased } from "./hold.js";
import { hx } from "./htmx.js";
import { reach } from "./reach.js";

const list = () => document.getElementById("book-list");

// Parts of the list. A part that wasn't drawn yet takes the height of its lines. Of a long list the page brings the
// first parts;
// places for the others are made once those are shown.

/**
 * The height of so many lines, of accounts under sites, and of letters above.
 * @param {number} lines
 * @param {number} under
 * @param {number} heads
 */
const heightOf = (lines, under, heads) =>
  `calc(var(--line) * ${lines} + var(--under) * ${under} + var(--head) * ${heads})`;

/** What the list's rest says of each part. @param {HTMLElement} rest */
const partsOf = (rest) =>
  (rest.dataset.parts ?? "").split(";").map((p) => {
    const [lines, under, letter] = p.split(" ");
    return { lines: Number(lines), under: Number(under), letter };
  });

/** Keeps the height of the rest, until there are places for its parts. @param {HTMLElement} rest */
function holdRest(rest) {
  const [lines, under, heads] = (rest.dataset.height ?? "").split(" ").map(Number);
  rest.style.height = heightOf(lines, under, heads);
  near.observe(rest);
  clearTimeout(spreading);
  spreading = setTimeout(spread, 400); // there is time once the first page is shown, and nobody types on
}
let spreading = 0;

/** Makes places for the parts of the rest, if that wasn't done yet. */
export function spread() {
  const rest = /** @type {HTMLElement | null} */ (document.querySelector(".rest"));
  if (!rest) return;
  near.unobserve(rest);
  let from = Number(rest.dataset.from);
  const places = partsOf(rest).map((p) => {
    const ul = document.createElement("ul");
    ul.className = "chunk undrawn";
    if (p.letter) ul.dataset.letter = ul.dataset.head = p.letter;
    ul.dataset.from = String(from);
    ul.dataset.to = String((from += p.lines));
    ul.style.height = heightOf(p.lines, p.under, p.letter ? 1 : 0);
    return ul;
  });
  rest.replaceWith(...places);
  for (const p of places) near.observe(p);
}

/** What scrolls: the leaf, or on narrow screens the page. */
const narrow = matchMedia("(max-width: 760px)");
/** @returns {Element} */
function scroller() {
  return (
    (narrow.matches ? null : document.getElementById("book-page")) ??
    document.scrollingElement ??
    document.documentElement
  );
}

/** @type {IntersectionObserver} */
let near;
function watch() {
  near?.disconnect();
  near = new IntersectionObserver(
    (seen) => {
      for (const s of seen) {
        if (!s.isIntersecting) continue;
        if (s.target.matches(".rest")) spread();
        else void draw(/** @type {HTMLElement} */ (s.target));
      }
    },
    { root: narrow.matches ? null : document.getElementById("book-page"), rootMargin: "900px 0px" },
  );
  for (const part of document.querySelectorAll(".chunk.undrawn, .rest[style]")) near.observe(part);
}
narrow.addEventListener("change", watch);
watch();

/** Parts that are being drawn. @type {Map<HTMLElement, Promise<void>>} */
const drawing = new Map();

/** Draws a part that is about to be seen. @param {HTMLElement} part @returns {Promise<void>} */
export function draw(part) {
  near.unobserve(part);
  if (!part.classList.contains("undrawn")) return Promise.resolve();
  const under = drawing.get(part) ?? fill(part).finally(() => drawing.delete(part));
  drawing.set(part, under);
  return under;
}

/** @param {HTMLElement} part */
async function fill(part) {
  const l = list();
  const state = new URLSearchParams(l?.dataset.state ?? "");
  for (const k of ["from", "to", "head"]) if (part.dataset[k]) state.set(k, part.dataset[k] ?? "");
  state.set("in", l?.dataset.section ?? "");
  try {
    const resp = await fetch(`/rows?${state}`, { headers: { "X-By-Itself": "1" } });
    if (resp.redirected || !resp.ok) throw new Error(String(resp.status));
    const html = await resp.text();
    if (!part.isConnected) return;
    part.innerHTML = html;
    part.classList.remove("undrawn");
    part.style.height = "";
    dress(part);
    document.dispatchEvent(new Event("lines-changed"));
  } catch {
    setTimeout(() => near.observe(part), 2000);
  }
}

/** Gets a fresh list ready. */
function setUp() {
  const l = list();
  if (!l) return;
  const rest = /** @type {HTMLElement | null} */ (l.querySelector(".rest"));
  if (rest) holdRest(rest);
  dress(l);
  const d = l.querySelector("details.narrow");
  if (d instanceof HTMLDetailsElement) d.open = narrowing;
}

/** Whether the narrowing paper is open; it stays so when the list is drawn again. */
let narrowing = false;
document.addEventListener(
  "toggle",
  (e) => {
    const d = /** @type {HTMLDetailsElement} */ (e.target);
    if (!d.isConnected || !d.classList?.contains("narrow")) return;
    narrowing = d.open;
    if (d.open) void fillNarrow(d);
  },
  true,
);

/** @param {HTMLElement} d */
async function fillNarrow(d) {
  const paper = d.querySelector(".narrow-paper");
  const resp = await reach(`/narrow${list()?.dataset.state || "?"}&in=${list()?.dataset.section}`);
  if (paper && resp.ok && !resp.redirected) paper.innerHTML = await resp.text();
}

// The list is fetched and put in place here: at each letter typed, and when the vault changed.

/** @type {AbortController | undefined} */
let fetching;

/** Draws the list for what the search line says. @param {boolean} byItself */
async function refresh(byItself) {
  const l = list();
  if (!l) return;
  fetching?.abort();
  const mine = (fetching = new AbortController());
  const state = new URLSearchParams();
  const words = /** @type {HTMLInputElement} */ (document.getElementById("find")).value;
  const on = /** @type {HTMLInputElement | null} */ (document.getElementById("on"))?.value;
  if (words) state.set("q", words);
  if (on) state.set("on", on);
  const path = `/${l.dataset.section}${state.size ? "?" + state : ""}`;
  /** @type {Record<string, string>} */
  const headers = { "HX-Request": "true", "HX-Target": "book-list" };
  if (byItself) headers["X-By-Itself"] = "1";
  try {
    const resp = await (byItself ? fetch : reach)(path, { headers, signal: mine.signal });
    const to = resp.headers.get("HX-Redirect");
    if (to || resp.redirected) return location.assign(to ?? resp.url);
    if (!resp.ok) return;
    const html = await resp.text();
    if (byItself) await untilReleased();
    if (!mine.signal.aborted) place(html);
  } catch {
    return; // a later one took its place, or the device app is away: what is drawn stays
  }
  if (byItself) return;
  address = path;
  clearTimeout(addressing);
  addressing = setTimeout(keepAddress, 250);
}

/**
 * The address of what is looked for, until the browser has it: not at each letter, for it draws its own line again
 * each time.
 */
let address = "",
  addressing = 0;

/** Gives the browser the address of what is looked for; before anything else is opened from there. */
function keepAddress() {
  if (address && !("noAddress" in document.body.dataset)) history.replaceState(history.state, "", address);
  address = "";
}
document.addEventListener("click", keepAddress, true);

/**
 * Gives a list what a fresh one holds. Its count stays the same element: a screen reader follows it.
 * @param {HTMLElement} old
 * @param {HTMLElement} fresh
 */
function takeOver(old, fresh) {
  const count = old.querySelector("#found"),
    said = fresh.querySelector("#found");
  const bar = count?.parentElement,
    freshBar = said?.parentElement;
  if (!bar || !freshBar) return old.replaceWith(fresh);
  if (count.textContent !== said.textContent) count.textContent = said.textContent;
  if (!bar.isEqualNode(freshBar)) {
    said.remove();
    while (bar.lastChild && bar.lastChild !== count) bar.lastChild.remove();
    bar.append(...freshBar.childNodes);
  }
  const parts = [...fresh.children],
    at = parts.indexOf(freshBar);
  for (const part of [...old.children]) if (part !== bar) part.remove();
  bar.before(...parts.slice(0, at));
  bar.after(...parts.slice(at + 1));
  old.dataset.state = fresh.dataset.state;
}

/**
 * Has parts look as before until they are drawn again: where the book is scrolled down, nothing goes blank for a
 * moment.
 * @param {Element[]} before
 */
function keepLook(before) {
  if (!before.length) return;
  spread();
  const now = document.querySelectorAll(".chunk");
  before.forEach((part, i) => {
    if (!part.classList.contains("undrawn") && now[i]?.classList.contains("undrawn")) now[i].append(...part.childNodes);
  });
}

/** Puts what a fetched list holds in place of what is there. @param {string} html */
function place(html) {
  const old = list();
  const top = scroller().scrollTop;
  const fresh = document.createElement("template");
  fresh.innerHTML = html;
  const l = fresh.content.querySelector("#book-list");
  if (!old || !(l instanceof HTMLElement)) return;
  const same = l.dataset.state === old.dataset.state;
  const before = same && top ? [...old.querySelectorAll(".chunk")] : [];
  takeOver(old, l);
  const thumbs = fresh.content.querySelector("#thumbs"),
    index = document.getElementById("thumbs");
  if (thumbs && thumbs.innerHTML !== index?.innerHTML) index?.replaceWith(thumbs);
  setUp();
  keepLook(before);
  if (top) scroller().scrollTop = same ? top : 0; // else it is there already, and asking would lay the page out twice
  document.dispatchEvent(new Event("lines-changed"));
}
document.body.addEventListener("vault-changed", () => void refresh(true));
for (const kind of ["input", "search"])
  document.getElementById("find")?.addEventListener(kind, () => void refresh(false));

// Lines.

/** What is copied from a line, by the letter that says it has it. */
const COPIED = { n: ["username", "name"], p: ["password", "password"], c: ["one-time", "code"] };

/** Gives a line its acts, when it is come to: most of them never are. @param {HTMLElement} line */
export function equip(line) {
  const end = line.querySelector(".line-end");
  if (!end || end.querySelector(".acts")) return;
  const acts = document.createElement("span");
  acts.className = "acts";
  for (const [letter, [what, word]] of Object.entries(COPIED)) {
    if (!line.dataset.has?.includes(letter)) continue;
    if (!acts.firstChild) acts.innerHTML = '<span class="quiet" aria-hidden="true">copy</span>';
    const b = document.createElement("button");
    b.type = "button";
    b.className = "act";
    b.dataset.copy = what;
    b.setAttribute("aria-label", `copy ${word}`);
    b.textContent = word;
    acts.append(b);
  }
  if (/^https?:/i.test(line.dataset.go ?? "")) {
    const a = document.createElement("a");
    a.className = "act go";
    a.href = line.dataset.go ?? "";
    a.target = "_blank";
    a.rel = "noopener noreferrer";
    a.dataset.used = "";
    a.textContent = "Sign in";
    acts.append(a);
  }
  end.append(acts);
}
for (const kind of ["pointerover", "focusin"])
  document.addEventListener(kind, (e) => {
    const line = e.target instanceof Element && e.target.closest(".book-list .line");
    if (line instanceof HTMLElement) equip(line);
  });

document.addEventListener("click", (e) => {
  const el = /** @type {HTMLElement} */ (e.target);
  if (e.ctrlKey || e.metaKey || e.shiftKey) return;
  const link = el.closest(".book-list .line-main, a[data-sheet]");
  if (link instanceof HTMLAnchorElement && document.getElementById("sheet")) {
    e.preventDefault();
    if (choosing() && link.matches(".line-main")) return choose(/** @type {HTMLElement} */ (link.closest(".line")));
    void open_(link);
  }
  const used = el.closest("a[data-used]");
  if (used instanceof HTMLElement) void fetch(`/items/${idOf(used)}/used`, { method: "POST" });
  const press = el.closest("[data-line]");
  if (press instanceof HTMLElement) look(press.dataset.line ?? "");
  if (el.closest("[data-clear]")) {
    e.preventDefault();
    look("");
  }
  const thumb = el.closest(".thumbs a");
  if (thumb instanceof HTMLElement) {
    spread();
    const part = document.querySelector(`.chunk[data-letter="${thumb.dataset.letter}"]`);
    if (part) {
      e.preventDefault();
      part.scrollIntoView({ block: "start" });
    }
    for (const a of document.querySelectorAll(".thumbs a")) a.classList.toggle("here", a === thumb);
  }
});

/** Opens a page on the sheet. @param {HTMLAnchorElement} link */
async function open_(link) {
  document.body.classList.add("at-sheet");
  const line = link.closest(".line");
  if (line)
    for (const l of document.querySelectorAll(".book-list .line")) {
      l.toggleAttribute("data-open", l === line);
      l.classList.toggle("at", l === line);
    }
  const url = new URL(link.href);
  const h = await hx;
  const sheet = document.getElementById("sheet");
  if (!h || !sheet) return location.assign(url);
  h.trigger(sheet, "htmx:abort");
  sheet.dataset.opening = "";
  try {
    await h.ajax("GET", url.pathname + url.search, { target: "#sheet", swap: "outerHTML" });
  } finally {
    delete sheet.dataset.opening; // it is another one by then, unless it couldn't be opened
  }
}
// What is about to be another sheet isn't drawn again: what was pressed would come to nothing.
document.addEventListener("htmx:beforeRequest", (e) => {
  if (e.target instanceof HTMLElement && e.target.id === "sheet" && "opening" in e.target.dataset) e.preventDefault();
});

/** Puts words into the search line and looks. @param {string} words */
export function look(words) {
  const find = /** @type {HTMLInputElement} */ (document.getElementById("find"));
  find.value = words;
  find.dispatchEvent(new Event("search", { bubbles: true }));
  find.focus();
}

/** The item that an act stands at. @param {Element} el */
export const idOf = (el) =>
  /** @type {HTMLElement} */ (el).dataset.of ??
  /** @type {HTMLElement | null} */ (el.closest("[data-id]"))?.dataset.id ??
  "";

/** Marks the open line and gives lines their boxes. @param {Element} within */
function dress(within) {
  const id = /** @type {HTMLElement | null} */ (document.querySelector("#sheet[data-id]"))?.dataset.id;
  for (const l of /** @type {NodeListOf<HTMLElement>} */ (within.querySelectorAll(".line"))) {
    l.toggleAttribute("data-open", l.dataset.id === id);
    if (l.dataset.id === id) equip(l);
    if (choosing()) box(l);
  }
}

// Choosing several.

/** @type {Set<string>} */
const chosen = new Set();
const bar = () => document.getElementById("choosing");
export const choosing = () => bar()?.hidden === false;

/** @param {boolean} on */
export function setChoosing(on) {
  const b = bar();
  if (!b) return;
  b.hidden = !on;
  document.body.classList.toggle("choosing-now", on);
  if (!on) chosen.clear();
  for (const l of /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll(".book-list .line")))
    on ? box(l) : l.querySelector(".choose")?.remove();
  count();
}

/** Gives a line its box. @param {HTMLElement} line */
function box(line) {
  let b = /** @type {HTMLInputElement | null} */ (line.querySelector(".choose"));
  if (!b) {
    b = document.createElement("input");
    b.type = "checkbox";
    b.className = "choose";
    b.setAttribute("aria-label", `Choose ${line.querySelector(".line-main")?.textContent?.trim() ?? ""}`);
    line.prepend(b);
  }
  b.checked = chosen.has(line.dataset.id ?? "");
}

/** Chooses a line, or no longer. @param {HTMLElement} line */
export function choose(line) {
  if (!choosing()) setChoosing(true);
  const id = line.dataset.id ?? "";
  if (!chosen.delete(id)) chosen.add(id);
  box(line);
  count();
}

function count() {
  const n = bar()?.querySelector("[data-count]");
  if (n) n.textContent = String(chosen.size);
}

document.addEventListener("change", (e) => {
  const b = /** @type {HTMLInputElement} */ (e.target);
  if (!b.classList.contains("choose")) return;
  const id = idOf(b);
  b.checked ? chosen.add(id) : chosen.delete(id);
  count();
});

async function chooseAll() {
  const l = list();
  const state = new URLSearchParams(l?.dataset.state ?? "");
  state.set("in", l?.dataset.section ?? "");
  const resp = await reach(`/ids?${state}`);
  if (resp.ok && !resp.redirected) for (const id of (await resp.text()).split("\n")) if (id) chosen.add(id);
  setChoosing(true);
}

// Acts.

document.addEventListener("click", (e) => {
  const el = /** @type {HTMLElement} */ (e.target);
  const act = el.closest("[data-act]");
  if (act instanceof HTMLElement) void doAct(act);
  const undo = el.closest("[data-undo]");
  if (undo instanceof HTMLElement) void send(`/undo/${undo.dataset.undo}`, new URLSearchParams(), undo);
  if (el.closest("[data-dismiss]")) el.closest(".said")?.remove();
  if (el.closest("[data-choose]")) setChoosing(!choosing());
  if (el.closest("[data-all]")) void chooseAll();
  if (el.closest("[data-none]")) {
    chosen.clear();
    setChoosing(true);
  }
  if (el.closest("[data-close]")) setChoosing(false);
});
document.addEventListener("submit", (e) => {
  const form = /** @type {HTMLFormElement} */ (e.target);
  if (form.id !== "choosing") return;
  if (!e.submitter || !("writeOut" in /** @type {HTMLElement} */ (e.submitter).dataset)) return e.preventDefault();
  /** @type {HTMLInputElement} */ (form.elements.namedItem("ids")).value = [...chosen].join(" ");
  if (!chosen.size) {
    e.preventDefault();
    say("Nothing is chosen yet.");
  }
});

/** The fields of a form. @param {Element} form @returns {NodeListOf<HTMLInputElement | HTMLSelectElement>} */
const fieldsOf = (form) => form.querySelectorAll("input, select");

/** What a button asks before it is pressed again. @param {HTMLElement} b */
function sureOf(b) {
  if (b.dataset.sure || !b.dataset.act?.endsWith("to-book")) return b.dataset.sure;
  const book = b.parentElement?.querySelector("select")?.selectedOptions[0];
  return book?.dataset.others ? `${book.dataset.others} would see it from then on. Press again` : undefined;
}

/** Does what a button says, with the item it stands at or with all that are chosen. @param {HTMLElement} b */
async function doAct(b) {
  const sure = sureOf(b);
  if (sure && b.dataset.asked !== "1") {
    // asked again
    const label = b.textContent;
    b.dataset.asked = "1";
    b.textContent = sure;
    setTimeout(() => {
      delete b.dataset.asked;
      b.textContent = label;
    }, 6000);
    return;
  }
  const body = new URLSearchParams();
  const several = b.closest("#choosing");
  body.set("ids", (several ? [...chosen] : [idOf(b)]).join(" "));
  if (several) for (const f of fieldsOf(several)) if (f.name !== "ids") body.set(f.name, f.value);
  if (!body.get("ids")) return say("Nothing is chosen yet.");
  if ((await send(`/acts/${b.dataset.act}`, body, b)) && several) setChoosing(false);
}

/**
 * Sends an act, and shows the line that says what was done.
 * @param {string} path
 * @param {URLSearchParams} body
 * @param {HTMLElement} from
 * @returns {Promise<boolean>}
 */
async function send(path, body, from) {
  const resp = await reach(path, { method: "POST", body, headers: { "HX-Request": "true" } });
  if (resp.status === 428) {
    askAgain(() => void doOnce(from));
    return false;
  }
  const to = resp.headers.get("HX-Redirect");
  if (to || resp.redirected) {
    location.assign(to ?? resp.url);
    return false;
  }
  const n = document.getElementById("notices");
  if (n) n.innerHTML = await resp.text();
  for (const name of ["vault-changed", "vault-status"]) document.body.dispatchEvent(new Event(name));
  return resp.ok;
}

/** Does an act that was asked for already. @param {HTMLElement} b */
function doOnce(b) {
  b.dataset.asked = "1";
  b.click();
}

/** @param {string} text */
export function say(text) {
  const n = document.getElementById("notices");
  if (!n) return;
  const p = document.createElement("p");
  p.className = "done";
  p.textContent = text;
  n.replaceChildren(p);
  setTimeout(() => p.remove(), 4000);
}

// One-time codes: the seconds count down here, the next code comes from the device app.
setInterval(() => {
  for (const c of /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll(".one-time[data-left]"))) {
    const left = Number(c.dataset.left) - 1;
    if (Number(c.dataset.left) === 0) continue;
    c.dataset.left = String(Math.max(left, 0.5));
    const shown = c.querySelector("[data-seconds]");
    if (shown) shown.textContent = String(Math.max(0, left));
    if (left <= 0 || left === 4) void hx.then((h) => h?.trigger(c, "next-code"));
  }
}, 1000);

// A book that was drawn again still shows which item is on the sheet.
document.addEventListener("htmx:afterSettle", () => {
  const l = list();
  if (l) dress(l);
});

// Scripts are run in order, and this one uses what the next ones have.
document.addEventListener("DOMContentLoaded", setUp);
