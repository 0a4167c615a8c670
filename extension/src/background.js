// Passes what pages and the extension's window ask to the device app. The
// address of a page comes from the browser, never from the page.
import { cameOpen, openLock, tabGone } from "./errand.js";
import { LineError, api, ask, forgetSession, loadConnection, onLocked } from "./line.js";
import { noteSites, signOut, watch } from "./signout.js";

/** What a page's content script may ask: nothing that hands out more than a fill. */
const FROM_PAGES = new Set([
  "look",
  "fill",
  "fill-new",
  "typed",
  "take",
  "slip-password",
  "keep",
  "not-now",
  "step-back",
  "took",
  "put-away",
  "never",
]);

/**
 * What is known of a tab, kept while the browser runs: the background of an extension ends and begins as the browser
 * likes. signIns are the frames in which there is a sign-in, and whether they have the focus; opened says until when
 * the tab counts as opened from the book; shown are hosts whose alarm was answered with "show it".
 * @typedef {{signIns: Record<string, boolean>, opened?: number, shown?: string[]}} Tab
 */

/** @param {number} id @returns {Promise<Tab>} */
async function tabNow(id) {
  const key = `tab ${id}`;
  return /** @type {any} */ (await api.storage.session.get(key))[key] ?? { signIns: {} };
}

/** One change at a time: two frames of a tab speak at once. */
let changing = Promise.resolve();
/** @param {number} id @param {(t: Tab) => void} change */
function changeTab(id, change) {
  const mine = changing.then(async () => {
    const t = await tabNow(id);
    change(t);
    await api.storage.session.set({ [`tab ${id}`]: t });
  });
  changing = mine.catch(() => {}); // one that fails stops none of the next
  return mine;
}

/** @param {unknown} e */
function trouble(e) {
  return e instanceof LineError ? { trouble: e.kind, open: e.open } : { trouble: "away" };
}

/** Questions that were asked and not yet answered. */
let underWay = 0;

api.runtime.onMessage.addListener((message, sender, reply) => {
  underWay++;
  handle(message, sender)
    .then(reply, (e) => reply(trouble(e)))
    .finally(() => underWay--);
  return true; // the answer comes later
});

/** @param {any} message @param {chrome.runtime.MessageSender} sender @returns {Promise<any>} */
async function handle(message, sender) {
  if (sender.id !== api.runtime.id) return {};
  if (message.act === "connect" && sender.url && sender.frameId === 0) {
    // Opens the page that asks: nothing begins before a press there.
    const app = new URL(sender.url);
    if (/(^|\.)localhost$/.test(app.hostname))
      await api.tabs.create({ url: `${api.runtime.getURL("connect.html")}?app=${encodeURIComponent(app.host)}` });
    return {};
  }
  if (sender.tab && sender.url?.startsWith(api.runtime.getURL("alarm.html"))) return fromAlarm(message, sender);
  if (message.act === "connected" && sender.url?.startsWith(api.runtime.getURL("connect.html"))) {
    forgetSession();
    return {};
  }
  if (message.act === "picture")
    return sender.tab && sender.url === api.runtime.getURL("paper.html")
      ? picture(message.rect, sender.tab)
      : undefined;
  if (sender.tab && !sender.url?.startsWith(api.runtime.getURL(""))) return fromPage(message, sender);
  return fromWindow(message);
}

/**
 * A picture of a part of a tab, where the browser can take one: Firefox, whose frames can't say themselves whether they
 * are seen. It goes to the extension's own frame, which compares it and keeps nothing.
 * @param {{x: number, y: number, width: number, height: number, onScreen?: boolean}} rect in the page, or on the screen
 * @param {chrome.tabs.Tab} tab
 * @returns {Promise<string | undefined>} a PNG, as the address of its data
 */
async function picture(rect, tab) {
  if (!tab.active) return undefined;
  if (rect.onScreen) {
    const top = await api.tabs.sendMessage(tab.id ?? 0, { act: "on-screen" }, { frameId: 0 });
    const { x, y, width, height } = rect;
    if (!top || x + width > top.right || y + height > top.bottom) return undefined;
    rect = { x: x - top.x, y: y - top.y, width, height };
  }
  const how = /** @type {any} */ ({ format: "png", rect, scale: 1 });
  return api.tabs.captureVisibleTab(tab.windowId, how);
}

