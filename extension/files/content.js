"use strict";
(() => {
  // src/host.js
  var host = document.createElement("div");
  var root = host.attachShadow({ mode: "closed" });

  // src/paper.css
  var paper_default = '/* What the extension draws in a page: the clasp, the offer, the slip, the alarm and notes. */\n:host {\n  all: initial !important;\n  position: fixed !important;\n  inset: 0 !important;\n  width: 100vw !important;\n  height: 100vh !important;\n  margin: 0 !important;\n  padding: 0 !important;\n  border: 0 !important;\n  background: none !important;\n  pointer-events: none !important;\n  overflow: visible !important;\n  display: block !important;\n  opacity: 1 !important;\n  visibility: visible !important;\n  z-index: 2147483647 !important;\n}\n.paper,\n.clasp {\n  --ink: #1c1a1b;\n  --frame: #1c1a1b;\n  --garnet-line: #8b1a2b;\n  --on-garnet: #fff;\n  --garnet: #8b1a2b;\n  --paper: #fff;\n  --brass: #a9812f;\n  --line: #d9dbdd;\n  --garnet-wash: #f6ebea;\n  --soft: #5f6062;\n  --pale: #b3b6b8;\n  --ochre-text: #7a4a00;\n  --ochre: #b5731b;\n  pointer-events: auto;\n  position: absolute;\n  font:\n    15px/1.45 system-ui,\n    sans-serif;\n  color: var(--ink);\n}\n.clasp {\n  width: 26px;\n  height: 26px;\n  border: 0;\n  background: none;\n  padding: 2px;\n  cursor: pointer;\n}\n.clasp path {\n  fill: none;\n  stroke: var(--garnet-line);\n  stroke-width: 2.4;\n  stroke-linecap: round;\n}\n.clasp svg {\n  background: var(--paper);\n  border-radius: 50%;\n  display: block;\n}\n.paper {\n  z-index: 1;\n  background: var(--paper);\n  border: 1px solid var(--frame);\n  border-radius: 4px;\n  box-sizing: border-box;\n}\nbutton {\n  font: inherit;\n  color: inherit;\n  background: none;\n  border: 0;\n  padding: 0;\n  cursor: pointer;\n  text-align: left;\n}\n:focus-visible {\n  outline: 2px solid var(--brass);\n  outline-offset: 1px;\n}\n.offer {\n  max-height: min(340px, 70vh);\n  overflow: auto;\n}\n.offer button.account {\n  display: flex;\n  justify-content: space-between;\n  gap: 1em;\n  width: 100%;\n  padding: 9px 13px;\n  border-left: 3px solid transparent;\n  border-bottom: 1px solid var(--line);\n}\n.offer button.account:hover,\n.offer button.account:focus {\n  background: var(--garnet-wash);\n  border-left-color: var(--garnet);\n  outline: none;\n}\n.offer .name {\n  overflow: hidden;\n  text-overflow: ellipsis;\n  white-space: nowrap;\n}\n.offer button.account:first-child .name {\n  font-weight: 650;\n}\n.offer .folder {\n  color: var(--soft);\n  font-size: 13px;\n  white-space: nowrap;\n}\n.foot {\n  display: flex;\n  gap: 18px;\n  padding: 8px 13px;\n  flex-wrap: wrap;\n}\n.act {\n  font-weight: 600;\n  font-size: 14px;\n  text-decoration: underline;\n  text-decoration-color: var(--pale);\n  text-underline-offset: 3px;\n}\n.say {\n  padding: 9px 13px;\n  margin: 0;\n}\n.say + .foot {\n  padding-top: 0;\n}\n.note {\n  right: 26px;\n  bottom: 26px;\n  width: min(372px, calc(100vw - 32px));\n  padding: 12px 16px;\n}\n.note p {\n  margin: 0 0 4px;\n}\n.note ul {\n  margin: 4px 0 0;\n  padding-left: 1.2em;\n}\n.note li {\n  margin: 2px 0;\n}\n.slip {\n  top: 26px;\n  right: 26px;\n  width: min(372px, calc(100vw - 32px));\n  padding: 16px 18px;\n}\n.slip::before {\n  content: "";\n  position: absolute;\n  left: 16px;\n  right: 16px;\n  top: -7px;\n  height: 6px;\n  background: repeating-linear-gradient(90deg, var(--brass) 0 14px, transparent 14px 20px);\n}\n.slip h2,\n.alarm h2 {\n  font:\n    400 20px Georgia,\n    serif;\n  margin: 0 0 10px;\n}\n.slip p {\n  margin: 0 0 8px;\n}\n.row {\n  display: grid;\n  grid-template-columns: 84px 1fr auto;\n  gap: 8px;\n  padding: 6px 0;\n  border-top: 1px solid var(--line);\n  align-items: baseline;\n}\n.row > span:first-child {\n  color: var(--soft);\n  font-size: 14px;\n}\n.row input {\n  font: inherit;\n  color: inherit;\n  border: 0;\n  border-bottom: 1px solid transparent;\n  padding: 0;\n  min-width: 0;\n  background: none;\n  width: 100%;\n}\n.row input:focus {\n  outline: none;\n  border-bottom-color: var(--brass);\n}\n.row > :nth-child(2) {\n  overflow-wrap: anywhere;\n  min-width: 0;\n}\n.acts {\n  display: flex;\n  gap: 18px;\n  align-items: center;\n  margin-top: 12px;\n  flex-wrap: wrap;\n}\n.main {\n  background: var(--garnet);\n  color: var(--on-garnet);\n  border-radius: 4px;\n  padding: 7px 18px;\n  font-weight: 600;\n}\n.trouble {\n  color: var(--ochre-text);\n  border-left: 3px solid var(--ochre);\n  padding-left: 8px;\n  margin: 8px 0 0;\n}\n.alarm {\n  top: 26px;\n  left: 50%;\n  transform: translateX(-50%);\n  width: min(560px, calc(100vw - 32px));\n  padding: 20px 24px;\n  border-left: 10px solid var(--ochre);\n}\n.alarm p {\n  margin: 0 0 10px;\n}\n.alarm dl {\n  display: grid;\n  grid-template-columns: auto 1fr;\n  gap: 6px 16px;\n  margin: 0 0 12px;\n  padding: 10px 0;\n  border-top: 1px solid var(--line);\n  border-bottom: 1px solid var(--line);\n}\n.alarm dt {\n  color: var(--soft);\n  font-size: 14px;\n}\n.alarm dd {\n  margin: 0;\n  font:\n    17px/1.4 ui-monospace,\n    monospace;\n  overflow-wrap: anywhere;\n}\n.alarm mark {\n  background: none;\n  color: inherit;\n  font-weight: 700;\n  border-bottom: 3px solid var(--ochre);\n}\n@media (prefers-color-scheme: dark) {\n  .paper,\n  .clasp {\n    --ink: #edebea;\n    --paper: #221e1f;\n    --line: #3b3637;\n    --frame: #6a686a;\n    --garnet-wash: #3a2327;\n    --garnet-line: #ee9aa4;\n    --soft: #a6a4a5;\n    --ochre-text: #f0bf76;\n    --ochre: #d08a2a;\n  }\n}\n';

  // src/draw.js
  var dressed = false;
  var drawnAt = 0;
  var READING = 250;
  function make(tag, cls, text) {
    const el = document.createElement(tag);
    if (cls) el.className = cls;
    if (text !== void 0) el.textContent = text;
    return el;
  }
  function ground() {
    const open2 = document.querySelectorAll("dialog:modal");
    return open2.length ? open2[open2.length - 1] : document.documentElement;
  }
  function raise(anew = false) {
    if (!dressed) {
      dressed = true;
      const sheet = new CSSStyleSheet();
      sheet.replaceSync(paper_default);
      root.adoptedStyleSheets = [sheet];
    }
    if (!host.isConnected || host.parentElement !== ground()) ground().append(host);
    if (typeof host.showPopover === "function") {
      host.popover = "manual";
      if (anew && host.matches(":popover-open")) host.hidePopover();
      if (!host.matches(":popover-open")) host.showPopover();
    }
  }
  var uncovered = /* @__PURE__ */ new WeakMap();
  var watcher = new IntersectionObserver(
    (list) => {
      for (const e of list) if ("isVisible" in e) uncovered.set(e.target, Boolean(e.isVisible));
    },
    /** @type {IntersectionObserverInit} */
    { threshold: [0.99], trackVisibility: true, delay: 100 }
  );
  function show(p) {
    root.append(p);
    drawnAt = performance.now();
    raise();
    watcher.observe(p);
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
  function meant(e) {
    if (!e.isTrusted || performance.now() - drawnAt < READING) return false;
    for (let el = (
      /** @type {Element | null} */
      host
    ); el; el = el.parentElement) {
      const s = (
        /** @type {Record<string, string>} */
        /** @type {unknown} */
        getComputedStyle(el)
      );
      if (Number(s.opacity) < 0.99 || el !== host && s.transform !== "none") return false;
      for (const [k, v] of Object.entries(PLAIN)) if (s[k] !== void 0 && s[k] !== "" && s[k] !== v) return false;
    }
    const paper = e.currentTarget instanceof Element ? e.currentTarget.closest(".paper") : null;
    if (paper && uncovered.get(paper) === false) return false;
    if (e instanceof MouseEvent && (e.clientX || e.clientY))
      return document.elementFromPoint(e.clientX, e.clientY) === host;
    return true;
  }
  function button(text, cls, act) {
    const b = make("button", cls, text);
    b.setAttribute("type", "button");
    b.addEventListener("click", (e) => {
      e.stopPropagation();
      if (meant(e)) act();
    });
    b.addEventListener("mousedown", (e) => e.preventDefault());
    return b;
  }
  function below(el, r, width) {
    el.style.left = `${Math.max(4, Math.min(r.left, innerWidth - width - 4))}px`;
    if (r.bottom + 120 < innerHeight || r.top < 140) el.style.top = `${r.bottom + 3}px`;
    else el.style.bottom = `${innerHeight - r.top + 3}px`;
    el.style.width = `${Math.min(width, innerWidth - 8)}px`;
  }
  function remove(cls) {
    for (const el of root.querySelectorAll(`.${cls}`)) el.remove();
  }
  var SVG = "http://www.w3.org/2000/svg";
  function clasp(field, press2) {
    const b = button("", "clasp", press2);
    b.setAttribute("aria-label", "Red Locket: fill in");
    b.tabIndex = -1;
    const svg = document.createElementNS(SVG, "svg");
    svg.setAttribute("viewBox", "0 0 24 24");
    for (const d of ["M10.5 6A6 6 0 0 0 10.5 18", "M13.5 6A6 6 0 0 1 13.5 18"]) {
      const p = document.createElementNS(SVG, "path");
      p.setAttribute("d", d);
      svg.append(p);
    }
    b.append(svg);
    const r = field.getBoundingClientRect();
    b.style.left = `${field instanceof HTMLSelectElement && r.right + 34 < innerWidth ? r.right + 5 : r.right - 31}px`;
    b.style.top = `${r.top + Math.min(r.height, 60) / 2 - 13}px`;
    root.append(b);
    raise();
  }
  function offer(field, what) {
    remove("offer");
    const p = make("div", "paper offer");
    p.setAttribute("role", "dialog");
    p.setAttribute("aria-label", "Red Locket");
    if (what.say) p.append(make("p", "say", what.say));
    for (const a of what.accounts) {
      const b = button("", "account", a.choose);
      b.append(make("span", "name", a.name || "no user name"), make("span", "folder", a.folder));
      p.append(b);
    }
    if (what.acts.length) {
      const foot = make("div", "foot");
      for (const a of what.acts) foot.append(button(a.text, "act", a.act));
      p.append(foot);
    }
    const r = field.getBoundingClientRect();
    below(p, r, Math.max(330, Math.min(r.width, 440)));
    place = r;
    show(p);
  }
  var place;
  function follow(p, r) {
    if (place && Math.abs(place.left - r.left) < 2 && Math.abs(place.bottom - r.bottom) < 2 && Math.abs(place.width - r.width) < 2)
      return;
    p.style.top = p.style.bottom = "";
    below(p, r, Math.max(330, Math.min(r.width, 440)));
    place = r;
    drawnAt = performance.now();
  }
  function along(step) {
    const list = (
      /** @type {HTMLElement[]} */
      [...root.querySelectorAll(".offer button")]
    );
    if (!list.length) return false;
    const i = list.indexOf(
      /** @type {HTMLElement} */
      root.activeElement
    );
    list[i < 0 && step < 0 ? list.length - 1 : (i + step + list.length) % list.length].focus();
    return true;
  }
  function note(text, list = []) {
    remove("note");
    const p = make("div", "paper note");
    p.setAttribute("role", "status");
    p.append(make("p", "", text));
    if (list.length) {
      const ul = make("ul");
      ul.append(...list.map((l) => make("li", "", l)));
      p.append(ul);
    }
    p.append(button("Close", "act", () => p.remove()));
    show(p);
    setTimeout(() => p.remove(), list.length ? 2e4 : 6e3);
  }
  function address(parts) {
    const dd = make("dd");
    for (const p of parts) dd.append(p.mark ? make("mark", "", p.text) : p.text);
    return dd;
  }
  function alarm(a, leave, vouch) {
    remove("alarm");
    const p = make("section", "paper alarm");
    p.setAttribute("role", "alertdialog");
    p.setAttribute("aria-label", "Red Locket: look-alike");
    p.append(
      make("h2", "", `This is not the ${a.title} you know`),
      make("p", "", "Its address is made to look like one that you keep. Nothing is offered or filled here.")
    );
    const dl = make("dl");
    dl.append(make("dt", "", "This page"), address(a.here), make("dt", "", "Yours"), address(a.there));
    const acts = make("div", "acts");
    acts.append(
      button("Go to mine instead", "main", leave),
      button("This is right …", "act", vouch),
      button("Close", "act", () => p.remove())
    );
    p.append(dl, make("p", "", a.why), acts);
    show(p);
  }

  // src/tell.js
  var ext = globalThis.browser ?? chrome;
  var tell = (m) => ext.runtime.sendMessage(m).catch(() => ({ trouble: "away" }));
  var words = (kind) => ({
    locked: "Red Locket is locked.",
    away: "Red Locket isn’t running on this computer.",
    over: "This browser is no longer connected to Red Locket.",
    none: "This browser isn’t connected to Red Locket."
  })[kind] ?? "";

  // src/snapshot.js
  var MAX_FIELDS = 500;
  var MAX_DEEP = 200;
  var MAX_OPTIONS = 300;
  var KINDS = /* @__PURE__ */ new Set(["", "text", "email", "tel", "password", "number", "url", "date", "month"]);
  var PRESSED = "button, input[type=submit], input[type=image], input[type=button], [role=button]";
  var numbers = /* @__PURE__ */ new WeakMap();
  var nextNumber = 1;
  function numberOf(el) {
    let n = numbers.get(el);
    if (n === void 0) {
      n = nextNumber++;
      numbers.set(el, n);
    }
    return n;
  }
  var tidy = (s) => (s ?? "").replace(/\s+/g, " ").trim().slice(0, 150);
  var textOf = (el) => el ? tidy(
    el instanceof HTMLInputElement ? el.value || el.alt : el.textContent || el.getAttribute("aria-label") || el.getAttribute("title")
  ) : "";
  function around(el) {
    const root2 = el.getRootNode();
    return el.parentElement ?? (root2 instanceof ShadowRoot ? root2.host : null);
  }
  var known;
  var met = /* @__PURE__ */ new Set();
  function meet(e) {
    const n = met.size;
    for (const r of e.composedPath()) if (r instanceof ShadowRoot && r !== root && !roots().includes(r)) met.add(r);
    if (met.size > n) known = void 0;
    return met.size > n;
  }
  function roots() {
    if (known) return known;
    const list = [document];
    const own = document.evaluate(
      "//*[contains(name(), '-')]",
      document,
      null,
      XPathResult.ORDERED_NODE_SNAPSHOT_TYPE,
      null
    );
    for (let i = 0; i < own.snapshotLength && list.length < 200; i++) {
      const r = (
        /** @type {Element} */
        own.snapshotItem(i).shadowRoot
      );
      if (r) list.push(r);
    }
    for (const r of met) if (r.isConnected) list.push(r);
    for (const r of list)
      if (r !== document) {
        for (const el of r.querySelectorAll("*"))
          if (el.shadowRoot && list.length < 200 && !list.includes(el.shadowRoot)) list.push(el.shadowRoot);
      }
    known = list;
    queueMicrotask(() => known = void 0);
    return list;
  }
  var isBox = (el) => el instanceof HTMLInputElement ? KINDS.has((el.getAttribute("type") ?? "").toLowerCase()) : el instanceof HTMLSelectElement || el instanceof HTMLTextAreaElement;
  function fields() {
    if (roots().length === 1)
      return [...document.querySelectorAll("input, select, textarea")].filter(isBox).slice(0, MAX_FIELDS);
    const out = [];
    const walk = (root2) => {
      for (const el of root2.querySelectorAll("input, select, textarea, *")) {
        if (out.length >= MAX_FIELDS) return;
        if (isBox(el)) out.push(el);
        else if (el.shadowRoot) walk(el.shadowRoot);
      }
    };
    walk(document);
    return out;
  }
  function seen(el) {
    const r = el.getBoundingClientRect();
    const page = document.documentElement;
    if (r.width < 8 || r.height < 8 || r.right + scrollX < 4 || r.bottom + scrollY < 4 || r.left + scrollX > Math.min(Math.max(page.scrollWidth, innerWidth) - 4, innerWidth + 400))
      return false;
    if (!el.checkVisibility({ opacityProperty: true, visibilityProperty: true })) return false;
    let opacity = 1, box = { left: r.left, top: r.top, right: r.right, bottom: r.bottom };
    for (let at = (
      /** @type {Element | null} */
      el
    ); at; at = around(at)) {
      const s = getComputedStyle(at);
      opacity *= Number(s.opacity);
      if (opacity < 0.2 || s.clipPath !== "none" && at !== page) return false;
      if (at !== el && at !== document.body && at !== page && s.overflow !== "visible" && s.display !== "contents") {
        const o = at.getBoundingClientRect();
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
  var taking;
  function begin() {
    taking = { labels: /* @__PURE__ */ new Map(), inside: /* @__PURE__ */ new Map() };
    for (const r of roots())
      for (const l of r.querySelectorAll("label")) {
        if (!l.control) continue;
        const all = taking.labels.get(l.control);
        if (all) all.push(l);
        else taking.labels.set(l.control, [l]);
      }
  }
  function labelOf(el) {
    const root2 = (
      /** @type {Document | ShadowRoot} */
      el.getRootNode()
    );
    const said = [...taking ? taking.labels.get(el) ?? [] : el.labels ?? []].map(
      (l) => l.contains(el) ? [...l.childNodes].filter((n) => !(n instanceof Element && n.contains(el))).map((n) => n.textContent).join(" ") || l.textContent : l.textContent
    );
    for (const id of (el.getAttribute("aria-labelledby") ?? "").split(/\s+/))
      if (id) said.push(root2.getElementById(id)?.textContent);
    said.push(el.getAttribute("aria-label"), el.title);
    if (root2 instanceof ShadowRoot)
      said.push(
        root2.host.getAttribute("label"),
        root2.host.getAttribute("aria-label"),
        root2.host.getAttribute("placeholder")
      );
    const label = said.filter((s) => s?.trim()).join(" ") || before(el);
    return tidy([label, el instanceof HTMLSelectElement ? "" : el.placeholder].join(" "));
  }
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
  function nearOf(el) {
    const root2 = (
      /** @type {Document | ShadowRoot} */
      el.getRootNode()
    );
    const said = [
      el.closest("fieldset")?.querySelector("legend")?.textContent,
      el.closest("[role=group]")?.getAttribute("aria-label")
    ];
    for (const id of (el.getAttribute("aria-describedby") ?? "").split(/\s+/))
      if (id) said.push(root2.getElementById(id)?.textContent);
    let at = el.parentElement, best = "";
    while (at && at !== document.body && deep(at, "input, select, textarea").length === 1 && (at.textContent ?? "").length < 260) {
      best = [...at.childNodes].filter((n) => !(n instanceof Element && (n.matches("label, button, select") || n.contains(el)))).map((n) => n.textContent).join(" ") + " " + best;
      at = at.parentElement;
    }
    const next = el.nextElementSibling;
    if (!best.trim() && next?.matches("p, small, span, div") && !next.querySelector("input, select, textarea") && (next.textContent ?? "").length < 200)
      best = next.textContent ?? "";
    return tidy([...said, best].filter(Boolean).join(". "));
  }
  function groupOf(f) {
    if (f.form) return f.form;
    let alone;
    for (let el = around(f); el && el !== document.body; el = around(el)) {
      if (el.matches("form, [role=form], dialog, [role=dialog]")) return el;
      if (!deep(el, PRESSED).length) continue;
      if (deep(el, "input, select, textarea").filter(isBox).length > 1) return el;
      alone ??= el;
    }
    return alone ?? document.body;
  }
  function deep(el, what) {
    const found = taking?.inside.get(what)?.get(el);
    if (found) return found;
    const out = [...el.querySelectorAll(what)];
    if (el.shadowRoot)
      for (const c of el.shadowRoot.children) out.push(...c.matches(what) ? [c] : [], ...deep(c, what));
    if (roots().length > 1) {
      for (const c of el.querySelectorAll("*"))
        if (c.shadowRoot)
          for (const d of c.shadowRoot.children) out.push(...d.matches(what) ? [d] : [], ...deep(d, what));
    }
    if (taking) taking.inside.set(what, (taking.inside.get(what) ?? /* @__PURE__ */ new Map()).set(el, out));
    return out;
  }
  function headBefore(el) {
    for (let at = (
      /** @type {Element | null} */
      el
    ), i = 0; at && at !== document.body && i < 3; at = around(at), i++) {
      for (let p = at.previousElementSibling; p; p = p.previousElementSibling) {
        if (p.matches("form")) break;
        const h = p.matches("h1, h2, h3, h4, [role=heading]") ? p : p.querySelector("h1, h2, h3, h4, [role=heading]");
        if (h) return textOf(h);
      }
    }
    return "";
  }
  function senders(form) {
    const all = (
      /** @type {HTMLElement[]} */
      deep(form, PRESSED)
    );
    const sends = all.filter(
      (b) => b instanceof HTMLButtonElement || b instanceof HTMLInputElement ? b.type === "submit" || b.type === "image" : false
    );
    const plain = all.filter((b) => !b.hasAttribute("aria-pressed") && textOf(b).length > 2);
    if (!sends.length && !plain.length)
      plain.push(.../** @type {HTMLElement[]} */
      deep(form, 'a[class*="btn" i], a[class*="button" i]'));
    return form instanceof HTMLFormElement && sends.length ? sends : sends.length ? sends : plain.slice(-1);
  }
  function actionOf(form) {
    if (!(form instanceof HTMLFormElement)) return "";
    for (const by of [form.getAttribute("action"), ...senders(form).map((b) => b.getAttribute("formaction"))]) {
      if (!by) continue;
      try {
        const to = new URL(by, document.baseURI);
        if (to.origin !== location.origin && /^https?:$/.test(to.protocol)) return to.origin;
      } catch {
      }
    }
    return "";
  }
  function describeForm(form) {
    const heads = deep(form, "h1, h2, h3, h4, legend, [role=heading]").slice(0, 4).map(textOf).join(" ");
    const sends = senders(form);
    const rest = deep(form, `${PRESSED}, a, label`).filter(
      (el) => !sends.includes(
        /** @type {HTMLElement} */
        el
      ) && (!el.matches("label") || el.querySelector("[type=checkbox]") || /** @type {HTMLLabelElement} */
      el.control?.matches("[type=checkbox]"))
    ).slice(0, 12);
    let action = "";
    try {
      action = new URL(form.getAttribute("action") ?? "", document.baseURI).pathname;
    } catch {
    }
    return {
      id: numberOf(form),
      head: tidy(heads || headBefore(form)),
      submit: tidy(sends.slice(0, 3).map(textOf).join(" ")),
      text: tidy(rest.map(textOf).join(" ")),
      name: tidy(
        [form.id, form.getAttribute("name"), form.getAttribute("class"), form.getAttribute("action") ? action : ""].join(
          " "
        )
      ),
      action: actionOf(form)
    };
  }
  var ANNOUNCED = [
    "[role=alert], [role=status], [aria-live]",
    ...["error", "alert", "invalid", "success", "notice"].map((word) => `[class*="${word}" i]`)
  ].join(", ");
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
  function snapshot() {
    begin();
    const forms = /* @__PURE__ */ new Map();
    let checked = 0;
    const list = fields().map((f) => {
      const form = groupOf(f);
      if (!forms.has(form)) forms.set(form, describeForm(form));
      const input = f instanceof HTMLInputElement ? f : void 0;
      return {
        id: numberOf(f),
        form: numberOf(form),
        type: input ? input.type : f instanceof HTMLSelectElement ? "select" : "textarea",
        name: tidy(`${f.name} ${f.id}`),
        autocomplete: tidy(f.getAttribute("autocomplete")),
        label: labelOf(f),
        near: nearOf(f),
        visible: checked++ < MAX_DEEP && seen(f),
        locked: f.disabled || !(f instanceof HTMLSelectElement) && f.readOnly,
        filled: f.value !== "",
        maxlength: f instanceof HTMLSelectElement ? 0 : Math.max(0, f.maxLength),
        minlength: f instanceof HTMLSelectElement ? 0 : Math.max(0, f.minLength),
        pattern: input?.pattern.slice(0, 200) ?? "",
        rules: tidy(f.getAttribute("passwordrules")),
        options: f instanceof HTMLSelectElement ? [...f.options].slice(0, MAX_OPTIONS).map((o) => ({ value: o.value.slice(0, 60), text: tidy(o.text).slice(0, 60) })) : void 0
      };
    });
    taking = void 0;
    const heads = [...document.querySelectorAll("h1, h2")].slice(0, 8).filter((h) => h.checkVisibility()).slice(0, 3).map(textOf).join(" ");
    const nav = (
      /** @type {PerformanceNavigationTiming | undefined} */
      performance.getEntriesByType("navigation")[0]
    );
    return {
      title: tidy(document.title),
      lang: document.documentElement.lang,
      path: tidy(location.pathname),
      heads: tidy(heads),
      alerts: alerts(),
      status: nav?.responseStatus ?? 0,
      forms: [...forms.values()],
      fields: list
    };
  }
  function fieldByNumber(n) {
    return fields().find((f) => numbers.get(f) === n);
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

  // src/lift.js
  var lifted;
  var guest;
  var marks = /* @__PURE__ */ new Map();
  var cramped = () => parent !== window && parent === top && (innerHeight < 190 || innerWidth < 260);
  function present(field, what) {
    if (!cramped()) {
      guest = void 0;
      return offer(field, what);
    }
    const mark2 = [...crypto.getRandomValues(new Uint8Array(12))].map((b) => b.toString(16).padStart(2, "0")).join("");
    const r = field.getBoundingClientRect();
    lifted = { mark: mark2, what };
    const shown = {
      say: what.say,
      accounts: what.accounts.map(({ name, folder }) => ({ name, folder })),
      acts: what.acts.map((a) => a.text)
    };
    void tell({ act: "lift", mark: mark2, rect: { left: r.left, top: r.top, width: r.width, height: r.height }, ...shown });
    parent.postMessage({ redLocket: mark2 }, "*");
  }
  function report(text, list = []) {
    if (cramped()) void tell({ act: "note-up", text, list });
    else note(text, list);
  }
  function away() {
    remove("offer");
    guest = void 0;
    if (lifted) void tell({ act: "lower", mark: lifted.mark });
    lifted = void 0;
  }
  function stepAlong(step) {
    if (lifted) void tell({ act: "lift-key", mark: lifted.mark, step });
    return Boolean(lifted) || along(step);
  }
  function welcome() {
    const source = guest && marks.get(guest.mark);
    const g = guest;
    if (!g || !source) return;
    const frame = (
      /** @type {HTMLIFrameElement[]} */
      deep(document.documentElement, "iframe").find(
        (f) => f.contentWindow === source
      )
    );
    if (!frame || !seen(frame) || frame.offsetWidth < 60 || frame.offsetHeight < 18) return;
    g.anchor = {
      getBoundingClientRect: () => {
        const f = frame.getBoundingClientRect();
        return new DOMRect(
          f.left + frame.clientLeft + g.rect.left,
          f.top + frame.clientTop + g.rect.top,
          g.rect.width,
          g.rect.height
        );
      }
    };
    const chosen = (kind, index) => () => {
      away();
      void tell({ act: "chosen", frame: g.frame, mark: g.mark, kind, index });
    };
    offer(g.anchor, {
      say: g.say,
      accounts: g.accounts.map((a, i) => ({ ...a, choose: chosen("account", i) })),
      acts: g.acts.map((text, i) => ({ text, act: chosen("act", i) }))
    });
  }
  function stay() {
    const p = root.querySelector(".offer");
    if (guest?.anchor && p instanceof HTMLElement) follow(p, guest.anchor.getBoundingClientRect());
  }
  function heard(m) {
    switch (m.act) {
      case "lifted":
        guest = m;
        welcome();
        break;
      case "lowered":
        if (guest?.mark === m.mark) away();
        break;
      case "lift-key":
        if (guest?.mark === m.mark) along(m.step);
        break;
      case "note":
        note(m.text, m.list);
        break;
      case "chosen": {
        if (!lifted || lifted.mark !== m.mark) break;
        const { what } = lifted;
        lifted = void 0;
        if (m.kind === "account") what.accounts[m.index]?.choose();
        else what.acts[m.index]?.act();
      }
    }
  }
  if (window === top)
    addEventListener("message", (e) => {
      const mark2 = e.data?.redLocket;
      if (typeof mark2 !== "string" || mark2.length !== 24 || !e.source) return;
      if (marks.size > 50) marks.clear();
      marks.set(mark2, e.source);
      if (guest?.mark === mark2 && !guest.anchor) welcome();
    });

  // src/slip.js
  var slipShown = "";
  function forgetShownSlip() {
    slipShown = "";
  }
  var SLIP_HEADS = (
    /** @type {Record<string, string>} */
    {
      keep: "Keep this sign-in?",
      update: "Keep the new password?",
      confirmed: "The new password is kept",
      waiting: "The new password waits",
      joined: "Your new sign-in is kept",
      refused: "The site didn’t take it"
    }
  );
  var SLIP_SAYS = (
    /** @type {Record<string, string>} */
    {
      confirmed: "The site accepted it. The old one stays under “History”.",
      joined: "The site accepted it. You can change its name or folder.",
      waiting: "Sign in with it once, and it becomes this login’s own. Until then both are at hand.",
      refused: "The password before is still the right one. The new one stays at hand until you step back."
    }
  );
  function showSlip(s) {
    const mark2 = `${s.id} ${s.kind}`;
    if (slipShown === mark2) return;
    slipShown = mark2;
    remove("slip");
    const p = make("section", "paper slip");
    p.setAttribute("aria-label", "Red Locket");
    p.append(make("h2", "", SLIP_HEADS[s.kind] ?? SLIP_HEADS.keep));
    if (SLIP_SAYS[s.kind]) p.append(make("p", "", SLIP_SAYS[s.kind]));
    const row = (label, value, act) => {
      const r = make("div", "row");
      r.append(make("span", "", label), value, act ?? make("span"));
      p.append(r);
    };
    const input = (value, label) => {
      const i = (
        /** @type {HTMLInputElement} */
        make("input")
      );
      i.value = value;
      i.setAttribute("aria-label", label);
      for (const e of ["keydown", "keypress", "keyup", "input"]) i.addEventListener(e, (ev) => ev.stopPropagation());
      return i;
    };
    const fresh = s.kind === "keep" || s.kind === "joined";
    const title = input(s.title, "Name"), folder = input(s.folder, "Folder"), works = input(s.address, "Address"), user = input(s.username, "User name");
    folder.placeholder = "none";
    row("Name", fresh ? title : make("span", "", s.title));
    row("User name", fresh && !s.username ? user : make("span", "", s.username || "none"));
    const dots = make("span", "", "● ● ● ● ● ●");
    row(
      fresh ? "Password" : "New one",
      dots,
      button("Show", "act", async () => {
        const v = await tell({ act: "slip-password", id: s.id });
        dots.textContent = v.password ?? v.error ?? words(v.trouble);
      })
    );
    if (fresh) row("Folder", folder);
    row("Works at", fresh ? works : make("span", "", s.address));
    const answer = async (m) => {
      const v = await tell(m);
      if (!v.error && !v.trouble) return p.remove();
      for (const old of p.querySelectorAll(".trouble")) old.remove();
      p.append(make("div", "trouble", v.error ?? words(v.trouble)));
    };
    const acts = make("div", "acts");
    const keep = (text) => {
      const changed = () => ({ title: title.value, folder: folder.value, address: works.value, username: user.value });
      return button(text, "main", () => void answer({ act: "keep", slip: { ...s, ...changed() } }));
    };
    const later2 = () => button(
      ["waiting", "confirmed", "joined"].includes(s.kind) ? "Close" : "Not now",
      "act",
      () => s.kind === "waiting" ? p.remove() : void answer({ act: "not-now", id: s.id })
    );
    switch (s.kind) {
      case "confirmed":
        acts.append(
          later2(),
          button("Keep the old one", "act", () => void answer({ act: "step-back", slip: s }))
        );
        break;
      case "joined":
        acts.append(
          keep("Keep it"),
          later2(),
          button("Archive it", "act", () => void answer({ act: "put-away", slip: s }))
        );
        break;
      case "refused":
        acts.append(
          button("Keep the old one", "main", () => void answer({ act: "step-back", slip: s })),
          button("It did take it", "act", () => void answer({ act: "took", slip: s })),
          later2()
        );
        break;
      case "waiting":
        acts.append(
          later2(),
          button("It worked", "act", () => void answer({ act: "took", slip: s })),
          button("Keep the old one", "act", () => void answer({ act: "step-back", slip: s }))
        );
        break;
      default:
        acts.append(
          keep(fresh ? "Keep" : "Update it"),
          later2(),
          button("Never here", "act", () => void answer({ act: "never", id: s.id }))
        );
    }
    p.append(acts);
    show(p);
    if (s.kind === "confirmed") setTimeout(() => p.remove(), 15e3);
  }

  // src/content.js
  var ext2 = globalThis.browser ?? chrome;
  var view = { readings: [], menus: {} };
  var unseen = false;
  var filling = false;
  var alarmed = "";
  var turn = 0;
  var gone = false;
  function placeOf(f) {
    const n = String(numbers.get(f));
    for (const reading of view.readings) if (n in reading.roles) return { reading, menu: view.menus[n] };
    return void 0;
  }
  var looking = false;
  var again = false;
  var telling = false;
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
      view.trouble = v.trouble ?? (v.error ? "away" : void 0);
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
  function lockedMenus() {
    for (const f of fields()) {
      if (f.type !== "password" || !seen(f)) continue;
      const n = String(numberOf(f));
      view.readings.push({ form: 0, kind: "locked", roles: { [n]: "locked" }, typed: [] });
      view.menus[n] = { say: words("locked"), lines: [], acts: [{ text: "Open it", do: "open-vault" }] };
    }
  }
  function sound(a) {
    if (alarmed === a.kept) return;
    alarmed = a.kept;
    alarm(
      a,
      () => location.replace(a.url),
      () => void tell({ act: "vouch", id: a.id })
    );
  }
  function draw() {
    remove("clasp");
    const marked = /* @__PURE__ */ new Set();
    const now = focused();
    if (view.readings.length)
      for (const f of fields()) {
        const menu = placeOf(f)?.menu;
        if (!menu || menu.noClasp || menu.group && marked.has(menu.group) && f !== now) continue;
        if (menu.group) marked.add(menu.group);
        clasp(f, () => open(f, true));
      }
    if (now && !filling) reopen(now);
  }
  var opened = { key: "" };
  var dismissed;
  var keyOf = (f) => JSON.stringify([placeOf(f), [...agreed]]);
  function reopen(f) {
    const p = root.querySelector(".offer");
    const same = opened.f === f && opened.key === keyOf(f);
    if (same && p instanceof HTMLElement) follow(p, f.getBoundingClientRect());
    else if (!same || !lifted) open(f);
  }
  function close(at) {
    away();
    dismissed = at;
  }
  function focused() {
    let el = document.activeElement;
    while (el?.shadowRoot?.activeElement) el = el.shadowRoot.activeElement;
    return el && isBox(el) ? el : void 0;
  }
  var agreed = /* @__PURE__ */ new Set();
  function open(f, asked = false) {
    const at = placeOf(f);
    const menu = at?.menu;
    if (!at || !menu || !asked && (f === dismissed || f.value && f.tagName !== "SELECT")) {
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
      acts: menu.acts.map((l) => ({ text: l.text, act: () => press(f, at.reading, l) }))
    });
  }
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
        return void 0;
      default:
        return void tell({ act: l.do, id: l.id });
    }
  }
  function put(v, reading) {
    if (v.error || v.trouble) {
      const at = focused();
      if (at) present(at, { say: v.error ?? words(v.trouble), accounts: [], acts: [] });
      else report(v.error ?? words(v.trouble));
      return false;
    }
    filling = true;
    const missed = (v.missed ?? []).map((m) => `${m.label || "A field without a name"}: ${m.why}`);
    for (const one of v.fills ?? []) {
      const f = fieldByNumber(one.field);
      if (!f || !seen(f)) missed.push("A field that is no longer there, or can’t be seen");
      else if (type(f, one.value)) mark(f);
      else missed.push(`${labelOf(f) || "A field without a name"}: the page changed what was filled`);
    }
    away();
    filling = false;
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
    else if (form instanceof HTMLFormElement) form.requestSubmit();
  }
  function mark(f) {
    f.animate([{ boxShadow: "inset 0 0 0 2px #a9812f" }, { boxShadow: "inset 0 0 0 2px transparent" }], {
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
        snapshot: snapshot()
      }),
      reading
    );
  }
  async function fillNew(reading, id) {
    const user = fields().find((f) => reading.roles[String(numbers.get(f))] === "username");
    put(
      await tell({
        act: "fill-new",
        form: reading.form,
        id,
        username: user?.value ?? "",
        elsewhere: elsewhere(reading),
        snapshot: snapshot()
      }),
      reading
    );
  }
  function typedIn(reading, form) {
    const values = {};
    let mine = false;
    for (const f of fields()) {
      const n = String(numbers.get(f));
      if (!f.value || !reading.typed.includes(Number(n))) continue;
      values[n] = f.value;
      mine ||= form === null || groupOf(f) === form;
    }
    return mine ? values : void 0;
  }
  function sent(form) {
    for (const reading of view.readings) {
      const values = typedIn(reading, form);
      if (!values) continue;
      telling = true;
      void tell({ act: "typed", form: reading.form, values, snapshot: snapshot() });
      for (const ms of [400, 1200, 3e3]) setTimeout(() => void look(), ms);
    }
  }
  function pressed(b) {
    const inForm = b.closest("form");
    if (inForm && (b instanceof HTMLButtonElement || b instanceof HTMLInputElement) && b.type === "submit") return;
    if (b.hasAttribute("aria-pressed") || b.hasAttribute("aria-expanded") || textOf(b).length < 2) return;
    for (let el = (
      /** @type {Element | null} */
      b
    ); el && el !== document.body; el = around(el)) {
      const n = deep(el, "input, select, textarea").filter(isBox).length;
      if (n === 1 && deep(el, "input[type=password], input[type=text]").length === 1 && view.readings.some((r) => Object.keys(r.roles).length > 1))
        return;
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
      if (f !== dismissed) dismissed = void 0;
      if (f instanceof Element && isBox(f)) {
        if (!placeOf(f) && unseen) later(() => void look());
        open(f);
        if (view.alarm && f.type === "password") {
          alarmed = "";
          sound(view.alarm);
        }
      } else away();
    },
    true
  );
  document.addEventListener(
    "input",
    (e) => {
      if (!filling && e.target !== host) close(focused());
    },
    true
  );
  document.addEventListener(
    "pointerdown",
    (e) => {
      const f = e.composedPath()[0];
      if (e.target === host) return;
      if (!(f instanceof Element && isBox(f))) close(focused());
      else if (f === dismissed && f === focused()) {
        dismissed = void 0;
        open(f);
      }
    },
    true
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
    true
  );
  document.addEventListener(
    "submit",
    (e) => {
      const f = e.composedPath()[0];
      sent(f instanceof Element ? f : null);
    },
    true
  );
  document.addEventListener(
    "click",
    (e) => {
      const at = e.composedPath()[0];
      if (!(at instanceof Element) || e.target === host) return;
      if (e.isTrusted && at.closest("[data-connect-browser]")) void tell({ act: "connect" });
      const b = at.closest(`${PRESSED}, a[href="#"], a:not([href])`);
      if (b) pressed(b);
      if (unseen) setTimeout(() => void look(), 350);
    },
    true
  );
  for (const what of ["beforetoggle", "fullscreenchange"])
    document.addEventListener(
      what,
      (e) => {
        if (e.target !== host && root.querySelector(".paper") && !root.activeElement) setTimeout(() => raise(true));
      },
      true
    );
  for (const what of ["scroll", "resize"])
    addEventListener(
      what,
      () => later(() => {
        draw();
        stay();
      }),
      { capture: true, passive: true }
    );
  var waiting = 0;
  function later(what) {
    clearTimeout(waiting);
    waiting = setTimeout(what, 60);
  }
  var watched = /* @__PURE__ */ new WeakSet();
  var observer = new MutationObserver((list) => {
    if (!list.some(
      (m) => m.type === "attributes" ? m.target instanceof Element && (isBox(m.target) || m.attributeName === "open" || m.attributeName === "hidden") : [...m.addedNodes, ...m.removedNodes].some((n) => n !== host)
    ))
      return;
    watch();
    later(() => void look());
  });
  function watch() {
    for (const r of roots()) {
      if (watched.has(r)) continue;
      watched.add(r);
      observer.observe(r === document ? document.documentElement : r, {
        childList: true,
        subtree: true,
        attributes: true,
        attributeFilter: ["type", "disabled", "readonly", "hidden", "open"]
      });
    }
  }
  watch();
  ext2.runtime.onMessage.addListener((m, sender, reply) => {
    if (sender.id !== ext2.runtime.id) return void 0;
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
    heard(m);
    if (m.act === "agreed" && view.framed === m.to) agreed.add(m.to);
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
    return void 0;
  });
  document.addEventListener("visibilitychange", () => {
    if (!document.hidden) void look();
  });
  void look();
})();
