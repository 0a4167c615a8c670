// On a computer that is shared: once the vault is locked, signs out of the sites that were filled since it was opened.
import { LineError, api, ask } from "./line.js";
import { maySignOut } from "./may.js";

/** Private windows have a memory of their own. */
const SITES = api.extension.inIncognitoContext ? "sites in private" : "sites";
const WATCH = "watch for the lock";

/**
 * Sites that were filled: domains and the origins that were seen of them. Kept until they are signed out of, also over
 * the browser's end.
 * @typedef {{domains: string[], origins: string[]}} Sites
 */

/** @returns {Promise<Sites>} */
async function sitesNow() {
  return /** @type {any} */ (await api.storage.local.get(SITES))[SITES] ?? { domains: [], origins: [] };
}

/** One thing at a time: what is noted while sites are being signed out of isn't forgotten with them. */
let last = Promise.resolve();
/** @param {() => Promise<void>} what */
function inTurn(what) {
  const mine = last.then(what);
  last = mine.catch(() => {});
  return mine;
}

/**
 * Notes sites that are being filled.
 * @param {string[]} domains
 * @param {string[]} urls of the pages
 */
export async function noteSites(domains, urls) {
  if (!(await maySignOut())) return;
  await inTurn(async () => {
    const now = await sitesNow();
    const origins = urls.filter((u) => /^https?:/.test(u)).map((u) => new URL(u).origin);
    const sites = {
      domains: [...new Set([...now.domains, ...domains])],
      origins: [...new Set([...now.origins, ...origins])],
    };
    await api.storage.local.set({ [SITES]: sites });
  });
  void watch();
}

let watching = false;
/** Waits for the lock while there are sites to sign out of. */
export async function watch() {
  if (watching) return;
  watching = true;
  try {
    while ((await sitesNow()).domains.length) {
      await api.alarms.create(WATCH, { periodInMinutes: 0.5 }); // a browser ends what waits too long
      if (await isLocked()) {
        await signOut();
        break;
      }
    }
  } finally {
    watching = false;
  }
}

/** Whether the vault is locked, or nobody there has it open; an answer may take a while. */
async function isLocked() {
  try {
    await ask({ act: "until-locked" });
    const { sign_out: wanted } = await ask({ act: "awake" });
    if (!wanted) await inTurn(() => api.storage.local.remove(SITES)); // no longer
    return false;
  } catch (e) {
    if (!(e instanceof LineError)) throw e;
    if (e.kind !== "away") return true;
  }
  try {
    await ask({ act: "awake" }); // a line that broke says nothing
    return false;
  } catch {
    return true;
  }
}

api.alarms.onAlarm.addListener((a) => {
  if (a.name === WATCH) void watch();
});

/** Signs out of the sites that were noted. */
export function signOut() {
  return inTurn(async () => {
    const sites = await sitesNow();
    await api.alarms.clear(WATCH);
    if (sites.domains.length && (await maySignOut())) {
      await emptyTabs(sites.domains);
      await forget(sites);
      await beginAnew(sites.domains);
      await new Promise((r) => setTimeout(r, SETTLES));
      await forget(sites); // what a page wrote while it ended
    }
    await api.storage.local.remove(SITES);
  });
}
/** How long pages take to end, in milliseconds. */
const SETTLES = 1000;

/** @param {string} host @param {string[]} domains */
const belongs = (host, domains) => domains.some((d) => host === d || host.endsWith(`.${d}`));

/** The tabs that show pages of sites. @param {string[]} domains */
async function tabsOf(domains) {
  const all = await api.tabs.query({});
  return all.filter((t) => /^https?:/.test(t.url ?? "") && belongs(new URL(t.url ?? "").hostname, domains));
}

/**
 * What a tab keeps by itself, no browser forgets for an extension: its own storage, its name, and what the page noted
 * in its history.
 * @param {string[]} domains
 */
async function emptyTabs(domains) {
  const func = () => {
    // A page that asks whether it may be left isn't asked.
    addEventListener("beforeunload", (e) => e.stopImmediatePropagation(), true);
    window.name = "";
    try {
      history.replaceState(null, "");
      sessionStorage.clear();
      localStorage.clear();
    } catch {
      // a frame that may keep nothing
    }
  };
  for (const t of await tabsOf(domains))
    await api.scripting.executeScript({ target: { tabId: t.id ?? 0, allFrames: true }, func }).catch(() => {});
}

/**
 * The cookies of a domain and of what is below it, also of those that are kept apart by the page around them and, in
 * Firefox, by container.
 * @param {string} domain
 */
async function cookiesOf(domain) {
  if (!("getBrowserInfo" in api.runtime)) return api.cookies.getAll({ domain, partitionKey: {} });
  const all = [];
  for (const { id } of await api.cookies.getAllCookieStores()) {
    const details = /** @type {any} */ ({ domain, storeId: id, partitionKey: {}, firstPartyDomain: null });
    all.push(...(await api.cookies.getAll(details)));
  }
  return all;
}

/** Removes the cookies and what is stored of sites, and of no others. @param {Sites} sites */
async function forget({ domains, origins }) {
  for (const domain of domains)
    for (const c of await cookiesOf(domain)) {
      const { name, storeId, partitionKey, firstPartyDomain } = /** @type {any} */ (c);
      const url = `http${c.secure ? "s" : ""}://${c.domain.replace(/^\./, "")}${c.path}`;
      const of = firstPartyDomain === undefined ? {} : { firstPartyDomain };
      await api.cookies.remove({ url, name, storeId, partitionKey, ...of }).catch(() => {}); // gone meanwhile
    }
  const own = /** @type {[string, ...string[]]} */ (origins.filter((o) => belongs(new URL(o).hostname, domains)));
  if (!own.length) return;
  const what = { localStorage: true, indexedDB: true, serviceWorkers: true };
  // Firefox knows sites by the names of their hosts.
  if ("getBrowserInfo" in api.runtime) {
    const hostnames = own.map((o) => new URL(o).hostname);
    await api.browsingData.remove(/** @type {any} */ ({ hostnames }), what);
  } else {
    const more = { cacheStorage: true, fileSystems: true, cache: true };
    await api.browsingData.remove({ origins: own }, { ...what, ...more });
  }
}

/** Has tabs begin at their site's first page: an address may have what signs in again. @param {string[]} domains */
async function beginAnew(domains) {
  for (const t of await tabsOf(domains))
    await api.tabs.update(t.id ?? 0, { url: new URL("/", t.url).href }).catch(() => {}); // it was closed
}