/** @param {any} message @param {chrome.runtime.MessageSender} sender @returns {Promise<any>} */
async function fromPage(message, sender) {
  const tab = /** @type {chrome.tabs.Tab} */ (sender.tab);
  // What frames say to the page around them is passed on at once: it has to come in the order in which it was said.
  switch (message.act) {
    case "lift": // the offer of a frame that has no room for it
      if (sender.frameId) await toFrame(tab, 0, { ...message, act: "lifted", frame: sender.frameId });
      return {};
    case "lower":
    case "lift-key":
    case "note-up":
      if (sender.frameId)
        await toFrame(tab, 0, {
          ...message,
          act: { lower: "lowered", "lift-key": "lift-key", "note-up": "note" }[/** @type {string} */ (message.act)],
        });
      return {};
    case "chosen":
    case "dropped":
      if (sender.frameId === 0) await toFrame(tab, Number(message.frame), message);
      return {};
  }
  const c = await loadConnection();
  if (!c || new URL(sender.url ?? "").host === c.app) return { trouble: "none" }; // our own pages are left alone
  switch (message.act) {
    case "open-vault":
      await openLock({ tab: tab.id ?? 0, url: tab.url ?? "", frame: sender.frameId ?? 0 });
      return {};
    case "details":
      return openApp(`/items/${encodeURIComponent(message.id)}`);
    case "agreed":
      await api.tabs.sendMessage(tab.id ?? 0, { act: "agreed", to: String(message.to) });
      return {};
    case "find":
      await api.windows.create({
        url: `${api.runtime.getURL("window.html")}?tab=${tab.id}`,
        type: "popup",
        width: 380,
        height: 560,
      });
      return {};
  }
  if (!FROM_PAGES.has(message.act)) return {};
  const request = {
    ...message,
    url: sender.url,
    top: tab.url,
    tab: tabName(tab),
    frame: sender.frameId !== 0,
    opaque: Boolean(message.opaque) || sender.origin === "null",
    opened: Date.now() < ((await tabNow(tab.id ?? 0)).opened ?? 0),
  };
  try {
    await flush();
    const v = await ask(request);
    if (message.act === "look") await noteFrame(tab.id ?? 0, sender.frameId ?? 0, message.focused, v);
    if (v.alarm) {
      await sound(tab, sender.url ?? "", v.alarm);
      v.alarm = true; // the page's side needs to know no more
    }
    if (v.leave) await noteSites(v.leave, [sender.url ?? "", tab.url ?? ""]);
    delete v.leave;
    if (v.copy) v.copied = await toClipboard(v.copy, v.clear); // a page never sees it
    delete v.copy;
    if (v.up) void toFrame(tab, 0, { act: "look" });
    if (message.act === "keep" && message.change && !v.error)
      await openApp(`/items/${encodeURIComponent(message.slip.update || message.slip.id)}/change`);
    if (message.act === "typed") void after(tab.id ?? 0).catch(() => {});
    return v;
  } catch (e) {
    if (message.act === "typed" && e instanceof LineError && e.kind === "locked") await hold(request);
    throw e;
  }
}

/**
 * Tells a frame of a tab something; one that is gone doesn't matter.
 * @param {chrome.tabs.Tab} tab
 * @param {number} frameId
 * @param {any} message
 */
const toFrame = (tab, frameId, message) => api.tabs.sendMessage(tab.id ?? 0, message, { frameId }).catch(() => {});

/** Opens a page of the device app. @param {string} path */
async function openApp(path) {
  const c = await loadConnection();
  if (c) await api.tabs.create({ url: `http://${c.app}${path}` });
  return {};
}

/** Tabs of private windows are nobody else's: what is known of one is never another's. @param {chrome.tabs.Tab} tab */
const tabName = (tab) => `${tab.incognito ? "private " : ""}${tab.id ?? ""}`;

/** @param {number} tab @param {number} frame @param {boolean} focused @param {any} v */
const noteFrame = (tab, frame, focused, v) =>
  changeTab(tab, (t) => {
    if (frame === 0) t.signIns = {};
    if (v.key) t.signIns[frame] = focused;
    else delete t.signIns[frame];
  });

// The alarm stands in a page of the extension, in place of the page that imitates a kept site: no page can touch it.

/** Marks the toolbar's button; the mark goes with the page. @param {number} tabId @param {any} alarm */
async function mark(tabId, alarm) {
  await api.action.setBadgeBackgroundColor({ tabId, color: "#b5731b" });
  await api.action.setBadgeText({ tabId, text: "!" });
  await api.action.setTitle({ tabId, title: `Red Locket: this is not the ${alarm.title} you know` });
}

