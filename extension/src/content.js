// Watches a frame, shows what the device app says is offered at its fields, and hands over what was
// pressed. What is offered, and what pressing it does, is the app's to say.
import * as dom from "./dom.js";
import { clasp, follow, isShown, onScreen, prepare, raise, remove, showPaperSlip, unclasp } from "./draw.js";
import { host, root } from "./host.js";
import { away, hasGuest, heard, onPutAway, present, report, standing, stay, stepAlong } from "./lift.js";
import { isGiven, note, own } from "./own.js";
import {
  PRESSED,
  around,
  deep,
  dormant,
  fieldByNumber,
  fields,
  groupOf,
  isBox,
  labelOf,
  meet,
  numberOf,
  numbers,
  reachable,
  roots,
  seen,
  senders,
  snapshot,
  type,
  wordsOf,
} from "./snapshot.js";
import { onOrphaned, tell } from "./tell.js";
import { words } from "./words.js";
/** @import { Box } from "./snapshot.js" */

const ext = globalThis.browser ?? chrome;

/**
 * @typedef {{form: number, kind: string, roles: Record<string, string>, elsewhere?: string, typed: number[]}} Reading
 */
/** @typedef {{text: string, note?: string, fills?: string, do: string, id?: string, part?: string}} Line */
/**
 * What the device app offers at a field.
 * @typedef {{group?: string, noClasp?: boolean, elsewhere?: string, framed?: boolean, say?: string, lines: Line[],
 * acts: Line[]}} Menu
 */
/** @typedef {{reading: Reading, menu?: Menu}} Place */

/**
 * @type {{readings: Reading[], menus: Record<string, Menu>, key?: {form: number, ids: string[]}, why?: string,
 * framed?: string, alarm?: boolean, trouble?: string}}
 */
let view = { readings: [], menus: {} };
/** Whether the frame has fields that couldn't be seen when it was last looked at. */
let unseen = false;
let filling = false,
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
  if (dom.leaving.signal.aborted) return;
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
  try {
    await lookNow();
  } finally {
    looking = false; // what went wrong in one look stops none of the next
  }
  if (again) {
    again = false;
    void look();
  }
}

async function lookNow() {
  const s = snapshot(telling);
  unseen = s.fields.some((f) => !f.visible);
  if (s.fields.length || telling) {
    const restless = isRestless();
    if (restless) whenCalm();
    const v = await tell({ act: "look", snapshot: { ...s, restless }, opaque, focused: dom.focused() });
    view = { ...v, readings: v.readings ?? [], menus: v.menus ?? {} };
    view.trouble = v.trouble ?? (v.error ? "away" : undefined);
    if (view.trouble === "locked") lockedMenus();
    draw();
    if (v.slip) showSlip(v.slip);
    else if (!v.trouble && !v.error) takeBack();
    if (v.go && !gone) {
      const reading = view.readings.find((r) => r.form === v.go.form);
      gone = reading?.kind !== "first-step";
      if (reading) void fill(v.go.id, reading, "login", Boolean(v.go.submit));
    }
  }
}

/** When the page last changed, and since when there is something to tell of it. */
let changedAt = performance.now(),
  tellingSince = -Infinity,
  sentHere = false;
/** How long a page has to rest before it's told what became of a form, in milliseconds. */
const CALM = 400;
/** The same in the page that sent it: it may be waiting for its answer. */
const CALM_HERE = 900;
/** A page that never rests is told of all the same after this long, in milliseconds. */
const GIVES_UP = 8000;
const BUSY = [
  "[aria-busy=true], [role=progressbar], progress",
  ...["spinner", "loading", "loader"].map((word) => `[class*="${word}" i]`),
].join(", ");

/** Whether the page isn't yet what it is going to be, so that nothing can be told by what it lacks. */
function isRestless() {
  const now = performance.now();
  if (!telling || now - tellingSince > GIVES_UP) return false;
  return (
    !dom.isComplete() ||
    now - changedAt < (sentHere ? CALM_HERE : CALM) ||
    roots().some((r) => dom.all(r, BUSY).some((el) => el !== host && seen(el)))
  );
}

