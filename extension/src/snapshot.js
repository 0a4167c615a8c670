// Describes a frame's fields, without their values, for the device app to read.
import * as dom from "./dom.js";
import { host, root } from "./host.js";
import { isGiven } from "./own.js";

const MAX_FIELDS = 500,
  MAX_DEEP = 200,
  MAX_OPTIONS = 300;
const KINDS = new Set(["text", "email", "tel", "password", "number", "url", "date", "month"]);
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
          : dom.text(el) || dom.attr(el, "aria-label") || dom.attr(el, "title"),
      )
    : "";

/** The words of a button; those of an element of the page's own kind stand around its parts. @param {Element} b */
export function wordsOf(b) {
  for (let at = b; ; at = /** @type {ShadowRoot} */ (dom.rootOf(at)).host) {
    const text = textOf(at);
    if (text || !(dom.rootOf(at) instanceof ShadowRoot) || dom.matches(at, "form")) return text;
  }
}

/** The element around another one, out of shadow roots too. @param {Element} el @returns {Element | null} */
export function around(el) {
  const root = dom.rootOf(el);
  return dom.parent(el) ?? (root instanceof ShadowRoot ? root.host : null);
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
  if (met.size > n) known = listed = undefined;
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
  for (const el of dom.byPath("//*[contains(name(), '-')]", 2000)) {
    const r = dom.shadow(el);
    if (r && list.length < 200) list.push(r);
  }
  for (const r of met) {
    if (r.isConnected) list.push(r);
    else met.delete(r); // what left the page is let go
  }
  for (const r of list)
    if (r !== document)
      for (const el of dom.all(r, "*")) {
        const inner = dom.shadow(el);
        if (inner && list.length < 200 && !list.includes(inner)) list.push(inner);
      }
  known = list;
  queueMicrotask(() => (known = undefined));
  return list;
}

/** @param {Element} el @returns {el is Box} */
export const isBox = (el) =>
  el instanceof HTMLInputElement
    ? KINDS.has(dom.typeOf(el))
    : el instanceof HTMLSelectElement || el instanceof HTMLTextAreaElement;

/** @type {Box[] | undefined} */
let listed;

/** Every field in the order of the page; looked for once in one turn of the page. @returns {Box[]} */
export function fields() {
  if (!listed) {
    listed = listFields();
    queueMicrotask(() => (listed = undefined));
  }
  return listed;
}

/** @returns {Box[]} */
function listFields() {
  /** @type {Box[]} */
  const out = [];
  if (roots().length === 1) {
    const every = dom.list(document, "input, select, textarea");
    for (let i = 0; i < every.length && out.length < MAX_FIELDS; i++) {
      const el = every[i];
      if (isBox(el)) out.push(el);
    }
    return out;
  }
  /** @param {Document | ShadowRoot} root */
  const walk = (root) => {
    for (const el of dom.all(root, "input, select, textarea, *")) {
      if (out.length >= MAX_FIELDS) return;
      const inner = dom.shadow(el);
      if (isBox(el)) out.push(el);
      else if (inner) walk(inner);
    }
  };
  walk(document);
  return out;
}

/** The least that is taken for something to see, in pixels. */
const LEAST_WIDTH = 12,
  LEAST_HEIGHT = 8;
/** Below this much of its ink nobody reads a field. */
const FAINT = 0.4;

/** Whether a filter leaves a thing to be seen. @param {string} filter */
function filtered(filter) {
  for (const [, name, arg] of filter.matchAll(/([a-z-]+)\(([^)]*)\)/g)) {
    const n = parseFloat(arg) / (arg.includes("%") ? 100 : 1);
    if (name === "url") return true;
    if (name === "blur" && n > 1) return true;
    if (name === "opacity" && n < FAINT) return true;
    if ((name === "brightness" || name === "contrast") && (n < FAINT || n > 2.5)) return true;
  }
  return false;
}

/** Whether an element's own style takes it, and what is in it, out of sight. @param {CSSStyleDeclaration} s */
function veiled(s) {
  const mask = s.maskImage || s.webkitMaskImage || "none";
  return (
    s.clipPath !== "none" ||
    (s.clip !== "auto" && s.clip !== "" && /absolute|fixed/.test(s.position)) ||
    mask !== "none" ||
    (s.mixBlendMode ?? "normal") !== "normal" ||
    filtered(s.filter ?? "none")
  );
}