/** @param {chrome.tabs.Tab} tab @param {string} url @param {any} alarm */
async function sound(tab, url, alarm) {
  const id = tab.id ?? 0;
  await mark(id, alarm);
  const host = new URL(url).host;
  if ((await tabNow(id)).shown?.includes(host)) return;
  const name = `alarm ${crypto.randomUUID()}`;
  await api.storage.session.set({ [name]: { alarm, url, tab: id } });
  await api.tabs.update(id, { url: `${api.runtime.getURL("alarm.html")}#${encodeURIComponent(name)}` });
}

/**
 * What the alarm's page asks.
 * @param {any} message @param {chrome.runtime.MessageSender} sender @returns {Promise<any>}
 */
async function fromAlarm(message, sender) {
  const name = decodeURIComponent(String(message.alarm));
  const all = /** @type {any} */ (name.startsWith("alarm ") ? await api.storage.session.get(name) : {});
  const held = all[name];
  if (!held || held.tab !== sender.tab?.id) return {};
  const { alarm, url, tab } = held;
  switch (message.act) {
    case "alarm":
      await mark(tab, alarm);
      break;
    case "alarm-leave":
      await api.tabs.update(tab, { url: alarm.url });
      break;
    case "alarm-vouch":
      await openApp(`/items/${encodeURIComponent(alarm.id)}/vouch?address=${encodeURIComponent(url)}`);
      break;
    case "alarm-show":
      await changeTab(tab, (t) => (t.shown = [...(t.shown ?? []), new URL(url).host]));
      await api.tabs.update(tab, { url });
      break;
  }
  return { alarm };
}

// Whoever finds the vault locked says so; at the browser's start, and of an app that ended, nobody else would.
onLocked(() => void signOut());
void watch();

// What was typed while the vault was locked waits in memory until it is opened.
const HELD = "held";

/** @param {any} request */
async function hold(request) {
  const now = /** @type {any[]} */ ((await api.storage.session.get(HELD))[HELD] ?? []);
  await api.storage.session.set({ [HELD]: [...now.slice(-7), { ...request, held: Date.now() }] });
}

async function flush() {
  const held = /** @type {any[]} */ ((await api.storage.session.get(HELD))[HELD] ?? []);
  if (!held.length) return;
  // fails as a whole while it is locked
  for (const request of held) if (Date.now() - request.held < 15 * 60 * 1000) await ask(request);
  await api.storage.session.remove(HELD);
}

/** What the extension's own window asks: about the tab it was opened over. @param {any} message */
async function fromWindow(message) {
  const [tab] = message.tab
    ? [await api.tabs.get(message.tab)]
    : await api.tabs.query({ active: true, currentWindow: true });
  if (message.act === "fill-tab") return fillTab(tab.id ?? 0, message.id);
  if (message.act === "take-tab")
    return api.tabs
      .sendMessage(tab.id ?? 0, { act: "take" }, { frameId: 0 })
      .catch(() => ({ error: "This page can’t be read." }));
  if (message.act === "clear") return clearAfter(message.seconds);
  if (message.act === "open-vault") {
    await openLock(tab?.id && /^https?:/.test(tab.url ?? "") ? { tab: tab.id, url: tab.url ?? "" } : undefined);
    return {};
  }
  if (message.act === "open-app") return openApp(message.path);
  if (message.act === "lock") void signOut();
  return ask({ ...message, url: tab?.url ?? "", top: tab?.url ?? "", tab: tab ? tabName(tab) : "" });
}

/**
 * Has the frame filled that has a sign-in: the one that is in use, or the first.
 * @param {number} tab
 * @param {string} [id]
 */
async function fillTab(tab, id) {
  const frames = Object.entries((await tabNow(tab)).signIns).map(([n, focused]) => ({ n: Number(n), focused }));
  const frame = (frames.find((f) => f.focused) ?? frames.sort((a, b) => a.n - b.n)[0] ?? { n: 0 }).n;
  return api.tabs
    .sendMessage(tab, { act: "fill", id }, { frameId: frame })
    .catch(() => ({ error: "This page can’t be filled." }));
}

// What is copied is cleared again, also when the page or window that asked for it is long gone.
const CLEAR = "clear the clipboard";

