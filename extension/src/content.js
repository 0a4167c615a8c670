// Watches a frame, shows what the device app says is offered at its fields, and hands over what was
// pressed. What is offered, and what pressing it does, is the app's to say.
import { alarm, clasp, follow, raise, remove } from "./draw.js";
import { host, root } from "./host.js";
import { away, heard, lifted, present, report, stay, stepAlong } from "./lift.js";
import { forgetShownSlip, showSlip } from "./slip.js";
import {
  PRESSED,
  around,
  deep,
  fieldByNumber,
  fields,
  groupOf,
  isBox,
  labelOf,
  meet,
  numberOf,
  numbers,
  roots,
  seen,
  senders,
  snapshot,
  textOf,
  type,
} from "./snapshot.js";
import { tell, words } from "./tell.js";
/** @import { Box } from "./snapshot.js" */

const ext = globalThis.browser ?? chrome;

/**
 * @typedef {{form: number, kind: string, roles: Record<string, string>, elsewhere?: string, typed: number[]}} Reading
 */
/** @typedef {{text: string, note?: string, do: string, id?: string, part?: string}} Line */
/**
 * What the device app offers at a field.
 * @typedef {{group?: string, noClasp?: boolean, elsewhere?: string, framed?: boolean, say?: string, lines: Line[],
 * acts: Line[]}} Menu
 */
/** @typedef {{reading: Reading, menu?: Menu}} Place */

/**
 * @type {{readings: Reading[], menus: Record<string, Menu>, key?: {form: number, ids: string[]}, why?: string,
 * framed?: string, alarm?: any, trouble?: string}}
 */
let view = { readings: [], menus: {} };
/** Whether the frame has fields that couldn't be seen when it was last looked at. */
let unseen = false;
let filling = false,
  alarmed = "",
  turn = 0,
  gone = false;

/** @param {Element} f @returns {Place | undefined} */
function placeOf(f) {
  const n = String(numbers.get(f));
  for (const reading of view.readings) if (n in reading.roles) return { reading, menu: view.menus[n] };
  return undefined;
}

let looking = false,
  again = false;
/**
 * Whether the page has something to tell even where it has no fields: what became of a form that was sent, or an
 * alarm.
 */
let telling = false;

/** Asks what fits the frame as it is now. A frame without fields that has nothing to tell costs its page nothing. */
async function look() {
  if (!telling && !fields().length) {
    if (view.readings.length) {
      view = { readings: [], menus: {} };
      draw();
    }
    return;
  }
  if (looking) {
    again = true;
    return;
  }
  looking = true;
  const s = snapshot();
  unseen = s.fields.some((f) => !f.visible);
  if (s.fields.length || telling) {
    const v = await tell({ act: "look", snapshot: s, focused: document.hasFocus() });
    view = { ...v, readings: v.readings ?? [], menus: v.menus ?? {} };
    view.trouble = v.trouble ?? (v.error ? "away" : undefined);
    if (view.trouble === "locked") lockedMenus();
    draw();
    if (v.slip) showSlip(v.slip);
    if (v.alarm) sound(v.alarm);
    if (v.go && !gone) {
      const reading = view.readings.find((r) => r.form === v.go.form);
      gone = reading?.kind !== "first-step";
      if (reading) void fill(v.go.id, reading, "login", Boolean(v.go.submit));
    }
  }
  looking = false;
  if (again) {
    again = false;
    void look();
  }
}

/** While the vault is locked nobody reads the page: a password box still shows the way to open it. */
function lockedMenus() {
  for (const f of fields()) {
    if (f.type !== "password" || !seen(f)) continue;
    const n = String(numberOf(f));
    view.readings.push({ form: 0, kind: "locked", roles: { [n]: "locked" }, typed: [] });
    view.menus[n] = { say: words("locked"), lines: [], acts: [{ text: "Open it", do: "open-vault" }] };
  }
}

/** Shows the alarm, once for a page. @param {any} a */
function sound(a) {
  if (alarmed === a.kept) return;
  alarmed = a.kept;
  alarm(
    a,
    () => location.replace(a.url),
    () => void tell({ act: "vouch", id: a.id }),
  );
}

