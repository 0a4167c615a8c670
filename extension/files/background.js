// Passes what pages and the extension's window ask to the device app. The
// address of a page comes from the browser, never from the page.
"use strict";
/* global importScripts */

if (typeof importScripts === "function") importScripts("wordlist.js", "line.js");

/** @param {unknown} e */
function trouble(e) {
  return e instanceof LineError ? { trouble: e.kind, open: e.open } : { trouble: "away" };
}

api.runtime.onMessage.addListener((message, sender, reply) => {
  handle(message, sender).then(reply, (e) => reply(trouble(e)));
  return true; // the answer comes later
});

/** @param {any} message @param {chrome.runtime.MessageSender} sender @returns {Promise<any>} */
async function handle(message, sender) {
  if (sender.id !== api.runtime.id) return {};
  if (message.act === "connect" && sender.url) {
    const app = new URL(sender.url);
    if (/(^|\.)localhost$/.test(app.hostname)) await api.tabs.create({ url: `${api.runtime.getURL("connect.html")}?app=${encodeURIComponent(app.host)}` });
    return {};
  }
  if (message.act === "open") {
    await api.tabs.create({ url: message.url });
    return {};
  }
  if (sender.tab && !sender.url?.startsWith(api.runtime.getURL(""))) {
    const c = await loadConnection();
    if (!c || new URL(sender.url ?? "").host === c.app) return { trouble: "none" }; // our own pages are left alone
    return ask({ ...message, url: sender.url, top: sender.tab.url, tab: String(sender.tab.id) });
  }
  return fromWindow(message);
}

/** What the extension's own window asks: about the tab it was opened over. @param {any} message */
async function fromWindow(message) {
  const [tab] = message.tab ? [await api.tabs.get(message.tab)] : await api.tabs.query({ active: true, currentWindow: true });
  if (message.act === "fill-tab") return api.tabs.sendMessage(tab.id ?? 0, { act: "fill", id: message.id }, { frameId: 0 });
  return ask({ ...message, url: tab?.url ?? "", top: tab?.url ?? "", tab: String(tab?.id ?? "") });
}

// Fresh in a browser, the first thing is to connect.
api.runtime.onInstalled.addListener((d) => {
  if (d.reason === "install") void api.tabs.create({ url: api.runtime.getURL("connect.html") });
});

api.commands.onCommand.addListener(async (command) => {
  const [tab] = await api.tabs.query({ active: true, currentWindow: true });
  if (command === "fill" && tab?.id) await api.tabs.sendMessage(tab.id, { act: "fill" }, { frameId: 0 }).catch(() => {});
});