/** Copies a text, to be cleared after so many seconds; 0 is never. @param {string} text @param {number} seconds */
async function toClipboard(text, seconds) {
  const done = await writeClipboard(text).catch(() => false);
  if (done) await clearAfter(seconds);
  return done;
}

/** @param {number} seconds */
async function clearAfter(seconds) {
  await api.alarms.clear(CLEAR);
  if (!seconds) return;
  await api.alarms.create(CLEAR, { delayInMinutes: Math.max(seconds, 30) / 60 }); // no sooner, says the browser
  if (seconds < 30) setTimeout(() => void clearClipboard(), seconds * 1000);
}

async function clearClipboard() {
  await api.alarms.clear(CLEAR);
  await writeClipboard("");
  await chrome.offscreen?.closeDocument().catch(() => {}); // closed already
}

/** @param {string} text @returns {Promise<boolean>} */
async function writeClipboard(text) {
  if (!chrome.offscreen) {
    await navigator.clipboard.writeText(text);
    return true;
  }
  if (!(await chrome.offscreen.hasDocument()))
    await chrome.offscreen.createDocument({
      url: "clip.html",
      reasons: [chrome.offscreen.Reason.CLIPBOARD],
      justification: "Copies a one-time code, and clears it after a while.",
    });
  return (await chrome.runtime.sendMessage({ act: "clip", text })).done;
}

api.alarms.onAlarm.addListener((a) => {
  if (a.name === CLEAR) void clearClipboard();
});

// A page without fields is looked at only where there is something to tell: that it imitates a kept site, or what
// became of a form
// that was sent before it.
api.tabs.onUpdated.addListener((id, change, tab) => {
  // locked or away: nobody asked
  if (change.status !== "complete" || !/^https?:/.test(tab.url ?? "")) return;
  void visited(id, tab.url ?? "").catch(() => {});
  void cameOpen(id, tab.url ?? "", fillTab).catch(() => {}); // a tab that is gone
});

/**
 * What is sent and the page that comes of it race each other to the app: a page that was there first is asked about
 * once more.
 * @param {number} id
 */
async function after(id) {
  const tab = await api.tabs.get(id);
  if (tab.status === "complete" && /^https?:/.test(tab.url ?? "")) await visited(id, tab.url ?? "");
}

/** @param {number} id @param {string} url */
async function visited(id, url) {
  const c = await loadConnection();
  if (!c || new URL(url).host === c.app) return;
  await flush();
  const tab = await api.tabs.get(id);
  const v = await ask({ act: "visit", url, top: url, tab: tabName(tab) });
  if (v.alarm) return sound(tab, url, v.alarm);
  if (v.look) await api.tabs.sendMessage(id, { act: "look" }, { frameId: 0 });
}

// Fresh in a browser, the first thing is to connect.
api.runtime.onInstalled.addListener((d) => {
  if (d.reason === "install") void api.tabs.create({ url: api.runtime.getURL("connect.html") });
  void intoOpenTabs();
});

/** Puts the scripts into tabs that are open already: those of the version before have left. */
async function intoOpenTabs() {
  for (const tab of await api.tabs.query({ url: ["http://*/*", "https://*/*"] }))
    if (tab.id)
      await api.scripting
        .executeScript({ target: { tabId: tab.id, allFrames: true }, files: ["content.js"] })
        .catch(() => {}); // a page that no extension may touch
}
api.tabs.onRemoved.addListener((id) => {
  void api.storage.session.remove(`tab ${id}`);
  void tabGone(id);
});

/** How long a tab that was opened from the book counts as that, in milliseconds. */
const OPENED = 2 * 60 * 1000;
api.tabs.onCreated.addListener((tab) => void opened(tab).catch(() => {}));

/** Notes a tab that was opened from the device app's own pages. @param {chrome.tabs.Tab} tab */
async function opened(tab) {
  const c = await loadConnection();
  if (!c || !tab.id || !tab.openerTabId) return;
  const opener = await api.tabs.get(tab.openerTabId);
  if (new URL(opener.url ?? "about:blank").host === c.app)
    await changeTab(tab.id, (t) => (t.opened = Date.now() + OPENED));
}

api.commands.onCommand.addListener(async (command) => {
  const [tab] = await api.tabs.query({ active: true, currentWindow: true });
  if (command === "fill" && tab?.id) await fillTab(tab.id);
});

// For tests: no browser lets them press the keys that it keeps for itself, and they wait until
// nothing is under way rather than for a time.
Object.assign(globalThis, { fillTab, underWay: () => underWay });
