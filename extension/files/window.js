// The extension's window: this page's logins, a search, and the way to the app.
"use strict";

/** @param {string} id @returns {any} */
const $ = (id) => document.getElementById(id);

/** @param {Record<string, unknown>} m @returns {Promise<any>} */
const tell = (m) => api.runtime.sendMessage(m);

/** @param {string} text @param {string} [label] @param {() => void} [act] */
function note(text, label, act) {
  $("say").textContent = text;
  $("act").hidden = !label;
  $("act").textContent = label ?? "";
  $("act").onclick = act ?? null;
}

const tab = Number(new URLSearchParams(location.search).get("tab")) || undefined;

async function refresh() {
  const query = $("find").value;
  const v = await tell({ act: "window", query, tab });
  const ready = !v.trouble && !v.error;
  $("find").hidden = $("lock").hidden = !ready;
  $("list").replaceChildren();
  if (v.trouble === "none" || v.trouble === "over") return note("This browser isn’t connected yet.", "Connect", () => void api.tabs.create({ url: api.runtime.getURL("connect.html") }));
  if (v.trouble === "locked") return note("The vault is locked.", "Open it", () => void api.tabs.create({ url: v.open }));
  if (!ready) return note(v.error ?? "Red Locket isn’t running on this computer. Start it, then open this window again.");
  if (query) note(v.list.length ? "" : "Nothing fits.");
  else note(v.list.length ? `Logins for ${v.site}` : v.site ? `No login is kept for ${v.site}. Type to find another.` : "Type to find a login.");
  $("list").append(...v.list.map(line));
  if (document.activeElement === document.body) $("find").focus();
}

/** @param {{id: string, title: string, username: string, address: string, fits: boolean}} l */
function line(l) {
  const li = document.createElement("li");
  const b = document.createElement("button");
  const name = Object.assign(document.createElement("b"), { textContent: l.title });
  const user = Object.assign(document.createElement("span"), { textContent: l.username || "no user name" });
  const act = Object.assign(document.createElement("i"), { textContent: l.fits ? "Fill" : l.address ? "Go" : "" });
  b.append(name, user, act);
  b.onclick = async () => {
    if (!l.fits) {
      if (l.address) await api.tabs.create({ url: l.address });
      return;
    }
    const v = await tell({ act: "fill-tab", id: l.id, tab });
    if (v?.error || v?.trouble) note(v.error ?? "Red Locket can’t be reached.");
    else window.close();
  };
  li.append(b);
  return li;
}

$("find").addEventListener("input", () => void refresh());
$("lock").addEventListener("click", async () => {
  await tell({ act: "lock" });
  await refresh();
});
document.addEventListener("keydown", (e) => {
  const all = /** @type {HTMLElement[]} */ ([...document.querySelectorAll("#list button")]);
  if (!all.length || (e.key !== "ArrowDown" && e.key !== "ArrowUp")) return;
  e.preventDefault();
  const i = all.indexOf(/** @type {HTMLElement} */ (document.activeElement));
  all[(i + (e.key === "ArrowDown" ? 1 : -1) + all.length) % all.length].focus();
});
void refresh();
