// Hears what happens to the vault: locks the page, refreshes it, turns the rim.
import { hx, script } from "./htmx.js";

const button = document.querySelector("button.medallion");

// The page that locks goes to the lock page by its own form.
let leaving = false;
document.querySelector(".top-lock")?.addEventListener("submit", () => {
  leaving = true;
  setTimeout(() => (leaving = false), 3000);
});

let version = Number(/** @type {HTMLElement | null} */ (button)?.dataset.version ?? 0);

/** @param {{kind: string, data: string}} m */
function hear(m) {
  const [first, second] = m.data.split(" ");
  switch (m.kind) {
    case "locked":
      void leave();
      break;
    case "left":
      turn(Number(first));
      if (Number(second) !== version) announce(Number(second)); // something was missed
      break;
    default:
      announce(Number(first));
  }
}

/**
 * Goes to the lock page, unless the vault is open as it was when the page was drawn: a line that only broke, or what is
 * heard of the opening before, leads nobody away from what they type.
 */
async function leave() {
  if (leaving) return;
  const ask = { headers: { "X-By-Itself": "1" }, redirect: /** @type {const} */ ("manual") };
  const status = await fetch("/status", { ...ask, signal: AbortSignal.timeout(2000) }).catch(() => undefined);
  if (!status?.ok || status.headers.get("X-Opening") !== script.dataset.opening) location.replace("/");
}

// A vault that locks at once does so when its pages are left for something else. A page that is shown says so when it
// begins, as the one before it was left for it, and when another page is left: that may be in another window.
if (/** @type {HTMLElement | null} */ (button)?.dataset.atOnce) {
  const others = new BroadcastChannel("red-locket-left");
  const say = () => {
    const shown = document.visibilityState === "visible";
    void fetch(shown ? "/here" : "/left", { method: "POST", keepalive: true }).catch(() => {});
    if (!shown) others.postMessage("left");
  };
  document.addEventListener("visibilitychange", say);
  others.addEventListener("message", () => document.visibilityState === "visible" && say());
  if (document.visibilityState === "visible") say();
}

/** Has the parts of the page drawn again that show the vault. @param {number} at */
function announce(at) {
  version = at;
  document.body.dispatchEvent(new Event("vault-changed"));
  document.body.dispatchEvent(new Event("vault-status"));
}

/** Sets the medallion's rim to the time left, in seconds. @param {number} left */
function turn(left) {
  const rim = button?.querySelector(".medallion-rim");
  const whole = Number(/** @type {HTMLElement | null} */ (button)?.dataset.lockAfter ?? 0);
  if (rim && whole) rim.setAttribute("stroke-dashoffset", String(100 - Math.min(100, (left / whole) * 100)));
}
turn(Number(/** @type {HTMLElement | null} */ (button)?.dataset.left ?? 0));

// One line to the device app for all pages of this browser: a line for each page
// would use up the few that browsers allow to one host. It begins once the page can be
// used, and says what was missed.
window.addEventListener("load", () => void hx.then(() => setTimeout(listen)));

function listen() {
  if (!("SharedWorker" in window)) return listenAlone();
  const w = new SharedWorker(script.dataset.worker ?? "", "red-locket");
  w.port.onmessage = (e) => hear(e.data);
  w.port.start();
  window.addEventListener("pagehide", () => w.port.postMessage("bye"));
  window.addEventListener("pageshow", (e) => {
    if (e.persisted) location.reload();
  });
}

function listenAlone() {
  const line = new EventSource("/events");
  for (const kind of ["locked", "changed", "status", "left"])
    line.addEventListener(kind, (e) => hear({ kind, data: e.data }));
  line.onerror = () => {
    if (line.readyState !== EventSource.CLOSED) return; // it tries again by itself
    void leave();
    setTimeout(listenAlone, 2000);
  };
}
