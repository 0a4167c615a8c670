// Describes a frame's fields, without their values, for the device app to read.
import { host, root } from "./host.js";

const MAX_FIELDS = 500,
  MAX_DEEP = 200,
  MAX_OPTIONS = 300;
const KINDS = new Set(["", "text", "email", "tel", "password", "number", "url", "date", "month"]);
export const PRESSED = "button, input[type=submit], input[type=image], input[type=button], [role=button]";

/** @typedef {HTMLInputElement | HTMLSelectElement | HTMLTextAreaElement} Box */

/** @type {WeakMap<Element, number>} */
export const numbers = new WeakMap();
let nextNumber = 1;

/** A number that stays with an element for as long as the page lives. @param {Element} el */
export function numberOf(el) {
  let n = numbers.get(el);
  if (n === undefined) {
    n = nextNumber++;
    numbers.set(el, n);
  }
  return n;
}

/** @param {string | null | undefined} s */
const tidy = (s) => (s ?? "").replace(/\s+/g, " ").trim().slice(0, 150);

/**
 * The text of an element as a person sees it, without what stands in its fields.
 * @param {Element | null | undefined} el
 */
export const textOf = (el) =>
  el
    ? tidy(
        el instanceof HTMLInputElement
          ? el.value || el.alt
          : el.textContent || el.getAttribute("aria-label") || el.getAttribute("title"),
      )
    : "";

/** The element around another one, out of shadow roots too. @param {Element} el @returns {Element | null} */
export function around(el) {
  const root = el.getRootNode();
  return el.parentElement ?? (root instanceof ShadowRoot ? root.host : null);
}

/** @type {(Document | ShadowRoot)[] | undefined} */
let known;

/**
 * Shadow roots of elements that aren't of a kind of their own, met when somebody came to them.
 * @type {Set<ShadowRoot>}
 */
const met = new Set();

/** Notes the shadow roots that an event came through; says whether there was a new one. @param {Event} e */
export function meet(e) {
  const n = met.size;
  for (const r of e.composedPath()) if (r instanceof ShadowRoot && r !== root && !roots().includes(r)) met.add(r);
  if (met.size > n) known = undefined;
  return met.size > n;
}

/**
 * The document and every open shadow root in it; looked for once in one turn of the page.
 * @returns {(Document | ShadowRoot)[]}
 */
export function roots() {
  if (known) return known;
  /** @type {(Document | ShadowRoot)[]} */
  const list = [document];
  // Elements of a page's own kinds have a hyphen in their names: they are found without touching all the others.
  const own = document.evaluate(
    "//*[contains(name(), '-')]",
    document,
    null,
    XPathResult.ORDERED_NODE_SNAPSHOT_TYPE,
    null,
  );
  for (let i = 0; i < own.snapshotLength && list.length < 200; i++) {
    const r = /** @type {Element} */ (own.snapshotItem(i)).shadowRoot;
    if (r) list.push(r);
  }
  for (const r of met) if (r.isConnected) list.push(r);
  for (const r of list)
    if (r !== document)
      for (const el of r.querySelectorAll("*"))
        if (el.shadowRoot && list.length < 200 && !list.includes(el.shadowRoot)) list.push(el.shadowRoot);
  known = list;
  queueMicrotask(() => (known = undefined));
  return list;
}

/** @param {Element} el @returns {el is Box} */
export const isBox = (el) =>
  el instanceof HTMLInputElement
    ? KINDS.has((el.getAttribute("type") ?? "").toLowerCase())
    : el instanceof HTMLSelectElement || el instanceof HTMLTextAreaElement;

/** Every field in the order of the page. @returns {Box[]} */
export function fields() {
  if (roots().length === 1)
    return [...document.querySelectorAll("input, select, textarea")].filter(isBox).slice(0, MAX_FIELDS);
  /** @type {Box[]} */
  const out = [];
  /** @param {Document | ShadowRoot} root */
  const walk = (root) => {
    for (const el of root.querySelectorAll("input, select, textarea, *")) {
      if (out.length >= MAX_FIELDS) return;
      if (isBox(el)) out.push(el);
      else if (el.shadowRoot) walk(el.shadowRoot);
    }
  };
  walk(document);
  return out;
}