let calming = 0;
/** Looks again once the page may have come to rest. */
function whenCalm() {
  clearTimeout(calming);
  calming = setTimeout(() => void look(), CALM);
}

/** Notes that the page may tell what became of a form. @param {boolean} here it was sent from this page */
function expect(here) {
  telling = true;
  tellingSince = performance.now();
  sentHere ||= here;
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

/** A sandboxed frame has an address and not its rights. */
const opaque = self.origin === "null";

let slipShown = "";
/** What a slip may ask for. */
const FROM_SLIPS = new Set(["slip-password", "keep", "not-now", "step-back", "took", "put-away", "never"]);

/** Takes back a slip that asks about what the page has shown to be refused: its form is there again, or an error. */
function takeBack() {
  if (!/ (keep|update)$/.test(slipShown) || root.activeElement) return;
  slipShown = "";
  remove("slip");
}

/** @param {any} s */
function showSlip(s) {
  const mark = `${s.id} ${s.kind}`;
  if (slipShown === mark) return;
  slipShown = mark;
  const ask = async (/** @type {any} */ m) => (FROM_SLIPS.has(m?.act) ? tell(m) : {});
  showPaperSlip(s, ask, s.kind === "confirmed" ? 15000 : undefined);
}

/** Fields that have a clasp. @type {Box[]} */
let clasped = [];

/** Sets the clasps anew where their fields are now. */
function follows() {
  unclasp();
  for (const f of clasped) if (f.isConnected) clasp(f, () => open(f, true));
  const now = focused();
  if (now && !filling) reopen(now);
}

/** Sets a clasp at every field that has a menu; of a group, at the first one and where the keyboard is. */
function draw() {
  unclasp();
  clasped = [];
  const marked = new Set();
  const now = focused();
  if (view.readings.length)
    for (const f of fields()) {
      const menu = placeOf(f)?.menu;
      if (menu) prepare();
      if (!menu || menu.noClasp || (menu.group && marked.has(menu.group) && f !== now)) continue;
      if (menu.group) marked.add(menu.group);
      clasp(f, () => open(f, true));
      clasped.push(f);
    }
  if (now && !filling) reopen(now);
}

/**
 * The field at which a person asked for an offer, and what the offer was made of; it may have had none then.
 * @type {{f?: Box, key: string, asked: boolean}}
 */
let opened = { key: "", asked: false };
/** The field at which the user put the offer away. @type {Box | undefined} */
let dismissed;

/** What an offer at a field would be made of. @param {Box} f */
const keyOf = (f) => JSON.stringify([placeOf(f), [...agreed]]);

/**
 * Leaves an offer standing that is still right: one that is drawn again and again can't be read, nor pressed.
 * @param {Box} f
 */
function reopen(f) {
  if (opened.f !== f) return;
  if (opened.key !== keyOf(f)) open(f, opened.asked);
  else if (standing()) follow();
}

/** Takes the offer away until somebody asks for one. */
function shut() {
  away();
  opened = { key: "", asked: false };
}

/** Puts the offer away. @param {Box} [at] the field whose user did so */
function close(at) {
  shut();
  dismissed = at;
}
onPutAway((byUser) => {
  const f = opened.f;
  if (!byUser) return shut();
  close(f);
  if (f) dom.focus(f);
});

/** The field that has the focus, in shadow roots too. @returns {Box | undefined} */
function focused() {
  const el = dom.activeElement();
  return el && isBox(el) ? el : undefined;
}

/** Sites to which what is typed would go that the user said yes to. @type {Set<string>} */
const agreed = new Set();

/**
 * Shows the offer at a field. One that has a value is left alone, unless its clasp was pressed.
 * @param {Box} f @param {boolean} [asked]
 */
function open(f, asked = false) {
  if (!ext.runtime?.id) return leave(); // the extension is gone, or was updated: nobody would answer
  const at = placeOf(f);
  const menu = at?.menu;
  const filledBySite = at?.reading.roles[String(numbers.get(f))] === "new-password" && !own.has(f);
  if (!asked && (f === dismissed || (f.value && f.tagName !== "SELECT" && !filledBySite))) return shut();
  opened = { f, key: keyOf(f), asked };
  if (!at || !menu) return away(); // it may come
  const to = menu.elsewhere;
  if (to && !agreed.has(to)) {
    const agree = () => {
      agreed.add(to);
      if (menu.framed) void tell({ act: "agreed", to });
      open(f, asked);
    };
    const say = menu.framed ? `This part of the page belongs to ${to}.` : `This form sends what is typed to ${to}.`;
    present(f, { say, lines: [], acts: [{ text: "Fill here all the same", press: agree }] });
    return;
  }
  const choice = (/** @type {Line} */ l) => ({ ...l, press: () => press(f, at.reading, l) });
  present(f, { say: menu.say, lines: menu.lines.map(choice), acts: menu.acts.map(choice) });
}

/** Does what a line of a menu says. @param {Box} f @param {Reading} reading @param {Line} l */
function press(f, reading, l) {
  switch (l.do) {
    case "fill":
      return void fill(l.id ?? "", reading, l.part ?? "");
    case "fill-new":
      return void fillNew(reading, l.id ?? "", f);
    case "type":
      void fillIn(() => {
        if (type(f, l.text)) {
          mark(f);
          note(f);
        }
        shut();
      });
      return undefined;
    case "open-vault":
      waitingAt = f;
      return void tell({ act: l.do });
    default:
      return void tell({ act: l.do, id: l.id });
  }
}

/** The field at which its user went to open the vault. @type {Box | undefined} */
let waitingAt;
/** How long a page may take to hear what is offered once the vault is open, in milliseconds. */
const HEARS = 3000;

/** Fills the field that waited for the vault, if there is one way to; otherwise shows what is offered there. */
async function goOn() {
  const f = waitingAt;
  waitingAt = undefined;
  const until = performance.now() + HEARS;
  do {
    await look();
    if (looking) await new Promise((done) => setTimeout(done, REST));
  } while ((looking || view.trouble) && performance.now() < until);
  if (!f?.isConnected || view.trouble) return;
  const at = placeOf(f);
  const fills = at?.menu?.lines.filter((l) => l.do === "fill") ?? [];
  const to = at?.menu?.elsewhere;
  dom.focus(f);
  if (at && fills.length === 1 && (!to || agreed.has(to))) press(f, at.reading, fills[0]);
  else open(f, true);
}

/** Changes fields; what a page does meanwhile is no typing of its user. @param {() => void | Promise<void>} change */
async function fillIn(change) {
  filling = true;
  try {
    await change();
  } finally {
    filling = false;
  }
}

/** How long a field gets to show itself once the keyboard is in it, in milliseconds. */
const WAKES = 400;

/** Whether a field can be filled, if need be once somebody has come to it. @param {Box} f @param {string} role */
async function wakes(f, role) {
  if (reachable(f, role)) return true;
  if (!dormant(f)) return false;
  dom.focus(f);
  for (const until = performance.now() + WAKES; performance.now() < until;) {
    await new Promise((drawn) => setTimeout(drawn, 16));
    if (reachable(f, role)) return true;
  }
  return false;
}

/** @param {any} v @param {Reading} reading */
async function put(v, reading) {
  if (v.error || v.trouble) {
    const at = focused();
    if (at) present(at, { say: v.error ?? words(v.trouble), lines: [], acts: [] });
    else report(v.error ?? words(v.trouble));
    return false;
  }
  const missed = (v.missed ?? []).map((/** @type {any} */ m) => `${m.label || "A field without a name"}: ${m.why}`);
  await fillIn(async () => {
    for (const one of v.fills ?? []) {
      const f = fieldByNumber(one.field);
      if (!f || !(await wakes(f, one.role))) missed.push("A field that is no longer there, or can’t be seen");
      else if (type(f, one.value)) {
        mark(f);
        note(f);
      } else missed.push(`${labelOf(f) || "A field without a name"}: the page changed what was filled`);
    }
    shut();
  });
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
  else if (form instanceof HTMLFormElement) dom.requestSubmit(form);
}

/** Shows for a moment that a field was filled. @param {Element} f */
function mark(f) {
  dom.animate(f, [{ boxShadow: "inset 0 0 0 2px #a9812f" }, { boxShadow: "inset 0 0 0 2px transparent" }], {
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
      opaque,
      snapshot: snapshot(),
    }),
    reading,
  );
}

