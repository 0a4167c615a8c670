// A frame may be as small as its one field, as a payment company's are: an offer of such a field stands in the page
// around the frame. The frame alone knows whether it has one, and does what is chosen there; the page around it shows
// what it is told, and tells what was pressed. The page's own scripts learn neither.
import * as dom from "./dom.js";
import { along, follow, isShown, note, offer, remove } from "./draw.js";
import { deep, fields, groupOf, outline, seen, senders } from "./snapshot.js";
import { tell } from "./tell.js";

/** @typedef {{text: string, note?: string, fills?: string, press: () => void}} Choice */
/** @typedef {{say?: string, lines: Choice[], acts: Choice[]}} Offering */
/** @typedef {{left: number, top: number, width: number, height: number}} Place */

/** Names this frame to the page around it, which finds the frame by it. */
const mark = [...crypto.getRandomValues(new Uint8Array(12))].map((b) => b.toString(16).padStart(2, "0")).join("");
/** In the frame: its offer that stands outside, by its number. @type {{n: number, what: Offering} | undefined} */
let lifted;
let n = 0;

/**
 * In the page around: the offer of a frame, as the frame told it.
 * @typedef {{mark: string, n: number, frame: number, rect: Place, say?: string, lines: {text: string}[],
 * acts: {text: string}[]}} Guest
 * @type {(Guest & {anchor?: () => DOMRect, stepped?: boolean, step?: number}) | undefined}
 */
let guest;
/** Which window a mark came from. Only a frame itself can say that it is it. @type {Map<string, MessageEventSource>} */
const marks = new Map();

/** Whether an offer has no room in this frame, and may stand in the page around it. */
const cramped = () => parent !== window && parent === top && (innerHeight < 190 || innerWidth < 260);

/** What of an offering is shown. @param {Offering} what */
const shown = ({ say, lines, acts }) => {
  const row = (/** @type {Choice} */ { text, note, fills }) => ({ text, note, fills });
  return { say, lines: lines.map(row), acts: acts.map(row) };
};

/** Called when an offer was put away: by its user, or by what came in its place. @type {(byUser: boolean) => void} */
let putAway = () => {};
/** @param {(byUser: boolean) => void} then */
export const onPutAway = (then) => (putAway = then);

/** Whether an offer of this frame stands, here or in the page around. */
export const standing = () => Boolean(lifted) || (!guest && isShown("offer"));

/**
 * What an offer at a field should leave free: the other fields, what they are called, and what sends them.
 * @param {HTMLElement} field
 */
function free(field) {
  const group = groupOf(/** @type {import("./snapshot.js").Box} */ (field));
  const words = dom.all(document, "label, h1, h2, legend");
  const others = fields().filter((f) => f !== field);
  return [...others.map(outline), ...[...senders(group), ...words.slice(0, 60)].map(dom.rect)].filter(
    (r) => r.width > 0 && r.height > 0,
  );
}

/** Shows an offer, here or in the page around. @param {HTMLElement} field @param {Offering} what */
export function present(field, what) {
  if (!cramped()) {
    dropGuest(false);
    const press = (/** @type {"lines" | "acts"} */ list, /** @type {number} */ i) => what[list][i]?.press();
    return offer(
      () => outline(/** @type {import("./snapshot.js").Box} */ (field)),
      shown(what),
      press,
      () => putAway(true),
      field,
      () => free(field),
    );
  }
  lifted = { n: ++n, what };
  const r = dom.rect(field);
  const rect = { left: r.left, top: r.top, width: r.width, height: r.height };
  void tell({ act: "lift", mark, n, rect, ...shown(what) });
  parent.postMessage({ redLocket: mark }, "*"); // says where, and nothing else
}

/** Says something, here or in the page around. @param {string} text @param {string[]} [list] */
export function report(text, list = []) {
  if (cramped()) void tell({ act: "note-up", text, list });
  else note(text, list);
}

/** Takes the offer away, wherever it stands. */
export function away() {
  remove("offer");
  dropGuest(false);
  if (lifted) void tell({ act: "lower", mark, n: lifted.n });
  lifted = undefined;
}

/** Forgets the offer of a frame, and tells the frame so. @param {boolean} byUser */
function dropGuest(byUser) {
  const g = guest;
  guest = undefined;
  if (g) void tell({ act: "dropped", frame: g.frame, mark: g.mark, n: g.n, byUser });
}

/**
 * Moves the keyboard along the offer.
 * @param {number} step @param {boolean} [opening]
 * @returns {boolean} whether there is one
 */
export function stepAlong(step, opening = false) {
  if (lifted) void tell({ act: "lift-key", mark, n: lifted.n, step });
  return Boolean(lifted) || along(step, opening);
}

/** Shows the offer of a frame, once it is known which frame it is. */
function welcome() {
  const g = guest;
  const source = g && marks.get(g.mark);
  if (!g || !source) return;
  const frame = /** @type {HTMLIFrameElement[]} */ (deep(dom.page(), "iframe")).find((f) => f.contentWindow === source);
  // nobody chooses for what they can't see
  if (!frame || !seen(frame) || frame.offsetWidth < 60 || frame.offsetHeight < 18) return dropGuest(false);
  g.anchor = () => {
    const f = frame.getBoundingClientRect();
    const { left, top, width, height } = g.rect;
    return new DOMRect(f.left + frame.clientLeft + left, f.top + frame.clientTop + top, width, height);
  };
  const chosen = (/** @type {"lines" | "acts"} */ list, /** @type {number} */ index) => {
    if (seen(frame)) void tell({ act: "chosen", frame: g.frame, mark: g.mark, n: g.n, list, index });
    else away();
  };
  offer(g.anchor, { say: g.say, lines: g.lines, acts: g.acts }, chosen, () => dropGuest(true));
  if (g.step) along(g.step, true);
}

/** Whether the offer that is shown is a frame's. */
export const hasGuest = () => Boolean(guest);

/** Keeps the offer of a frame beside it. */
export function stay() {
  if (guest?.anchor && isShown("offer")) follow();
}

/** What frames and the page around them say to each other, by way of the background. @param {any} m */
export function heard(m) {
  const ours = guest && guest.mark === m.mark && guest.n === m.n ? guest : undefined;
  const mine = lifted && m.mark === mark && lifted.n === m.n ? lifted : undefined;
  switch (m.act) {
    case "lifted":
      if (guest && guest.mark !== m.mark) dropGuest(false);
      guest = m;
      welcome();
      break;
    case "lowered":
      if (!ours) break;
      guest = undefined;
      remove("offer");
      break;
    case "lift-key":
      if (!ours) break;
      if (ours.anchor) along(m.step, !ours.stepped);
      else ours.step = m.step; // once it is known which frame it is
      ours.stepped = true;
      break;
    case "note":
      note(m.text, m.list);
      break;
    case "dropped":
      if (!mine) break;
      lifted = undefined;
      putAway(Boolean(m.byUser));
      break;
    case "chosen":
      if (m.list === "lines" || m.list === "acts")
        mine?.what[/** @type {"lines" | "acts"} */ (m.list)][m.index]?.press();
  }
}

if (window === top)
  addEventListener("message", (/** @type {MessageEvent} */ e) => {
    const said = e.data?.redLocket;
    if (typeof said !== "string" || said.length !== 24 || !e.source) return;
    if (marks.size > 50) marks.clear();
    marks.set(said, e.source);
    if (guest?.mark === said && !guest.anchor) welcome();
  });