/** Whether a person can see an element: large enough, on the page, not see-through, not cut off. @param {Element} el */
export function seen(el) {
  const r = el.getBoundingClientRect();
  const page = document.documentElement;
  if (
    r.width < 8 ||
    r.height < 8 ||
    r.right + scrollX < 4 ||
    r.bottom + scrollY < 4 ||
    r.left + scrollX > Math.min(Math.max(page.scrollWidth, innerWidth) - 4, innerWidth + 400)
  )
    return false; // people scroll down, not sideways
  if (!el.checkVisibility({ opacityProperty: true, visibilityProperty: true })) return false;
  let opacity = 1,
    box = { left: r.left, top: r.top, right: r.right, bottom: r.bottom };
  for (let at = /** @type {Element | null} */ (el); at; at = around(at)) {
    const s = getComputedStyle(at);
    opacity *= Number(s.opacity);
    if (opacity < 0.2 || (s.clipPath !== "none" && at !== page)) return false;
    if (at !== el && at !== document.body && at !== page && s.overflow !== "visible" && s.display !== "contents") {
      const o = at.getBoundingClientRect();
      const scrolls = /auto|scroll/.test(s.overflow + s.overflowX + s.overflowY);
      if (!scrolls)
        box = {
          left: Math.max(box.left, o.left),
          top: Math.max(box.top, o.top),
          right: Math.min(box.right, o.right),
          bottom: Math.min(box.bottom, o.bottom),
        };
      else if (o.width < 8 || o.height < 8) return false;
      if (box.right - box.left < 8 || box.bottom - box.top < 8) return false;
    }
    if (s.position === "fixed") break;
  }
  return true;
}

/** While a snapshot is taken: the labels of each field, and what was found inside parts of the page.
 * Asked for field by field, both would take seconds on a large page.
 * @type {{labels: Map<Element, Element[]>, inside: Map<string, Map<Element, Element[]>>} | undefined} */
let taking;

/** Takes note, for one snapshot, of which labels belong to which field. */
function begin() {
  taking = { labels: new Map(), inside: new Map() };
  for (const r of roots())
    for (const l of r.querySelectorAll("label")) {
      if (!l.control) continue;
      const all = taking.labels.get(l.control);
      if (all) all.push(l);
      else taking.labels.set(l.control, [l]);
    }
}

/** What a field is called. @param {Box} el */
export function labelOf(el) {
  const root = /** @type {Document | ShadowRoot} */ (el.getRootNode());
  /** @type {(string | null | undefined)[]} */
  const said = [...(taking ? (taking.labels.get(el) ?? []) : (el.labels ?? []))].map((l) =>
    l.contains(el)
      ? [...l.childNodes]
          .filter((n) => !(n instanceof Element && n.contains(el)))
          .map((n) => n.textContent)
          .join(" ") || l.textContent
      : l.textContent,
  );
  for (const id of (el.getAttribute("aria-labelledby") ?? "").split(/\s+/))
    if (id) said.push(root.getElementById(id)?.textContent);
  said.push(el.getAttribute("aria-label"), el.title);
  if (root instanceof ShadowRoot)
    said.push(
      root.host.getAttribute("label"),
      root.host.getAttribute("aria-label"),
      root.host.getAttribute("placeholder"),
    );
  const label = said.filter((s) => s?.trim()).join(" ") || before(el); // a placeholder may be no more than an example
  return tidy([label, el instanceof HTMLSelectElement ? "" : el.placeholder].join(" "));
}

/** The words that stand before a field that has no label. @param {Element} el */
function before(el) {
  for (let at = el, i = 0; i < 3; i++) {
    for (let p = at.previousSibling; p; p = p.previousSibling) {
      const t = tidy(p.textContent);
      if (p instanceof Element && (p.matches("input, select, textarea") || p.querySelector("input, select, textarea")))
        return "";
      if (t) return t.length <= 60 ? t : "";
    }
    const up = around(at);
    if (!up || up === document.body || up.matches("form, main, section, tr")) return "";
    at = up;
  }
  return "";
}

/** What is said beside a field: legend, description, hint. @param {Box} el */
function nearOf(el) {
  const root = /** @type {Document | ShadowRoot} */ (el.getRootNode());
  const said = [
    el.closest("fieldset")?.querySelector("legend")?.textContent,
    el.closest("[role=group]")?.getAttribute("aria-label"),
  ];
  for (const id of (el.getAttribute("aria-describedby") ?? "").split(/\s+/))
    if (id) said.push(root.getElementById(id)?.textContent);
  let at = el.parentElement,
    best = "";
  while (
    at &&
    at !== document.body &&
    deep(at, "input, select, textarea").length === 1 &&
    (at.textContent ?? "").length < 260
  ) {
    best =
      [...at.childNodes]
        .filter((n) => !(n instanceof Element && (n.matches("label, button, select") || n.contains(el))))
        .map((n) => n.textContent)
        .join(" ") +
      " " +
      best;
    at = at.parentElement;
  }
  const next = el.nextElementSibling;
  if (
    !best.trim() &&
    next?.matches("p, small, span, div") &&
    !next.querySelector("input, select, textarea") &&
    (next.textContent ?? "").length < 200
  )
    best = next.textContent ?? "";
  return tidy([...said, best].filter(Boolean).join(". "));
}

