// Draws in the page: the clasp, the offer, the slip and the alarm, in a closed shadow
// root in the top layer. A page can neither read nor press what stands there.
const STYLE = `
:host { all: initial !important; position: fixed !important; inset: 0 !important; width: 100vw !important; height: 100vh !important; margin: 0 !important; padding: 0 !important; border: 0 !important; background: none !important; pointer-events: none !important; overflow: visible !important; display: block !important; opacity: 1 !important; visibility: visible !important; z-index: 2147483647 !important; }
.paper, .clasp { pointer-events: auto; position: absolute; font: 15px/1.45 system-ui, sans-serif; color: #1c1a1b; }
.clasp { width: 26px; height: 26px; border: 0; background: none; padding: 2px; cursor: pointer; }
.clasp path { fill: none; stroke: #8b1a2b; stroke-width: 2.4; stroke-linecap: round; }
.clasp svg { background: #fff; border-radius: 50%; display: block; }
.paper { z-index: 1; background: #fff; border: 1px solid #1c1a1b; border-radius: 4px; box-sizing: border-box; }
button { font: inherit; color: inherit; background: none; border: 0; padding: 0; cursor: pointer; text-align: left; }
:focus-visible { outline: 2px solid #a9812f; outline-offset: 1px; }
.offer { max-height: min(340px, 70vh); overflow: auto; }
.offer button.account { display: flex; justify-content: space-between; gap: 1em; width: 100%; padding: 9px 13px; border-left: 3px solid transparent; border-bottom: 1px solid #d9dbdd; }
.offer button.account:hover, .offer button.account:focus { background: #f6ebea; border-left-color: #8b1a2b; outline: none; }
.offer .name { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; } .offer button.account:first-child .name { font-weight: 650; }
.offer .folder { color: #5f6062; font-size: 13px; white-space: nowrap; }
.foot { display: flex; gap: 18px; padding: 8px 13px; flex-wrap: wrap; } .act { font-weight: 600; font-size: 14px; text-decoration: underline; text-decoration-color: #b3b6b8; text-underline-offset: 3px; }
.say { padding: 9px 13px; margin: 0; } .say + .foot { padding-top: 0; }
.note { right: 26px; bottom: 26px; width: min(372px, calc(100vw - 32px)); padding: 12px 16px; } .note p { margin: 0 0 4px; } .note ul { margin: 4px 0 0; padding-left: 1.2em; } .note li { margin: 2px 0; }
.slip { top: 26px; right: 26px; width: min(372px, calc(100vw - 32px)); padding: 16px 18px; } .slip::before { content: ""; position: absolute; left: 16px; right: 16px; top: -7px; height: 6px; background: repeating-linear-gradient(90deg, #a9812f 0 14px, transparent 14px 20px); }
.slip h2, .alarm h2 { font: 400 20px Georgia, serif; margin: 0 0 10px; } .slip p { margin: 0 0 8px; }
.row { display: grid; grid-template-columns: 84px 1fr auto; gap: 8px; padding: 6px 0; border-top: 1px solid #d9dbdd; align-items: baseline; } .row > span:first-child { color: #5f6062; font-size: 14px; } .row input { font: inherit; color: inherit; border: 0; border-bottom: 1px solid transparent; padding: 0; min-width: 0; background: none; width: 100%; } .row input:focus { outline: none; border-bottom-color: #a9812f; } .row > :nth-child(2) { overflow-wrap: anywhere; min-width: 0; }
.acts { display: flex; gap: 18px; align-items: center; margin-top: 12px; flex-wrap: wrap; } .main { background: #8b1a2b; color: #fff; border-radius: 4px; padding: 7px 18px; font-weight: 600; }
.trouble { color: #7a4a00; border-left: 3px solid #b5731b; padding-left: 8px; margin: 8px 0 0; }
.alarm { top: 26px; left: 50%; transform: translateX(-50%); width: min(560px, calc(100vw - 32px)); padding: 20px 24px; border-left: 10px solid #b5731b; } .alarm p { margin: 0 0 10px; }
.alarm dl { display: grid; grid-template-columns: auto 1fr; gap: 6px 16px; margin: 0 0 12px; padding: 10px 0; border-top: 1px solid #d9dbdd; border-bottom: 1px solid #d9dbdd; } .alarm dt { color: #5f6062; font-size: 14px; } .alarm dd { margin: 0; font: 17px/1.4 ui-monospace, monospace; overflow-wrap: anywhere; } .alarm mark { background: none; color: inherit; font-weight: 700; border-bottom: 3px solid #b5731b; }
@media (prefers-color-scheme: dark) { .paper { background: #221e1f; color: #edebea; border-color: #6a686a; } .clasp svg { background: #221e1f; } .clasp path { stroke: #ee9aa4; } .offer button.account:hover, .offer button.account:focus { background: #3a2327; } .folder, .row > span:first-child, .alarm dt { color: #a6a4a5 !important; } .offer button.account, .row, .alarm dl { border-color: #3b3637; } .trouble { color: #f0bf76; } .alarm { border-left-color: #d08a2a; } }
`;

export const host = document.createElement("div");
export const root = host.attachShadow({ mode: "closed" });
let dressed = false;
let drawnAt = 0;

/** Before a press counts, what was drawn must have been there long enough to be read. */
const READING = 250;

/** Makes an element; texts are set as text, never as markup. @param {string} tag @param {string} [cls] @param {string} [text] */
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

// Whether the browser says that a paper is seen, uncovered and unaltered (Intersection Observer v2; where there is none, it has no say).
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

/** A button whose press counts only if a person meant it. @param {string} text @param {string} cls @param {() => void} act */
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
  b.style.left = `${field instanceof HTMLSelectElement && r.right + 34 < innerWidth ? r.right + 5 : r.right - 31}px`; // a list has its own sign at its end
  b.style.top = `${r.top + Math.min(r.height, 60) / 2 - 13}px`;
  root.append(b);
  raise();
}

/**
 * The offer below a field.
 * @param {{getBoundingClientRect: () => DOMRect}} field
 * @param {{say?: string, accounts: {name: string, folder: string, choose: () => void}[], acts: {text: string, act: () => void}[]}} what
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

/** Puts an offer beside its field again; one that moved has to be read anew. @param {HTMLElement} p @param {DOMRect} r */
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
