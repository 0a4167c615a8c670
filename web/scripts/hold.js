// What is pressed isn't drawn again under the pointer: the press would come to nothing.

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
  if (!down || !by.startsWith("vault-") || !target.contains(down) || !detail.shouldSwap) return;
  e.preventDefault();
  void released.then(() => document.body.dispatchEvent(new Event(by)));
});
