// A frame of the extension's own in a page: an offer, a slip or a note. What is shown comes over a
// port from the content script that made the frame, and so does nothing else; what is pressed goes
// back over it.
import { make } from "./make.js";
import { hidden, moved, onTake, ripe, shown } from "./meant.js";
import { button, close, open, say, where } from "./parts.js";
import { slip } from "./slip.js";

const ext = globalThis.browser ?? chrome;

/** @typedef {{text: string, note?: string, fills?: string}} Row */
/** @typedef {{kind: "offer", say?: string, lines: Row[], acts: Row[]}} Offer */
/** @typedef {{kind: "note", say: string, list: string[]}} Note */

/** @param {"lines" | "acts"} list @param {number} index */
const press = (list, index) => say({ pressed: { list, index } });

/** @param {Offer} o */
function offer(o) {
  const p = make("div", "paper offer");
  p.setAttribute("role", "dialog");
  p.setAttribute("aria-label", "Red Locket");
  if (o.say) p.append(make("p", "say", o.say));
  o.lines.forEach((l, i) => {
    const b = button("", "account", () => press("lines", i));
    b.append(make("span", "name", l.text || "no user name"), make("span", "folder", l.note ?? ""));
    if (l.fills) b.append(make("span", "fills", l.fills));
    p.append(b);
  });
  if (o.acts.length) {
    const foot = make("div", "foot");
    foot.append(
      ...o.acts.map((a, i) => {
        const b = button(a.text, "act", () => press("acts", i));
        if (a.fills) b.title = a.fills;
        return b;
      }),
    );
    p.append(foot);
  }
  return p;
}

/** @param {Note} n */
function note(n) {
  const p = make("div", "paper note");
  p.setAttribute("role", "status");
  p.append(make("p", "", n.say));
  if (n.list.length) {
    const ul = make("ul");
    ul.append(...n.list.map((l) => make("li", "", l)));
    p.append(ul);
  }
  p.append(button("Close", "act", close));
  return p;
}

/** Says how high the frame has to be. */
function measure() {
  const p = document.body.firstElementChild;
  if (p) say({ height: Math.ceil(p.getBoundingClientRect().bottom) });
}
new ResizeObserver(measure).observe(document.body);

/** The button to which the keyboard was moved. @type {HTMLElement | undefined} */
let at;

/** Moves the keyboard along the buttons. @param {number} step */
function along(step) {
  const list = [...document.querySelectorAll("button")];
  const i = list.indexOf(/** @type {HTMLButtonElement} */ (document.activeElement));
  window.focus();
  at = list[i < 0 && step < 0 ? list.length - 1 : (i + step + list.length) % list.length];
  at?.focus();
}

// The frame may get the keyboard only after it was told to which button: the button has lost it again by then.
addEventListener("focus", () =>
  setTimeout(() => {
    if (at?.isConnected && document.activeElement === document.body) at.focus();
  }),
);

/** @param {any} m */
function hear(m) {
  if (m.show) {
    const what = m.show;
    document.body.replaceChildren(
      what.kind === "offer" ? offer(what) : what.kind === "slip" ? slip(what.slip) : note(what),
    );
    shown(m.pointer);
    measure();
    requestAnimationFrame(measure); // once the frame has its width, and its letters
    void document.fonts.ready.then(measure);
    setTimeout(measure, 120);
  }
  if (m.moved) moved(m.pointer);
  if (m.step) along(m.step);
  if (m.away) {
    document.body.replaceChildren();
    hidden();
  }
}

addEventListener("keydown", (e) => {
  if (e.key === "Escape") close();
  if (e.key !== "ArrowDown" && e.key !== "ArrowUp") return;
  if (e.target instanceof HTMLInputElement) return;
  along(e.key === "ArrowDown" ? 1 : -1);
  e.preventDefault();
});

addEventListener("message", (e) => {
  if (e.source === parent && e.data === "red-locket" && e.ports[0]) open(e.ports[0], hear);
});

onTake(async () => {
  const rect = await where();
  const url = rect && (await ext.runtime.sendMessage({ act: "picture", rect }));
  return typeof url === "string" ? url : undefined;
});

// For tests, which wait for that rather than for a time.
Object.assign(globalThis, { ripe });
