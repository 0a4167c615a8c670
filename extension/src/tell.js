// Asks the background page.
import * as dom from "./dom.js";

const ext = globalThis.browser ?? chrome;

/** What is done when the extension was updated or taken out: this script is nobody's any more. @type {() => void} */
let orphaned = () => {};
/** @param {() => void} then */
export const onOrphaned = (then) => (orphaned = then);

/** @param {Record<string, unknown>} m @returns {Promise<any>} */
export async function tell(m) {
  if (!ext.runtime?.id) {
    orphaned();
    return { trouble: "away" };
  }
  try {
    const said = await ext.runtime.sendMessage(m);
    return dom.leaving.signal.aborted ? { trouble: "away" } : said; // another script hears it now
  } catch {
    if (!ext.runtime?.id) orphaned();
    return { trouble: "away" };
  }
}