/** Sets a clasp at every field that has a menu; of a group, at the first one and where the keyboard is. */
function draw() {
  remove("clasp");
  const marked = new Set();
  const now = focused();
  if (view.readings.length)
    for (const f of fields()) {
      const menu = placeOf(f)?.menu;
      if (!menu || menu.noClasp || (menu.group && marked.has(menu.group) && f !== now)) continue;
      if (menu.group) marked.add(menu.group);
      clasp(f, () => open(f, true));
    }
  if (now && !filling) reopen(now);
}

/** The field at which the offer stands, and what it was made of. @type {{f?: Box, key: string}} */
let opened = { key: "" };
/** The field at which the user put the offer away. @type {Box | undefined} */
let dismissed;

/** What an offer at a field would be made of. @param {Box} f */
const keyOf = (f) => JSON.stringify([placeOf(f), [...agreed]]);

/**
 * Leaves an offer standing that is still right: one that is drawn again and again can't be read, nor pressed.
 * @param {Box} f
 */
function reopen(f) {
  const p = root.querySelector(".offer");
  const same = opened.f === f && opened.key === keyOf(f);
  if (same && p instanceof HTMLElement) follow(p, f.getBoundingClientRect());
  else if (!same || !lifted) open(f);
}

/** Puts the offer away. @param {Box} [at] the field whose user did so */
function close(at) {
  away();
  dismissed = at;
}

/** The field that has the focus, in shadow roots too. @returns {Box | undefined} */
function focused() {
  let el = document.activeElement;
  while (el?.shadowRoot?.activeElement) el = el.shadowRoot.activeElement;
  return el && isBox(el) ? el : undefined;
}

/** Sites to which what is typed would go that the user said yes to. @type {Set<string>} */
const agreed = new Set();

/**
 * Shows the offer at a field. One that has a value is left alone, unless its clasp was pressed.
 * @param {Box} f @param {boolean} [asked]
 */
function open(f, asked = false) {
  const at = placeOf(f);
  const menu = at?.menu;
  if (!at || !menu || (!asked && (f === dismissed || (f.value && f.tagName !== "SELECT")))) {
    away();
    return;
  }
  opened = { f, key: keyOf(f) };
  const to = menu.elsewhere;
  if (to && !agreed.has(to)) {
    const agree = () => {
      agreed.add(to);
      if (menu.framed) void tell({ act: "agreed", to });
      open(f, asked);
    };
    const say = menu.framed ? `This part of the page belongs to ${to}.` : `This form sends what is typed to ${to}.`;
    present(f, { say, accounts: [], acts: [{ text: "Fill here all the same", act: agree }] });
    return;
  }
  present(f, {
    say: menu.say,
    accounts: menu.lines.map((l) => ({ name: l.text, folder: l.note ?? "", choose: () => press(f, at.reading, l) })),
    acts: menu.acts.map((l) => ({ text: l.text, act: () => press(f, at.reading, l) })),
  });
}

/** Does what a line of a menu says. @param {Box} f @param {Reading} reading @param {Line} l */
function press(f, reading, l) {
  switch (l.do) {
    case "fill":
      return void fill(l.id ?? "", reading, l.part ?? "");
    case "fill-new":
      return void fillNew(reading, l.id ?? "");
    case "type":
      filling = true;
      type(f, l.text);
      mark(f);
      away();
      filling = false;
      return undefined;
    default:
      return void tell({ act: l.do, id: l.id });
  }
}

/** @param {any} v @param {Reading} reading */
function put(v, reading) {
  if (v.error || v.trouble) {
    const at = focused();
    if (at) present(at, { say: v.error ?? words(v.trouble), accounts: [], acts: [] });
    else report(v.error ?? words(v.trouble));
    return false;
  }
  filling = true;
  const missed = (v.missed ?? []).map((/** @type {any} */ m) => `${m.label || "A field without a name"}: ${m.why}`);
  for (const one of v.fills ?? []) {
    const f = fieldByNumber(one.field);
    if (!f || !seen(f)) missed.push("A field that is no longer there, or can’t be seen");
    else if (type(f, one.value)) mark(f);
    else missed.push(`${labelOf(f) || "A field without a name"}: the page changed what was filled`);
  }
  away();
  filling = false;
  if (missed.length) report(v.fills?.length ? "Filled, but for:" : "Not filled:", missed);
  else if (v.copied !== undefined)
    report(
      v.copied
        ? "The one-time code is copied, for the next page."
        : "The browser didn’t let the one-time code be copied.",
    );
  if (v.submit) send(reading);
  return true;
}

