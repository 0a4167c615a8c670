// The way to the lock page and back: one press opens it, and once the vault is open the tab that waited is there again.
import { LineError, api, ask, loadConnection } from "./line.js";

const ERRAND = "errand";
/** How long somebody may take to open a vault, in milliseconds. */
const LASTS = 10 * 60 * 1000;

/**
 * Who waits for the vault: a tab, with its address, and the frame that asked; without one the tab's sign-in is filled.
 * @typedef {{tab: number, url: string, frame?: number}} Waiting
 */
/** @typedef {Waiting & {lock: number, until: number}} Errand */

/** @returns {Promise<Errand | undefined>} */
const errandNow = async () => /** @type {any} */ (await api.storage.session.get(ERRAND))[ERRAND];

/**
 * Opens the lock page for whoever waits.
 * @param {Waiting} [waiting]
 */
export async function openLock(waiting) {
  const c = await loadConnection();
  if (!c) return;
  const lock = await api.tabs.create({ url: `http://${c.app}/open/${c.profile}?at-once` });
  if (waiting) await api.storage.session.set({ [ERRAND]: { ...waiting, lock: lock.id, until: Date.now() + LASTS } });
}

/**
 * Goes back once the page of a lock tab shows the open vault.
 * @param {number} id of the tab
 * @param {string} url
 * @param {(tab: number) => Promise<any>} fillTab
 */
export async function cameOpen(id, url, fillTab) {
  const e = await errandNow();
  if (e?.lock !== id) return;
  const [c, at] = [await loadConnection(), new URL(url)];
  if (at.host === c?.app && at.pathname !== "/logins") return; // not yet, or something has to be seen to first
  await api.storage.session.remove(ERRAND);
  if (at.host !== c?.app || Date.now() > e.until) return; // its user went elsewhere
  try {
    await ask({ act: "awake" });
  } catch (err) {
    if (err instanceof LineError) return;
    throw err;
  }
  const tab = await api.tabs.get(e.tab);
  await api.tabs.update(e.tab, { active: true });
  await api.windows.update(tab.windowId, { focused: true });
  await api.tabs.remove(id);
  if (tab.url !== e.url) return;
  const to = e.frame === undefined ? {} : { frameId: e.frame };
  await api.tabs.sendMessage(e.tab, { act: "opened" }, to).catch(() => {}); // the frame is gone
  if (e.frame === undefined) await whenRead(() => fillTab(e.tab));
}

/** How often a page that waits is asked whether it can be filled now, and how long between, in milliseconds. */
const TRIES = 10;
const BETWEEN = 250;

/** Fills once the tab's frames have heard what is offered. @param {() => Promise<any>} fill */
async function whenRead(fill) {
  for (let i = 0; i < TRIES && (await fill())?.error; i++) await new Promise((r) => setTimeout(r, BETWEEN));
}

/** A tab that is gone waits for nothing. @param {number} id */
export async function tabGone(id) {
  const e = await errandNow();
  if (e?.lock === id || e?.tab === id) await api.storage.session.remove(ERRAND);
}
