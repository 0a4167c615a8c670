// Watches a frame, shows what the device app says fits it, and hands over what
// was pressed. It decides nothing.
"use strict";

const ext = globalThis.browser ?? chrome;

/** @typedef {{form: number, kind: string, roles: Record<string, string>}} Reading */
/** @typedef {{id: string, title: string, username: string, folder?: string}} Offer */

/** @type {{readings: Reading[], offers: Offer[], trouble?: string, open?: string}} */
let view = { readings: [], offers: [] };
let slipShown = "";
let filling = false;

/** @param {Record<string, unknown>} m @returns {Promise<any>} */
const tell = (m) => ext.runtime.sendMessage(m).catch(() => ({ trouble: "away" }));

/** @param {string} kind */
const words = (kind) => ({ locked: "Red Locket is locked.", away: "Red Locket isn’t running on this computer.", over: "This browser is no longer connected to Red Locket." })[kind] ?? "";

/** @param {HTMLInputElement} f @returns {{reading: Reading, role: string} | undefined} */
function roleOf(f) {
  const n = String(numbers.get(f));
  for (const reading of view.readings) if (n in reading.roles) return { reading, role: reading.roles[n] };
  return undefined;
}

let looking = false, again = false;

/** Asks what fits the frame as it is now. */
async function look() {
  if (looking) {
    again = true;
    return;
  }
  looking = true;
  const s = snapshot();
  if (s.fields.length || window === window.top) {
    const v = await tell({ act: "look", snapshot: s });
    view = { readings: v.readings ?? [], offers: v.offers ?? [], trouble: v.trouble ?? (v.error ? "away" : undefined), open: v.open };
    if (view.trouble === "locked") view.readings = guess();
    draw();
    if (v.slip && v.slip.id !== slipShown) showSlip(v.slip);
  }
  looking = false;
  if (again) {
    again = false;
    void look();
  }
}

/** While the vault is locked nobody reads the page: a password box still shows the way to open it. @returns {Reading[]} */
function guess() {
  return fields().filter((f) => f.type === "password" && seen(f)).map((f) => ({ form: 0, kind: "locked", roles: { [numberOf(f)]: "locked" } }));
}

/** Sets a clasp at every field that something fits. */
function draw() {
  remove("clasp");
  for (const f of fields()) {
    const r = roleOf(f);
    if (r && offers(r)) clasp(f, () => open(f, true));
  }
  if (document.activeElement instanceof HTMLInputElement && !filling) open(document.activeElement);
}

/** @param {{reading: Reading, role: string}} r */
function offers(r) {
  return r.role === "locked" || r.role === "new-password" || (r.role === "username" && r.reading.kind === "sign-up") || ((r.role === "username" || r.role === "current-password") && view.offers.length > 0);
}

/**
 * Shows the offer at a field. One that has a value is left alone, unless its clasp was pressed.
 * @param {HTMLInputElement} f @param {boolean} [asked]
 */
function open(f, asked = false) {
  const r = roleOf(f);
  if (!r || !offers(r) || (f.value && !asked)) {
    remove("offer");
    return;
  }
  if (r.role === "locked") {
    offer(f, { say: words("locked"), accounts: [], acts: [{ text: "Open it", act: () => void tell({ act: "open", url: view.open }) }] });
    return;
  }
  if (r.role === "new-password") {
    offer(f, { say: "A new password, made for this site and kept until you decide.", accounts: [], acts: [{ text: "Make and fill it", act: () => void fillNew(r.reading) }] });
    return;
  }
  if (r.role === "username" && r.reading.kind === "sign-up") {
    void names(f);
    return;
  }
  offer(f, {
    accounts: view.offers.map((o) => ({ name: o.username || o.title, folder: o.folder ?? "", choose: () => void fill(o.id, r.reading) })),
    acts: [],
  });
}

/** Offers the user names used before. @param {HTMLInputElement} f */
async function names(f) {
  const v = await tell({ act: "usernames" });
  if (document.activeElement !== f || f.value || !v.usernames?.length) return;
  const use = (/** @type {string} */ name) => {
    filling = true;
    type(f, name);
    mark(f);
    remove("offer");
    filling = false;
  };
  offer(f, { accounts: v.usernames.slice(0, 4).map((/** @type {string} */ name) => ({ name, folder: "", choose: () => use(name) })), acts: [] });
}

/** @param {any} v */
function put(v) {
  if (v.error || v.trouble) {
    const at = document.activeElement;
    if (at instanceof HTMLInputElement) offer(at, { say: v.error ?? words(v.trouble), accounts: [], acts: [] });
    return false;
  }
  filling = true;
  for (const one of v.fills ?? []) {
    const f = fieldByNumber(one.field);
    if (f) {
      type(f, one.value);
      mark(f);
    }
  }
  remove("offer");
  filling = false;
  return true;
}

/** Shows for a moment that a field was filled. @param {HTMLInputElement} f */
function mark(f) {
  f.animate([{ boxShadow: "inset 0 0 0 2px #a9812f" }, { boxShadow: "inset 0 0 0 2px transparent" }], { duration: 1600 });
}

/** @param {string} id @param {Reading} reading */
async function fill(id, reading) {
  return put(await tell({ act: "fill", id, form: reading.form, snapshot: snapshot() }));
}

/** @param {Reading} reading */
async function fillNew(reading) {
  const user = fields().find((f) => reading.roles[String(numbers.get(f))] === "username");
  put(await tell({ act: "fill-new", form: reading.form, username: user?.value ?? "", snapshot: snapshot() }));
}