/** Sends a form, because its login says so. @param {Reading} reading */
function send(reading) {
  const f = fields().find((x) => String(numbers.get(x)) in reading.roles);
  if (!f) return;
  const form = groupOf(f);
  sent(form);
  const by = senders(form)[0];
  if (by) by.click();
  else if (form instanceof HTMLFormElement) form.requestSubmit();
}

/** Shows for a moment that a field was filled. @param {Element} f */
function mark(f) {
  f.animate([{ boxShadow: "inset 0 0 0 2px #a9812f" }, { boxShadow: "inset 0 0 0 2px transparent" }], {
    duration: 1600,
  });
}

/** @param {Reading} reading */
const elsewhere = (reading) => {
  const to = view.framed || reading.elsewhere || "";
  return agreed.has(to) ? to : "";
};

/** @param {string} id @param {Reading} reading @param {string} what @param {boolean} [submit] */
async function fill(id, reading, what, submit = false) {
  return put(
    await tell({
      act: "fill",
      id,
      form: reading.form,
      what,
      elsewhere: elsewhere(reading),
      submit,
      snapshot: snapshot(),
    }),
    reading,
  );
}

/** @param {Reading} reading @param {string} id */
async function fillNew(reading, id) {
  const user = fields().find((f) => reading.roles[String(numbers.get(f))] === "username");
  put(
    await tell({
      act: "fill-new",
      form: reading.form,
      id,
      username: user?.value ?? "",
      elsewhere: elsewhere(reading),
      snapshot: snapshot(),
    }),
    reading,
  );
}

/** The values that stand in a form's fields for logins. @param {Reading} reading @param {Element | null} form */
function typedIn(reading, form) {
  /** @type {Record<string, string>} */
  const values = {};
  let mine = false;
  for (const f of fields()) {
    const n = String(numbers.get(f));
    if (!f.value || !reading.typed.includes(Number(n))) continue;
    values[n] = f.value;
    mine ||= form === null || groupOf(f) === form;
  }
  return mine ? values : undefined;
}

/** Reports what was typed into a form that is being sent. @param {Element | null} form */
function sent(form) {
  for (const reading of view.readings) {
    const values = typedIn(reading, form);
    if (!values) continue;
    telling = true;
    void tell({ act: "typed", form: reading.form, values, snapshot: snapshot() });
    for (const ms of [400, 1200, 3000]) setTimeout(() => void look(), ms); // pages that never reload
  }
}

/** A press that may send what was typed, where no form will say so itself. @param {Element} b */
function pressed(b) {
  const inForm = b.closest("form");
  // the form's own event comes
  if (inForm && (b instanceof HTMLButtonElement || b instanceof HTMLInputElement) && b.type === "submit") return;
  // shows or hides something
  if (b.hasAttribute("aria-pressed") || b.hasAttribute("aria-expanded") || textOf(b).length < 2) return;
  for (let el = /** @type {Element | null} */ (b); el && el !== document.body; el = around(el)) {
    const n = deep(el, "input, select, textarea").filter(isBox).length;
    if (
      n === 1 &&
      deep(el, "input[type=password], input[type=text]").length === 1 &&
      view.readings.some((r) => Object.keys(r.roles).length > 1)
    )
      return; // stands in one field's own box
    if (n > 0) return sent(inForm ?? el);
  }
}

