// Asks the background page.
const ext = globalThis.browser ?? chrome;

/** @param {Record<string, unknown>} m @returns {Promise<any>} */
export const tell = (m) => ext.runtime.sendMessage(m).catch(() => ({ trouble: "away" }));

/** @param {string} kind */
export const words = (kind) =>
  ({
    locked: "Red Locket is locked.",
    away: "Red Locket isn’t running on this computer.",
    over: "This browser is no longer connected to Red Locket.",
    none: "This browser isn’t connected to Red Locket.",
  })[kind] ?? "";
