"use strict";
(() => {
  // src/dom.js
  function getter(proto, name) {
    const get = Object.getOwnPropertyDescriptor(proto, name)?.get;
    if (!get) throw new Error(`there is no getter ${name}`);
    return (of) => Reflect.apply(get, of, []);
  }
  function method(proto, name) {
    const f = proto[name];
    if (!f) throw new Error(`there is no method ${name}`);
    return (of, ...more) => Reflect.apply(f, of, more);
  }
  var E = Element.prototype;
  var N = Node.prototype;
  var D = Document.prototype;
  var F = HTMLFormElement.prototype;
  var inElement = method(E, "querySelectorAll");
  var inDocument = method(D, "querySelectorAll");
  var inFragment = method(DocumentFragment.prototype, "querySelectorAll");
  var list = (node, what) => node instanceof Element ? inElement(node, what) : node instanceof DocumentFragment ? inFragment(node, what) : inDocument(node, what);
  var all = (node, what) => [...list(node, what)];
  var oneInElement = method(E, "querySelector");
  var oneInDocument = method(D, "querySelector");
  var oneInFragment = method(DocumentFragment.prototype, "querySelector");
  var one = (node, what) => (node instanceof Element ? oneInElement(node, what) : node instanceof DocumentFragment ? oneInFragment(node, what) : oneInDocument(node, what)) ?? void 0;
  var attr = method(E, "getAttribute");
  var has = method(E, "hasAttribute");
  var matches = method(E, "matches");
  var closest = method(E, "closest");
  var rect = method(E, "getBoundingClientRect");
  var checkVisibility = method(E, "checkVisibility");
  var scrollTo2 = method(E, "scrollIntoView");
  var shadow = getter(E, "shadowRoot");
  var previous = getter(E, "previousElementSibling");
  var next = getter(E, "nextElementSibling");
  var tag = getter(E, "tagName");
  var append = method(E, "append");
  var animate = method(E, "animate");
  var first = getter(E, "firstElementChild");
  var parent2 = getter(N, "parentElement");
  var before = getter(N, "previousSibling");
  var text = getter(N, "textContent");
  var rootOf = method(N, "getRootNode");
  var contains = method(N, "contains");
  var nodes = getter(N, "childNodes");
  var kids = (n2) => [...nodes(n2)];
  var focus = method(HTMLElement.prototype, "focus");
  var inputType = getter(HTMLInputElement.prototype, "type");
  var inputForm = getter(HTMLInputElement.prototype, "form");
  var buttonForm = getter(HTMLButtonElement.prototype, "form");
  var typeOf = inputType;
  var formOf = (b) => (
    /** @type {HTMLFormElement | null} */
    b instanceof HTMLInputElement ? inputForm(b) : buttonForm(b)
  );
  var requestSubmit = method(F, "requestSubmit");
  var active = getter(D, "activeElement");
  var body = getter(D, "body");
  var html = getter(D, "documentElement");
  var hidden = getter(D, "hidden");
  var title = getter(D, "title");
  var state = getter(D, "readyState");
  var create = method(D, "createElement");
  var createNS = method(D, "createElementNS");
  var evaluate = method(D, "evaluate");
  var hasFocus = method(D, "hasFocus");
  var baseURI = getter(N, "baseURI");
  var stack = method(D, "elementsFromPoint");
  var stackIn = "elementsFromPoint" in ShadowRoot.prototype ? method(ShadowRoot.prototype, "elementsFromPoint") : void 0;
  var activeIn = Object.getOwnPropertyDescriptor(ShadowRoot.prototype, "activeElement") ? getter(ShadowRoot.prototype, "activeElement") : void 0;
  var byIdIn = method(DocumentFragment.prototype, "getElementById");
  var byId = method(D, "getElementById");
  var listener = method(EventTarget.prototype, "addEventListener");
  var page = () => (
    /** @type {HTMLElement} */
    html(document)
  );
  var bodyOf = () => (
    /** @type {HTMLElement} */
    body(document)
  );
  var isHidden = () => (
    /** @type {boolean} */
    hidden(document)
  );
  var isComplete = () => state(document) === "complete";
  var pageTitle = () => (
    /** @type {string} */
    title(document)
  );
  var focused = () => (
    /** @type {boolean} */
    hasFocus(document)
  );
  var base = () => (
    /** @type {string} */
    baseURI(document)
  );
  var make = (name) => create(document, name);
  var makeNS = (space, name) => createNS(document, space, name);
  function activeElement() {
    let el = active(document);
    for (let r = el && shadow(el); r && activeIn?.(r); r = el && shadow(el)) el = activeIn(r);
    return el;
  }
  function at(x, y) {
    return stack(document, x, y)[0] ?? null;
  }
  function* under(x, y, own2, root2 = document) {
    const list2 = root2 instanceof ShadowRoot ? stackIn?.(root2, x, y) ?? [] : stack(root2, x, y);
    for (const el of list2) {
      if (el === own2 || rootOf(el) !== root2) continue;
      const inner = shadow(el);
      if (inner) yield* under(x, y, own2, inner);
      yield el;
    }
  }
  var withId = (root2, name) => root2 instanceof Document ? byId(root2, name) : byIdIn(root2, name);
  function byPath(path, most) {
    const list2 = evaluate(document, path, document, null, XPathResult.ORDERED_NODE_SNAPSHOT_TYPE, null);
    return Array.from({ length: Math.min(list2.snapshotLength, most) }, (_, i) => list2.snapshotItem(i));
  }
  var leaving = new AbortController();
  function listen(to, kind, hear, how = {}) {
    const more = typeof how === "boolean" ? { capture: how } : how;
    listener(to, kind, hear, { ...more, signal: leaving.signal });
  }

  // src/host.js
  var MARK = "data-red-locket";
  for (const left of all(document, `div[${MARK}]`)) left.remove();
  var host = document.createElement("div");
  host.setAttribute(MARK, "");
  var root = host.attachShadow({ mode: "closed" });

  // src/host.css
  var host_default = "/* What the extension puts into a page: the clasps, and the frames in which everything else stands. */\n:host {\n  all: initial !important;\n  position: fixed !important;\n  inset: 0 !important;\n  width: 100vw !important;\n  height: 100vh !important;\n  margin: 0 !important;\n  padding: 0 !important;\n  border: 0 !important;\n  background: none !important;\n  pointer-events: none !important;\n  overflow: visible !important;\n  display: block !important;\n  opacity: 1 !important;\n  visibility: visible !important;\n  z-index: 2147483647 !important;\n}\n.clasp {\n  --garnet-line: #8b1a2b;\n  --paper: #fff;\n  pointer-events: auto;\n  position: absolute;\n  width: 26px;\n  height: 26px;\n  border: 0;\n  background: none;\n  padding: 2px;\n  cursor: pointer;\n}\n.clasp path {\n  fill: none;\n  stroke: var(--garnet-line);\n  stroke-width: 2.4;\n  stroke-linecap: round;\n}\n.clasp svg {\n  background: var(--paper);\n  border-radius: 50%;\n  display: block;\n}\n:focus-visible {\n  outline: 2px solid #a9812f;\n  outline-offset: 1px;\n}\niframe {\n  border-radius: 4px;\n  pointer-events: auto;\n  position: absolute;\n  z-index: 1;\n  border: 0;\n  padding: 0;\n  margin: 0;\n  background: none;\n  color-scheme: light dark;\n}\n/* What was asked for last lies on top: the offer at a field, over a slip that waits. */\niframe.offer {\n  z-index: 2;\n}\niframe.away {\n  visibility: hidden;\n  pointer-events: none;\n}\n@media (prefers-color-scheme: dark) {\n  .clasp {\n    --garnet-line: #ee9aa4;\n    --paper: #221e1f;\n  }\n}\n";

  // src/draw.js
  var ext = globalThis.browser ?? chrome;
  var ORIGIN = new URL(ext.runtime.getURL("")).origin;
  var dressed = false;
  var claspsAt = 0;
  var pointer;
  listen(window, "pointermove", (e) => {
    if (e.isTrusted) pointer = { x: e.screenX, y: e.screenY };
  });
  var READING = 250;
  function ground() {
    const open2 = all(document, "dialog:modal");
    return open2.length ? open2[open2.length - 1] : page();
  }
  function raise(anew = false) {
    if (leaving.signal.aborted) return;
    if (!dressed) {
      dressed = true;
      const sheet = new CSSStyleSheet();
      sheet.replaceSync(host_default);
      root.adoptedStyleSheets = [sheet];
    }
    if (!host.isConnected || host.parentElement !== ground()) append(ground(), host);
    if (typeof host.showPopover === "function") {
      host.popover = "manual";
      if (anew && host.matches(":popover-open")) host.hidePopover();
      if (!host.matches(":popover-open")) host.showPopover();
    }
  }
  var PLAIN = {
    filter: "none",
    clipPath: "none",
    maskImage: "none",
    scale: "none",
    rotate: "none",
    translate: "none",
    mixBlendMode: "normal",
    visibility: "visible",
    zoom: "1"
  };
  function plainly() {
    if (!host.isConnected || host.getAnimations().length) return false;
    for (let el = (
      /** @type {Element | null} */
      host
    ); el; el = parent2(el)) {
      const s = (
        /** @type {Record<string, string>} */
        /** @type {unknown} */
        getComputedStyle(el)
      );
      if (Number(s.opacity) < 0.99 || el !== host && s.transform !== "none") return false;
      for (const [k, v] of Object.entries(PLAIN)) if (s[k] !== void 0 && s[k] !== "" && s[k] !== v) return false;
    }
    const r = host.getBoundingClientRect();
    return Math.abs(r.left) < 1 && Math.abs(r.top) < 1;
  }
  var NARROW = 330;
  var overlap = (a, b) => Math.max(0, Math.min(a.right, b.right) - Math.max(a.left, b.left)) * Math.max(0, Math.min(a.bottom, b.bottom) - Math.max(a.top, b.top));
  function beside(el, r, width, height, free2, stay2) {
    const w = Math.min(width, innerWidth - 8);
    const left = Math.max(4, Math.min(r.left, innerWidth - w - 4));
    const places = [
      { left, top: r.bottom + 3, wide: w },
      { left: r.right + 6, top: Math.max(4, Math.min(r.top, innerHeight - height - 4)), wide: Math.min(w, NARROW) },
      { left, top: r.top - 3 - height, wide: w }
    ].map((p, at2) => ({ ...p, at: at2, right: p.left + p.wide, bottom: p.top + height }));
    const fits = places.filter((p) => p.top >= 4 && p.bottom + 4 <= innerHeight && p.right + 4 <= innerWidth);
    let best = fits[0] ?? places[0], least = Infinity;
    const still = fits.find((p) => p.at === stay2);
    for (const p of still ? [still] : fits) {
      const covered = free2.reduce((n2, f) => n2 + overlap(p, f), 0);
      if (covered < least - 1) {
        best = p;
        least = covered;
      }
    }
    el.style.left = `${best.left}px`;
    el.style.top = `${best.top}px`;
    el.style.width = `${best.wide}px`;
    return best.at;
  }
  var SVG = "http://www.w3.org/2000/svg";
  function unclasp() {
    for (const el of root.querySelectorAll(".clasp")) el.remove();
  }
  function clasp(field, press2) {
    const b = make("button");
    b.className = "clasp";
    b.setAttribute("type", "button");
    b.setAttribute("aria-label", "Red Locket: fill in");
    b.tabIndex = -1;
    b.addEventListener("click", (e) => {
      e.stopPropagation();
      if (!e.isTrusted || e.timeStamp - claspsAt < READING || !plainly()) return;
      if ((e.clientX || e.clientY) && at(e.clientX, e.clientY) !== host) return;
      press2();
    });
    b.addEventListener("mousedown", (e) => e.preventDefault());
    const svg = makeNS(SVG, "svg");
    svg.setAttribute("viewBox", "0 0 24 24");
    for (const d of ["M10.5 6A6 6 0 0 0 10.5 18", "M13.5 6A6 6 0 0 1 13.5 18"]) {
      const p = makeNS(SVG, "path");
      p.setAttribute("d", d);
      svg.append(p);
    }
    b.append(svg);
    const r = rect(field);
    const side = Math.max(18, Math.min(26, r.height - 2));
    if (side < 22) b.style.padding = "0";
    b.style.width = b.style.height = `${side}px`;
    const behind2 = field instanceof HTMLSelectElement && r.right + 34 < innerWidth;
    b.style.left = `${behind2 ? r.right + 5 : r.right - side - 5}px`;
    b.style.top = `${r.top + (Math.min(r.height, 60) - side) / 2}px`;
    if (!root.querySelector(".clasp")) claspsAt = performance.now();
    root.append(b);
    raise();
  }
  var papers = /* @__PURE__ */ new Map();
  function paper(kind) {
    const had = papers.get(kind);
    if (had) {
      if (!had.frame.isConnected) root.append(had.frame);
      return had;
    }
    const frame = (
      /** @type {HTMLIFrameElement} */
      make("iframe")
    );
    frame.className = `away ${kind}`;
    frame.setAttribute("title", "Red Locket");
    const p = {
      frame,
      height: 0,
      ready: false,
      step: 0,
      still: 0,
      where: "",
      watched: false,
      place: () => {
      },
      press: () => {
      },
      ask: async () => ({}),
      closed: () => {
      },
      back: () => {
      }
    };
    papers.set(kind, p);
    frame.addEventListener("load", () => {
      const { port1, port2 } = new MessageChannel();
      p.ready = false;
      p.port = port1;
      port1.onmessage = ({ data }) => heard(p, data);
      frame.contentWindow?.postMessage("red-locket", ORIGIN, [port2]);
    });
    frame.src = ext.runtime.getURL("paper.html");
    root.append(frame);
    return p;
  }
  function prepare() {
    raise();
    paper("offer");
  }
  function heard(p, m) {
    if (m.ready) {
      p.ready = true;
      if (p.what) p.port?.postMessage({ show: p.what, pointer });
      if (p.what && p.step) {
        p.frame.focus();
        p.port?.postMessage({ step: p.step });
      }
      p.step = 0;
    }
    if (typeof m.height === "number" && p.what) {
      p.height = Math.min(m.height, innerHeight - 8);
      p.frame.style.height = `${p.height}px`;
      p.place();
      p.frame.classList.remove("away");
    }
    if (m.pressed && p.what && plainly() && performance.now() - p.still >= READING) p.press(m.pressed);
    if (m.ask) void p.ask(m.message).then((v) => p.port?.postMessage({ answer: m.ask, with: v }));
    if (m.where) p.port?.postMessage({ answer: m.where, with: placeOf(p.frame) });
    if (m.close) {
      hide(p);
      p.closed();
    }
  }
  function placeOf(frame) {
    const r = frame.getBoundingClientRect();
    const inside = r.left >= 0 && r.top >= 0 && r.right <= innerWidth && r.bottom <= innerHeight;
    if (!inside || !plainly() || isHidden()) return void 0;
    const { width, height } = r;
    if (window === top) return { x: r.left + scrollX, y: r.top + scrollY, width, height };
    const at2 = onScreen();
    return at2 && { x: at2.x + r.left, y: at2.y + r.top, width, height, onScreen: true };
  }
  function onScreen() {
    const { mozInnerScreenX: x, mozInnerScreenY: y } = (
      /** @type {any} */
      window
    );
    return typeof x === "number" && typeof y === "number" ? { x, y } : void 0;
  }
  function show(p, what) {
    const same = JSON.stringify(p.what) === JSON.stringify(what);
    p.what = what;
    if (same) return raise();
    p.still = performance.now();
    raise();
    if (p.ready) p.port?.postMessage({ show: what, pointer });
    if (!p.watched) watchPlace(p);
  }
  function watchPlace(p) {
    p.watched = Boolean(p.what);
    if (!p.what) return;
    const r = p.frame.getBoundingClientRect();
    const where = `${Math.round(r.left)} ${Math.round(r.top)} ${plainly()}`;
    if (where !== p.where) {
      p.where = where;
      p.still = performance.now();
      p.port?.postMessage({ moved: true, pointer });
    }
    requestAnimationFrame(() => watchPlace(p));
  }
  function hide(p) {
    const held = root.activeElement === p.frame;
    p.what = void 0;
    p.side = void 0;
    p.where = "";
    p.frame.classList.add("away");
    p.port?.postMessage({ away: true });
    if (held) p.back();
  }
  function remove(kind) {
    const p = papers.get(kind);
    if (p?.what) hide(p);
  }
  var isShown = (kind) => Boolean(papers.get(kind)?.what);
  var widthFor = (r) => Math.max(NARROW, Math.min(r.width, 440));
  function offer(rect2, what, press2, closed, field, free2 = () => []) {
    const p = paper("offer");
    p.back = () => field && focus(field);
    p.press = ({ list: list2, index }) => press2(list2, index);
    p.closed = closed;
    p.place = () => {
      const r2 = rect2();
      p.side = beside(p.frame, r2, widthFor(r2), p.height, free2(), p.side);
    };
    const r = rect2();
    beside(p.frame, r, widthFor(r), p.height || 120, free2());
    show(p, { kind: "offer", ...what });
  }
  function follow() {
    papers.get("offer")?.place();
  }
  function along(step, opening = false) {
    const p = papers.get("offer");
    if (!p?.what || !opening && (!plainly() || performance.now() - p.still < READING)) return false;
    p.frame.classList.remove("away");
    p.frame.focus();
    if (p.ready) p.port?.postMessage({ step });
    else p.step = step;
    return true;
  }
  function corner(p, edge) {
    const width = Math.min(372, innerWidth - 32);
    p.frame.style.width = `${width}px`;
    p.frame.style.left = `${innerWidth - width - 26 > 0 ? innerWidth - width - 26 : 16}px`;
    p.frame.style.top = edge === "top" ? "26px" : `${innerHeight - p.height - 26}px`;
  }
  function note(text2, list2 = []) {
    const p = paper("note");
    p.place = () => corner(p, "bottom");
    p.frame.style.width = `${Math.min(372, innerWidth - 32)}px`;
    const what = { kind: "note", say: text2, list: list2 };
    show(p, what);
    setTimeout(() => p.what === what && hide(p), list2.length ? 2e4 : 6e3);
  }
  function showPaperSlip(slip, ask, life) {
    const p = paper("slip");
    p.ask = ask;
    p.place = () => corner(p, "top");
    p.frame.style.width = `${Math.min(372, innerWidth - 32)}px`;
    const what = { kind: "slip", slip };
    show(p, what);
    if (life) setTimeout(() => p.what === what && hide(p), life);
  }

  // src/own.js
  var own = /* @__PURE__ */ new WeakMap();
  function note2(f) {
    own.set(f, f.value);
  }
  var isGiven = (f) => f.value !== "" && f.type !== "password" && !own.has(f) && !matches(f, ":autofill");

  // src/snapshot.js
  var MAX_FIELDS = 500;
  var MAX_DEEP = 200;
  var MAX_OPTIONS = 300;
  var KINDS = /* @__PURE__ */ new Set(["text", "email", "tel", "password", "number", "url", "date", "month"]);
  var PRESSED = "button, input[type=submit], input[type=image], input[type=button], [role=button]";
  var numbers = /* @__PURE__ */ new WeakMap();
  var nextNumber = 1;
  function numberOf(el) {
    let n2 = numbers.get(el);
    if (n2 === void 0) {
      n2 = nextNumber++;
      numbers.set(el, n2);
    }
    return n2;
  }
  var tidy = (s) => (s ?? "").replace(/\s+/g, " ").trim().slice(0, 150);
  var textOf = (el) => el ? tidy(
    el instanceof HTMLInputElement ? el.value || el.alt : text(el) || attr(el, "aria-label") || attr(el, "title")
  ) : "";
  function wordsOf(b) {
    for (let at2 = b; ; at2 = /** @type {ShadowRoot} */
    rootOf(at2).host) {
      const text2 = textOf(at2);
      if (text2 || !(rootOf(at2) instanceof ShadowRoot) || matches(at2, "form")) return text2;
    }
  }
  function around(el) {
    const root2 = rootOf(el);
    return parent2(el) ?? (root2 instanceof ShadowRoot ? root2.host : null);
  }
  var known;
  var met = /* @__PURE__ */ new Set();
  function meet(e) {
    const n2 = met.size;
    for (const r of e.composedPath()) if (r instanceof ShadowRoot && r !== root && !roots().includes(r)) met.add(r);
    if (met.size > n2) known = listed = void 0;
    return met.size > n2;
  }
  function roots() {
    if (known) return known;
    const list2 = [document];
    for (const el of byPath("//*[contains(name(), '-')]", 2e3)) {
      const r = shadow(el);
      if (r && list2.length < 200) list2.push(r);
    }
    for (const r of met) {
      if (r.isConnected) list2.push(r);
      else met.delete(r);
    }
    for (const r of list2)
      if (r !== document)
        for (const el of all(r, "*")) {
          const inner = shadow(el);
          if (inner && list2.length < 200 && !list2.includes(inner)) list2.push(inner);
        }
    known = list2;
    queueMicrotask(() => known = void 0);
    return list2;
  }
  var isBox = (el) => el instanceof HTMLInputElement ? KINDS.has(typeOf(el)) : el instanceof HTMLSelectElement || el instanceof HTMLTextAreaElement;
  var listed;
  function fields() {
    if (!listed) {
      listed = listFields();
      queueMicrotask(() => listed = void 0);
    }
    return listed;
  }
  function listFields() {
    const out = [];
    if (roots().length === 1) {
      const every = list(document, "input, select, textarea");
      for (let i = 0; i < every.length && out.length < MAX_FIELDS; i++) {
        const el = every[i];
        if (isBox(el)) out.push(el);
      }
      return out;
    }
    const walk = (root2) => {
      for (const el of all(root2, "input, select, textarea, *")) {
        if (out.length >= MAX_FIELDS) return;
        const inner = shadow(el);
        if (isBox(el)) out.push(el);
        else if (inner) walk(inner);
      }
    };
    walk(document);
    return out;
  }
  var LEAST_WIDTH = 12;
  var LEAST_HEIGHT = 8;
  var FAINT = 0.4;
  function filtered(filter) {
    for (const [, name, arg] of filter.matchAll(/([a-z-]+)\(([^)]*)\)/g)) {
      const n2 = parseFloat(arg) / (arg.includes("%") ? 100 : 1);
      if (name === "url") return true;
      if (name === "blur" && n2 > 1) return true;
      if (name === "opacity" && n2 < FAINT) return true;
      if ((name === "brightness" || name === "contrast") && (n2 < FAINT || n2 > 2.5)) return true;
    }
    return false;
  }
  function veiled(s) {
    const mask = s.maskImage || s.webkitMaskImage || "none";
    return s.clipPath !== "none" || s.clip !== "auto" && s.clip !== "" && /absolute|fixed/.test(s.position) || mask !== "none" || (s.mixBlendMode ?? "normal") !== "normal" || filtered(s.filter ?? "none");
  }
  function seen(el, faint = false) {
    const r = rect(el);
    const page2 = page();
    if (r.width < LEAST_WIDTH || r.height < LEAST_HEIGHT || r.right + scrollX < 4 || r.bottom + scrollY < 4 || r.left + scrollX > Math.min(Math.max(page2.scrollWidth, innerWidth) - 4, innerWidth + 400))
      return false;
    if (!checkVisibility(el, { opacityProperty: !faint, visibilityProperty: true })) return false;
    let opacity = 1, box = { left: r.left, top: r.top, right: r.right, bottom: r.bottom };
    for (let at2 = (
      /** @type {Element | null} */
      el
    ); at2; at2 = around(at2)) {
      const s = getComputedStyle(at2);
      opacity *= Number(s.opacity);
      if (opacity < FAINT && !faint || at2 !== page2 && veiled(s)) return false;
      if (at2 !== el && at2 !== bodyOf() && at2 !== page2 && s.overflow !== "visible" && s.display !== "contents") {
        const o = rect(at2);
        const scrolls = /auto|scroll/.test(s.overflow + s.overflowX + s.overflowY);
        if (!scrolls)
          box = {
            left: Math.max(box.left, o.left),
            top: Math.max(box.top, o.top),
            right: Math.min(box.right, o.right),
            bottom: Math.min(box.bottom, o.bottom)
          };
        else if (o.width < 8 || o.height < 8) return false;
        if (box.right - box.left < 8 || box.bottom - box.top < 8) return false;
      }
      if (s.position === "fixed") break;
    }
    return true;
  }
  function dormant(f) {
    if (!seen(f, true) || !labelOf(f)) return false;
    const r = rect(f);
    for (let at2 = around(f), i = 0; at2 && at2 !== bodyOf() && i < 6; at2 = around(at2), i++) {
      const o = rect(at2);
      const holds = o.left <= r.left + 1 && o.right >= r.right - 1 && o.height < 4 * Math.max(r.height, 24);
      if (holds && seen(at2)) return true;
    }
    return false;
  }
  function outline(f) {
    const r = rect(f);
    const root2 = rootOf(f);
    if (!(root2 instanceof ShadowRoot)) return r;
    const o = rect(root2.host);
    const holds = o.left <= r.left && o.right >= r.right && o.top <= r.top && o.bottom >= r.bottom;
    return holds && o.width < r.width + 200 && o.height < r.height + 48 ? o : r;
  }
  function rgba(colour) {
    const n2 = (colour.match(/[\d.]+/g) ?? []).map(Number);
    return [n2[0] ?? 0, n2[1] ?? 0, n2[2] ?? 0, n2[3] ?? 1];
  }
  function luminance(c) {
    const [r, g, b] = c.slice(0, 3).map((v) => {
      const s = v / 255;
      return s <= 0.03928 ? s / 12.92 : ((s + 0.055) / 1.055) ** 2.4;
    });
    return 0.2126 * r + 0.7152 * g + 0.0722 * b;
  }
  function inked(f) {
    const s = getComputedStyle(f);
    const ink = rgba(s.webkitTextFillColor || s.color);
    if (ink[3] < FAINT || parseFloat(s.fontSize) < 5) return false;
    const indent = parseFloat(s.textIndent);
    if (indent < -50 || indent > rect(f).width) return false;
    for (let at2 = (
      /** @type {Element | null} */
      f
    ); at2; at2 = around(at2)) {
      const b = getComputedStyle(at2);
      if (b.backgroundImage !== "none") return true;
      const under2 = rgba(b.backgroundColor);
      if (under2[3] < 0.5) continue;
      const [hi, lo] = [luminance(ink), luminance(under2)].sort((x, y) => y - x);
      return (hi + 0.05) / (lo + 0.05) >= 1.2;
    }
    return true;
  }
  function belongs(el, f) {
    if (el === f || contains(f, el)) return true;
    const label = el instanceof HTMLLabelElement ? el : closest(el, "label");
    if (label instanceof HTMLLabelElement && label.control === f) return true;
    const a = rect(el), b = rect(f);
    return a.width * a.height <= 0.4 * b.width * b.height && a.left >= b.left - 2 && a.right <= b.right + 2;
  }
  var solid = (
    /** @type {CSSStyleSheet | undefined} */
    void 0
  );
  function throughNothing(look2) {
    const own2 = (
      /** @type {HTMLElement[]} */
      all(document, '[style*="pointer-events" i]').filter(
        (el) => el !== host
      )
    );
    const before3 = own2.map((el) => [
      el.style.getPropertyValue("pointer-events"),
      el.style.getPropertyPriority("pointer-events")
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
      sheets = void 0;
    }
    for (const el of own2) el.style.setProperty("pointer-events", "auto", "important");
    try {
      return look2();
    } finally {
      own2.forEach((el, i) => el.style.setProperty("pointer-events", before3[i][0], before3[i][1]));
      if (sheets) document.adoptedStyleSheets = sheets;
    }
  }
  var REPLACED = "img, video, canvas, iframe, object, embed, svg, svg *, input, select, textarea, button, meter, progress";
  var TINT = 0.2;
  function drawn(s) {
    const wide = (width) => parseFloat(width) > 3;
    return rgba(s.backgroundColor)[3] * Number(s.opacity) >= TINT || s.backgroundImage !== "none" || s.borderImageSource !== "none" || (s.backdropFilter ?? "none") !== "none" || (s.mixBlendMode ?? "normal") !== "normal" || /inset/.test(s.boxShadow) || [s.borderTopWidth, s.borderBottomWidth, s.borderLeftWidth, s.borderRightWidth].some(wide) || s.outlineStyle !== "none" && parseFloat(s.outlineOffset) < 0 || s.columnRuleStyle !== "none" && wide(s.columnRuleWidth);
  }
  function paints(el) {
    if (matches(el, REPLACED) || matches(el, ":modal, [popover], :fullscreen")) return true;
    if (kids(el).some((n2) => n2 instanceof Text && n2.data.trim())) return true;
    let opacity = 1;
    for (let at2 = (
      /** @type {Element | null} */
      el
    ); at2; at2 = around(at2))
      opacity *= Number(getComputedStyle(at2).opacity);
    if (opacity < TINT) return false;
    if (drawn(getComputedStyle(el))) return true;
    return ["::before", "::after"].some((which) => {
      const s = getComputedStyle(el, which);
      if (s.content === "none" || s.content === "normal") return false;
      return s.content !== '""' || drawn(s);
    });
  }
  function onTop(f) {
    const r = rect(f);
    let met2 = 0;
    for (const part of [0.1, 0.3, 0.5, 0.7, 0.9])
      for (const el of under(r.left + r.width * part, r.top + r.height / 2, host)) {
        if (belongs(el, f)) met2++;
        else if (!paints(el)) continue;
        break;
      }
    return met2 >= 3;
  }
  function reachable(f, role) {
    if (!seen(f)) return false;
    const inWindow = () => {
      const r = rect(f);
      return r.left >= -1 && r.top >= -1 && r.right <= innerWidth + 1 && r.bottom <= innerHeight + 1;
    };
    const from = { x: scrollX, y: scrollY };
    try {
      if (!inWindow()) scrollTo2(f, { block: "nearest", inline: "nearest", behavior: "instant" });
      const r = rect(f);
      if (r.right < 4 || r.bottom < 4 || r.left > innerWidth - 4 || r.top > innerHeight - 4) return false;
      if (role === "one-time-code") return true;
      return inked(f) && throughNothing(() => onTop(f));
    } finally {
      if (scrollX !== from.x || scrollY !== from.y) scrollTo({ left: from.x, top: from.y, behavior: "instant" });
    }
  }
  var taking;
  function begin() {
    taking = { labels: /* @__PURE__ */ new Map(), inside: /* @__PURE__ */ new Map() };
    for (const r of roots())
      for (
        const l of
        /** @type {HTMLLabelElement[]} */
        all(r, "label")
      ) {
        if (!l.control) continue;
        const all2 = taking.labels.get(l.control);
        if (all2) all2.push(l);
        else taking.labels.set(l.control, [l]);
      }
  }
  function textWithId(root2, id) {
    const el = withId(root2, id);
    return el ? text(el) : "";
  }
  function labelOf(el) {
    const root2 = (
      /** @type {Document | ShadowRoot} */
      rootOf(el)
    );
    const said = [...taking ? taking.labels.get(el) ?? [] : el.labels ?? []].map(
      (l) => l.contains(el) ? [...l.childNodes].filter((n2) => !(n2 instanceof Element && n2.contains(el))).map((n2) => n2.textContent).join(" ") || l.textContent : l.textContent
    );
    for (const id of (el.getAttribute("aria-labelledby") ?? "").split(/\s+/)) if (id) said.push(textWithId(root2, id));
    said.push(el.getAttribute("aria-label"), el.title);
    if (root2 instanceof ShadowRoot)
      said.push(
        root2.host.getAttribute("label"),
        root2.host.getAttribute("aria-label"),
        root2.host.getAttribute("placeholder")
      );
    const label = said.filter((s) => s?.trim()).join(" ") || beside2(el);
    return tidy([label, el instanceof HTMLSelectElement ? "" : el.placeholder].join(" "));
  }
  var FIELDS = `input:not([type=hidden], [type=submit], [type=button], [type=image], [type=reset], [type=checkbox],
  [type=radio]), select, textarea`;
  function beside2(el) {
    return freeLabel(el) || columnHead(el) || (behind(el) ?? before2(el)) || within(el) || tidy(descriptions(el).join(" "));
  }
  function isWide(el) {
    let left = 40;
    for (let at2 = first(el); at2 && left; at2 = next(at2)) left--;
    return !left;
  }
  function* ownParts(el) {
    for (let at2 = parent2(el), i = 0; at2 && at2 !== bodyOf() && i < 3; at2 = parent2(at2), i++) {
      if (matches(at2, "form") || isWide(at2) || deep(at2, FIELDS).length !== 1) return;
      yield at2;
    }
  }
  function freeLabel(el) {
    for (const part of ownParts(el))
      for (
        const l of
        /** @type {HTMLLabelElement[]} */
        all(part, "label")
      )
        if (!l.control && tidy(text(l))) return tidy(text(l));
    return "";
  }
  function columnHead(el) {
    const cell = closest(el, "td"), row = cell && parent2(cell), table = row && closest(row, "table");
    if (!cell || !row || !table || isWide(row) || deep(row, FIELDS).length < 2) return "";
    const first2 = one(table, "tr"), cells = (of) => kids(of).filter((n2) => n2 instanceof Element);
    if (!first2 || first2 === row || one(first2, FIELDS) || cells(first2).length !== cells(row).length) return "";
    return tidy(text(cells(first2)[cells(row).indexOf(cell)]));
  }
  function behind(el) {
    const around2 = parent2(el);
    const isField = (n2) => n2 instanceof Element && matches(n2, FIELDS);
    if (!around2 || isWide(around2) || kids(around2).filter(isField).length < 2) return void 0;
    const pieces = [{ field: void 0, words: "" }];
    for (const n2 of kids(around2))
      if (isField(n2)) pieces.push({ field: n2, words: "" });
      else if (!(n2 instanceof Element && matches(n2, `${PRESSED}, h1, h2, h3, h4, script, style`)))
        pieces[pieces.length - 1].words += text(n2) ?? "";
    const [above, ...fields2] = pieces.map(({ field, words: words2 }) => ({ field, words: tidy(words2) }));
    if (above.words || fields2.some((f) => !f.words || f.words.length > 60)) return void 0;
    return fields2.find((f) => f.field === el)?.words;
  }
  function within(el) {
    for (const part of ownParts(el))
      for (const n2 of kids(part)) {
        const t = n2 === el || n2 instanceof Element && matches(n2, `${PRESSED}, small`) ? "" : tidy(text(n2));
        if (t) return t.length <= 40 ? t : "";
      }
    return "";
  }
  function descriptions(el) {
    const root2 = (
      /** @type {Document | ShadowRoot} */
      rootOf(el)
    );
    const ids = (attr(el, "aria-describedby") ?? "").split(/\s+/).filter(Boolean);
    return ids.map((id) => textWithId(root2, id));
  }
  function describesAnother(p, el) {
    const id = attr(p, "id");
    return !!id && describedBy(id).some((f) => f !== el);
  }
  function describedBy(id) {
    if (taking?.described) return taking.described.get(id) ?? [];
    const all2 = /* @__PURE__ */ new Map();
    for (const r of roots())
      for (const f of all(r, "[aria-describedby]"))
        for (const one2 of (attr(f, "aria-describedby") ?? "").split(/\s+/))
          all2.set(one2, [...all2.get(one2) ?? [], f]);
    if (taking) taking.described = all2;
    return all2.get(id) ?? [];
  }
  function before2(el) {
    for (let at2 = el, i = 0; i < 3; i++) {
      for (let p = before(at2); p; p = before(p)) {
        if (p instanceof Element && (matches(p, PRESSED) || describesAnother(p, el))) continue;
        const t = tidy(text(p));
        if (p instanceof Element && (matches(p, "input, select, textarea") || one(p, "input, select, textarea")))
          return "";
        if (t) return t.length <= 60 ? t : "";
      }
      const up = around(at2);
      if (!up || up === bodyOf() || matches(up, "form, main, section, tr")) return "";
      at2 = /** @type {any} */
      up;
    }
    return "";
  }
  function nearOf(el) {
    const set = closest(el, "fieldset"), group = closest(el, "[role=group]"), legend = set && one(set, "legend");
    const said = [legend && text(legend), group && attr(group, "aria-label"), ...descriptions(el)];
    let at2 = parent2(el), best = "";
    while (at2 && at2 !== bodyOf() && deep(at2, "input, select, textarea").length === 1 && (text(at2) ?? "").length < 260) {
      best = kids(at2).filter((n2) => !(n2 instanceof Element && (matches(n2, "label, button, select") || contains(n2, el)))).map((n2) => text(n2)).join(" ") + " " + best;
      at2 = parent2(at2);
    }
    const next2 = next(el);
    if (!best.trim() && next2 && matches(next2, "p, small, span, div") && !one(next2, "input, select, textarea") && (text(next2) ?? "").length < 200)
      best = text(next2) ?? "";
    return tidy([...said, best].filter(Boolean).join(". "));
  }
  function groupOf(f) {
    if (f.form) return f.form;
    let alone;
    for (let el = around(f); el && el !== bodyOf(); el = around(el)) {
      if (matches(el, "form, [role=form], dialog, [role=dialog]")) return el;
      if (!deep(el, PRESSED).length) continue;
      if (deep(el, "input, select, textarea").filter(isBox).length > 1) return el;
      alone ??= el;
    }
    return alone ?? bodyOf();
  }
  function deep(el, what) {
    const found = taking?.inside.get(what)?.get(el);
    if (found) return found;
    const out = all(el, what);
    const into = (of) => {
      for (const c of shadow(of)?.children ?? []) out.push(...matches(c, what) ? [c] : [], ...deep(c, what));
    };
    into(el);
    if (roots().length > 1) all(el, "*").forEach(into);
    if (taking) taking.inside.set(what, (taking.inside.get(what) ?? /* @__PURE__ */ new Map()).set(el, out));
    return out;
  }
  function headBefore(el) {
    const heads = "h1, h2, h3, h4, [role=heading]";
    for (let at2 = (
      /** @type {Element | null} */
      el
    ), i = 0; at2 && at2 !== bodyOf() && i < 3; at2 = around(at2), i++) {
      for (let p = previous(at2); p; p = previous(p)) {
        if (matches(p, "form")) break;
        const h = matches(p, heads) ? p : one(p, heads);
        if (h) return textOf(h);
      }
    }
    return "";
  }
  function senders(form) {
    const all2 = (
      /** @type {HTMLElement[]} */
      deep(form, PRESSED)
    );
    const sends = all2.filter(
      (b) => b instanceof HTMLButtonElement || b instanceof HTMLInputElement ? b.type === "submit" || b.type === "image" : false
    );
    const plain = all2.filter((b) => !has(b, "aria-pressed") && wordsOf(b).length > 2);
    if (!sends.length && !plain.length)
      plain.push(.../** @type {HTMLElement[]} */
      deep(form, 'a[class*="btn" i], a[class*="button" i]'));
    return form instanceof HTMLFormElement && sends.length ? sends : sends.length ? sends : plain.slice(-1);
  }
  function tied(form) {
    const all2 = new Set(deep(form, "button[formaction], input[formaction]"));
    for (const r of roots())
      for (const el of all(r, "button[form][formaction], input[form][formaction]")) all2.add(el);
    return [...all2].filter(
      (b) => b instanceof HTMLButtonElement || b instanceof HTMLInputElement ? b.form === form : false
    );
  }
  function targetsOf(form) {
    if (!(form instanceof HTMLFormElement)) return [];
    const out = /* @__PURE__ */ new Set();
    for (const by of [attr(form, "action"), ...tied(form).map((b) => attr(b, "formaction"))]) {
      if (!by) continue;
      try {
        const to = new URL(by, base());
        if (to.origin !== location.origin && /^https?:$/.test(to.protocol)) out.add(to.origin);
      } catch {
      }
    }
    return [...out].slice(0, 20);
  }
  var HEADS = "h2, h3, h4, [role=heading]";
  var SAID_LARGE = `h1, legend, ${HEADS}`;
  function sectionsOf(form) {
    const over = /* @__PURE__ */ new Map();
    let text2 = "";
    let part = null;
    for (const el of deep(form, `${HEADS}, ${FIELDS}`).slice(0, MAX_DEEP)) {
      if (matches(el, HEADS)) {
        text2 = textOf(el);
        for (part = parent2(el); part && part !== form && !one(part, FIELDS); ) part = parent2(part);
      } else if (text2 && part && contains(part, el)) over.set(el, text2.slice(0, 80));
    }
    return over;
  }
  function describeForm(form, large) {
    const heads = large.slice(0, 4).map(textOf).join(" ");
    const sends = senders(form);
    const rest = deep(form, `${PRESSED}, a, label`).filter(
      (el) => !sends.includes(
        /** @type {HTMLElement} */
        el
      ) && (!matches(el, "label") || one(el, "[type=checkbox]") || /** @type {HTMLLabelElement} */
      el.control?.matches("[type=checkbox]"))
    ).slice(0, 12);
    const targets = targetsOf(form);
    let action = "";
    try {
      action = new URL(attr(form, "action") ?? "", base()).pathname;
    } catch {
    }
    return {
      id: numberOf(form),
      head: tidy(heads || headBefore(form)),
      submit: tidy(sends.slice(0, 3).map(wordsOf).join(" ")),
      text: tidy(rest.map(wordsOf).join(" ")),
      name: tidy(
        [attr(form, "id"), attr(form, "name"), attr(form, "class"), attr(form, "action") ? action : ""].filter(Boolean).join(" ")
      ),
      action: targets[0] ?? "",
      targets
    };
  }
  var ANNOUNCED = [
    "[role=alert], [role=status], [aria-live]",
    ...["error", "alert", "invalid", "success", "notice"].map((word) => `[class*="${word}" i]`)
  ].join(", ");
  function alerts() {
    const out = [];
    for (const r of roots())
      for (const el of all(r, ANNOUNCED)) {
        if (out.length >= 6) break;
        const t = tidy(text(el));
        const whole = matches(el, "input, form, body, html, main");
        if (t && t.length < 150 && el !== host && !whole && checkVisibility(el)) out.push(t);
      }
    return tidy([...new Set(out)].join(". "));
  }
  var OUT = /(log|sign)[-_ ]?(out|off)/i;
  var SAYS_OUT = /^(log|sign) ?(out|off)$/i;
  var MOST_ACTS = 400;
  var signedIn = () => roots().some(
    (r) => all(r, "a, button, form").slice(0, MOST_ACTS).some((el) => {
      const to = attr(el, matches(el, "a") ? "href" : matches(el, "form") ? "action" : "class");
      return OUT.test(to ?? "") || !matches(el, "form") && SAYS_OUT.test((text(el) ?? "").trim());
    })
  );
  var doc = `${Date.now()} ${Math.random()}`;
  function snapshot(said = true) {
    begin();
    const forms = /* @__PURE__ */ new Map();
    const sections = /* @__PURE__ */ new Map();
    let checked = 0;
    const list2 = fields().map((f) => {
      const form = groupOf(f);
      if (!forms.has(form)) {
        const large = deep(form, SAID_LARGE);
        forms.set(form, describeForm(form, large));
        if (large.some((el) => matches(el, HEADS))) sections.set(form, sectionsOf(form));
      }
      const input = f instanceof HTMLInputElement ? f : void 0;
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
        locked: f.disabled || !(f instanceof HTMLSelectElement) && f.readOnly,
        filled: f.value !== "",
        given: isGiven(f),
        maxlength: f instanceof HTMLSelectElement ? 0 : Math.max(0, f.maxLength),
        minlength: f instanceof HTMLSelectElement ? 0 : Math.max(0, f.minLength),
        pattern: input?.pattern.slice(0, 200) ?? "",
        rules: tidy(f.getAttribute("passwordrules")),
        options: f instanceof HTMLSelectElement ? [...f.options].slice(0, MAX_OPTIONS).map((o) => ({ value: o.value.slice(0, 60), text: tidy(o.text).slice(0, 60) })) : void 0
      };
    });
    taking = void 0;
    const heads = all(document, "h1, h2").slice(0, 8).filter((h) => checkVisibility(h)).slice(0, 3).map(textOf).join(" ");
    const nav = (
      /** @type {PerformanceNavigationTiming | undefined} */
      performance.getEntriesByType("navigation")[0]
    );
    return {
      title: tidy(pageTitle()),
      lang: attr(page(), "lang") ?? "",
      path: tidy(location.pathname),
      heads: tidy(heads),
      alerts: said ? alerts() : "",
      signedIn: forms.size > 0 && signedIn(),
      status: nav?.responseStatus ?? 0,
      doc,
      forms: [...forms.values()],
      fields: list2
    };
  }
  function fieldByNumber(n2) {
    return fields().find((f) => numbers.get(f) === n2);
  }
  function type(f, value) {
    f.focus();
    const key = (what) => f.dispatchEvent(new KeyboardEvent(what, { bubbles: true, composed: true, key: "Unidentified" }));
    if (f instanceof HTMLSelectElement) f.value = value;
    else {
      key("keydown");
      f.dispatchEvent(
        new InputEvent("beforeinput", {
          bubbles: true,
          composed: true,
          cancelable: true,
          inputType: "insertText",
          data: value
        })
      );
      f.value = value;
    }
    f.dispatchEvent(new InputEvent("input", { bubbles: true, composed: true, inputType: "insertText", data: value }));
    if (!(f instanceof HTMLSelectElement)) key("keyup");
    f.dispatchEvent(new Event("change", { bubbles: true }));
    return f.value === value || f.value.replace(/[\s/-]/g, "") === value.replace(/[\s/-]/g, "");
  }

  // src/tell.js
  var ext2 = globalThis.browser ?? chrome;
  var orphaned = () => {
  };
  var onOrphaned = (then) => orphaned = then;
  async function tell(m) {
    if (!ext2.runtime?.id) {
      orphaned();
      return { trouble: "away" };
    }
    try {
      const said = await ext2.runtime.sendMessage(m);
      return leaving.signal.aborted ? { trouble: "away" } : said;
    } catch {
      if (!ext2.runtime?.id) orphaned();
      return { trouble: "away" };
    }
  }

  // src/lift.js
  var mark = [...crypto.getRandomValues(new Uint8Array(12))].map((b) => b.toString(16).padStart(2, "0")).join("");
  var lifted;
  var n = 0;
  var guest;
  var marks = /* @__PURE__ */ new Map();
  var cramped = () => parent !== window && parent === top && (innerHeight < 190 || innerWidth < 260);
  var shown = ({ say, lines, acts }) => {
    const row = ({ text: text2, note: note3, fills }) => ({ text: text2, note: note3, fills });
    return { say, lines: lines.map(row), acts: acts.map(row) };
  };
  var putAway = () => {
  };
  var onPutAway = (then) => putAway = then;
  var standing = () => Boolean(lifted) || !guest && isShown("offer");
  function free(field) {
    const group = groupOf(
      /** @type {import("./snapshot.js").Box} */
      field
    );
    const words2 = all(document, "label, h1, h2, legend");
    const others = fields().filter((f) => f !== field);
    return [...others.map(outline), ...[...senders(group), ...words2.slice(0, 60)].map(rect)].filter(
      (r) => r.width > 0 && r.height > 0
    );
  }
  function present(field, what) {
    if (!cramped()) {
      dropGuest(false);
      const press2 = (list2, i) => what[list2][i]?.press();
      return offer(
        () => outline(
          /** @type {import("./snapshot.js").Box} */
          field
        ),
        shown(what),
        press2,
        () => putAway(true),
        field,
        () => free(field)
      );
    }
    lifted = { n: ++n, what };
    const r = rect(field);
    const rect2 = { left: r.left, top: r.top, width: r.width, height: r.height };
    void tell({ act: "lift", mark, n, rect: rect2, ...shown(what) });
    parent.postMessage({ redLocket: mark }, "*");
  }
  function report(text2, list2 = []) {
    if (cramped()) void tell({ act: "note-up", text: text2, list: list2 });
    else note(text2, list2);
  }
  function away() {
    remove("offer");
    dropGuest(false);
    if (lifted) void tell({ act: "lower", mark, n: lifted.n });
    lifted = void 0;
  }
  function dropGuest(byUser) {
    const g = guest;
    guest = void 0;
    if (g) void tell({ act: "dropped", frame: g.frame, mark: g.mark, n: g.n, byUser });
  }
  function stepAlong(step, opening = false) {
    if (lifted) void tell({ act: "lift-key", mark, n: lifted.n, step });
    return Boolean(lifted) || along(step, opening);
  }
  function welcome() {
    const g = guest;
    const source = g && marks.get(g.mark);
    if (!g || !source) return;
    const frame = (
      /** @type {HTMLIFrameElement[]} */
      deep(page(), "iframe").find((f) => f.contentWindow === source)
    );
    if (!frame || !seen(frame) || frame.offsetWidth < 60 || frame.offsetHeight < 18) return dropGuest(false);
    g.anchor = () => {
      const f = frame.getBoundingClientRect();
      const { left, top: top2, width, height } = g.rect;
      return new DOMRect(f.left + frame.clientLeft + left, f.top + frame.clientTop + top2, width, height);
    };
    const chosen = (list2, index) => {
      if (seen(frame)) void tell({ act: "chosen", frame: g.frame, mark: g.mark, n: g.n, list: list2, index });
      else away();
    };
    offer(g.anchor, { say: g.say, lines: g.lines, acts: g.acts }, chosen, () => dropGuest(true));
    if (g.step) along(g.step, true);
  }
  var hasGuest = () => Boolean(guest);
  function stay() {
    if (guest?.anchor && isShown("offer")) follow();
  }
  function heard2(m) {
    const ours = guest && guest.mark === m.mark && guest.n === m.n ? guest : void 0;
    const mine = lifted && m.mark === mark && lifted.n === m.n ? lifted : void 0;
    switch (m.act) {
      case "lifted":
        if (guest && guest.mark !== m.mark) dropGuest(false);
        guest = m;
        welcome();
        break;
      case "lowered":
        if (!ours) break;
        guest = void 0;
        remove("offer");
        break;
      case "lift-key":
        if (!ours) break;
        if (ours.anchor) along(m.step, !ours.stepped);
        else ours.step = m.step;
        ours.stepped = true;
        break;
      case "note":
        note(m.text, m.list);
        break;
      case "dropped":
        if (!mine) break;
        lifted = void 0;
        putAway(Boolean(m.byUser));
        break;
      case "chosen":
        if (m.list === "lines" || m.list === "acts")
          mine?.what[
            /** @type {"lines" | "acts"} */
            m.list
          ][m.index]?.press();
    }
  }
  if (window === top)
    addEventListener("message", (e) => {
      const said = e.data?.redLocket;
      if (typeof said !== "string" || said.length !== 24 || !e.source) return;
      if (marks.size > 50) marks.clear();
      marks.set(said, e.source);
      if (guest?.mark === said && !guest.anchor) welcome();
    });

  // src/words.js
  var words = (kind) => ({
    locked: "Red Locket is locked.",
    away: "Red Locket isn’t running on this computer.",
    over: "This browser is no longer connected to Red Locket.",
    "app too old": "Red Locket on this computer is older than what was added to this browser: update it.",
    "extension too old": "What was added to this browser is older than Red Locket: take the new one under Devices.",
    none: "This browser isn’t connected to Red Locket."
  })[kind] ?? "";

  // src/content.js
  var ext3 = globalThis.browser ?? chrome;
  var view = { readings: [], menus: {} };
  var unseen = false;
  var filling = false;
  var turn = 0;
  var gone = false;
  function placeOf2(f) {
    const n2 = String(numbers.get(f));
    for (const reading of view.readings) if (n2 in reading.roles) return { reading, menu: view.menus[n2] };
    return void 0;
  }
  var looking = false;
  var again = false;
  var telling = false;
  async function look() {
    if (leaving.signal.aborted) return;
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
      looking = false;
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
      const v = await tell({ act: "look", snapshot: { ...s, restless }, opaque, focused: focused() });
      view = { ...v, readings: v.readings ?? [], menus: v.menus ?? {} };
      view.trouble = v.trouble ?? (v.error ? "away" : void 0);
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
  var changedAt = performance.now();
  var tellingSince = -Infinity;
  var sentHere = false;
  var CALM = 400;
  var CALM_HERE = 900;
  var GIVES_UP = 8e3;
  var BUSY = [
    "[aria-busy=true], [role=progressbar], progress",
    ...["spinner", "loading", "loader"].map((word) => `[class*="${word}" i]`)
  ].join(", ");
  function isRestless() {
    const now = performance.now();
    if (!telling || now - tellingSince > GIVES_UP) return false;
    return !isComplete() || now - changedAt < (sentHere ? CALM_HERE : CALM) || roots().some((r) => all(r, BUSY).some((el) => el !== host && seen(el)));
  }
  var calming = 0;
  function whenCalm() {
    clearTimeout(calming);
    calming = setTimeout(() => void look(), CALM);
  }
  function expect(here) {
    telling = true;
    tellingSince = performance.now();
    sentHere ||= here;
  }
  function lockedMenus() {
    for (const f of fields()) {
      if (f.type !== "password" || !seen(f)) continue;
      const n2 = String(numberOf(f));
      view.readings.push({ form: 0, kind: "locked", roles: { [n2]: "locked" }, typed: [] });
      view.menus[n2] = { say: words("locked"), lines: [], acts: [{ text: "Open it", do: "open-vault" }] };
    }
  }
  var opaque = self.origin === "null";
  var slipShown = "";
  var FROM_SLIPS = /* @__PURE__ */ new Set(["slip-password", "keep", "not-now", "step-back", "took", "put-away", "never"]);
  function takeBack() {
    if (!/ (keep|update)$/.test(slipShown) || root.activeElement) return;
    slipShown = "";
    remove("slip");
  }
  function showSlip(s) {
    const mark3 = `${s.id} ${s.kind}`;
    if (slipShown === mark3) return;
    slipShown = mark3;
    const ask = async (m) => FROM_SLIPS.has(m?.act) ? tell(m) : {};
    showPaperSlip(s, ask, s.kind === "confirmed" ? 15e3 : void 0);
  }
  var clasped = [];
  function follows() {
    unclasp();
    for (const f of clasped) if (f.isConnected) clasp(f, () => open(f, true));
    const now = focused2();
    if (now && !filling) reopen(now);
  }
  function draw() {
    unclasp();
    clasped = [];
    const marked = /* @__PURE__ */ new Set();
    const now = focused2();
    if (view.readings.length)
      for (const f of fields()) {
        const menu = placeOf2(f)?.menu;
        if (menu) prepare();
        if (!menu || menu.noClasp || menu.group && marked.has(menu.group) && f !== now) continue;
        if (menu.group) marked.add(menu.group);
        clasp(f, () => open(f, true));
        clasped.push(f);
      }
    if (now && !filling) reopen(now);
  }
  var opened = { key: "", asked: false };
  var dismissed;
  var keyOf = (f) => JSON.stringify([placeOf2(f), [...agreed]]);
  function reopen(f) {
    if (opened.f !== f) return;
    if (opened.key !== keyOf(f)) open(f, opened.asked);
    else if (standing()) follow();
  }
  function shut() {
    away();
    opened = { key: "", asked: false };
  }
  function close(at2) {
    shut();
    dismissed = at2;
  }
  onPutAway((byUser) => {
    const f = opened.f;
    if (!byUser) return shut();
    close(f);
    if (f) focus(f);
  });
  function focused2() {
    const el = activeElement();
    return el && isBox(el) ? el : void 0;
  }
  var agreed = /* @__PURE__ */ new Set();
  function open(f, asked = false) {
    if (!ext3.runtime?.id) return leave();
    const at2 = placeOf2(f);
    const menu = at2?.menu;
    const filledBySite = at2?.reading.roles[String(numbers.get(f))] === "new-password" && !own.has(f);
    if (!asked && (f === dismissed || f.value && f.tagName !== "SELECT" && !filledBySite)) return shut();
    opened = { f, key: keyOf(f), asked };
    if (!at2 || !menu) return away();
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
    const choice = (l) => ({ ...l, press: () => press(f, at2.reading, l) });
    present(f, { say: menu.say, lines: menu.lines.map(choice), acts: menu.acts.map(choice) });
  }
  function press(f, reading, l) {
    switch (l.do) {
      case "fill":
        return void fill(l.id ?? "", reading, l.part ?? "");
      case "fill-new":
        return void fillNew(reading, l.id ?? "", f);
      case "type":
        void fillIn(() => {
          if (type(f, l.text)) {
            mark2(f);
            note2(f);
          }
          shut();
        });
        return void 0;
      case "open-vault":
        waitingAt = f;
        return void tell({ act: l.do });
      default:
        return void tell({ act: l.do, id: l.id });
    }
  }
  var waitingAt;
  var HEARS = 3e3;
  async function goOn() {
    const f = waitingAt;
    waitingAt = void 0;
    const until = performance.now() + HEARS;
    do {
      await look();
      if (looking) await new Promise((done) => setTimeout(done, REST));
    } while ((looking || view.trouble) && performance.now() < until);
    if (!f?.isConnected || view.trouble) return;
    const at2 = placeOf2(f);
    const fills = at2?.menu?.lines.filter((l) => l.do === "fill") ?? [];
    const to = at2?.menu?.elsewhere;
    focus(f);
    if (at2 && fills.length === 1 && (!to || agreed.has(to))) press(f, at2.reading, fills[0]);
    else open(f, true);
  }
  async function fillIn(change) {
    filling = true;
    try {
      await change();
    } finally {
      filling = false;
    }
  }
  var WAKES = 400;
  async function wakes(f, role) {
    if (reachable(f, role)) return true;
    if (!dormant(f)) return false;
    focus(f);
    for (const until = performance.now() + WAKES; performance.now() < until; ) {
      await new Promise((drawn2) => setTimeout(drawn2, 16));
      if (reachable(f, role)) return true;
    }
    return false;
  }
  async function put(v, reading) {
    if (v.error || v.trouble) {
      const at2 = focused2();
      if (at2) present(at2, { say: v.error ?? words(v.trouble), lines: [], acts: [] });
      else report(v.error ?? words(v.trouble));
      return false;
    }
    const missed = (v.missed ?? []).map((m) => `${m.label || "A field without a name"}: ${m.why}`);
    await fillIn(async () => {
      for (const one2 of v.fills ?? []) {
        const f = fieldByNumber(one2.field);
        if (!f || !await wakes(f, one2.role)) missed.push("A field that is no longer there, or can’t be seen");
        else if (type(f, one2.value)) {
          mark2(f);
          note2(f);
        } else missed.push(`${labelOf(f) || "A field without a name"}: the page changed what was filled`);
      }
      shut();
    });
    if (missed.length) report(v.fills?.length ? "Filled, but for:" : "Not filled:", missed);
    else if (v.copied !== void 0)
      report(
        v.copied ? "The one-time code is copied, for the next page." : "The browser didn’t let the one-time code be copied."
      );
    if (v.submit) send(reading);
    return true;
  }
  function send(reading) {
    const f = fields().find((x) => String(numbers.get(x)) in reading.roles);
    if (!f) return;
    const form = groupOf(f);
    sent(form);
    const by = senders(form)[0];
    if (by) by.click();
    else if (form instanceof HTMLFormElement) requestSubmit(form);
  }
  function mark2(f) {
    animate(f, [{ boxShadow: "inset 0 0 0 2px #a9812f" }, { boxShadow: "inset 0 0 0 2px transparent" }], {
      duration: 1600
    });
  }
  var elsewhere = (reading) => {
    const to = view.framed || reading.elsewhere || "";
    return agreed.has(to) ? to : "";
  };
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
        snapshot: snapshot()
      }),
      reading
    );
  }
  async function fillNew(reading, id, at2) {
    const user = fields().find((f) => reading.roles[String(numbers.get(f))] === "username");
    await put(
      await tell({
        act: "fill-new",
        form: reading.form,
        field: numberOf(at2),
        id,
        username: user?.value ?? "",
        elsewhere: elsewhere(reading),
        opaque,
        snapshot: snapshot()
      }),
      reading
    );
  }
  var handled = { at: 0 };
  var KEY = 1500;
  for (const kind of ["keydown", "beforeinput", "paste", "drop", "cut", "compositionend", "pointerup"])
    listen(
      document,
      kind,
      (e) => {
        if (e.isTrusted) handled = { f: e.composedPath()[0], at: e.timeStamp };
      },
      true
    );
  function typedIn(reading, form, asked = false) {
    const pressed2 = form !== null && performance.now() - (pressedAt.get(form) ?? -Infinity) < PRESSING;
    const values = {};
    let mine = false;
    for (const f of fields()) {
      const n2 = String(numbers.get(f));
      const named = reading.roles[n2] === "username" && isGiven(f);
      const chosen = reading.roles[n2] === "new-password" && isMade(f.value);
      const value = asked || named ? f.value : own.get(f) ?? (chosen ? f.value : void 0);
      if (!value || !f.value || !reading.typed.includes(Number(n2))) continue;
      values[n2] = value;
      if (own.has(f) || asked || chosen && pressed2) mine ||= form === null || groupOf(f) === form;
    }
    return mine ? values : void 0;
  }
  var sentAt = /* @__PURE__ */ new WeakMap();
  var TOGETHER = 300;
  function sent(form) {
    const now = performance.now();
    if (form && now - (sentAt.get(form) ?? -Infinity) < TOGETHER) return;
    if (form) sentAt.set(form, now);
    for (const reading of view.readings) {
      const values = typedIn(reading, form);
      if (!values) continue;
      expect(true);
      void tell({ act: "typed", form: reading.form, values, opaque, snapshot: snapshot() });
      for (const ms of [400, 1200, 3e3]) setTimeout(() => void look(), ms);
    }
  }
  function unlessSent(e, form) {
    setTimeout(() => {
      if (e.defaultPrevented && !matches(form, ":invalid")) sent(form);
    });
  }
  function buttonIn(path) {
    const els = path.slice(0, 40).filter((el) => el instanceof Element);
    return els.find((el) => matches(el, `${PRESSED}, a[href="#"], a:not([href])`)) ?? els.find((el) => /-.*(button|btn)|(button|btn).*-/i.test(tag(el)));
  }
  function formAround(el) {
    for (let at2 = (
      /** @type {Element | null} */
      el
    ); at2; at2 = around(at2)) {
      const tied2 = attr(at2, "form");
      const r = rootOf(at2);
      const form = tied2 && (r instanceof Document || r instanceof ShadowRoot) ? withId(r, tied2) : at2;
      if (form instanceof HTMLFormElement) return form;
    }
    return void 0;
  }
  var pressedAt = /* @__PURE__ */ new WeakMap();
  var PRESSING = 1e3;
  var isMade = (v) => v.length >= 6 && new Set(v).size > 3;
  function pressed(b, e) {
    const by = b instanceof HTMLButtonElement || b instanceof HTMLInputElement ? b : void 0;
    const inForm = (by && formOf(by)) ?? formAround(b);
    const byPerson = (form) => e.isTrusted && pressedAt.set(form, performance.now());
    if (inForm) byPerson(inForm);
    const custom = rootOf(b) instanceof ShadowRoot || !by;
    if (inForm && by && formOf(by) && (by.type === "submit" || by.type === "image")) return unlessSent(e, inForm);
    if (has(b, "aria-pressed") || has(b, "aria-expanded") || wordsOf(b).length < 2) return;
    if (inForm && custom && matches(inForm, ":invalid")) return;
    for (let el = (
      /** @type {Element | null} */
      b
    ); el && el !== bodyOf(); el = around(el)) {
      const n2 = deep(el, "input, select, textarea").filter(isBox).length;
      if (n2 === 1 && deep(el, "input[type=password], input[type=text]").length === 1 && view.readings.some((r) => Object.keys(r.roles).length > 1))
        return;
      if (n2 > 0) {
        if (!inForm) byPerson(el);
        return sent(inForm ?? el);
      }
    }
  }
  var came = {
    at: -Infinity,
    /** @type {EventTarget | undefined} */
    f: void 0,
    byKey: false
  };
  var FOLLOWS = 400;
  var cameTo = (f, now) => now - came.at < FOLLOWS && (came.byKey || came.f === f);
  listen(
    document,
    "focusin",
    (e) => {
      const f = e.composedPath()[0];
      if (filling || e.target === host) return;
      if (meet(e)) {
        watch();
        later(lookThen);
      }
      if (f !== dismissed) dismissed = void 0;
      if (f instanceof Element && isBox(f)) {
        if (!placeOf2(f) && unseen) later(lookThen);
        if (e.isTrusted && cameTo(f, e.timeStamp)) open(f);
        else shut();
      } else if (!(f instanceof HTMLIFrameElement && hasGuest())) shut();
    },
    true
  );
  listen(
    document,
    "input",
    (e) => {
      if (filling || e.target === host) return;
      const f = e.composedPath()[0];
      if (f instanceof Element && isBox(f)) {
        const theirs = e.isTrusted && handled.f === f && e.timeStamp - handled.at < KEY;
        if (theirs || e.isTrusted && f instanceof HTMLSelectElement) note2(f);
      }
      close(focused2());
    },
    true
  );
  listen(
    document,
    "pointerdown",
    (e) => {
      const f = e.composedPath()[0];
      if (e.target === host || !e.isTrusted) return;
      const label = f instanceof Element ? closest(f, "label") : null;
      const to = label instanceof HTMLLabelElement && label.control ? label.control : f;
      came = { at: e.timeStamp, f: to, byKey: false };
      if (!(to instanceof Element && isBox(to))) close(focused2());
      else if (to === focused2()) {
        dismissed = void 0;
        open(to);
      }
    },
    true
  );
  listen(
    document,
    "pointerup",
    (e) => {
      if (e.isTrusted && came.f) came.at = e.timeStamp;
    },
    true
  );
  listen(
    document,
    "keydown",
    (e) => {
      if (e.isTrusted && e.key === "Tab") came = { at: e.timeStamp, f: void 0, byKey: true };
      if (e.key === "Escape") {
        if (e.isTrusted && standing()) {
          e.preventDefault();
          e.stopImmediatePropagation();
        }
        close(focused2() ?? opened.f);
      }
      if (e.isTrusted && (e.key === "ArrowDown" || e.key === "ArrowUp")) {
        const at2 = focused2();
        if (stepAlong(e.key === "ArrowDown" ? 1 : -1)) e.preventDefault();
        else if (at2 && e.key === "ArrowDown" && !isShown("offer") && at2.tagName !== "SELECT" && placeOf2(at2)?.menu) {
          open(at2, true);
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
    true
  );
  function onSubmit(e) {
    const f = e.composedPath()[0];
    sent(f instanceof Element ? f : null);
  }
  listen(document, "submit", onSubmit, true);
  listen(
    document,
    "click",
    (e) => {
      const at2 = e.composedPath()[0];
      if (!(at2 instanceof Element) || e.target === host) return;
      if (e.isTrusted && closest(at2, "[data-connect-browser]")) void tell({ act: "connect" });
      const b = buttonIn(e.composedPath());
      if (b) pressed(b, e);
      if (unseen) setTimeout(() => void look(), 350);
    },
    true
  );
  for (const what of ["beforetoggle", "fullscreenchange"])
    listen(
      document,
      what,
      (e) => {
        if (e.target !== host && (isShown("offer") || isShown("slip") || isShown("note")) && !root.activeElement)
          setTimeout(() => raise(true));
      },
      true
    );
  function drawThere() {
    draw();
    stay();
  }
  for (const what of ["scroll", "resize"])
    listen(window, what, () => later(drawThere), { capture: true, passive: true });
  var LONGEST = 400;
  var REST = 60;
  var waiting = 0;
  var waitingSince = 0;
  var doneAt = -Infinity;
  var waitingFor = /* @__PURE__ */ new Set();
  var lookThen = () => void look();
  function later(what) {
    const now = performance.now();
    const rest = !waiting && now - doneAt > LONGEST ? 0 : REST;
    if (!waiting) waitingSince = now;
    clearTimeout(waiting);
    waitingFor.add(what);
    waiting = setTimeout(
      () => {
        waiting = 0;
        doneAt = performance.now();
        const all2 = [...waitingFor];
        waitingFor.clear();
        for (const one2 of all2.includes(lookThen) ? all2.filter((w) => w !== follows) : all2) one2();
      },
      Math.max(0, Math.min(rest, waitingSince + LONGEST - now))
    );
  }
  var FIELDS2 = "input, select, textarea, form, dialog";
  var concerns = (n2) => n2 instanceof Element && n2 !== host && (matches(n2, FIELDS2) || tag(n2).includes("-") || Boolean(one(n2, FIELDS2)) || Boolean(shadow(n2)));
  function matters(m) {
    if (m.type === "attributes")
      return m.target instanceof Element && (isBox(m.target) || m.attributeName === "open" || m.attributeName === "hidden");
    if (telling || m.target instanceof Element && closest(m.target, "form, dialog, [role=form], [role=dialog]"))
      return [...m.addedNodes, ...m.removedNodes].some((n2) => n2 !== host);
    return [...m.addedNodes, ...m.removedNodes].some(concerns);
  }
  var watched = /* @__PURE__ */ new WeakSet();
  var observer = new MutationObserver((list2) => {
    if (telling && list2.some((m) => [...m.addedNodes, ...m.removedNodes].some((n2) => n2 !== host)))
      changedAt = performance.now();
    if (list2.some(matters)) {
      watch();
      later(lookThen);
    } else if (view.readings.length && list2.some((m) => m.addedNodes.length + m.removedNodes.length)) later(follows);
  });
  function watch() {
    for (const r of roots()) {
      if (watched.has(r)) continue;
      watched.add(r);
      if (r !== document) listen(r, "submit", onSubmit, true);
      observer.observe(r === document ? page() : r, {
        childList: true,
        subtree: true,
        attributes: true,
        attributeFilter: ["type", "disabled", "readonly", "hidden", "open"]
      });
    }
  }
  watch();
  ext3.runtime.onMessage.addListener((m, sender, reply) => {
    if (leaving.signal.aborted || sender.id !== ext3.runtime.id) return void 0;
    if (m.act === "fill") {
      const reading = view.readings.find((r) => r.form === view.key?.form);
      const ids = view.key?.ids ?? [];
      const id = m.id ?? ids[turn++ % Math.max(1, ids.length)];
      if (!reading || !id)
        reply({
          error: view.alarm ? "This page imitates a site that you keep." : "There is no sign-in on this page that can be filled."
        });
      else {
        const to = view.framed || reading.elsewhere;
        if (to && m.id) agreed.add(to);
        void fill(id, reading, "login").then((ok) => reply(ok ? {} : { error: "It wasn’t filled." }));
      }
      return true;
    }
    if (m.act === "on-screen") {
      const at2 = onScreen();
      reply(at2 && { x: at2.x - scrollX, y: at2.y - scrollY, right: at2.x + innerWidth, bottom: at2.y + innerHeight });
      return true;
    }
    heard2(m);
    if (m.act === "agreed" && view.framed === m.to) agreed.add(m.to);
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
    return void 0;
  });
  function leave() {
    leaving.abort();
    observer.disconnect();
    view = { readings: [], menus: {} };
    host.remove();
  }
  onOrphaned(leave);
  var world = (
    /** @type {{leaveRedLocket?: () => void}} */
    globalThis
  );
  world.leaveRedLocket?.();
  world.leaveRedLocket = leave;
  listen(document, "visibilitychange", () => {
    if (!isHidden()) void look();
  });
  void look();
})();
