// Draws in the page: the clasps, and the frames of the extension's origin in which everything that
// says something of a person stands, in a closed shadow root in the top layer. A page can neither
// read nor press what stands there.
import * as dom from "./dom.js";
import { host, root } from "./host.js";
import STYLE from "./host.css";

const ext = globalThis.browser ?? chrome;
/** The extension's own origin: nobody else hears what is said to a frame. */
const ORIGIN = new URL(ext.runtime.getURL("")).origin;

let dressed = false;
let claspsAt = 0;
/** Where the pointer was last, on the screen. @type {{x: number, y: number} | undefined} */
let pointer;
dom.listen(window, "pointermove", (/** @type {any} */ e) => {
  if (e.isTrusted) pointer = { x: e.screenX, y: e.screenY };
});

/** Before a press counts, what was drawn must have been there long enough to be seen. */
const READING = 250;

/** Where the host has to stand: a dialog that shuts out the rest of the page shuts out what stands outside of it. */
function ground() {
  const open = dom.all(document, "dialog:modal");
  return open.length ? open[open.length - 1] : dom.page();
}

/** Puts the host above everything the page has. @param {boolean} [anew] */
export function raise(anew = false) {
  if (dom.leaving.signal.aborted) return; // whatever it was still waiting for: its host doesn't come back
  if (!dressed) {
    // most pages never need it
    dressed = true;
    const sheet = new CSSStyleSheet();
    sheet.replaceSync(STYLE);
    root.adoptedStyleSheets = [sheet];
  }
  if (!host.isConnected || host.parentElement !== ground()) dom.append(ground(), host);
  if (typeof host.showPopover === "function") {
    host.popover = "manual";
    if (anew && host.matches(":popover-open")) host.hidePopover();
    if (!host.matches(":popover-open")) host.showPopover();
  }
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

/** Whether what the host shows can be seen where it belongs, as far as the page's own side can tell. */
function plainly() {
  if (!host.isConnected || host.getAnimations().length) return false;
  for (let el = /** @type {Element | null} */ (host); el; el = dom.parent(el)) {
    const s = /** @type {Record<string, string>} */ (/** @type {unknown} */ (getComputedStyle(el)));
    if (Number(s.opacity) < 0.99 || (el !== host && s.transform !== "none")) return false;
    for (const [k, v] of Object.entries(PLAIN)) if (s[k] !== undefined && s[k] !== "" && s[k] !== v) return false;
  }
  const r = host.getBoundingClientRect();
  return Math.abs(r.left) < 1 && Math.abs(r.top) < 1;
}

/** @typedef {{left: number, top: number, right: number, bottom: number}} Box */

/** How wide an offer is at least, in pixels. */
const NARROW = 330;

/** How much of a place another box covers, in square pixels. @param {Box} a @param {Box} b */
const overlap = (a, b) =>
  Math.max(0, Math.min(a.right, b.right) - Math.max(a.left, b.left)) *
  Math.max(0, Math.min(a.bottom, b.bottom) - Math.max(a.top, b.top));

/**
 * Puts something beside a field, where it covers least of what should stay free: below, at its side, or above. Where it
 * was put it stays, as long as there is room.
 * @param {HTMLElement} el @param {DOMRect} r @param {number} width @param {number} height @param {Box[]} free
 * @param {number} [stay] the place where it is
 * @returns {number} the place
 */
function beside(el, r, width, height, free, stay) {
  const w = Math.min(width, innerWidth - 8);
  const left = Math.max(4, Math.min(r.left, innerWidth - w - 4));
  const places = [
    { left, top: r.bottom + 3, wide: w },
    { left: r.right + 6, top: Math.max(4, Math.min(r.top, innerHeight - height - 4)), wide: Math.min(w, NARROW) },
    { left, top: r.top - 3 - height, wide: w },
  ].map((p, at) => ({ ...p, at, right: p.left + p.wide, bottom: p.top + height }));
  const fits = places.filter((p) => p.top >= 4 && p.bottom + 4 <= innerHeight && p.right + 4 <= innerWidth);
  let best = fits[0] ?? places[0],
    least = Infinity;
  const still = fits.find((p) => p.at === stay);
  for (const p of still ? [still] : fits) {
    const covered = free.reduce((n, f) => n + overlap(p, f), 0);
    if (covered < least - 1) {
      best = p;
      least = covered;
    }
  }
  el.style.left = `${best.left}px`;
  el.style.top = `${best.top}px`;
  el.style.width = `${best.wide}px`;
  return best.at;
}

const SVG = "http://www.w3.org/2000/svg";

/** Takes every clasp away. */
export function unclasp() {
  for (const el of root.querySelectorAll(".clasp")) el.remove();
}

/**
 * The clasp at a field's end: two half circles. It says nothing of anybody.
 * @param {Element} field @param {() => void} press
 */
export function clasp(field, press) {
  const b = dom.make("button");
  b.className = "clasp";
  b.setAttribute("type", "button");
  b.setAttribute("aria-label", "Red Locket: fill in");
  b.tabIndex = -1;
  b.addEventListener("click", (e) => {
    e.stopPropagation();
    if (!e.isTrusted || e.timeStamp - claspsAt < READING || !plainly()) return;
    if ((e.clientX || e.clientY) && dom.at(e.clientX, e.clientY) !== host) return;
    press();
  });
  b.addEventListener("mousedown", (e) => e.preventDefault()); // the field keeps the focus
  const svg = dom.makeNS(SVG, "svg");
  svg.setAttribute("viewBox", "0 0 24 24");
  for (const d of ["M10.5 6A6 6 0 0 0 10.5 18", "M13.5 6A6 6 0 0 1 13.5 18"]) {
    const p = dom.makeNS(SVG, "path");
    p.setAttribute("d", d);
    svg.append(p);
  }
  b.append(svg);
  const r = dom.rect(field);
  const side = Math.max(18, Math.min(26, r.height - 2));
  if (side < 22) b.style.padding = "0"; // in a small field the sign itself is as large as can be
  b.style.width = b.style.height = `${side}px`;
  // a list has its own sign at its end
  const behind = field instanceof HTMLSelectElement && r.right + 34 < innerWidth;
  b.style.left = `${behind ? r.right + 5 : r.right - side - 5}px`;
  b.style.top = `${r.top + (Math.min(r.height, 60) - side) / 2}px`;
  if (!root.querySelector(".clasp")) claspsAt = performance.now();
  root.append(b);
  raise();
}

/**
 * A frame of the extension's origin, and the port to it: what is shown in it, the keyboard's step that waits for it,
 * since when it stands where it stands, and what is done with its presses and questions.
 * @typedef {{frame: HTMLIFrameElement, port?: MessagePort, what?: any, height: number, ready: boolean, step: number,
 * still: number, where: string, side?: number, watched: boolean, place: () => void, closed: () => void,
 * back: () => void,
 * ask: (m: any) => Promise<any>,
 * press: (p: {list: "lines" | "acts", index: number}) => void}} Paper
 */

/** @type {Map<string, Paper>} */
const papers = new Map();

/** @param {string} kind @returns {Paper} */
function paper(kind) {
  const had = papers.get(kind);
  if (had) {
    if (!had.frame.isConnected) root.append(had.frame);
    return had;
  }
  const frame = /** @type {HTMLIFrameElement} */ (dom.make("iframe"));
  frame.className = `away ${kind}`;
  frame.setAttribute("title", "Red Locket");
  /** @type {Paper} */
  const p = {
    frame,
    height: 0,
    ready: false,
    step: 0,
    still: 0,
    where: "",
    watched: false,
    place: () => {},
    press: () => {},
    ask: async () => ({}),
    closed: () => {},
    back: () => {},
  };
  papers.set(kind, p);
  frame.addEventListener("load", () => {
    const { port1, port2 } = new MessageChannel();
    p.ready = false;
    p.port = port1;
    port1.onmessage = ({ data }) => heard(p, data);
    frame.contentWindow?.postMessage("red-locket", ORIGIN, [port2]);
  });
  frame.src = ext.runtime.getURL("paper.html");
  root.append(frame);
  return p;
}

/** Has the frame of the offer there before it is wanted: it takes a moment to come. */
export function prepare() {
  raise();
  paper("offer");
}

/** @param {Paper} p @param {any} m */
function heard(p, m) {
  if (m.ready) {
    p.ready = true;
    if (p.what) p.port?.postMessage({ show: p.what, pointer });
    if (p.what && p.step) {
      p.frame.focus(); // it had none to take while it was loading
      p.port?.postMessage({ step: p.step });
    }
    p.step = 0;
  }
  if (typeof m.height === "number" && p.what) {
    p.height = Math.min(m.height, innerHeight - 8);
    p.frame.style.height = `${p.height}px`;
    p.place();
    p.frame.classList.remove("away");
  }
  if (m.pressed && p.what && plainly() && performance.now() - p.still >= READING) p.press(m.pressed);
  if (m.ask) void p.ask(m.message).then((v) => p.port?.postMessage({ answer: m.ask, with: v }));
  if (m.where) p.port?.postMessage({ answer: m.where, with: placeOf(p.frame) });
  if (m.close) {
    hide(p);
    p.closed();
  }
}

/**
 * Where a frame stands in the page, if all of it is in the window. In a frame of the page's own it is where it stands
 * on the screen, which Firefox says.
 * @param {HTMLElement} frame
 */
function placeOf(frame) {
  const r = frame.getBoundingClientRect();
  const inside = r.left >= 0 && r.top >= 0 && r.right <= innerWidth && r.bottom <= innerHeight;
  if (!inside || !plainly() || dom.isHidden()) return undefined;
  const { width, height } = r;
  if (window === top) return { x: r.left + scrollX, y: r.top + scrollY, width, height };
  const at = onScreen();
  return at && { x: at.x + r.left, y: at.y + r.top, width, height, onScreen: true };
}

/** Where the window's inner part is on the screen, where the browser says it: Firefox. */
export function onScreen() {
  const { mozInnerScreenX: x, mozInnerScreenY: y } = /** @type {any} */ (window);
  return typeof x === "number" && typeof y === "number" ? { x, y } : undefined;
}

/** @param {Paper} p @param {any} what */
function show(p, what) {
  const same = JSON.stringify(p.what) === JSON.stringify(what);
  p.what = what;
  if (same) return raise(); // who is reading it reads on
  p.still = performance.now();
  raise();
  if (p.ready) p.port?.postMessage({ show: what, pointer });
  if (!p.watched) watchPlace(p);
}

/** Follows a frame while it is shown: one that the page moves has to be looked at again. @param {Paper} p */
function watchPlace(p) {
  p.watched = Boolean(p.what);
  if (!p.what) return;
  const r = p.frame.getBoundingClientRect();
  const where = `${Math.round(r.left)} ${Math.round(r.top)} ${plainly()}`;
  if (where !== p.where) {
    p.where = where;
    p.still = performance.now();
    p.port?.postMessage({ moved: true, pointer });
  }
  requestAnimationFrame(() => watchPlace(p));
}

/** @param {Paper} p */
function hide(p) {
  const held = root.activeElement === p.frame;
  p.what = undefined;
  p.side = undefined;
  p.where = "";
  p.frame.classList.add("away");
  p.port?.postMessage({ away: true });
  if (held) p.back(); // the keyboard goes on where it was
}

/** Puts a paper away. @param {string} kind */
export function remove(kind) {
  const p = papers.get(kind);
  if (p?.what) hide(p);
}

/** Whether a paper is shown. @param {string} kind */
export const isShown = (kind) => Boolean(papers.get(kind)?.what);

/** @param {DOMRect} r */
const widthFor = (r) => Math.max(NARROW, Math.min(r.width, 440));

/**
 * The offer below a field.
 * @param {() => DOMRect} rect where the field is
 * @param {{say?: string, lines: {text: string, note?: string, fills?: string}[], acts: {text: string}[]}} what
 * @param {(list: "lines" | "acts", index: number) => void} press
 * @param {() => void} closed
 * @param {HTMLElement} [field] what gets the keyboard back
 * @param {() => Box[]} [free] what the offer should leave free
 */
export function offer(rect, what, press, closed, field, free = () => []) {
  const p = paper("offer");
  p.back = () => field && dom.focus(field);
  p.press = ({ list, index }) => press(list, index);
  p.closed = closed;
  p.place = () => {
    const r = rect();
    p.side = beside(p.frame, r, widthFor(r), p.height, free(), p.side);
  };
  const r = rect();
  beside(p.frame, r, widthFor(r), p.height || 120, free());
  show(p, { kind: "offer", ...what });
}

/** Puts the offer beside its field again. */
export function follow() {
  papers.get("offer")?.place();
}

/**
 * Moves the keyboard along the offer, which has the focus from then on.
 * @param {number} step @param {boolean} [opening] it is being opened by this key
 * @returns {boolean} whether there was one
 */
export function along(step, opening = false) {
  const p = papers.get("offer");
  if (!p?.what || (!opening && (!plainly() || performance.now() - p.still < READING))) return false;
  p.frame.classList.remove("away");
  p.frame.focus();
  if (p.ready) p.port?.postMessage({ step });
  else p.step = step; // once it is there
  return true;
}

/** @param {Paper} p @param {"top" | "bottom"} edge */
function corner(p, edge) {
  const width = Math.min(372, innerWidth - 32);
  p.frame.style.width = `${width}px`;
  p.frame.style.left = `${innerWidth - width - 26 > 0 ? innerWidth - width - 26 : 16}px`;
  p.frame.style.top = edge === "top" ? "26px" : `${innerHeight - p.height - 26}px`;
}

/** Says something for a while, at the foot of the page. @param {string} text @param {string[]} [list] */
export function note(text, list = []) {
  const p = paper("note");
  p.place = () => corner(p, "bottom");
  p.frame.style.width = `${Math.min(372, innerWidth - 32)}px`;
  const what = { kind: "note", say: text, list };
  show(p, what);
  setTimeout(() => p.what === what && hide(p), list.length ? 20000 : 6000);
}

/** The slip. @param {any} slip @param {(m: any) => Promise<any>} ask @param {number} [life] how long it stays, in ms */
export function showPaperSlip(slip, ask, life) {
  const p = paper("slip");
  p.ask = ask;
  p.place = () => corner(p, "top");
  p.frame.style.width = `${Math.min(372, innerWidth - 32)}px`;
  const what = { kind: "slip", slip };
  show(p, what);
  if (life) setTimeout(() => p.what === what && hide(p), life);
}
