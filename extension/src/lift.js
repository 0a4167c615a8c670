// A frame may be as small as its one field, as a payment company's are: an offer of such a field stands in the page
// around the
// frame. What is chosen there is done in the frame; the page learns neither.
import { tell } from "./tell.js";
import { along, follow, note, offer, remove } from "./draw.js";
import { root } from "./host.js";
import { deep, seen } from "./snapshot.js";

/**
 * @typedef {{say?: string, accounts: {name: string, folder: string, choose: () => void}[], acts: {text: string, act:
 * () => void}[]}} Offering
 */

/** In the frame: its offer that stands outside. @type {{mark: string, what: Offering} | undefined} */
export let lifted;
/**
 * In the page around: the offer of a frame.
 * @type {{mark: string, frame: number, rect: {left: number, top: number, width: number, height: number}, say?:
 * string, accounts: {name: string, folder: string}[], acts: string[], anchor?: {getBoundingClientRect: () =>
 * DOMRect}} | undefined}
 */
let guest;
/** Which window a mark came from. Only a frame itself can say that it is it. @type {Map<string, MessageEventSource>} */
const marks = new Map();

/** Whether an offer has no room in this frame, and may stand in the page around it. */
const cramped = () => parent !== window && parent === top && (innerHeight < 190 || innerWidth < 260);

/** Shows an offer, here or in the page around. @param {Element} field @param {Offering} what */
export function present(field, what) {
  if (!cramped()) {
    guest = undefined;
    return offer(field, what);
  }
  const mark = [...crypto.getRandomValues(new Uint8Array(12))].map((b) => b.toString(16).padStart(2, "0")).join("");
  const r = field.getBoundingClientRect();
  lifted = { mark, what };
  const shown = {
    say: what.say,
    accounts: what.accounts.map(({ name, folder }) => ({ name, folder })),
    acts: what.acts.map((a) => a.text),
  };
  void tell({ act: "lift", mark, rect: { left: r.left, top: r.top, width: r.width, height: r.height }, ...shown });
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
  guest = undefined;
  if (lifted) void tell({ act: "lower", mark: lifted.mark });
  lifted = undefined;
}

/** Moves the keyboard along the offer. @param {number} step @returns {boolean} whether there is one */
export function stepAlong(step) {
  if (lifted) void tell({ act: "lift-key", mark: lifted.mark, step });
  return Boolean(lifted) || along(step);
}

/** Shows the offer of a frame, once it is known which frame it is. */
function welcome() {
  const source = guest && marks.get(guest.mark);
  const g = guest;
  if (!g || !source) return;
  const frame = /** @type {HTMLIFrameElement[]} */ (deep(document.documentElement, "iframe")).find(
    (f) => f.contentWindow === source,
  );
  // nobody chooses for what they can't see
  if (!frame || !seen(frame) || frame.offsetWidth < 60 || frame.offsetHeight < 18) return;
  g.anchor = {
    getBoundingClientRect: () => {
      const f = frame.getBoundingClientRect();
      return new DOMRect(
        f.left + frame.clientLeft + g.rect.left,
        f.top + frame.clientTop + g.rect.top,
        g.rect.width,
        g.rect.height,
      );
    },
  };
  const chosen = (/** @type {string} */ kind, /** @type {number} */ index) => () => {
    away();
    void tell({ act: "chosen", frame: g.frame, mark: g.mark, kind, index });
  };
  offer(g.anchor, {
    say: g.say,
    accounts: g.accounts.map((a, i) => ({ ...a, choose: chosen("account", i) })),
    acts: g.acts.map((text, i) => ({ text, act: chosen("act", i) })),
  });
}

/** Keeps the offer of a frame beside it. */
export function stay() {
  const p = root.querySelector(".offer");
  if (guest?.anchor && p instanceof HTMLElement) follow(p, guest.anchor.getBoundingClientRect());
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
      if (guest?.mark === m.mark) along(m.step);
      break;
    case "note":
      note(m.text, m.list);
      break;
    case "chosen": {
      if (!lifted || lifted.mark !== m.mark) break;
      const { what } = lifted;
      lifted = undefined;
      if (m.kind === "account") what.accounts[m.index]?.choose();
      else what.acts[m.index]?.act();
    }
  }
}

if (window === top)
  addEventListener("message", (e) => {
    const mark = e.data?.redLocket;
    if (typeof mark !== "string" || mark.length !== 24 || !e.source) return;
    if (marks.size > 50) marks.clear();
    marks.set(mark, e.source);
    if (guest?.mark === mark && !guest.anchor) welcome();
  });
