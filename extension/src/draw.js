// Draws in the page: the clasp, the offer, the prompt and the alarm, in a closed shadow
// root in the top layer. A page can neither read nor press what stands there.
import { host, root } from "./host.js";
import STYLE from "./paper.css";
/** @import { Offering } from "./lift.js" */

let dressed = false;
let drawnAt = 0;

/** Before a press counts, what was drawn must have been there long enough to be read. */
const READING = 250;

/**
 * Makes an element; texts are set as text, never as markup.
 * @param {string} tag
 * @param {string} [cls]
 * @param {string} [text]
 */
export function make(tag, cls, text) {
  const el = document.createElement(tag);
  if (cls) el.className = cls;
  if (text !== undefined) el.textContent = text;
  return el;
}

/** Where the host has to stand: a dialog that shuts out the rest of the page shuts out what stands outside of it. */
function ground() {
  const open = document.querySelectorAll("dialog:modal");
  return open.length ? open[open.length - 1] : document.documentElement;
}

/** Puts the host above everything the page has. @param {boolean} [anew] */
export function raise(anew = false) {
  if (!dressed) {
    // most pages never need it
    dressed = true;
    const sheet = new CSSStyleSheet();
    sheet.replaceSync(STYLE);
    root.adoptedStyleSheets = [sheet];
  }
  if (!host.isConnected || host.parentElement !== ground()) ground().append(host);
  if (typeof host.showPopover === "function") {
    host.popover = "manual";
    if (anew && host.matches(":popover-open")) host.hidePopover();
    if (!host.matches(":popover-open")) host.showPopover();
  }
}

// Whether the browser says that a paper is seen, uncovered and unaltered (Intersection Observer v2; where there is
// none, it has no say).
/** @type {WeakMap<Element, boolean>} */
const uncovered = new WeakMap();
const watcher = new IntersectionObserver(
  (list) => {
    for (const e of list) if ("isVisible" in e) uncovered.set(e.target, Boolean(e.isVisible));
  },
  /** @type {IntersectionObserverInit} */ ({ threshold: [0.99], trackVisibility: true, delay: 100 }),
);

/** Shows a paper. @param {HTMLElement} p */
export function show(p) {
  root.append(p);
  drawnAt = performance.now();
  raise();
  watcher.observe(p);
}

const PLAIN = {
  filter: "none",
  clipPath: "none",
  maskImage: "none",
  scale: "none",
  rotate: "none",
  translate: "none",
  mixBlendMode: "normal",
  visibility: "visible",
  zoom: "1",
};

/** Whether a press is a person's, on something they could see. @param {Event} e */
function meant(e) {
  if (!e.isTrusted || performance.now() - drawnAt < READING) return false;
  for (let el = /** @type {Element | null} */ (host); el; el = el.parentElement) {
    const s = /** @type {Record<string, string>} */ (/** @type {unknown} */ (getComputedStyle(el)));
    if (Number(s.opacity) < 0.99 || (el !== host && s.transform !== "none")) return false;
    for (const [k, v] of Object.entries(PLAIN)) if (s[k] !== undefined && s[k] !== "" && s[k] !== v) return false;
  }
  const paper = e.currentTarget instanceof Element ? e.currentTarget.closest(".paper") : null;
  if (paper && uncovered.get(paper) === false) return false;
  if (e instanceof MouseEvent && (e.clientX || e.clientY))
    return document.elementFromPoint(e.clientX, e.clientY) === host;
  return true;
}

/**
 * A button whose press counts only if a person meant it.
 * @param {string} text
 * @param {string} cls
 * @param {() => void} act
 */
export function button(text, cls, act) {
  const b = make("button", cls, text);
  b.setAttribute("type", "button");
  b.addEventListener("click", (e) => {
    e.stopPropagation();
    if (meant(e)) act();
  });
  b.addEventListener("mousedown", (e) => e.preventDefault()); // the field keeps the focus
  return b;
}

/** @param {HTMLElement} el @param {DOMRect} r @param {number} width */
function below(el, r, width) {
  el.style.left = `${Math.max(4, Math.min(r.left, innerWidth - width - 4))}px`;
  if (r.bottom + 120 < innerHeight || r.top < 140) el.style.top = `${r.bottom + 3}px`;
  else el.style.bottom = `${innerHeight - r.top + 3}px`;
  el.style.width = `${Math.min(width, innerWidth - 8)}px`;
}

/** @param {string} cls */
export function remove(cls) {
  for (const el of root.querySelectorAll(`.${cls}`)) el.remove();
}

const SVG = "http://www.w3.org/2000/svg";