/**
 * Whether a person can see an element: large enough, on the page, not see-through, not cut off.
 * @param {Element} el @param {boolean} [faint] though it may be see-through
 */
export function seen(el, faint = false) {
  const r = dom.rect(el);
  const page = dom.page();
  if (
    r.width < LEAST_WIDTH ||
    r.height < LEAST_HEIGHT ||
    r.right + scrollX < 4 ||
    r.bottom + scrollY < 4 ||
    r.left + scrollX > Math.min(Math.max(page.scrollWidth, innerWidth) - 4, innerWidth + 400)
  )
    return false; // people scroll down, not sideways
  if (!dom.checkVisibility(el, { opacityProperty: !faint, visibilityProperty: true })) return false;
  let opacity = 1,
    box = { left: r.left, top: r.top, right: r.right, bottom: r.bottom };
  for (let at = /** @type {Element | null} */ (el); at; at = around(at)) {
    const s = getComputedStyle(at);
    opacity *= Number(s.opacity);
    if ((opacity < FAINT && !faint) || (at !== page && veiled(s))) return false;
    if (at !== el && at !== dom.bodyOf() && at !== page && s.overflow !== "visible" && s.display !== "contents") {
      const o = dom.rect(at);
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

/**
 * Whether a field waits for somebody to come: it is see-through, and its label stands in its place, in a box that is
 * seen. Nothing is typed into it before it shows itself.
 * @param {Box} f
 */
export function dormant(f) {
  if (!seen(f, true) || !labelOf(f)) return false;
  const r = dom.rect(f);
  for (let at = around(f), i = 0; at && at !== dom.bodyOf() && i < 6; at = around(at), i++) {
    const o = dom.rect(at);
    const holds = o.left <= r.left + 1 && o.right >= r.right - 1 && o.height < 4 * Math.max(r.height, 24);
    if (holds && seen(at)) return true;
  }
  return false;
}

/**
 * Where a field is, as a person sees it: of one that is a part of an element of the page's own kind, all of that.
 * @param {Box} f
 */
export function outline(f) {
  const r = dom.rect(f);
  const root = dom.rootOf(f);
  if (!(root instanceof ShadowRoot)) return r;
  const o = dom.rect(root.host);
  const holds = o.left <= r.left && o.right >= r.right && o.top <= r.top && o.bottom >= r.bottom;
  return holds && o.width < r.width + 200 && o.height < r.height + 48 ? o : r;
}

/** @param {string} colour as it is computed @returns {[number, number, number, number]} */
function rgba(colour) {
  const n = (colour.match(/[\d.]+/g) ?? []).map(Number);
  return [n[0] ?? 0, n[1] ?? 0, n[2] ?? 0, n[3] ?? 1];
}

/** Relative luminance (WCAG 2, "relative luminance"). @param {number[]} c */
function luminance(c) {
  const [r, g, b] = c.slice(0, 3).map((v) => {
    const s = v / 255;
    return s <= 0.03928 ? s / 12.92 : ((s + 0.055) / 1.055) ** 2.4;
  });
  return 0.2126 * r + 0.7152 * g + 0.0722 * b;
}

/** Whether what is typed into a field would stand there to read. @param {Element} f */
function inked(f) {
  const s = getComputedStyle(f);
  const ink = rgba(s.webkitTextFillColor || s.color);
  if (ink[3] < FAINT || parseFloat(s.fontSize) < 5) return false;
  const indent = parseFloat(s.textIndent);
  if (indent < -50 || indent > dom.rect(f).width) return false;
  for (let at = /** @type {Element | null} */ (f); at; at = around(at)) {
    const b = getComputedStyle(at);
    if (b.backgroundImage !== "none") return true; // what it looks like isn't known here
    const under = rgba(b.backgroundColor);
    if (under[3] < 0.5) continue;
    const [hi, lo] = [luminance(ink), luminance(under)].sort((x, y) => y - x);
    return (hi + 0.05) / (lo + 0.05) >= 1.2;
  }
  return true;
}

/**
 * Whether what is met at a place belongs to a field: the field, or the label that stands over it.
 * @param {Element} el @param {Box} f
 */
function belongs(el, f) {
  if (el === f || dom.contains(f, el)) return true;
  const label = el instanceof HTMLLabelElement ? el : dom.closest(el, "label");
  if (label instanceof HTMLLabelElement && label.control === f) return true;
  const a = dom.rect(el),
    b = dom.rect(f);
  // a mark or a hint that stands inside it
  return a.width * a.height <= 0.4 * b.width * b.height && a.left >= b.left - 2 && a.right <= b.right + 2;
}

/** A sheet by which nothing lets pointers through: what covers a field is met, whatever it lets through. */
let solid = /** @type {CSSStyleSheet | undefined} */ (undefined);

/** @param {() => boolean} look */
function throughNothing(look) {
  const own = /** @type {HTMLElement[]} */ (dom.all(document, '[style*="pointer-events" i]')).filter(
    (el) => el !== host,
  );
  const before = own.map((el) => [
    el.style.getPropertyValue("pointer-events"),
    el.style.getPropertyPriority("pointer-events"),
  ]);
  let sheets;
  try {
    if (!solid) {
      solid = new CSSStyleSheet();
      solid.replaceSync("*, *::before, *::after { pointer-events: auto !important }");
    }
    sheets = [...document.adoptedStyleSheets];
    document.adoptedStyleSheets = [...sheets, solid];
  } catch {
    sheets = undefined; // a browser that keeps a page's sheets from extensions
  }
  for (const el of own) el.style.setProperty("pointer-events", "auto", "important");
  try {
    return look();
  } finally {
    own.forEach((el, i) => el.style.setProperty("pointer-events", before[i][0], before[i][1]));
    if (sheets) document.adoptedStyleSheets = sheets;
  }
}

const REPLACED =
  "img, video, canvas, iframe, object, embed, svg, svg *, input, select, textarea, button, meter, progress";
/** The least that is taken for paint: below this what lies beneath can be read. */
const TINT = 0.2;

/** Whether an element's own style draws something over all of its place. @param {CSSStyleDeclaration} s */
function drawn(s) {
  const wide = (/** @type {string} */ width) => parseFloat(width) > 3;
  return (
    rgba(s.backgroundColor)[3] * Number(s.opacity) >= TINT ||
    s.backgroundImage !== "none" ||
    s.borderImageSource !== "none" ||
    (s.backdropFilter ?? "none") !== "none" ||
    (s.mixBlendMode ?? "normal") !== "normal" ||
    /inset/.test(s.boxShadow) ||
    [s.borderTopWidth, s.borderBottomWidth, s.borderLeftWidth, s.borderRightWidth].some(wide) ||
    (s.outlineStyle !== "none" && parseFloat(s.outlineOffset) < 0) ||
    (s.columnRuleStyle !== "none" && wide(s.columnRuleWidth))
  );
}

/** Whether an element hides what lies under it, rather than letting it be seen. @param {Element} el */
function paints(el) {
  if (dom.matches(el, REPLACED) || dom.matches(el, ":modal, [popover], :fullscreen")) return true;
  if (dom.kids(el).some((n) => n instanceof Text && n.data.trim())) return true;
  let opacity = 1;
  for (let at = /** @type {Element | null} */ (el); at; at = around(at))
    opacity *= Number(getComputedStyle(at).opacity);
  if (opacity < TINT) return false;
  if (drawn(getComputedStyle(el))) return true;
  return ["::before", "::after"].some((which) => {
    const s = getComputedStyle(el, which);
    if (s.content === "none" || s.content === "normal") return false;
    return s.content !== '""' || drawn(s);
  });
}

/**
 * Whether a field is what stands at its place, but for what doesn't hide it. Asked of the browser, at five points
 * along it.
 * @param {Box} f
 */
function onTop(f) {
  const r = dom.rect(f);
  let met = 0;
  for (const part of [0.1, 0.3, 0.5, 0.7, 0.9])
    for (const el of dom.under(r.left + r.width * part, r.top + r.height / 2, host)) {
      if (belongs(el, f)) met++;
      else if (!paints(el)) continue;
      break;
    }
  return met >= 3;
}

/**
 * Whether a field can be filled: it is seen, can be scrolled to, stands on top there, and shows what is in it. A
 * one-time code's box may be drawn by the page over the field itself.
 * @param {Box} f @param {string} role
 */
export function reachable(f, role) {
  if (!seen(f)) return false;
  const inWindow = () => {
    const r = dom.rect(f);
    return r.left >= -1 && r.top >= -1 && r.right <= innerWidth + 1 && r.bottom <= innerHeight + 1;
  };
  const from = { x: scrollX, y: scrollY };
  try {
    if (!inWindow()) dom.scrollTo(f, { block: "nearest", inline: "nearest", behavior: "instant" });
    const r = dom.rect(f);
    if (r.right < 4 || r.bottom < 4 || r.left > innerWidth - 4 || r.top > innerHeight - 4) return false;
    if (role === "one-time-code") return true;
    return inked(f) && throughNothing(() => onTop(f));
  } finally {
    if (scrollX !== from.x || scrollY !== from.y) scrollTo({ left: from.x, top: from.y, behavior: "instant" });
  }
}

/** While a snapshot is taken: the labels of each field, and what was found inside parts of the page.
 * Asked for field by field, both would take seconds on a large page.
 * @type {{labels: Map<Element, Element[]>, inside: Map<string, Map<Element, Element[]>>,
 *   described?: Map<string, Element[]>} | undefined} */
let taking;

/** Takes note, for one snapshot, of which labels belong to which field. */
function begin() {
  taking = { labels: new Map(), inside: new Map() };
  for (const r of roots())
    for (const l of /** @type {HTMLLabelElement[]} */ (dom.all(r, "label"))) {
      if (!l.control) continue;
      const all = taking.labels.get(l.control);
      if (all) all.push(l);
      else taking.labels.set(l.control, [l]);
    }
}

/** @param {Document | ShadowRoot} root @param {string} id */
function textWithId(root, id) {
  const el = dom.withId(root, id);
  return el ? dom.text(el) : "";
}

/** What a field is called. @param {Box} el */
export function labelOf(el) {
  const root = /** @type {Document | ShadowRoot} */ (dom.rootOf(el));
  /** @type {(string | null | undefined)[]} */
  const said = [...(taking ? (taking.labels.get(el) ?? []) : (el.labels ?? []))].map((l) =>
    l.contains(el)
      ? [...l.childNodes]
          .filter((n) => !(n instanceof Element && n.contains(el)))
          .map((n) => n.textContent)
          .join(" ") || l.textContent
      : l.textContent,
  );
  for (const id of (el.getAttribute("aria-labelledby") ?? "").split(/\s+/)) if (id) said.push(textWithId(root, id));
  said.push(el.getAttribute("aria-label"), el.title);
  if (root instanceof ShadowRoot)
    said.push(
      root.host.getAttribute("label"),
      root.host.getAttribute("aria-label"),
      root.host.getAttribute("placeholder"),
    );
  const label = said.filter((s) => s?.trim()).join(" ") || beside(el); // a placeholder may be no more than an example
  return tidy([label, el instanceof HTMLSelectElement ? "" : el.placeholder].join(" "));
}

/** What somebody types or chooses in. */
const FIELDS = `input:not([type=hidden], [type=submit], [type=button], [type=image], [type=reset], [type=checkbox],
  [type=radio]), select, textarea`;

/** What a field without a label is called by what stands around it. @param {Element} el */
function beside(el) {
  return (
    freeLabel(el) || columnHead(el) || (behind(el) ?? before(el)) || within(el) || tidy(descriptions(el).join(" "))
  );
}

/** Whether more stands right below an element than around a field, or in a row of them. @param {Element} el */
function isWide(el) {
  let left = 40; // counting all of them takes long where they are thousands
  for (let at = dom.first(el); at && left; at = dom.next(at)) left--;
  return !left;
}

/** The parts of the page around a field that hold no other one, the smallest first. @param {Element} el */
function* ownParts(el) {
  for (let at = dom.parent(el), i = 0; at && at !== dom.bodyOf() && i < 3; at = dom.parent(at), i++) {
    if (dom.matches(at, "form") || isWide(at) || deep(at, FIELDS).length !== 1) return;
    yield at;
  }
}

/** A label in a field's own part of the page that is tied to none. @param {Element} el */
function freeLabel(el) {
  for (const part of ownParts(el))
    for (const l of /** @type {HTMLLabelElement[]} */ (dom.all(part, "label")))
      if (!l.control && tidy(dom.text(l))) return tidy(dom.text(l));
  return "";
}

/** What stands in the first row of a table, above a field. @param {Element} el */
function columnHead(el) {
  const cell = dom.closest(el, "td"),
    row = cell && dom.parent(cell),
    table = row && dom.closest(row, "table");
  if (!cell || !row || !table || isWide(row) || deep(row, FIELDS).length < 2) return "";
  const first = dom.one(table, "tr"),
    cells = (/** @type {Element} */ of) => dom.kids(of).filter((n) => n instanceof Element);
  if (!first || first === row || dom.one(first, FIELDS) || cells(first).length !== cells(row).length) return "";
  return tidy(dom.text(cells(first)[cells(row).indexOf(cell)]));
}

/**
 * The words behind a field, where all fields beside it have theirs behind them: nothing stands before the first. Where
 * that isn't so there is no answer.
 * @param {Element} el
 * @returns {string | undefined}
 */
function behind(el) {
  const around = dom.parent(el);
  const isField = (/** @type {Node} */ n) => n instanceof Element && dom.matches(n, FIELDS);
  if (!around || isWide(around) || dom.kids(around).filter(isField).length < 2) return undefined;
  /** @type {{field: Node | undefined, words: string}[]} */
  const pieces = [{ field: undefined, words: "" }];
  for (const n of dom.kids(around))
    if (isField(n)) pieces.push({ field: n, words: "" });
    else if (!(n instanceof Element && dom.matches(n, `${PRESSED}, h1, h2, h3, h4, script, style`)))
      pieces[pieces.length - 1].words += dom.text(n) ?? "";
  const [above, ...fields] = pieces.map(({ field, words }) => ({ field, words: tidy(words) }));
  if (above.words || fields.some((f) => !f.words || f.words.length > 60)) return undefined;
  return fields.find((f) => f.field === el)?.words;
}

/** The first words in a field's own part of the page: they may lie over it. @param {Element} el */
function within(el) {
  for (const part of ownParts(el))
    for (const n of dom.kids(part)) {
      const t = n === el || (n instanceof Element && dom.matches(n, `${PRESSED}, small`)) ? "" : tidy(dom.text(n));
      if (t) return t.length <= 40 ? t : "";
    }
  return "";
}

/** The texts that describe a field. @param {Element} el */
function descriptions(el) {
  const root = /** @type {Document | ShadowRoot} */ (dom.rootOf(el));
  const ids = (dom.attr(el, "aria-describedby") ?? "").split(/\s+/).filter(Boolean);
  return ids.map((id) => textWithId(root, id));
}

/** Whether words describe a field other than the one they stand before. @param {Element} p @param {Element} el */
function describesAnother(p, el) {
  const id = dom.attr(p, "id");
  return !!id && describedBy(id).some((f) => f !== el);
}

/** The fields that name an element as their description. @param {string} id @returns {Element[]} */
function describedBy(id) {
  if (taking?.described) return taking.described.get(id) ?? [];
  /** @type {Map<string, Element[]>} */
  const all = new Map();
  for (const r of roots())
    for (const f of dom.all(r, "[aria-describedby]"))
      for (const one of (dom.attr(f, "aria-describedby") ?? "").split(/\s+/))
        all.set(one, [...(all.get(one) ?? []), f]);
  if (taking) taking.described = all;
  return all.get(id) ?? [];
}

/** The words that stand before a field that has no label. @param {Element} el */
function before(el) {
  for (let at = el, i = 0; i < 3; i++) {
    for (let p = dom.before(at); p; p = dom.before(p)) {
      // Its words are its own, or another field's.
      if (p instanceof Element && (dom.matches(p, PRESSED) || describesAnother(p, el))) continue;
      const t = tidy(dom.text(p));
      if (p instanceof Element && (dom.matches(p, "input, select, textarea") || dom.one(p, "input, select, textarea")))
        return "";
      if (t) return t.length <= 60 ? t : "";
    }
    const up = around(at);
    if (!up || up === dom.bodyOf() || dom.matches(up, "form, main, section, tr")) return "";
    at = /** @type {any} */ (up);
  }
  return "";
}

/** What is said beside a field: legend, description, hint. @param {Box} el */
function nearOf(el) {
  const set = dom.closest(el, "fieldset"),
    group = dom.closest(el, "[role=group]"),
    legend = set && dom.one(set, "legend");
  const said = [legend && dom.text(legend), group && dom.attr(group, "aria-label"), ...descriptions(el)];
  let at = dom.parent(el),
    best = "";
  while (
    at &&
    at !== dom.bodyOf() &&
    deep(at, "input, select, textarea").length === 1 &&
    (dom.text(at) ?? "").length < 260
  ) {
    best =
      dom
        .kids(at)
        .filter((n) => !(n instanceof Element && (dom.matches(n, "label, button, select") || dom.contains(n, el))))
        .map((n) => dom.text(n))
        .join(" ") +
      " " +
      best;
    at = dom.parent(at);
  }
  const next = dom.next(el);
  if (
    !best.trim() &&
    next &&
    dom.matches(next, "p, small, span, div") &&
    !dom.one(next, "input, select, textarea") &&
    (dom.text(next) ?? "").length < 200
  )
    best = dom.text(next) ?? "";
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
  for (let el = around(f); el && el !== dom.bodyOf(); el = around(el)) {
    if (dom.matches(el, "form, [role=form], dialog, [role=dialog]")) return el;
    if (!deep(el, PRESSED).length) continue;
    if (deep(el, "input, select, textarea").filter(isBox).length > 1) return el;
    alone ??= el;
  }
  return alone ?? dom.bodyOf();
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
  /** @type {Element[]} */
  const out = dom.all(el, what);
  /** @param {Element} of */
  const into = (of) => {
    for (const c of dom.shadow(of)?.children ?? []) out.push(...(dom.matches(c, what) ? [c] : []), ...deep(c, what));
  };
  into(el);
  if (roots().length > 1) dom.all(el, "*").forEach(into);
  if (taking) taking.inside.set(what, (taking.inside.get(what) ?? new Map()).set(el, out));
  return out;
}

/** The heading that stands before a part of the page. @param {Element} el */
function headBefore(el) {
  const heads = "h1, h2, h3, h4, [role=heading]";
  for (let at = /** @type {Element | null} */ (el), i = 0; at && at !== dom.bodyOf() && i < 3; at = around(at), i++) {
    for (let p = dom.previous(at); p; p = dom.previous(p)) {
      if (dom.matches(p, "form")) break;
      const h = dom.matches(p, heads) ? p : dom.one(p, heads);
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
  const plain = all.filter((b) => !dom.has(b, "aria-pressed") && wordsOf(b).length > 2);
  if (!sends.length && !plain.length)
    plain.push(.../** @type {HTMLElement[]} */ (deep(form, 'a[class*="btn" i], a[class*="button" i]')));
  return form instanceof HTMLFormElement && sends.length ? sends : sends.length ? sends : plain.slice(-1);
}

/** The buttons that may send a form, wherever in the page they stand. @param {HTMLFormElement} form */
function tied(form) {
  const all = new Set(deep(form, "button[formaction], input[formaction]"));
  for (const r of roots())
    for (const el of dom.all(r, "button[form][formaction], input[form][formaction]")) all.add(el);
  return [...all].filter((b) =>
    b instanceof HTMLButtonElement || b instanceof HTMLInputElement ? b.form === form : false,
  );
}

/** The origins that a form, or a button that sends it, sends to, if they are others. @param {Element} form */
function targetsOf(form) {
  if (!(form instanceof HTMLFormElement)) return [];
  /** @type {Set<string>} */
  const out = new Set();
  for (const by of [dom.attr(form, "action"), ...tied(form).map((b) => dom.attr(b, "formaction"))]) {
    if (!by) continue;
    try {
      const to = new URL(by, dom.base());
      if (to.origin !== location.origin && /^https?:$/.test(to.protocol)) out.add(to.origin);
    } catch {
      // not an address: the browser won't send it anywhere
    }
  }
  return [...out].slice(0, 20);
}

/** What may stand over a part of a form, and what else is said in large letters. */
const HEADS = "h2, h3, h4, [role=heading]";
const SAID_LARGE = `h1, legend, ${HEADS}`;

/**
 * The headings between a form's fields, each with the fields that it stands over: those after it in the smallest part
 * of the form that holds it and a field.
 * @param {Element} form @returns {Map<Element, string>} by field
 */
function sectionsOf(form) {
  const over = new Map();
  let text = "";
  /** @type {Element | null} */
  let part = null;
  for (const el of deep(form, `${HEADS}, ${FIELDS}`).slice(0, MAX_DEEP)) {
    if (dom.matches(el, HEADS)) {
      text = textOf(el);
      for (part = dom.parent(el); part && part !== form && !dom.one(part, FIELDS);) part = dom.parent(part);
    } else if (text && part && dom.contains(part, el)) over.set(el, text.slice(0, 80));
  }
  return over;
}

/** @param {Element} form @param {Element[]} large what is said in it in large letters */
function describeForm(form, large) {
  const heads = large.slice(0, 4).map(textOf).join(" ");
  const sends = senders(form);
  const rest = deep(form, `${PRESSED}, a, label`)
    .filter(
      (el) =>
        !sends.includes(/** @type {HTMLElement} */ (el)) &&
        (!dom.matches(el, "label") ||
          dom.one(el, "[type=checkbox]") ||
          /** @type {HTMLLabelElement} */ (el).control?.matches("[type=checkbox]")),
    )
    .slice(0, 12);
  const targets = targetsOf(form);
  let action = "";
  try {
    action = new URL(dom.attr(form, "action") ?? "", dom.base()).pathname;
  } catch {
    // as above
  }
  return {
    id: numberOf(form),
    head: tidy(heads || headBefore(form)),
    submit: tidy(sends.slice(0, 3).map(wordsOf).join(" ")),
    text: tidy(rest.map(wordsOf).join(" ")),
    name: tidy(
      [dom.attr(form, "id"), dom.attr(form, "name"), dom.attr(form, "class"), dom.attr(form, "action") ? action : ""]
        .filter(Boolean)
        .join(" "),
    ),
    action: targets[0] ?? "",
    targets,
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
    for (const el of dom.all(r, ANNOUNCED)) {
      if (out.length >= 6) break;
      const t = tidy(dom.text(el));
      const whole = dom.matches(el, "input, form, body, html, main");
      if (t && t.length < 150 && el !== host && !whole && dom.checkVisibility(el)) out.push(t);
    }
  return tidy([...new Set(out)].join(". "));
}

/** How pages call what signs out, in their code and in English (common practice). */
const OUT = /(log|sign)[-_ ]?(out|off)/i;
const SAYS_OUT = /^(log|sign) ?(out|off)$/i;
/** How many links, buttons and forms are looked at for it. */
const MOST_ACTS = 400;

/** Whether the page has a way to sign out: somebody is signed in. */
const signedIn = () =>
  roots().some((r) =>
    dom
      .all(r, "a, button, form")
      .slice(0, MOST_ACTS)
      .some((el) => {
        const to = dom.attr(el, dom.matches(el, "a") ? "href" : dom.matches(el, "form") ? "action" : "class");
        return OUT.test(to ?? "") || (!dom.matches(el, "form") && SAYS_OUT.test((dom.text(el) ?? "").trim()));
      }),
  );

/** Tells this document from the next one at its address. */
const doc = `${Date.now()} ${Math.random()}`;

/** What the frame looks like now. @param {boolean} [said] with what the page announces */
export function snapshot(said = true) {
  begin();
  const forms = new Map();
  /** @type {Map<Element, Map<Element, string>>} */
  const sections = new Map();
  let checked = 0;
  const list = fields().map((f) => {
    const form = groupOf(f);
    if (!forms.has(form)) {
      const large = deep(form, SAID_LARGE);
      forms.set(form, describeForm(form, large));
      if (large.some((el) => dom.matches(el, HEADS))) sections.set(form, sectionsOf(form));
    }
    const input = f instanceof HTMLInputElement ? f : undefined;
    return {
      id: numberOf(f),
      form: numberOf(form),
      type: input ? input.type : f instanceof HTMLSelectElement ? "select" : "textarea",
      name: tidy(`${f.name} ${f.id}`),
      autocomplete: tidy(f.getAttribute("autocomplete")),
      label: labelOf(f),
      near: nearOf(f),
      section: sections.get(form)?.get(f) ?? "",
      visible: checked++ < MAX_DEEP && (seen(f) ? input?.type !== "password" || inked(f) : dormant(f)),
      locked: f.disabled || (!(f instanceof HTMLSelectElement) && f.readOnly),
      filled: f.value !== "",
      given: isGiven(f),
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
  const heads = dom
    .all(document, "h1, h2")
    .slice(0, 8)
    .filter((h) => dom.checkVisibility(h))
    .slice(0, 3)
    .map(textOf)
    .join(" ");
  const nav = /** @type {PerformanceNavigationTiming | undefined} */ (performance.getEntriesByType("navigation")[0]);
  return {
    title: tidy(dom.pageTitle()),
    lang: dom.attr(dom.page(), "lang") ?? "",
    path: tidy(location.pathname),
    heads: tidy(heads),
    alerts: said ? alerts() : "",
    signedIn: forms.size > 0 && signedIn(),
    status: nav?.responseStatus ?? 0,
    doc,
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
