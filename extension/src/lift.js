// A frame may be as small as its one field, as a payment company's are: an offer of such a field stands in the page
// around the
// frame. What is chosen there is done in the frame; the page learns neither.
import * as dom from "./dom.js";
import { along, follow, isShown, note, offer, remove } from "./draw.js";
import { deep, seen } from "./snapshot.js";
import { tell } from "./tell.js";

/** @typedef {{text: string, note?: string, fills?: string, press: () => void}} Choice */
/** @typedef {{say?: string, lines: Choice[], acts: Choice[]}} Offering */

/** In the frame: its offer that stands outside. @type {{mark: string, what: Offering} | undefined} */
export let lifted;
/**
 * In the page around: the offer of a frame.
 * @type {{mark: string, frame: number, rect: {left: number, top: number, width: number, height: number}, say?:
 * string, lines: {text: string}[], acts: {text: string}[], anchor?: () => DOMRect,
 * stepped?: boolean, step?: number} | undefined}
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

/** Called when an offer is put away by its user. @type {() => void} */
let putAway = () => {};
/** @param {() => void} then */
export const onPutAway = (then) => (putAway = then);

/** Shows an offer, here or in the page around. @param {Element} field @param {Offering} what */
export function present(field, what) {
  if (!cramped()) {
    guest = undefined;
    const press = (/** @type {"lines" | "acts"} */ list, /** @type {number} */ i) => what[list][i]?.press();
    return offer(() => dom.rect(field), shown(what), press, putAway);
  }
  const mark = [...crypto.getRandomValues(new Uint8Array(12))].map((b) => b.toString(16).padStart(2, "0")).join("");
  const r = dom.rect(field);
  lifted = { mark, what };
  void tell({
    act: "lift",
    mark,
    rect: { left: r.left, top: r.top, width: r.width, height: r.height },
    ...shown(what),
  });
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
  const g = guest;
  guest = undefined;
  if (g) void tell({ act: "chosen", frame: g.frame, mark: g.mark, list: "none", index: -1 }); // its frame has none now
  if (lifted) void tell({ act: "lower", mark: lifted.mark });
  lifted = undefined;
}

/**
 * Moves the keyboard along the offer.
 * @param {number} step @param {boolean} [opening]
 * @returns {boolean} whether there is one
 */
export function stepAlong(step, opening = false) {
  if (lifted) void tell({ act: "lift-key", mark: lifted.mark, step });
  return Boolean(lifted) || along(step, opening);
}

/** Shows the offer of a frame, once it is known which frame it is. */
function welcome() {
  const source = guest && marks.get(guest.mark);
  const g = guest;
  if (!g || !source) return;
  const frame = /** @type {HTMLIFrameElement[]} */ (deep(dom.page(), "iframe")).find((f) => f.contentWindow === source);
  // nobody chooses for what they can't see
  if (!frame || !seen(frame) || frame.offsetWidth < 60 || frame.offsetHeight < 18) return;
  const anchor = (g.anchor = () => {
    const f = frame.getBoundingClientRect();
    return new DOMRect(
      f.left + frame.clientLeft + g.rect.left,
      f.top + frame.clientTop + g.rect.top,
      g.rect.width,
      g.rect.height,
    );
  });
  const chosen = (/** @type {"lines" | "acts"} */ list, /** @type {number} */ index) => {
    if (!seen(frame)) return away();
    guest = undefined;
    away();
    void tell({ act: "chosen", frame: g.frame, mark: g.mark, list, index });
  };
  offer(anchor, { say: g.say, lines: g.lines, acts: g.acts }, chosen, away);
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
  switch (m.act) {
    case "lifted":
      guest = m;
      welcome();
      break;
    case "lowered":
      if (guest?.mark === m.mark) away();
      break;
    case "lift-key":
      if (guest && guest.mark === m.mark) {
        if (guest.anchor) along(m.step, !guest.stepped);
        else guest.step = m.step; // once it is known which frame it is
        guest.stepped = true;
      }
      break;
    case "note":
      note(m.text, m.list);
      break;
    case "chosen": {
      if (!lifted || lifted.mark !== m.mark) break;
      const { what } = lifted;
      lifted = undefined;
      if (m.list === "lines" || m.list === "acts") what[/** @type {"lines" | "acts"} */ (m.list)][m.index]?.press();
    }
  }
}

if (window === top)
  addEventListener("message", (/** @type {MessageEvent} */ e) => {
    const mark = e.data?.redLocket;
    if (typeof mark !== "string" || mark.length !== 24 || !e.source) return;
    if (marks.size > 50) marks.clear();
    marks.set(mark, e.source);
    if (guest?.mark === mark && !guest.anchor) welcome();
  });
