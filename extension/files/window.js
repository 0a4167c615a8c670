"use strict";
(() => {
  // src/line.js
  var api = globalThis.browser ?? chrome;

  // src/may.js
  var SIGN_OUT = { permissions: ["cookies", "browsingData"] };
  var maySignOut = () => api.permissions.contains(SIGN_OUT);
  var askToSignOut = () => api.permissions.request(SIGN_OUT);

  // src/words.js
  var words = (kind) => ({
    locked: "Red Locket is locked.",
    away: "Red Locket isn’t running on this computer.",
    over: "This browser is no longer connected to Red Locket.",
    "app too old": "Red Locket on this computer is older than what was added to this browser: update it.",
    "extension too old": "What was added to this browser is older than Red Locket: take the new one under Devices.",
    none: "This browser isn’t connected to Red Locket."
  })[kind] ?? "";

  // src/window.js
  var $ = (id) => document.getElementById(id);
  var tell = (m) => api.runtime.sendMessage({ ...m, tab }).catch(() => ({ trouble: "away" }));
  var tab = Number(new URLSearchParams(location.search).get("tab")) || void 0;
  var TROUBLES = (
    /** @type {Record<string, string>} */
    {
      none: "This browser isn’t connected yet.",
      over: "This browser is no longer connected to Red Locket. Connect it again.",
      locked: "The vault is locked.",
      "app too old": words("app too old"),
      "extension too old": words("extension too old"),
      away: "Red Locket isn’t running on this computer. Start it, then open this window again."
    }
  );
  function note(text, label, act) {
    $("say").textContent = text;
    $("act").hidden = !label;
    $("act").textContent = label ?? "";
    $("act").onclick = act ?? null;
  }
  function failed(v) {
    if (!v?.error && !v?.trouble) return false;
    note(v.error ?? TROUBLES[v.trouble] ?? "Red Locket can’t be reached.");
    return true;
  }
  var asked = 0;
  var clearAfter = 30;
  async function refresh() {
    const query = $("find").value, mine = ++asked;
    const v = await tell({ act: "window", query });
    if (mine !== asked) return;
    const ready = !v.trouble && !v.error;
    $("find").hidden = $("lock").hidden = $("more").hidden = !ready;
    $("list").replaceChildren();
    if (v.trouble === "none" || v.trouble === "over")
      return note(
        TROUBLES[v.trouble],
        "Connect",
        () => void api.tabs.create({ url: api.runtime.getURL("connect.html") })
      );
    if (v.trouble === "extension too old")
      return note(TROUBLES[v.trouble], "Open Devices", () => void tell({ act: "open-app", path: "/devices#browsers" }));
    if (v.trouble === "locked") return note(TROUBLES.locked, "Open it", () => void openIt());
    if (!ready) return void failed({ error: v.error, trouble: v.trouble });
    if (query) note(v.list.length ? "" : "Nothing fits.");
    else
      note(
        v.list.length ? `Logins for ${v.site}` : v.site ? `No login is kept for ${v.site}. Type to find another.` : "Type to find a login."
      );
    $("list").append(...v.list.map(line));
    drawer(v.drawer);
    $("rule").hidden = !v.site;
    $("no-offer").checked = Boolean(v.rule.no_offer);
    $("no-ask").checked = Boolean(v.rule.no_ask);
    clearAfter = v.clear;
    $("may-sign-out").hidden = !v.sign_out || await maySignOut();
    if (document.activeElement === document.body) $("find").focus();
  }
  async function openIt() {
    await tell({ act: "open-vault" });
    window.close();
  }
  function line(l) {
    const li = document.createElement("li");
    const b = document.createElement("button");
    const name = Object.assign(document.createElement("b"), { textContent: l.title });
    const user = Object.assign(document.createElement("span"), { textContent: l.username || "no user name" });
    const act = Object.assign(document.createElement("i"), { textContent: l.fits ? "Fill" : l.address ? "Sign in" : "" });
    b.append(name, user, act);
    b.className = "main-of";
    b.onclick = async () => {
      if (!l.fits) {
        if (l.address) await api.tabs.create({ url: l.address });
        return;
      }
      if (!failed(await tell({ act: "fill-tab", id: l.id }))) window.close();
    };
    const acts = document.createElement("div");
    acts.className = "line-acts";
    for (const [what, words2] of [
      ["username", "Copy user name"],
      ["password", "Copy password"],
      ...l.code ? [["code", "Copy code"]] : []
    ])
      acts.append(copier(words2, () => tell({ act: "copy", id: l.id, what })));
    const details = Object.assign(document.createElement("button"), { textContent: "Details", className: "act" });
    details.onclick = () => void tell({ act: "open-app", path: `/items/${encodeURIComponent(l.id)}` });
    acts.append(details);
    li.append(b, acts);
    return li;
  }
  function copier(words2, get) {
    const c = Object.assign(document.createElement("button"), { textContent: words2, className: "act" });
    c.onclick = async () => {
      const v = await get();
      if (failed(v)) return;
      await navigator.clipboard.writeText(v.text);
      void tell({ act: "clear", seconds: clearAfter });
      c.textContent = "Copied";
      setTimeout(() => c.textContent = words2, 1500);
    };
    return c;
  }
  function drawer(list) {
    $("drawer-head").hidden = !list.length;
    $("drawer").replaceChildren(
      ...list.map((m) => {
        const li = document.createElement("li");
        const words2 = document.createElement("span");
        const when = new Date(m.at).toLocaleString([], { dateStyle: "medium", timeStyle: "short" });
        words2.textContent = `${m.site || "no site"}, ${when}`;
        const value = Object.assign(document.createElement("code"), { textContent: "● ● ● ●" });
        const show = Object.assign(document.createElement("button"), { textContent: "Show", className: "act" });
        const get = () => tell({ act: "made", at: m.at });
        show.onclick = async () => {
          const hidden = show.textContent === "Show";
          const v = hidden ? await get() : { text: "● ● ● ●" };
          if (failed(v)) return;
          value.textContent = v.text;
          show.textContent = hidden ? "Hide" : "Show";
        };
        li.append(words2, value, show, copier("Copy", get));
        return li;
      })
    );
  }
  $("find").addEventListener("input", () => void refresh());
  $("lock").addEventListener("click", async () => {
    await tell({ act: "lock" });
    await refresh();
  });
  $("make").addEventListener("click", async () => {
    const v = await tell({ act: "make" });
    if (failed(v)) return;
    $("made").textContent = v.password;
    $("made-for").textContent = v.for ? `As ${v.for} asks for it. It lies in the drawer from now on.` : "It lies in the drawer from now on.";
    const old = $("copy-made");
    const c = copier("Copy", async () => ({ text: v.password }));
    c.id = "copy-made";
    old.replaceWith(c);
    const now = await tell({ act: "window", query: "" });
    if (now.drawer) drawer(now.drawer);
  });
  $("take").addEventListener("click", async () => {
    if (!failed(await tell({ act: "take-tab" }))) window.close();
  });
  $("new").addEventListener("click", async () => {
    const t = tab ? await api.tabs.get(tab) : (await api.tabs.query({ active: true, currentWindow: true }))[0];
    const of = t?.url?.startsWith("http") ? `?address=${encodeURIComponent(t.url)}&title=${encodeURIComponent(t.title ?? "")}` : "";
    await tell({ act: "open-app", path: `/items/new${of}` });
  });
  for (const id of ["no-offer", "no-ask"])
    $(id).addEventListener(
      "change",
      async () => failed(await tell({ act: "rule", rule: { no_offer: $("no-offer").checked, no_ask: $("no-ask").checked } }))
    );
  $("allow").addEventListener("click", async () => {
    if (await askToSignOut()) $("may-sign-out").hidden = true;
  });
  document.addEventListener("keydown", (e) => {
    const all = (
      /** @type {HTMLElement[]} */
      [...document.querySelectorAll("#list .main-of")]
    );
    if (!all.length || e.key !== "ArrowDown" && e.key !== "ArrowUp") return;
    e.preventDefault();
    const i = all.indexOf(
      /** @type {HTMLElement} */
      document.activeElement
    );
    all[(i + (e.key === "ArrowDown" ? 1 : -1) + all.length) % all.length].focus();
  });
  void refresh();
})();
