// What the town's livelier sites do: send without reloading, keep what is typed in a state of
// their own, draw fields late, in shadow roots or again.
"use strict";

/** @param {string} to @param {Record<string, string>} values */
async function send(to, values) {
  const resp = await fetch(to, {
    method: "POST",
    headers: { Accept: "application/json" },
    body: new URLSearchParams(values),
  });
  return resp.json();
}

/** @param {Element} place @param {any} answer @param {HTMLElement} panel */
function answered(place, answer, panel) {
  if (answer.error) {
    place.textContent = answer.error;
    return;
  }
  if (answer.to === "/code") return location.assign("/code");
  panel.replaceChildren(
    Object.assign(document.createElement("h2"), { textContent: panel.dataset.hello ?? "" }),
    Object.assign(document.createElement("a"), { href: "/welcome", textContent: "→" }),
  );
}

// A page that keeps what is typed in its own state, by input events alone, and sends that.
for (const panel of /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll("[data-moving]"))) {
  /** @type {Record<string, string>} */
  const state = {};
  panel.addEventListener("input", (e) => {
    const f = /** @type {HTMLInputElement} */ (e.target);
    state[f.dataset.key ?? f.name] = f.value;
  });
  const go = async () =>
    answered(
      /** @type {Element} */ (panel.querySelector(".error")),
      await send(panel.dataset.moving ?? "", state),
      panel,
    );
  panel.addEventListener("submit", (e) => {
    e.preventDefault();
    void go();
  });
  panel.querySelector("[data-go]")?.addEventListener("click", () => void go());
}

// Tabs between sign-in and sign-up, drawn by the script.
for (const tab of document.querySelectorAll("[data-tab]"))
  tab.addEventListener("click", () => {
    for (const p of /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll("[data-panel]")))
      p.hidden = p.dataset.panel !== /** @type {HTMLElement} */ (tab).dataset.tab;
  });

// A field of its own kind, in an open shadow root.
customElements.define(
  "harbour-field",
  class extends HTMLElement {
    connectedCallback() {
      const root = this.attachShadow({ mode: "open" });
      const label = Object.assign(document.createElement("label"), {
        textContent: this.getAttribute("label") ?? "",
        htmlFor: "box",
      });
      const box = Object.assign(document.createElement("input"), {
        id: "box",
        type: this.getAttribute("type") ?? "text",
      });
      const sheet = new CSSStyleSheet();
      sheet.replaceSync(
        "label { display: block; font-size: .9rem } " +
          "input { font: inherit; padding: .55rem .6rem; width: 100%; box-sizing: border-box; " +
          "border: 1px solid #9aa; border-radius: 3px }",
      );
      root.adoptedStyleSheets = [sheet];
      box.addEventListener("input", () => (this.dataset.value = box.value));
      root.append(label, box);
    }
  },
);
for (const panel of /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll("[data-shadowed]"))) {
  panel.querySelector("button")?.addEventListener("click", async () => {
    const values = Object.fromEntries(
      [...panel.querySelectorAll("harbour-field")].map((f) => [
        f.getAttribute("name") ?? "",
        /** @type {HTMLElement} */ (f).dataset.value ?? "",
      ]),
    );
    const answer = await send(panel.dataset.shadowed ?? "", values);
    if (answer.to) location.assign(answer.to);
    else /** @type {Element} */ (panel.querySelector(".error")).textContent = answer.error;
  });
}

// A form that comes late.
const late = document.querySelector("template[data-late]");
if (late instanceof HTMLTemplateElement) setTimeout(() => late.replaceWith(late.content.cloneNode(true)), 700);

// A password field that is another element when it is shown.
for (const b of document.querySelectorAll("[data-show]"))
  b.addEventListener("click", () => {
    const old = /** @type {HTMLInputElement} */ (b.previousElementSibling);
    const next = /** @type {HTMLInputElement} */ (old.cloneNode());
    next.type = old.type === "password" ? "text" : "password";
    next.value = old.value;
    old.replaceWith(next);
    b.setAttribute("aria-pressed", String(next.type === "text"));
  });

for (const b of document.querySelectorAll("[data-dialog]"))
  b.addEventListener("click", () => /** @type {HTMLDialogElement} */ (document.querySelector("dialog")).showModal());

// Boxes for one digit each go on to the next.
for (const box of /** @type {NodeListOf<HTMLInputElement>} */ (document.querySelectorAll(".digits input")))
  box.addEventListener("input", () => {
    if (box.value) /** @type {HTMLElement | null} */ (box.nextElementSibling)?.focus();
  });

// A payment company's field in a frame: asked by the shop's page, it tells its own server what was typed, and says when
// it has.
const hosted = /** @type {HTMLInputElement | null} */ (document.querySelector("input[data-basket]"));
if (hosted)
  addEventListener("message", async (e) => {
    if (e.data !== "collect" || e.source !== parent) return;
    await fetch("/field", {
      method: "POST",
      body: new URLSearchParams({
        basket: hosted.dataset.basket ?? "",
        name: hosted.dataset.name ?? "",
        value: hosted.value,
      }),
    });
    parent.postMessage("collected", "*");
  });

// The shop's page has all of them asked before it sends its own form.
const checkout = document.querySelector("form[data-hosted]");
if (checkout instanceof HTMLFormElement) {
  const frames = /** @type {NodeListOf<HTMLIFrameElement>} */ (checkout.querySelectorAll("iframe"));
  const told = new Set();
  checkout.addEventListener("submit", (e) => {
    e.preventDefault();
    told.clear();
    for (const f of frames) f.contentWindow?.postMessage("collect", "*");
  });
  addEventListener("message", (e) => {
    const from = [...frames].find((f) => f.contentWindow === e.source);
    if (!from || e.data !== "collected") return;
    told.add(from);
    if (told.size === frames.length) checkout.submit();
  });
}
