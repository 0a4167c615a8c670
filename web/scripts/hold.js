// What somebody is at stays, though a page draws itself again: what is pressed isn't drawn under the pointer, where the
// press would come to nothing, and a secret that was shown is shown as it is now.
import { hx } from "./htmx.js";

/** Where the pointer is down now. @type {Element | null} */
let down = null;
/** Resolves once nothing is pressed any more, and what was pressed has heard of it. */
let released = Promise.resolve();

/** Waits until nothing is pressed. */
export const untilReleased = () => released;

document.addEventListener(
  "pointerdown",
  (e) => {
    down = e.target instanceof Element ? e.target : null;
    released = new Promise((done) => {
      const end = () =>
        setTimeout(() => {
          down = null;
          done();
        });
      for (const kind of ["pointerup", "pointercancel"]) addEventListener(kind, end, { once: true, capture: true });
    });
  },
  true,
);

// What htmx draws again by itself is asked for once more afterwards.
document.addEventListener("htmx:beforeSwap", (e) => {
  const { target, requestConfig, ...detail } = /** @type {CustomEvent} */ (e).detail;
  const by = requestConfig?.triggeringEvent?.type ?? "";
  if (!by.startsWith("vault-") || !detail.shouldSwap) return;
  if (down && target.contains(down)) {
    e.preventDefault();
    void released.then(() => document.body.dispatchEvent(new Event(by)));
    return;
  }
  const shown = [...target.querySelectorAll(".secret:not([data-slot])")].map((secret) => secret.id);
  if (shown.length > 0) document.addEventListener("htmx:afterSwap", () => shown.forEach(showAgain), { once: true });
});

// The answer to a press goes where it was asked for, though that was drawn again meanwhile: it has the same id, of the
// same item. What a page asks for by itself isn't missed.
document.addEventListener("htmx:beforeRequest", (e) => {
  const { target, requestConfig } = /** @type {CustomEvent} */ (e).detail;
  if (requestConfig.headers["X-By-Itself"] || target.id === "sheet") return;
  const item = itemOf(target);
  const put = (/** @type {CustomEvent} */ { detail }) => {
    const heir = target.isConnected ? null : document.getElementById(target.id);
    if (heir && itemOf(heir) === item) detail.target = heir;
  };
  target.addEventListener("htmx:beforeSwap", put, { once: true });
});

/** The item that is shown around an element. @param {Element} el @returns {string | undefined} */
const itemOf = (el) => /** @type {HTMLElement | null} */ (el.closest("[data-id]"))?.dataset.id;

/** Shows a secret that was drawn covered. It is no use of the vault. @param {string} id */
function showAgain(id) {
  const covered = document.getElementById(id);
  const path = covered?.querySelector("[hx-post]")?.getAttribute("hx-post");
  if (!covered?.dataset.slot || !path) return;
  const headers = { "X-By-Itself": "1" };
  void hx.then((h) => h?.ajax("POST", path, { target: covered, swap: "outerHTML", headers }));
}
