// htmx, read when the page is shown.

/** The tag that brought this script, with the addresses of what it may need. */
export const script = /** @type {HTMLScriptElement} */ (document.querySelector("script[data-worker]"));

/**
 * @typedef {{ajax: (verb: string, path: string, o: object) => Promise<void>, trigger: (el: Element, name: string) =>
 * void}} Htmx
 */

/**
 * htmx, unless it couldn't be read. A page on which nothing needs it at once is shown first.
 * @type {Promise<Htmx | undefined>}
 */
export const hx = (async () => {
  if (!("htmx" in window)) {
    await new Promise((shown) => {
      requestAnimationFrame(() => setTimeout(shown));
      setTimeout(shown, 500); // a page that isn't looked at has no frames
    });
    // Between the page's two moments, read and complete, htmx would wait for the one that is over.
    if (document.readyState !== "complete")
      await new Promise((done) => window.addEventListener("load", done, { once: true }));
    const s = document.createElement("script");
    s.src = script.dataset.htmx ?? "";
    await new Promise((r) => {
      s.onload = s.onerror = r;
      document.head.append(s);
    });
  }
  // @ts-ignore: the script has put it there
  return window.htmx;
})();

// A part that is drawn again by itself says so in hx-headers, which htmx hands down: what is pressed in it doesn't.
document.addEventListener("htmx:configRequest", (e) => {
  const { elt, headers } = /** @type {CustomEvent} */ (e).detail;
  if (!elt.hasAttribute("hx-headers") && elt.parentElement?.closest("[hx-headers]")) delete headers["X-By-Itself"];
});