/** @param {Reading} reading @param {string} id @param {Box} at the field that was pressed */
async function fillNew(reading, id, at) {
  const user = fields().find((f) => reading.roles[String(numbers.get(f))] === "username");
  await put(
    await tell({
      act: "fill-new",
      form: reading.form,
      field: numberOf(at),
      id,
      username: user?.value ?? "",
      elsewhere: elsewhere(reading),
      opaque,
      snapshot: snapshot(),
    }),
    reading,
  );
}

/** The field that a person's key, paste or drop went to last, and when. @type {{f?: EventTarget, at: number}} */
let handled = { at: 0 };
/** How long after a key its letters arrive, in milliseconds. */
const KEY = 1500;

for (const kind of ["keydown", "beforeinput", "paste", "drop", "cut", "compositionend", "pointerup"])
  dom.listen(
    document,
    kind,
    (e) => {
      if (e.isTrusted) handled = { f: e.composedPath()[0], at: e.timeStamp };
    },
    true,
  );

/**
 * The values that a person gave to a form's fields for logins. Whose account it is may be the page's own word.
 * @param {Reading} reading @param {Element | null} form @param {boolean} [asked] what stands there is asked for
 */
function typedIn(reading, form, asked = false) {
  const pressed = form !== null && performance.now() - (pressedAt.get(form) ?? -Infinity) < PRESSING;
  /** @type {Record<string, string>} */
  const values = {};
  let mine = false;
  for (const f of fields()) {
    const n = String(numbers.get(f));
    const named = reading.roles[n] === "username" && isGiven(f);
    const chosen = reading.roles[n] === "new-password" && isMade(f.value); // by the site itself
    const value = asked || named ? f.value : (own.get(f) ?? (chosen ? f.value : undefined));
    if (!value || !f.value || !reading.typed.includes(Number(n))) continue;
    values[n] = value;
    if (own.has(f) || asked || (chosen && pressed)) mine ||= form === null || groupOf(f) === form;
  }
  return mine ? values : undefined;
}