/**
 * What a field belongs to: its form, or where there is none the smallest part of the page that has a button and all
 * the fields around it.
 * @param {Box} f
 * @returns {Element}
 */
export function groupOf(f) {
  if (f.form) return f.form;
  /** @type {Element | undefined} */
  let alone;
  for (let el = around(f); el && el !== document.body; el = around(el)) {
    if (el.matches("form, [role=form], dialog, [role=dialog]")) return el;
    if (!deep(el, PRESSED).length) continue;
    if (deep(el, "input, select, textarea").filter(isBox).length > 1) return el;
    alone ??= el;
  }
  return alone ?? document.body;
}

/**
 * Elements that match inside another one, in its open shadow roots too.
 * @param {Element} el
 * @param {string} what
 * @returns {Element[]}
 */
export function deep(el, what) {
  const found = taking?.inside.get(what)?.get(el);
  if (found) return found;
  const out = [...el.querySelectorAll(what)];
  if (el.shadowRoot)
    for (const c of el.shadowRoot.children) out.push(...(c.matches(what) ? [c] : []), ...deep(c, what));
  if (roots().length > 1)
    for (const c of el.querySelectorAll("*"))
      if (c.shadowRoot)
        for (const d of c.shadowRoot.children) out.push(...(d.matches(what) ? [d] : []), ...deep(d, what));
  if (taking) taking.inside.set(what, (taking.inside.get(what) ?? new Map()).set(el, out));
  return out;
}

/** The heading that stands before a part of the page. @param {Element} el */
function headBefore(el) {
  for (let at = /** @type {Element | null} */ (el), i = 0; at && at !== document.body && i < 3; at = around(at), i++) {
    for (let p = at.previousElementSibling; p; p = p.previousElementSibling) {
      if (p.matches("form")) break;
      const h = p.matches("h1, h2, h3, h4, [role=heading]") ? p : p.querySelector("h1, h2, h3, h4, [role=heading]");
      if (h) return textOf(h);
    }
  }
  return "";
}

/** The buttons that send a form. @param {Element} form @returns {HTMLElement[]} */
export function senders(form) {
  const all = /** @type {HTMLElement[]} */ (deep(form, PRESSED));
  const sends = all.filter((b) =>
    b instanceof HTMLButtonElement || b instanceof HTMLInputElement ? b.type === "submit" || b.type === "image" : false,
  );
  const plain = all.filter((b) => !b.hasAttribute("aria-pressed") && textOf(b).length > 2);
  if (!sends.length && !plain.length)
    plain.push(.../** @type {HTMLElement[]} */ (deep(form, 'a[class*="btn" i], a[class*="button" i]')));
  return form instanceof HTMLFormElement && sends.length ? sends : sends.length ? sends : plain.slice(-1);
}

/** Where a form sends what is typed, if that is another origin. @param {Element} form */
function actionOf(form) {
  if (!(form instanceof HTMLFormElement)) return "";
  for (const by of [form.getAttribute("action"), ...senders(form).map((b) => b.getAttribute("formaction"))]) {
    if (!by) continue;
    try {
      const to = new URL(by, document.baseURI);
      if (to.origin !== location.origin && /^https?:$/.test(to.protocol)) return to.origin;
    } catch {
      // not an address: the browser won't send it anywhere
    }
  }
  return "";
}