/** Reports what was typed into a form that is being sent. @param {Element | null} form */
function sent(form) {
  for (const reading of view.readings) {
    /** @type {Record<string, string>} */
    const values = {};
    let mine = false;
    for (const f of fields()) {
      const n = String(numbers.get(f));
      if (!(n in reading.roles) || !f.value) continue;
      values[n] = f.value;
      mine ||= form === null || (f.form ?? document.body) === form;
    }
    if (mine) void tell({ act: "typed", form: reading.form, values, snapshot: snapshot() });
  }
}

/** Asks whether a sign-in should be kept. @param {any} s */
function showSlip(s) {
  slipShown = s.id;
  remove("slip");
  const p = make("section", "paper slip");
  p.setAttribute("aria-label", "Red Locket");
  p.append(make("h2", "", s.update ? "Keep the new password?" : "Keep this sign-in?"));
  /** @param {string} label @param {Node} value @param {Node} [act] */
  const row = (label, value, act) => {
    const r = make("div", "row");
    r.append(make("span", "", label), value, act ?? make("span"));
    p.append(r);
  };
  /** @param {string} value @param {string} label */
  const input = (value, label) => {
    const i = /** @type {HTMLInputElement} */ (make("input"));
    i.value = value;
    i.setAttribute("aria-label", label);
    i.addEventListener("keydown", (e) => e.stopPropagation()); // the page's own keys
    return i;
  };
  const title = input(s.title, "Name"), folder = input(s.folder, "Folder"), address = input(s.address, "Address");
  folder.placeholder = "none";
  row("Name", s.update ? make("span", "", s.title) : title);
  row("User name", make("span", "", s.username));
  const dots = make("span", "", "● ● ● ● ● ●");
  row("Password", dots, button("Show", "act", async () => {
    const v = await tell({ act: "slip-password", id: s.id });
    dots.textContent = v.password ?? v.error ?? "";
  }));
  if (!s.update) row("Folder", folder);
  row("Works at", s.update ? make("span", "", s.address) : address);
  const acts = make("div", "acts");
  /** @param {Record<string, unknown>} m */
  const answer = async (m) => {
    const v = await tell(m);
    if (!v.error && !v.trouble) p.remove();
    else {
      for (const old of p.querySelectorAll(".trouble")) old.remove();
      p.append(make("div", "trouble", v.error ?? words(v.trouble)));
    }
  };
  acts.append(
    button(s.update ? "Update it" : "Keep", "main", () => void answer({ act: "keep", slip: { ...s, title: title.value, folder: folder.value, address: address.value } })),
    button("Not now", "act", () => void answer({ act: "not-now", id: s.id })),
    button("Never here", "act", () => void answer({ act: "never", id: s.id })),
  );
  p.append(acts);
  root.append(p);
  drawnAt = performance.now();
  raise();
}

document.addEventListener("focusin", (e) => {
  const f = e.composedPath()[0];
  if (filling || e.target === host) return;
  if (f instanceof HTMLInputElement) open(f);
  else remove("offer");
}, true);
document.addEventListener("input", (e) => {
  if (!filling && e.target !== host) remove("offer"); // somebody types it themselves
}, true);
document.addEventListener("pointerdown", (e) => {
  if (e.target !== host && !(e.target instanceof HTMLInputElement)) remove("offer");
}, true);
document.addEventListener("keydown", (e) => {
  if (e.key === "Escape") remove("offer");
  if (e.isTrusted && (e.key === "ArrowDown" || e.key === "ArrowUp") && along(e.key === "ArrowDown" ? 1 : -1)) e.preventDefault();
  if (e.key === "Enter" && e.target instanceof HTMLInputElement) sent(e.target.form ?? document.body);
}, true);
document.addEventListener("submit", (e) => sent(e.target instanceof Element ? e.target : null), true);
document.addEventListener("click", (e) => {
  if (e.isTrusted && e.target instanceof Element && e.target.closest("[data-connect-browser]")) void tell({ act: "connect" });
  const b = e.target instanceof Element ? e.target.closest("button, input[type=submit], [role=button]") : null;
  if (b && b !== host) sent(b.closest("form") ?? document.body);
}, true);
for (const what of ["scroll", "resize"]) addEventListener(what, () => later(draw), { capture: true, passive: true });

let waiting = 0;
/** @param {() => void} what */
function later(what) {
  clearTimeout(waiting);
  waiting = setTimeout(what, 60);
}

new MutationObserver((list) => {
  if (list.some((m) => [...m.addedNodes, ...m.removedNodes].some((n) => n !== host))) later(() => void look());
}).observe(document.documentElement, { childList: true, subtree: true });

ext.runtime.onMessage.addListener((m, sender, reply) => {
  if (m.act !== "fill" || sender.id !== ext.runtime.id) return undefined;
  const reading = view.readings.find((r) => r.kind === "sign-in" || r.kind === "first-step");
  const id = m.id ?? view.offers[0]?.id;
  if (!reading || !id) reply({ error: "There is no sign-in on this page that can be filled." });
  else void fill(id, reading).then((ok) => reply(ok ? {} : { error: "It wasn’t filled." }));
  return true;
});

document.addEventListener("visibilitychange", () => {
  if (!document.hidden) void look(); // the vault may have been opened meanwhile
});
void look();
