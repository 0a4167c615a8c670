// Asks the background page.
const ext = globalThis.browser ?? chrome;

/** @param {Record<string, unknown>} m @returns {Promise<any>} */
export const tell = (m) => ext.runtime.sendMessage(m).catch(() => ({ trouble: "away" }));