/**
 * When each form was sent last: a press and the event that follows from it are one.
 * @type {WeakMap<Element, number>}
 */
const sentAt = new WeakMap();
/** How long they belong together, in milliseconds. */
const TOGETHER = 300;

/** Reports what was typed into a form that is being sent. @param {Element | null} form */
function sent(form) {
  const now = performance.now();
  if (form && now - (sentAt.get(form) ?? -Infinity) < TOGETHER) return;
  if (form) sentAt.set(form, now);
  for (const reading of view.readings) {
    const values = typedIn(reading, form);
    if (!values) continue;
    expect(true);
    void tell({ act: "typed", form: reading.form, values, opaque, snapshot: snapshot() });
    for (const ms of [400, 1200, 3000]) setTimeout(() => void look(), ms); // pages that never reload
  }
}

/**
 * A form whose event doesn't come, because the page sends by itself what is in it: it counts as sent, unless something
 * is missing in it.
 * @param {Event} e the press or key that would have sent it @param {Element} form
 */
function unlessSent(e, form) {
  setTimeout(() => {
    if (e.defaultPrevented && !dom.matches(form, ":invalid")) sent(form);
  });
}

/**
 * The button that was pressed: the browser's own, or an element of the page's own kind that is called one.
 * @param {EventTarget[]} path
 * @returns {Element | undefined}
 */