document.addEventListener(
  "focusin",
  (e) => {
    const f = e.composedPath()[0];
    if (filling || e.target === host) return;
    if (meet(e)) {
      watch();
      later(() => void look());
    }
    if (f !== dismissed) dismissed = undefined;
    if (f instanceof Element && isBox(f)) {
      if (!placeOf(f) && unseen) later(() => void look()); // it may not have been there to see before
      open(f);
      if (view.alarm && f.type === "password") {
        alarmed = "";
        sound(view.alarm);
      }
    } else away();
  },
  true,
);
document.addEventListener(
  "input",
  (e) => {
    if (!filling && e.target !== host) close(focused()); // somebody types it themselves
  },
  true,
);
document.addEventListener(
  "pointerdown",
  (e) => {
    const f = e.composedPath()[0];
    if (e.target === host) return;
    if (!(f instanceof Element && isBox(f))) close(focused());
    else if (f === dismissed && f === focused()) {
      // pressed again
      dismissed = undefined;
      open(f);
    }
  },
  true,
);
document.addEventListener(
  "keydown",
  (e) => {
    if (e.key === "Escape") close(focused() ?? opened.f);
    if (e.isTrusted && (e.key === "ArrowDown" || e.key === "ArrowUp") && stepAlong(e.key === "ArrowDown" ? 1 : -1))
      e.preventDefault();
    const f = e.composedPath()[0];
    if (e.key === "Enter" && f instanceof HTMLInputElement && !f.form) sent(groupOf(f));
  },
  true,
);
document.addEventListener(
  "submit",
  (e) => {
    const f = e.composedPath()[0];
    sent(f instanceof Element ? f : null);
  },
  true,
);
document.addEventListener(
  "click",
  (e) => {
    const at = e.composedPath()[0];
    if (!(at instanceof Element) || e.target === host) return;
    if (e.isTrusted && at.closest("[data-connect-browser]")) void tell({ act: "connect" });
    const b = at.closest(`${PRESSED}, a[href="#"], a:not([href])`);
    if (b) pressed(b);
    if (unseen) setTimeout(() => void look(), 350); // a press may bring fields to light
  },
  true,
);
for (const what of ["beforetoggle", "fullscreenchange"])
  document.addEventListener(
    what,
    (e) => {
      // nothing of the page's stands above
      if (e.target !== host && root.querySelector(".paper") && !root.activeElement) setTimeout(() => raise(true));
    },
    true,
  );
for (const what of ["scroll", "resize"])
  addEventListener(
    what,
    () =>
      later(() => {
        draw();
        stay();
      }),
    { capture: true, passive: true },
  );

let waiting = 0;
/** @param {() => void} what */
function later(what) {
  clearTimeout(waiting);
  waiting = setTimeout(what, 60);
}

const watched = new WeakSet();
const observer = new MutationObserver((list) => {
  if (
    !list.some((m) =>
      m.type === "attributes"
        ? m.target instanceof Element && (isBox(m.target) || m.attributeName === "open" || m.attributeName === "hidden")
        : [...m.addedNodes, ...m.removedNodes].some((n) => n !== host),
    )
  )
    return;
  watch();
  later(() => void look());
});

/** Watches the page and every open shadow root in it. */
function watch() {
  for (const r of roots()) {
    if (watched.has(r)) continue;
    watched.add(r);
    observer.observe(r === document ? document.documentElement : r, {
      childList: true,
      subtree: true,
      attributes: true,
      attributeFilter: ["type", "disabled", "readonly", "hidden", "open"],
    });
  }
}
watch();

ext.runtime.onMessage.addListener((m, sender, reply) => {
  if (sender.id !== ext.runtime.id) return undefined;
  if (m.act === "fill") {
    const reading = view.readings.find((r) => r.form === view.key?.form);
    const ids = view.key?.ids ?? [];
    const id = m.id ?? ids[turn++ % Math.max(1, ids.length)]; // pressed again: the next
    if (!reading || !id)
      reply({
        error: view.alarm
          ? "This page imitates a site that you keep."
          : "There is no sign-in on this page that can be filled.",
      });
    else {
      const to = view.framed || reading.elsewhere;
      if (to && m.id) agreed.add(to);
      void fill(id, reading, "login").then((ok) => reply(ok ? {} : { error: "It wasn’t filled." }));
    }
    return true;
  }
  heard(m);
  if (m.act === "agreed" && view.framed === m.to) agreed.add(m.to); // in another frame of the same site
  if (m.act === "look") {
    telling = true;
    void look();
  }
  if (m.act === "take") {
    for (const reading of view.readings) {
      const values = typedIn(reading, null);
      if (!values) continue;
      void tell({ act: "take", form: reading.form, values, snapshot: snapshot() }).then((v) => {
        if (v.slip) {
          forgetShownSlip();
          showSlip(v.slip);
        }
        reply(v.error || v.trouble ? v : {});
      });
      return true;
    }
    reply({ error: "There is no user name and no password on this page yet." });
    return true;
  }
  return undefined;
});

document.addEventListener("visibilitychange", () => {
  if (!document.hidden) void look(); // the vault may have been opened meanwhile
});
void look();