/** @param {Element} form */
function describeForm(form) {
  const heads = deep(form, "h1, h2, h3, h4, legend, [role=heading]").slice(0, 4).map(textOf).join(" ");
  const sends = senders(form);
  const rest = deep(form, `${PRESSED}, a, label`)
    .filter(
      (el) =>
        !sends.includes(/** @type {HTMLElement} */ (el)) &&
        (!el.matches("label") ||
          el.querySelector("[type=checkbox]") ||
          /** @type {HTMLLabelElement} */ (el).control?.matches("[type=checkbox]")),
    )
    .slice(0, 12);
  let action = "";
  try {
    action = new URL(form.getAttribute("action") ?? "", document.baseURI).pathname;
  } catch {
    // as above
  }
  return {
    id: numberOf(form),
    head: tidy(heads || headBefore(form)),
    submit: tidy(sends.slice(0, 3).map(textOf).join(" ")),
    text: tidy(rest.map(textOf).join(" ")),
    name: tidy(
      [form.id, form.getAttribute("name"), form.getAttribute("class"), form.getAttribute("action") ? action : ""].join(
        " ",
      ),
    ),
    action: actionOf(form),
  };
}

const ANNOUNCED = [
  "[role=alert], [role=status], [aria-live]",
  ...["error", "alert", "invalid", "success", "notice"].map((word) => `[class*="${word}" i]`),
].join(", ");

/** What the page announces. */
function alerts() {
  const out = [];
  for (const r of roots())
    for (const el of r.querySelectorAll(ANNOUNCED)) {
      if (out.length >= 6) break;
      const t = tidy(el.textContent);
      if (t && t.length < 150 && el !== host && !el.matches("input, form, body, html, main") && el.checkVisibility())
        out.push(t);
    }
  return tidy([...new Set(out)].join(". "));
}

/** What the frame looks like now. */
export function snapshot() {
  begin();
  const forms = new Map();
  let checked = 0;
  const list = fields().map((f) => {
    const form = groupOf(f);
    if (!forms.has(form)) forms.set(form, describeForm(form));
    const input = f instanceof HTMLInputElement ? f : undefined;
    return {
      id: numberOf(f),
      form: numberOf(form),
      type: input ? input.type : f instanceof HTMLSelectElement ? "select" : "textarea",
      name: tidy(`${f.name} ${f.id}`),
      autocomplete: tidy(f.getAttribute("autocomplete")),
      label: labelOf(f),
      near: nearOf(f),
      visible: checked++ < MAX_DEEP && seen(f),
      locked: f.disabled || (!(f instanceof HTMLSelectElement) && f.readOnly),
      filled: f.value !== "",
      maxlength: f instanceof HTMLSelectElement ? 0 : Math.max(0, f.maxLength),
      minlength: f instanceof HTMLSelectElement ? 0 : Math.max(0, f.minLength),
      pattern: input?.pattern.slice(0, 200) ?? "",
      rules: tidy(f.getAttribute("passwordrules")),
      options:
        f instanceof HTMLSelectElement
          ? [...f.options]
              .slice(0, MAX_OPTIONS)
              .map((o) => ({ value: o.value.slice(0, 60), text: tidy(o.text).slice(0, 60) }))
          : undefined,
    };
  });
  taking = undefined;
  const heads = [...document.querySelectorAll("h1, h2")]
    .slice(0, 8)
    .filter((h) => h.checkVisibility())
    .slice(0, 3)
    .map(textOf)
    .join(" ");
  const nav = /** @type {PerformanceNavigationTiming | undefined} */ (performance.getEntriesByType("navigation")[0]);
  return {
    title: tidy(document.title),
    lang: document.documentElement.lang,
    path: tidy(location.pathname),
    heads: tidy(heads),
    alerts: alerts(),
    status: nav?.responseStatus ?? 0,
    forms: [...forms.values()],
    fields: list,
  };
}

/** @param {number} n */
export function fieldByNumber(n) {
  return fields().find((f) => numbers.get(f) === n);
}

/**
 * Types a value the way a person's typing arrives. Says whether it stayed.
 * @param {Box} f @param {string} value @returns {boolean}
 */
export function type(f, value) {
  f.focus();
  const key = (/** @type {string} */ what) =>
    f.dispatchEvent(new KeyboardEvent(what, { bubbles: true, composed: true, key: "Unidentified" }));
  if (f instanceof HTMLSelectElement) f.value = value;
  else {
    key("keydown");
    f.dispatchEvent(
      new InputEvent("beforeinput", {
        bubbles: true,
        composed: true,
        cancelable: true,
        inputType: "insertText",
        data: value,
      }),
    );
    f.value = value;
  }
  f.dispatchEvent(new InputEvent("input", { bubbles: true, composed: true, inputType: "insertText", data: value }));
  if (!(f instanceof HTMLSelectElement)) key("keyup");
  f.dispatchEvent(new Event("change", { bubbles: true }));
  return f.value === value || f.value.replace(/[\s/-]/g, "") === value.replace(/[\s/-]/g, "");
}