function buttonIn(path) {
  const els = path.slice(0, 40).filter((el) => el instanceof Element);
  return (
    els.find((el) => dom.matches(el, `${PRESSED}, a[href="#"], a:not([href])`)) ??
    els.find((el) => /-.*(button|btn)|(button|btn).*-/i.test(dom.tag(el)))
  );
}

/** The form around an element, also outside of its shadow root. @param {Element} el */
function formAround(el) {
  for (let at = /** @type {Element | null} */ (el); at; at = around(at)) {
    const tied = dom.attr(at, "form");
    const r = dom.rootOf(at);
    const form = tied && (r instanceof Document || r instanceof ShadowRoot) ? dom.withId(r, tied) : at;
    if (form instanceof HTMLFormElement) return form;
  }
  return undefined;
}

/**
 * When a person last pressed a form's own button, or Enter in a field of it.
 * @type {WeakMap<Element, number>}
 */
const pressedAt = new WeakMap();
/** How long after that a form is sent because of it, in milliseconds. */
const PRESSING = 1000;
/**
 * Whether a password that the page filled in may be one that it made: stars stand for one that it doesn't show.
 * @param {string} v
 */
const isMade = (v) => v.length >= 6 && new Set(v).size > 3;

/** A press that may send what was typed, where no form will say so itself. @param {Element} b @param {Event} e */
function pressed(b, e) {
  const by = b instanceof HTMLButtonElement || b instanceof HTMLInputElement ? b : undefined;
  const inForm = (by && dom.formOf(by)) ?? formAround(b);
  const byPerson = (/** @type {Element} */ form) => e.isTrusted && pressedAt.set(form, performance.now());
  if (inForm) byPerson(inForm);
  const custom = dom.rootOf(b) instanceof ShadowRoot || !by; // of the page's own kind: its press may send by script
  if (inForm && by && dom.formOf(by) && (by.type === "submit" || by.type === "image")) return unlessSent(e, inForm);
  // shows or hides something
  if (dom.has(b, "aria-pressed") || dom.has(b, "aria-expanded") || wordsOf(b).length < 2) return;
  if (inForm && custom && dom.matches(inForm, ":invalid")) return;
  for (let el = /** @type {Element | null} */ (b); el && el !== dom.bodyOf(); el = around(el)) {
    const n = deep(el, "input, select, textarea").filter(isBox).length;
    if (
      n === 1 &&
      deep(el, "input[type=password], input[type=text]").length === 1 &&
      view.readings.some((r) => Object.keys(r.roles).length > 1)
    )
      return; // stands in one field's own box
    if (n > 0) {
      if (!inForm) byPerson(el);
      return sent(inForm ?? el);
    }
  }
}

/**
 * When and where a person came to a field: by a press at it or at its label, or by the Tab key. A focus that the page
 * sets shows nothing but the clasp.
 */
let came = { at: -Infinity, /** @type {EventTarget | undefined} */ f: undefined, byKey: false };
/** How long after a person's act the focus that follows from it comes, in milliseconds. */
const FOLLOWS = 400;

/** @param {Box} f @param {number} now */
const cameTo = (f, now) => now - came.at < FOLLOWS && (came.byKey || came.f === f);