/** The clasp at a field's end: two half circles. @param {Element} field @param {() => void} press */
export function clasp(field, press) {
  const b = button("", "clasp", press);
  b.setAttribute("aria-label", "Red Locket: fill in");
  b.tabIndex = -1;
  const svg = document.createElementNS(SVG, "svg");
  svg.setAttribute("viewBox", "0 0 24 24");
  for (const d of ["M10.5 6A6 6 0 0 0 10.5 18", "M13.5 6A6 6 0 0 1 13.5 18"]) {
    const p = document.createElementNS(SVG, "path");
    p.setAttribute("d", d);
    svg.append(p);
  }
  b.append(svg);
  const r = field.getBoundingClientRect();
  // a list has its own sign at its end
  b.style.left = `${field instanceof HTMLSelectElement && r.right + 34 < innerWidth ? r.right + 5 : r.right - 31}px`;
  b.style.top = `${r.top + Math.min(r.height, 60) / 2 - 13}px`;
  root.append(b);
  raise();
}

/**
 * The offer below a field.
 * @param {{getBoundingClientRect: () => DOMRect}} field
 * @param {Offering} what
 */
export function offer(field, what) {
  remove("offer");
  const p = make("div", "paper offer");
  p.setAttribute("role", "dialog");
  p.setAttribute("aria-label", "Red Locket");
  if (what.say) p.append(make("p", "say", what.say));
  for (const a of what.accounts) {
    const b = button("", "account", a.choose);
    b.append(make("span", "name", a.name || "no user name"), make("span", "folder", a.folder));
    p.append(b);
  }
  if (what.acts.length) {
    const foot = make("div", "foot");
    for (const a of what.acts) foot.append(button(a.text, "act", a.act));
    p.append(foot);
  }
  const r = field.getBoundingClientRect();
  below(p, r, Math.max(330, Math.min(r.width, 440)));
  place = r;
  show(p);
}

/** Where the field stood when the offer was last put beside it. @type {DOMRect | undefined} */
let place;

/**
 * Puts an offer beside its field again; one that moved has to be read again.
 * @param {HTMLElement} p
 * @param {DOMRect} r
 */
export function follow(p, r) {
  if (
    place &&
    Math.abs(place.left - r.left) < 2 &&
    Math.abs(place.bottom - r.bottom) < 2 &&
    Math.abs(place.width - r.width) < 2
  )
    return;
  p.style.top = p.style.bottom = "";
  below(p, r, Math.max(330, Math.min(r.width, 440)));
  place = r;
  drawnAt = performance.now();
}

/** Moves the keyboard along the offer. @param {number} step @returns {boolean} whether there was one */
export function along(step) {
  const list = /** @type {HTMLElement[]} */ ([...root.querySelectorAll(".offer button")]);
  if (!list.length) return false;
  const i = list.indexOf(/** @type {HTMLElement} */ (root.activeElement));
  list[i < 0 && step < 0 ? list.length - 1 : (i + step + list.length) % list.length].focus();
  return true;
}

/** Says something for a while, at the foot of the page. @param {string} text @param {string[]} [list] */
export function note(text, list = []) {
  remove("note");
  const p = make("div", "paper note");
  p.setAttribute("role", "status");
  p.append(make("p", "", text));
  if (list.length) {
    const ul = make("ul");
    ul.append(...list.map((l) => make("li", "", l)));
    p.append(ul);
  }
  p.append(button("Close", "act", () => p.remove()));
  show(p);
  setTimeout(() => p.remove(), list.length ? 20000 : 6000);
}

/** An address with what gives it away marked. @param {{text: string, mark?: boolean}[]} parts */
function address(parts) {
  const dd = make("dd");
  for (const p of parts) dd.append(p.mark ? make("mark", "", p.text) : p.text);
  return dd;
}

/** The look-alike alarm. @param {any} a @param {() => void} leave @param {() => void} vouch */
export function alarm(a, leave, vouch) {
  remove("alarm");
  const p = make("section", "paper alarm");
  p.setAttribute("role", "alertdialog");
  p.setAttribute("aria-label", "Red Locket: look-alike");
  p.append(
    make("h2", "", `This is not the ${a.title} you know`),
    make("p", "", "Its address is made to look like one that you keep. Nothing is offered or filled here."),
  );
  const dl = make("dl");
  dl.append(make("dt", "", "This page"), address(a.here), make("dt", "", "Yours"), address(a.there));
  const acts = make("div", "acts");
  acts.append(
    button("Go to mine instead", "main", leave),
    button("This is right …", "act", vouch),
    button("Close", "act", () => p.remove()),
  );
  p.append(dl, make("p", "", a.why), acts);
  show(p);
}
