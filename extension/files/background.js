"use strict";
(() => {
  // src/line.js
  var api = globalThis.browser ?? chrome;
  var toBase64 = (b) => btoa(String.fromCharCode(...new Uint8Array(b)));
  var fromBase64 = (s) => Uint8Array.from(atob(s), (c) => c.charCodeAt(0));
  var bytes = (s) => new TextEncoder().encode(s);
  function concat(...parts) {
    const out = new Uint8Array(parts.reduce((n, p) => n + p.length, 0));
    let at = 0;
    for (const p of parts) {
      out.set(p, at);
      at += p.length;
    }
    return out;
  }
  var LineError = class extends Error {
    /**
     * @param {"none" | "locked" | "over" | "away" | "no session" | "app too old" | "extension too old"} kind
     * @param {string} [open]
     */
    constructor(kind, open) {
      super(kind);
      this.kind = kind;
      this.open = open;
    }
  };
  async function post(app, path, body) {
    let resp;
    try {
      resp = await fetch(`http://${app}/bridge/${path}`, {
        method: "POST",
        headers: { "Content-Type": "application/json" },
        body: JSON.stringify(body),
        credentials: "omit",
        cache: "no-store"
      });
    } catch {
      throw new LineError("away");
    }
    const out = await resp.json().catch(() => void 0);
    if (resp.ok && out) return out;
    if (resp.status === 423) throw new LineError("locked", out?.open);
    if (resp.status === 401) throw new LineError("no session");
    if (resp.status === 426) throw new LineError(out?.error === "app too old" ? "app too old" : "extension too old");
    if (resp.status === 410) throw new LineError("over");
    throw new LineError("away");
  }
  function database() {
    return new Promise((done, fail) => {
      const r = indexedDB.open("red-locket", 1);
      r.onupgradeneeded = () => r.result.createObjectStore("line");
      r.onsuccess = () => done(r.result);
      r.onerror = () => fail(r.error);
    });
  }
  async function load(key) {
    const db = await database();
    return new Promise((done, fail) => {
      const r = db.transaction("line").objectStore("line").get(key);
      r.onsuccess = () => done(r.result);
      r.onerror = () => fail(r.error);
    });
  }
  var loadConnection = () => load("connection");
  function forgetSession() {
    session = void 0;
  }
  var session;
  async function startSession() {
    const c = await loadConnection();
    if (!c) throw new LineError("none");
    const nonce = crypto.getRandomValues(new Uint8Array(32));
    const { version } = chrome.runtime.getManifest();
    const hello = { protocol: PROTOCOL, profile: c.profile, id: c.id, nonce: toBase64(nonce), version };
    const s = await post(c.app, "session", hello);
    const salt = concat(nonce, fromBase64(s.nonce));
    const derive = (info, use) => crypto.subtle.deriveKey(
      { name: "HKDF", hash: "SHA-256", salt, info: bytes(info) },
      c.key,
      { name: "AES-GCM", length: 256 },
      false,
      use
    );
    return {
      id: s.session,
      app: c.app,
      toApp: await derive("redlocket/1 to app", ["encrypt"]),
      back: await derive("redlocket/1 to browser", ["decrypt"]),
      n: 0
    };
  }
  function iv(n) {
    const b = new Uint8Array(12);
    new DataView(b.buffer).setBigUint64(4, BigInt(n));
    return b;
  }
  var PROTOCOL = 1;
  var locked = () => {
  };
  var onLocked = (then) => locked = then;
  async function ask(request) {
    for (let turn = 0; ; turn++) {
      session ??= startSession();
      const mine = session;
      try {
        const s = await mine;
        const n = ++s.n;
        const sealed = await crypto.subtle.encrypt(
          { name: "AES-GCM", iv: iv(n), additionalData: bytes(s.id) },
          s.toApp,
          bytes(JSON.stringify(request))
        );
        const answer = await post(s.app, "message", { session: s.id, n, sealed: toBase64(sealed) });
        if (answer.n !== n) throw new LineError("away");
        const plain = await crypto.subtle.decrypt(
          { name: "AES-GCM", iv: iv(n), additionalData: bytes(s.id) },
          s.back,
          fromBase64(answer.sealed)
        );
        return JSON.parse(new TextDecoder().decode(plain));
      } catch (e) {
        if (session === mine) session = void 0;
        if (e instanceof LineError && e.kind === "locked") locked();
        if (e instanceof LineError && e.kind === "no session" && turn === 0) continue;
        throw e;
      }
    }
  }

  // src/errand.js
  var ERRAND = "errand";
  var LASTS = 10 * 60 * 1e3;
  var errandNow = async () => (
    /** @type {any} */
    (await api.storage.session.get(ERRAND))[ERRAND]
  );
  async function openLock(waiting) {
    const c = await loadConnection();
    if (!c) return;
    const lock = await api.tabs.create({ url: `http://${c.app}/open/${c.profile}?at-once` });
    if (waiting) await api.storage.session.set({ [ERRAND]: { ...waiting, lock: lock.id, until: Date.now() + LASTS } });
  }
  async function cameOpen(id, url, fillTab2) {
    const e = await errandNow();
    if (e?.lock !== id) return;
    const [c, at] = [await loadConnection(), new URL(url)];
    if (at.host === c?.app && at.pathname !== "/logins") return;
    await api.storage.session.remove(ERRAND);
    if (at.host !== c?.app || Date.now() > e.until) return;
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
    const to = e.frame === void 0 ? {} : { frameId: e.frame };
    await api.tabs.sendMessage(e.tab, { act: "opened" }, to).catch(() => {
    });
    if (e.frame === void 0) await whenRead(() => fillTab2(e.tab));
  }
  var TRIES = 10;
  var BETWEEN = 250;
  async function whenRead(fill) {
    for (let i = 0; i < TRIES && (await fill())?.error; i++) await new Promise((r) => setTimeout(r, BETWEEN));
  }
  async function tabGone(id) {
    const e = await errandNow();
    if (e?.lock === id || e?.tab === id) await api.storage.session.remove(ERRAND);
  }

  // src/may.js
  var SIGN_OUT = { permissions: ["cookies", "browsingData"] };
  var maySignOut = () => api.permissions.contains(SIGN_OUT);

  // src/signout.js
  var SITES = api.extension.inIncognitoContext ? "sites in private" : "sites";
  var WATCH = "watch for the lock";
  async function sitesNow() {
    return (
      /** @type {any} */
      (await api.storage.local.get(SITES))[SITES] ?? { domains: [], origins: [] }
    );
  }
  var last = Promise.resolve();
  function inTurn(what) {
    const mine = last.then(what);
    last = mine.catch(() => {
    });
    return mine;
  }
  async function noteSites(domains, urls) {
    if (!await maySignOut()) return;
    await inTurn(async () => {
      const now = await sitesNow();
      const origins = urls.filter((u) => /^https?:/.test(u)).map((u) => new URL(u).origin);
      const sites = {
        domains: [.../* @__PURE__ */ new Set([...now.domains, ...domains])],
        origins: [.../* @__PURE__ */ new Set([...now.origins, ...origins])]
      };
      await api.storage.local.set({ [SITES]: sites });
    });
    void watch();
  }
  var watching = false;
  async function watch() {
    if (watching) return;
    watching = true;
    try {
      while ((await sitesNow()).domains.length) {
        await api.alarms.create(WATCH, { periodInMinutes: 0.5 });
        if (await isLocked()) {
          await signOut();
          break;
        }
      }
    } finally {
      watching = false;
    }
  }
  async function isLocked() {
    try {
      await ask({ act: "until-locked" });
      const { sign_out: wanted } = await ask({ act: "awake" });
      if (!wanted) await inTurn(() => api.storage.local.remove(SITES));
      return false;
    } catch (e) {
      if (!(e instanceof LineError)) throw e;
      if (e.kind !== "away") return true;
    }
    try {
      await ask({ act: "awake" });
      return false;
    } catch {
      return true;
    }
  }
  api.alarms.onAlarm.addListener((a) => {
    if (a.name === WATCH) void watch();
  });
  function signOut() {
    return inTurn(async () => {
      const sites = await sitesNow();
      await api.alarms.clear(WATCH);
      if (sites.domains.length && await maySignOut()) {
        await emptyTabs(sites.domains);
        await forget(sites);
        await beginAnew(sites.domains);
        await new Promise((r) => setTimeout(r, SETTLES));
        await forget(sites);
      }
      await api.storage.local.remove(SITES);
    });
  }
  var SETTLES = 1e3;
  var belongs = (host, domains) => domains.some((d) => host === d || host.endsWith(`.${d}`));
  async function tabsOf(domains) {
    const all = await api.tabs.query({});
    return all.filter((t) => /^https?:/.test(t.url ?? "") && belongs(new URL(t.url ?? "").hostname, domains));
  }
  async function emptyTabs(domains) {
    const func = () => {
      addEventListener("beforeunload", (e) => e.stopImmediatePropagation(), true);
      window.name = "";
      try {
        history.replaceState(null, "");
        sessionStorage.clear();
        localStorage.clear();
      } catch {
      }
    };
    for (const t of await tabsOf(domains))
      await api.scripting.executeScript({ target: { tabId: t.id ?? 0, allFrames: true }, func }).catch(() => {
      });
  }
  async function cookiesOf(domain) {
    if (!("getBrowserInfo" in api.runtime)) return api.cookies.getAll({ domain, partitionKey: {} });
    const all = [];
    for (const { id } of await api.cookies.getAllCookieStores()) {
      const details = (
        /** @type {any} */
        { domain, storeId: id, partitionKey: {}, firstPartyDomain: null }
      );
      all.push(...await api.cookies.getAll(details));
    }
    return all;
  }
  async function forget({ domains, origins }) {
    for (const domain of domains)
      for (const c of await cookiesOf(domain)) {
        const { name, storeId, partitionKey, firstPartyDomain } = (
          /** @type {any} */
          c
        );
        const url = `http${c.secure ? "s" : ""}://${c.domain.replace(/^\./, "")}${c.path}`;
        const of = firstPartyDomain === void 0 ? {} : { firstPartyDomain };
        await api.cookies.remove({ url, name, storeId, partitionKey, ...of }).catch(() => {
        });
      }
    const own = (
      /** @type {[string, ...string[]]} */
      origins.filter((o) => belongs(new URL(o).hostname, domains))
    );
    if (!own.length) return;
    const what = { localStorage: true, indexedDB: true, serviceWorkers: true };
    if ("getBrowserInfo" in api.runtime) {
      const hostnames = own.map((o) => new URL(o).hostname);
      await api.browsingData.remove(
        /** @type {any} */
        { hostnames },
        what
      );
    } else {
      const more = { cacheStorage: true, fileSystems: true, cache: true };
      await api.browsingData.remove({ origins: own }, { ...what, ...more });
    }
  }
  async function beginAnew(domains) {
    for (const t of await tabsOf(domains))
      await api.tabs.update(t.id ?? 0, { url: new URL("/", t.url).href }).catch(() => {
      });
  }

  // src/background.js
  var FROM_PAGES = /* @__PURE__ */ new Set([
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
    "never"
  ]);
  async function tabNow(id) {
    const key = `tab ${id}`;
    return (
      /** @type {any} */
      (await api.storage.session.get(key))[key] ?? { signIns: {} }
    );
  }
  var changing = Promise.resolve();
  function changeTab(id, change) {
    const mine = changing.then(async () => {
      const t = await tabNow(id);
      change(t);
      await api.storage.session.set({ [`tab ${id}`]: t });
    });
    changing = mine.catch(() => {
    });
    return mine;
  }
  function trouble(e) {
    return e instanceof LineError ? { trouble: e.kind, open: e.open } : { trouble: "away" };
  }
  var underWay = 0;
  api.runtime.onMessage.addListener((message, sender, reply) => {
    underWay++;
    handle(message, sender).then(reply, (e) => reply(trouble(e))).finally(() => underWay--);
    return true;
  });
  async function handle(message, sender) {
    if (sender.id !== api.runtime.id) return {};
    if (message.act === "connect" && sender.url && sender.frameId === 0) {
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
      return sender.tab && sender.url === api.runtime.getURL("paper.html") ? picture(message.rect, sender.tab) : void 0;
    if (sender.tab && !sender.url?.startsWith(api.runtime.getURL(""))) return fromPage(message, sender);
    return fromWindow(message);
  }
  async function picture(rect, tab) {
    if (!tab.active) return void 0;
    if (rect.onScreen) {
      const top = await api.tabs.sendMessage(tab.id ?? 0, { act: "on-screen" }, { frameId: 0 });
      const { x, y, width, height } = rect;
      if (!top || x + width > top.right || y + height > top.bottom) return void 0;
      rect = { x: x - top.x, y: y - top.y, width, height };
    }
    const how = (
      /** @type {any} */
      { format: "png", rect, scale: 1 }
    );
    return api.tabs.captureVisibleTab(tab.windowId, how);
  }
  async function fromPage(message, sender) {
    const tab = (
      /** @type {chrome.tabs.Tab} */
      sender.tab
    );
    switch (message.act) {
      case "lift":
        if (sender.frameId) await toFrame(tab, 0, { ...message, act: "lifted", frame: sender.frameId });
        return {};
      case "lower":
      case "lift-key":
      case "note-up":
        if (sender.frameId)
          await toFrame(tab, 0, {
            ...message,
            act: { lower: "lowered", "lift-key": "lift-key", "note-up": "note" }[
              /** @type {string} */
              message.act
            ]
          });
        return {};
      case "chosen":
      case "dropped":
        if (sender.frameId === 0) await toFrame(tab, Number(message.frame), message);
        return {};
    }
    const c = await loadConnection();
    if (!c || new URL(sender.url ?? "").host === c.app) return { trouble: "none" };
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
          height: 560
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
      opened: Date.now() < ((await tabNow(tab.id ?? 0)).opened ?? 0)
    };
    try {
      await flush();
      const v = await ask(request);
      if (message.act === "look") await noteFrame(tab.id ?? 0, sender.frameId ?? 0, message.focused, v);
      if (v.alarm) {
        await sound(tab, sender.url ?? "", v.alarm);
        v.alarm = true;
      }
      if (v.leave) await noteSites(v.leave, [sender.url ?? "", tab.url ?? ""]);
      delete v.leave;
      if (v.copy) v.copied = await toClipboard(v.copy, v.clear);
      delete v.copy;
      if (v.up) void toFrame(tab, 0, { act: "look" });
      if (message.act === "keep" && message.change && !v.error)
        await openApp(`/items/${encodeURIComponent(message.slip.update || message.slip.id)}/change`);
      if (message.act === "typed") void after(tab.id ?? 0).catch(() => {
      });
      return v;
    } catch (e) {
      if (message.act === "typed" && e instanceof LineError && e.kind === "locked") await hold(request);
      throw e;
    }
  }
  var toFrame = (tab, frameId, message) => api.tabs.sendMessage(tab.id ?? 0, message, { frameId }).catch(() => {
  });
  async function openApp(path) {
    const c = await loadConnection();
    if (c) await api.tabs.create({ url: `http://${c.app}${path}` });
    return {};
  }
  var tabName = (tab) => `${tab.incognito ? "private " : ""}${tab.id ?? ""}`;
  var noteFrame = (tab, frame, focused, v) => changeTab(tab, (t) => {
    if (frame === 0) t.signIns = {};
    if (v.key) t.signIns[frame] = focused;
    else delete t.signIns[frame];
  });
  async function mark(tabId, alarm) {
    await api.action.setBadgeBackgroundColor({ tabId, color: "#b5731b" });
    await api.action.setBadgeText({ tabId, text: "!" });
    await api.action.setTitle({ tabId, title: `Red Locket: this is not the ${alarm.title} you know` });
  }
  async function sound(tab, url, alarm) {
    const id = tab.id ?? 0;
    await mark(id, alarm);
    const host = new URL(url).host;
    if ((await tabNow(id)).shown?.includes(host)) return;
    const name = `alarm ${crypto.randomUUID()}`;
    await api.storage.session.set({ [name]: { alarm, url, tab: id } });
    await api.tabs.update(id, { url: `${api.runtime.getURL("alarm.html")}#${encodeURIComponent(name)}` });
  }
  async function fromAlarm(message, sender) {
    const name = decodeURIComponent(String(message.alarm));
    const all = (
      /** @type {any} */
      name.startsWith("alarm ") ? await api.storage.session.get(name) : {}
    );
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
        await changeTab(tab, (t) => t.shown = [...t.shown ?? [], new URL(url).host]);
        await api.tabs.update(tab, { url });
        break;
    }
    return { alarm };
  }
  onLocked(() => void signOut());
  void watch();
  var HELD = "held";
  async function hold(request) {
    const now = (
      /** @type {any[]} */
      (await api.storage.session.get(HELD))[HELD] ?? []
    );
    await api.storage.session.set({ [HELD]: [...now.slice(-7), { ...request, held: Date.now() }] });
  }
  async function flush() {
    const held = (
      /** @type {any[]} */
      (await api.storage.session.get(HELD))[HELD] ?? []
    );
    if (!held.length) return;
    for (const request of held) if (Date.now() - request.held < 15 * 60 * 1e3) await ask(request);
    await api.storage.session.remove(HELD);
  }
  async function fromWindow(message) {
    const [tab] = message.tab ? [await api.tabs.get(message.tab)] : await api.tabs.query({ active: true, currentWindow: true });
    if (message.act === "fill-tab") return fillTab(tab.id ?? 0, message.id);
    if (message.act === "take-tab")
      return api.tabs.sendMessage(tab.id ?? 0, { act: "take" }, { frameId: 0 }).catch(() => ({ error: "This page can’t be read." }));
    if (message.act === "clear") return clearAfter(message.seconds);
    if (message.act === "open-vault") {
      await openLock(tab?.id && /^https?:/.test(tab.url ?? "") ? { tab: tab.id, url: tab.url ?? "" } : void 0);
      return {};
    }
    if (message.act === "open-app") return openApp(message.path);
    if (message.act === "lock") void signOut();
    return ask({ ...message, url: tab?.url ?? "", top: tab?.url ?? "", tab: tab ? tabName(tab) : "" });
  }
  async function fillTab(tab, id) {
    const frames = Object.entries((await tabNow(tab)).signIns).map(([n, focused]) => ({ n: Number(n), focused }));
    const frame = (frames.find((f) => f.focused) ?? frames.sort((a, b) => a.n - b.n)[0] ?? { n: 0 }).n;
    return api.tabs.sendMessage(tab, { act: "fill", id }, { frameId: frame }).catch(() => ({ error: "This page can’t be filled." }));
  }
  var CLEAR = "clear the clipboard";
  async function toClipboard(text, seconds) {
    const done = await writeClipboard(text).catch(() => false);
    if (done) await clearAfter(seconds);
    return done;
  }
  async function clearAfter(seconds) {
    await api.alarms.clear(CLEAR);
    if (!seconds) return;
    await api.alarms.create(CLEAR, { delayInMinutes: Math.max(seconds, 30) / 60 });
    if (seconds < 30) setTimeout(() => void clearClipboard(), seconds * 1e3);
  }
  async function clearClipboard() {
    await api.alarms.clear(CLEAR);
    await writeClipboard("");
    await chrome.offscreen?.closeDocument().catch(() => {
    });
  }
  async function writeClipboard(text) {
    if (!chrome.offscreen) {
      await navigator.clipboard.writeText(text);
      return true;
    }
    if (!await chrome.offscreen.hasDocument())
      await chrome.offscreen.createDocument({
        url: "clip.html",
        reasons: [chrome.offscreen.Reason.CLIPBOARD],
        justification: "Copies a one-time code, and clears it after a while."
      });
    return (await chrome.runtime.sendMessage({ act: "clip", text })).done;
  }
  api.alarms.onAlarm.addListener((a) => {
    if (a.name === CLEAR) void clearClipboard();
  });
  api.tabs.onUpdated.addListener((id, change, tab) => {
    if (change.status !== "complete" || !/^https?:/.test(tab.url ?? "")) return;
    void visited(id, tab.url ?? "").catch(() => {
    });
    void cameOpen(id, tab.url ?? "", fillTab).catch(() => {
    });
  });
  async function after(id) {
    const tab = await api.tabs.get(id);
    if (tab.status === "complete" && /^https?:/.test(tab.url ?? "")) await visited(id, tab.url ?? "");
  }
  async function visited(id, url) {
    const c = await loadConnection();
    if (!c || new URL(url).host === c.app) return;
    await flush();
    const tab = await api.tabs.get(id);
    const v = await ask({ act: "visit", url, top: url, tab: tabName(tab) });
    if (v.alarm) return sound(tab, url, v.alarm);
    if (v.look) await api.tabs.sendMessage(id, { act: "look" }, { frameId: 0 });
  }
  api.runtime.onInstalled.addListener((d) => {
    if (d.reason === "install") void api.tabs.create({ url: api.runtime.getURL("connect.html") });
    void intoOpenTabs();
  });
  async function intoOpenTabs() {
    for (const tab of await api.tabs.query({ url: ["http://*/*", "https://*/*"] }))
      if (tab.id)
        await api.scripting.executeScript({ target: { tabId: tab.id, allFrames: true }, files: ["content.js"] }).catch(() => {
        });
  }
  api.tabs.onRemoved.addListener((id) => {
    void api.storage.session.remove(`tab ${id}`);
    void tabGone(id);
  });
  var OPENED = 2 * 60 * 1e3;
  api.tabs.onCreated.addListener((tab) => void opened(tab).catch(() => {
  }));
  async function opened(tab) {
    const c = await loadConnection();
    if (!c || !tab.id || !tab.openerTabId) return;
    const opener = await api.tabs.get(tab.openerTabId);
    if (new URL(opener.url ?? "about:blank").host === c.app)
      await changeTab(tab.id, (t) => t.opened = Date.now() + OPENED);
  }
  api.commands.onCommand.addListener(async (command) => {
    const [tab] = await api.tabs.query({ active: true, currentWindow: true });
    if (command === "fill" && tab?.id) await fillTab(tab.id);
  });
  Object.assign(globalThis, { fillTab, underWay: () => underWay });
})();