dom.listen(
  document,
  "focusin",
  (e) => {
    const f = e.composedPath()[0];
    if (filling || e.target === host) return;
    if (meet(e)) {
      watch();
      later(lookThen);
    }
    if (f !== dismissed) dismissed = undefined;
    if (f instanceof Element && isBox(f)) {
      if (!placeOf(f) && unseen) later(lookThen); // it may not have been there to see before
      if (e.isTrusted && cameTo(f, e.timeStamp)) open(f);
      else shut();
    } else if (!(f instanceof HTMLIFrameElement && hasGuest())) shut();
  },
  true,
);
dom.listen(
  document,
  "input",
  (e) => {
    if (filling || e.target === host) return;
    const f = e.composedPath()[0];
    if (f instanceof Element && isBox(f)) {
      const theirs = e.isTrusted && handled.f === f && e.timeStamp - handled.at < KEY;
      if (theirs || (e.isTrusted && f instanceof HTMLSelectElement)) note(f);
    }
    close(focused()); // somebody types it themselves
  },
  true,
);
dom.listen(
  document,
  "pointerdown",
  (e) => {
    const f = e.composedPath()[0];
    if (e.target === host || !e.isTrusted) return;
    const label = f instanceof Element ? dom.closest(f, "label") : null;
    const to = label instanceof HTMLLabelElement && label.control ? label.control : f;
    came = { at: e.timeStamp, f: to, byKey: false };
    if (!(to instanceof Element && isBox(to))) close(focused());
    else if (to === focused()) {
      // pressed again, or the page had put the focus there
      dismissed = undefined;
      open(to);
    }
  },
  true,
);
dom.listen(
  document,
  "pointerup",
  (e) => {
    if (e.isTrusted && came.f) came.at = e.timeStamp; // a label's press gives the focus when it is let go
  },
  true,
);
dom.listen(
  document,
  "keydown",
  (e) => {
    if (e.isTrusted && e.key === "Tab") came = { at: e.timeStamp, f: undefined, byKey: true };
    if (e.key === "Escape") {
      if (e.isTrusted && standing()) {
        e.preventDefault(); // the offer alone is closed, not the page's dialog behind it
        e.stopImmediatePropagation();
      }
      close(focused() ?? opened.f);
    }
    if (e.isTrusted && (e.key === "ArrowDown" || e.key === "ArrowUp")) {
      const at = focused();
      if (stepAlong(e.key === "ArrowDown" ? 1 : -1)) e.preventDefault();
      else if (at && e.key === "ArrowDown" && !isShown("offer") && at.tagName !== "SELECT" && placeOf(at)?.menu) {
        open(at, true);
        stepAlong(1, true);
        e.preventDefault();
      }
    }
    const f = e.composedPath()[0];
    if (e.isTrusted && e.key === "Enter" && f instanceof HTMLInputElement) {
      pressedAt.set(f.form ?? groupOf(f), performance.now());
      if (f.form) unlessSent(e, f.form);
      else sent(groupOf(f));
    }
  },
  true,
);
/** @param {Event} e */
function onSubmit(e) {
  const f = e.composedPath()[0];
  sent(f instanceof Element ? f : null);
}
dom.listen(document, "submit", onSubmit, true);
dom.listen(
  document,
  "click",
  (e) => {
    const at = e.composedPath()[0];
    if (!(at instanceof Element) || e.target === host) return;
    if (e.isTrusted && dom.closest(at, "[data-connect-browser]")) void tell({ act: "connect" });
    const b = buttonIn(e.composedPath());
    if (b) pressed(b, e);
    if (unseen) setTimeout(() => void look(), 350); // a press may bring fields to light
  },
  true,
);
for (const what of ["beforetoggle", "fullscreenchange"])
  dom.listen(
    document,
    what,
    (e) => {
      // nothing of the page's stands above
      if (e.target !== host && (isShown("offer") || isShown("slip") || isShown("note")) && !root.activeElement)
        setTimeout(() => raise(true));
    },
    true,
  );
function drawThere() {
  draw();
  stay();
}
for (const what of ["scroll", "resize"])
  dom.listen(window, what, () => later(drawThere), { capture: true, passive: true });

/** A page is looked at once it rests, and one that never rests after this long, in milliseconds. */
const LONGEST = 400;
/** How long a page has to rest, in milliseconds. */
const REST = 60;
let waiting = 0,
  waitingSince = 0,
  doneAt = -Infinity;
/** What is to be done then, each thing once. @type {Set<() => void>} */
const waitingFor = new Set();
const lookThen = () => void look();

