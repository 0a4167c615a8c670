"use strict";
(() => {
  // src/make.js
  function make(tag, cls, text) {
    const el = document.createElement(tag);
    if (cls) el.className = cls;
    if (text !== void 0) el.textContent = text;
    return el;
  }

  // src/picture.js
  var GRAIN = 8;
  var STRENGTH = 2;
  var OFF = 0.8;
  var SOME = 0.01;
  var AWAKE = 70;
  var ASLEEP = 450;
  function agree(a, b) {
    if (a.width !== b.width || a.height !== b.height || a.columns !== b.columns || a.rows !== b.rows) return false;
    const columns = Math.floor(a.width / GRAIN), rows = Math.floor(a.height / GRAIN);
    if (columns < 4 || rows < 2) return false;
    let off = 0, told = 0;
    for (let y = 0; y < rows; y++)
      for (let x = 0; x < columns; x++) {
        const at2 = y * a.columns + x;
        const expected = (b.grains[at2] - a.grains[at2]) * STRENGTH;
        if (expected) told++;
        let sum = 0;
        for (let j = 0; j < GRAIN; j++) {
          let i = ((y * GRAIN + j) * a.width + x * GRAIN) * 4;
          for (let k = 0; k < GRAIN; k++, i += 4)
            sum += b.data[i] + b.data[i + 1] + b.data[i + 2] - a.data[i] - a.data[i + 1] - a.data[i + 2];
        }
        if (Math.abs(sum / (3 * GRAIN * GRAIN) - expected) > OFF) off++;
      }
    return told >= columns * rows / 4 && off <= Math.max(1, columns * rows * SOME);
  }
  var pause = (ms) => new Promise((done) => setTimeout(done, ms));
  function watchPictures(take2, tell) {
    const canvas = document.createElement("canvas");
    canvas.setAttribute("aria-hidden", "true");
    canvas.style.cssText = "position:fixed;left:0;top:0;z-index:2147483647;pointer-events:none;image-rendering:pixelated;margin:0;border:0";
    let last;
    let missed = 0, on = false, near = false, turn = 0;
    let looking;
    function draw() {
      const columns = Math.ceil(innerWidth / GRAIN), rows = Math.ceil(innerHeight / GRAIN);
      const grains = crypto.getRandomValues(new Uint8Array(columns * rows)).map((g2) => g2 & 1);
      canvas.width = columns;
      canvas.height = rows;
      canvas.style.width = `${columns * GRAIN}px`;
      canvas.style.height = `${rows * GRAIN}px`;
      if (canvas.parentNode !== document.documentElement) document.documentElement.append(canvas);
      const g = (
        /** @type {CanvasRenderingContext2D} */
        canvas.getContext("2d")
      );
      const image = g.createImageData(columns, rows);
      grains.forEach((light, i) => image.data.set(light ? [255, 255, 255, STRENGTH] : [0, 0, 0, STRENGTH], i * 4));
      g.putImageData(image, 0, 0);
      return { grains, columns, rows };
    }
    async function picture() {
      const drawn = draw();
      await new Promise((done) => requestAnimationFrame(done));
      const url = await take2();
      if (!url) return void 0;
      const bytes = Uint8Array.from(atob(url.slice(url.indexOf(",") + 1)), (c) => c.charCodeAt(0));
      const map = await createImageBitmap(new Blob([bytes], { type: "image/png" }));
      const flat = new OffscreenCanvas(map.width, map.height);
      const g = (
        /** @type {OffscreenCanvasRenderingContext2D} */
        flat.getContext("2d", { willReadFrequently: true })
      );
      g.drawImage(map, 0, 0);
      const { width, height, data } = g.getImageData(0, 0, map.width, map.height);
      return { ...drawn, width, height, data };
    }
    function look() {
      looking ??= (async () => {
        try {
          const now = await picture().catch(() => void 0);
          const before2 = last;
          last = now;
          const good = Boolean(before2 && now && agree(before2, now));
          missed = good ? 0 : missed + 1;
          if (good || missed > 1 || !now) tell(good);
          return good;
        } finally {
          looking = void 0;
        }
      })();
      return looking;
    }
    async function loop(mine) {
      await look();
      while (on && mine === turn) {
        await look();
        const awake = () => near || missed > 0;
        for (let left = (awake() ? AWAKE : ASLEEP) * (0.5 + Math.random()); left > 0; left -= 30) {
          await pause(Math.min(left, 30));
          if (awake()) left = Math.min(left, AWAKE);
        }
      }
    }
    for (const kind of ["pointermove", "focus"])
      addEventListener(kind, () => near = true, { capture: true, passive: true });
    document.addEventListener("pointerleave", () => near = document.hasFocus());
    addEventListener("blur", () => near = false);
    return {
      start() {
        last = void 0;
        missed = 2;
        on = true;
        void loop(++turn);
      },
      stop() {
        on = false;
        canvas.remove();
      },
      /** Whether the frame is seen now. @returns {Promise<boolean>} */
      async now() {
        await looking;
        for (let i = 0; i < 3; i++) if (await look()) return true;
        return false;
      }
    };
  }

  // src/meant.js
  var READING = 250;
  var MOVED = 2;
  var says = "isVisible" in IntersectionObserverEntry.prototype;
  var shownAt = Infinity;
  var movedAt = -Infinity;
  var focusedAt = -Infinity;
  var before;
  var came = false;
  var place;
  var visible = false;
  var since = Infinity;
  function note(now, time) {
    if (now && !visible) since = time;
    visible = now;
  }
  function heard(e) {
    const now = Boolean(
      /** @type {any} */
      e.isVisible
    ) && e.intersectionRatio >= 0.99;
    if (visible && !now) setTimeout(ask, AGAIN);
    note(now, e.time);
  }
  var observer = (hear2) => new IntersectionObserver(
    hear2,
    /** @type {IntersectionObserverInit} */
    { threshold: [0, 0.5, 0.99, 1], trackVisibility: true, delay: 100 }
  );
  var watcher = says ? observer((list) => list.forEach(heard)) : void 0;
  var take = async () => void 0;
  var onTake = (how) => take = how;
  var pictures = says ? void 0 : watchPictures(
    () => take(),
    (seen) => note(seen, performance.now())
  );
  function shown(pointer) {
    shownAt = performance.now();
    before = pointer;
    place = void 0;
    came = false;
    visible = false;
    since = Infinity;
    if (pictures) pictures.start();
    else ask();
  }
  function hidden() {
    shownAt = Infinity;
    visible = false;
    pictures?.stop();
  }
  var AGAIN = 120;
  var asking = 0;
  function ask() {
    if (!watcher) return;
    clearTimeout(asking);
    watcher.disconnect();
    watcher.observe(document.documentElement);
    asking = setTimeout(() => !visible && document.body.firstElementChild && ask(), AGAIN);
  }
  function moved(pointer) {
    movedAt = performance.now();
    before = pointer;
    came = false;
  }
  var ANEW = 240;
  function seenNow() {
    if (pictures) return pictures.now();
    return new Promise((done) => {
      const once = observer((list) => {
        const e = list[list.length - 1];
        if (
          /** @type {any} */
          e.isVisible && e.intersectionRatio >= 0.99
        ) end(true);
      });
      const look = () => {
        once.disconnect();
        once.observe(document.documentElement);
      };
      const again = setInterval(look, ANEW / 3);
      const late = setTimeout(() => end(false), ANEW);
      function end(yes) {
        clearInterval(again);
        clearTimeout(late);
        once.disconnect();
        done(yes);
      }
      look();
    });
  }
  for (const kind of ["pointermove", "pointerdown"])
    addEventListener(
      kind,
      (e) => {
        if (!e.isTrusted) return;
        const at2 = { x: e.screenX - e.clientX, y: e.screenY - e.clientY };
        if (place && (Math.abs(place.x - at2.x) > MOVED || Math.abs(place.y - at2.y) > MOVED)) movedAt = e.timeStamp;
        place = at2;
        if (e.pointerType !== "mouse")
          came = true;
        else if (!before || Math.abs(e.screenX - before.x) > MOVED || Math.abs(e.screenY - before.y) > MOVED) came = true;
      },
      true
    );
  addEventListener("focus", (e) => focusedAt = Math.max(focusedAt, e.timeStamp));
  function ripe() {
    const now = performance.now();
    const still = now - shownAt >= READING && now - movedAt >= READING && now - focusedAt >= READING;
    return still && visible && now - since >= READING;
  }
  async function meant(e) {
    const t = e.timeStamp;
    if (!e.isTrusted || t - shownAt < READING || t - movedAt < READING) return false;
    const byPointer = e.detail > 0;
    if (byPointer ? !came : t - focusedAt < READING) return false;
    return visible && t - since >= READING && await seenNow();
  }

  // src/parts.js
  var port;
  var asked = /* @__PURE__ */ new Map();
  var asks = 0;
  var say = (m) => port?.postMessage(m);
  function open(p, hear2) {
    if (port) return;
    port = p;
    port.onmessage = ({ data }) => {
      if (data.answer) {
        asked.get(data.answer)?.(data.with);
        asked.delete(data.answer);
      } else hear2(data);
    };
    say({ ready: true });
  }
  var ask2 = (m) => new Promise((done) => {
    asked.set(++asks, done);
    say({ ask: asks, message: m });
  });
  var where = () => new Promise((done) => {
    asked.set(++asks, done);
    say({ where: asks });
  });
  var close = () => say({ close: true });
  function button(text, cls, act) {
    const b = make("button", cls, text);
    b.setAttribute("type", "button");
    b.addEventListener("click", async (e) => {
      if (await meant(e)) act();
    });
    b.addEventListener("mousedown", (e) => e.preventDefault());
    return b;
  }

  // src/words.js
  var words = (kind) => ({
    locked: "Red Locket is locked.",
    away: "Red Locket isn’t running on this computer.",
    over: "This browser is no longer connected to Red Locket.",
    "app too old": "Red Locket on this computer is older than what was added to this browser: update it.",
    "extension too old": "What was added to this browser is older than Red Locket: take the new one under Devices.",
    none: "This browser isn’t connected to Red Locket."
  })[kind] ?? "";

  // src/slip.js
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
  function slip(s) {
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
        const v = await ask2({ act: "slip-password", id: s.id });
        dots.textContent = v.password ?? v.error ?? words(v.trouble);
      })
    );
    if (fresh) row("Folder", folder);
    row("Works at", fresh ? works : make("span", "", s.address));
    const kept = () => ({
      act: "keep",
      slip: { ...s, title: title.value, folder: folder.value, address: works.value, username: user.value }
    });
    const answer = async (m) => {
      const v = await ask2(m);
      if (!v.error && !v.trouble) return close();
      for (const old of p.querySelectorAll(".trouble")) old.remove();
      p.append(make("div", "trouble", v.error ?? words(v.trouble)));
    };
    if (s.bad && (s.kind === "keep" || s.kind === "update")) {
      const bad = make("p", "known", `${s.bad} `);
      bad.append(button("Keep it, and make a new one", "act", () => void answer({ ...kept(), change: true })));
      p.append(bad);
    }
    const acts = make("div", "acts");
    const keep = (text) => button(text, "main", () => void answer(kept()));
    const later = () => button(
      ["waiting", "confirmed", "joined"].includes(s.kind) ? "Close" : "Not now",
      "act",
      () => s.kind === "waiting" ? close() : void answer({ act: "not-now", id: s.id })
    );
    switch (s.kind) {
      case "confirmed":
        acts.append(
          later(),
          button("Keep the old one", "act", () => void answer({ act: "step-back", slip: s }))
        );
        break;
      case "joined":
        acts.append(
          keep("Keep it"),
          later(),
          button("Archive it", "act", () => void answer({ act: "put-away", slip: s }))
        );
        break;
      case "refused":
        acts.append(
          button("Keep the old one", "main", () => void answer({ act: "step-back", slip: s })),
          button("It did take it", "act", () => void answer({ act: "took", slip: s })),
          later()
        );
        break;
      case "waiting":
        acts.append(
          later(),
          button("It worked", "act", () => void answer({ act: "took", slip: s })),
          button("Keep the old one", "act", () => void answer({ act: "step-back", slip: s }))
        );
        break;
      default:
        acts.append(
          keep(fresh ? "Keep" : "Update it"),
          later(),
          button("Never here", "act", () => void answer({ act: "never", id: s.id }))
        );
    }
    p.append(acts);
    return p;
  }

  // src/paper.js
  var ext = globalThis.browser ?? chrome;
  var press = (list, index) => say({ pressed: { list, index } });
  function offer(o) {
    const p = make("div", "paper offer");
    p.setAttribute("role", "dialog");
    p.setAttribute("aria-label", "Red Locket");
    if (o.say) p.append(make("p", "say", o.say));
    o.lines.forEach((l, i) => {
      const b = button("", "account", () => press("lines", i));
      b.append(make("span", "name", l.text || "no user name"), make("span", "folder", l.note ?? ""));
      if (l.fills) b.append(make("span", "fills", l.fills));
      p.append(b);
    });
    if (o.acts.length) {
      const foot = make("div", "foot");
      foot.append(
        ...o.acts.map((a, i) => {
          const b = button(a.text, "act", () => press("acts", i));
          if (a.fills) b.title = a.fills;
          return b;
        })
      );
      p.append(foot);
    }
    return p;
  }
  function note2(n) {
    const p = make("div", "paper note");
    p.setAttribute("role", "status");
    p.append(make("p", "", n.say));
    if (n.list.length) {
      const ul = make("ul");
      ul.append(...n.list.map((l) => make("li", "", l)));
      p.append(ul);
    }
    p.append(button("Close", "act", close));
    return p;
  }
  function measure() {
    const p = document.body.firstElementChild;
    if (p) say({ height: Math.ceil(p.getBoundingClientRect().bottom) });
  }
  new ResizeObserver(measure).observe(document.body);
  var at;
  function along(step) {
    const list = [...document.querySelectorAll("button")];
    const i = list.indexOf(
      /** @type {HTMLButtonElement} */
      document.activeElement
    );
    window.focus();
    at = list[i < 0 && step < 0 ? list.length - 1 : (i + step + list.length) % list.length];
    at?.focus();
  }
  addEventListener(
    "focus",
    () => setTimeout(() => {
      if (at?.isConnected && document.activeElement === document.body) at.focus();
    })
  );
  function hear(m) {
    if (m.show) {
      const what = m.show;
      document.body.replaceChildren(
        what.kind === "offer" ? offer(what) : what.kind === "slip" ? slip(what.slip) : note2(what)
      );
      shown(m.pointer);
      measure();
      requestAnimationFrame(measure);
      void document.fonts.ready.then(measure);
      setTimeout(measure, 120);
    }
    if (m.moved) moved(m.pointer);
    if (m.step) along(m.step);
    if (m.away) {
      document.body.replaceChildren();
      hidden();
    }
  }
  addEventListener("keydown", (e) => {
    if (e.key === "Escape") close();
    if (e.key !== "ArrowDown" && e.key !== "ArrowUp") return;
    if (e.target instanceof HTMLInputElement) return;
    along(e.key === "ArrowDown" ? 1 : -1);
    e.preventDefault();
  });
  addEventListener("message", (e) => {
    if (e.source === parent && e.data === "red-locket" && e.ports[0]) open(e.ports[0], hear);
  });
  onTake(async () => {
    const rect = await where();
    const url = rect && await ext.runtime.sendMessage({ act: "picture", rect });
    return typeof url === "string" ? url : void 0;
  });
  Object.assign(globalThis, { ripe });
})();