/** @param {() => void} what */
function later(what) {
  const now = performance.now();
  // a page that rested till now is looked at at once
  const rest = !waiting && now - doneAt > LONGEST ? 0 : REST;
  if (!waiting) waitingSince = now;
  clearTimeout(waiting);
  waitingFor.add(what);
  waiting = setTimeout(
    () => {
      waiting = 0;
      doneAt = performance.now();
      const all = [...waitingFor];
      waitingFor.clear();
      for (const one of all.includes(lookThen) ? all.filter((w) => w !== follows) : all) one(); // a look draws
    },
    Math.max(0, Math.min(rest, waitingSince + LONGEST - now)),
  );
}

const FIELDS = "input, select, textarea, form, dialog";

/** Whether what came or went may change what is offered: it has to do with fields. @param {Node} n */
const concerns = (n) =>
  n instanceof Element &&
  n !== host &&
  (dom.matches(n, FIELDS) || dom.tag(n).includes("-") || Boolean(dom.one(n, FIELDS)) || Boolean(dom.shadow(n)));

/** @param {MutationRecord} m */
function matters(m) {
  if (m.type === "attributes")
    return (
      m.target instanceof Element && (isBox(m.target) || m.attributeName === "open" || m.attributeName === "hidden")
    );
  if (telling || (m.target instanceof Element && dom.closest(m.target, "form, dialog, [role=form], [role=dialog]")))
    return [...m.addedNodes, ...m.removedNodes].some((n) => n !== host);
  return [...m.addedNodes, ...m.removedNodes].some(concerns);
}

const watched = new WeakSet();
const observer = new MutationObserver((list) => {
  if (telling && list.some((m) => [...m.addedNodes, ...m.removedNodes].some((n) => n !== host)))
    changedAt = performance.now();
  if (list.some(matters)) {
    watch();
    later(lookThen);
  } else if (view.readings.length && list.some((m) => m.addedNodes.length + m.removedNodes.length)) later(follows);
});

/** Watches the page and every open shadow root in it. */
function watch() {
  for (const r of roots()) {
    if (watched.has(r)) continue;
    watched.add(r);
    if (r !== document) dom.listen(r, "submit", onSubmit, true); // it doesn't leave its shadow root
    observer.observe(r === document ? dom.page() : r, {
      childList: true,
      subtree: true,
      attributes: true,
      attributeFilter: ["type", "disabled", "readonly", "hidden", "open"],
    });
  }
}
watch();

ext.runtime.onMessage.addListener((m, sender, reply) => {
  if (dom.leaving.signal.aborted || sender.id !== ext.runtime.id) return undefined;
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
  if (m.act === "on-screen") {
    const at = onScreen();
    reply(at && { x: at.x - scrollX, y: at.y - scrollY, right: at.x + innerWidth, bottom: at.y + innerHeight });
    return true;
  }
  heard(m);
  if (m.act === "agreed" && view.framed === m.to) agreed.add(m.to); // in another frame of the same site
  if (m.act === "look") {
    if (!sentHere) expect(false);
    void look();
  }
  if (m.act === "opened") {
    void goOn().then(() => reply({}));
    return true;
  }
  if (m.act === "take") {
    for (const reading of view.readings) {
      const values = typedIn(reading, null, true);
      if (!values) continue;
      void tell({ act: "take", form: reading.form, values, opaque, snapshot: snapshot() }).then((v) => {
        if (v.slip) {
          slipShown = "";
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

// After an update a new script is put into the page: this one leaves, with all that it drew.
function leave() {
  dom.leaving.abort();
  observer.disconnect();
  view = { readings: [], menus: {} };
  host.remove();
}
onOrphaned(leave);
const world = /** @type {{leaveRedLocket?: () => void}} */ (globalThis);
world.leaveRedLocket?.();
world.leaveRedLocket = leave;
dom.listen(document, "visibilitychange", () => {
  if (!dom.isHidden()) void look(); // the vault may have been opened meanwhile
});
void look();
