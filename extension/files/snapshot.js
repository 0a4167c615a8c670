// Describes a frame's fields, without their values, for the device app to read.
"use strict";

const MAX_FIELDS = 500;
const KINDS = new Set(["", "text", "email", "tel", "password", "number", "url"]);

/** @type {WeakMap<Element, number>} */
const numbers = new WeakMap();
let nextNumber = 1;

/** A number that stays with an element for as long as the page lives. @param {Element} el */
function numberOf(el) {
  let n = numbers.get(el);
  if (n === undefined) {
    n = nextNumber++;
    numbers.set(el, n);
  }
  return n;
}

/** @param {Element} el */
function seen(el) {
  const r = el.getBoundingClientRect();
  if (r.width < 8 || r.height < 8 || r.right + scrollX < 0 || r.bottom + scrollY < 0) return false;
  return el.checkVisibility({ opacityProperty: true, visibilityProperty: true });
}

/** @param {string | null | undefined} s */
const tidy = (s) => (s ?? "").replace(/\s+/g, " ").trim().slice(0, 150);

/** @param {HTMLInputElement} el */
function labelOf(el) {
  /** @type {(string | null)[]} */
  const said = [...(el.labels ?? [])].map((l) => l.textContent);
  for (const id of (el.getAttribute("aria-labelledby") ?? "").split(/\s+/)) said.push(id ? document.getElementById(id)?.textContent ?? "" : "");
  said.push(el.getAttribute("aria-label"), el.placeholder, el.title);
  return tidy(said.filter(Boolean).join(" "));
}

/** @param {Element} form */
function wordsOfForm(form) {
  const parts = form.querySelectorAll("h1, h2, h3, legend, button, input[type=submit], [role=button]");
  const near = form.querySelector("h1, h2, h3, legend") ? "" : tidy(form.previousElementSibling?.matches("h1, h2, h3") ? form.previousElementSibling.textContent : "");
  return tidy([near, ...[...parts].slice(0, 8).map((p) => (p instanceof HTMLInputElement ? p.value : p.textContent))].join(" "));
}

/** @returns {HTMLInputElement[]} */
function fields() {
  return [...document.querySelectorAll("input")].filter((f) => KINDS.has((f.getAttribute("type") ?? "").toLowerCase())).slice(0, MAX_FIELDS);
}

/** What the frame looks like now. */
function snapshot() {
  const forms = new Map();
  const list = fields().map((f) => {
    const form = f.form ?? document.body;
    if (!forms.has(form)) forms.set(form, { id: numberOf(form), text: wordsOfForm(form), name: tidy([form.id, form.getAttribute("name"), form.getAttribute("class"), form.getAttribute("action")].join(" ")) });
    return {
      id: numberOf(f), form: numberOf(form), type: f.type, name: tidy(`${f.name} ${f.id}`), autocomplete: tidy(f.autocomplete), label: labelOf(f),
      visible: seen(f), locked: f.disabled || f.readOnly, filled: f.value !== "", maxlength: Math.max(0, f.maxLength),
    };
  });
  return { title: tidy(document.title), lang: document.documentElement.lang, forms: [...forms.values()], fields: list };
}

/** @param {number} n */
function fieldByNumber(n) {
  return fields().find((f) => numbers.get(f) === n);
}

/** Types a value the way a person's typing arrives. @param {HTMLInputElement} f @param {string} value */
function type(f, value) {
  f.focus();
  f.value = value;
  f.dispatchEvent(new InputEvent("input", { bubbles: true, composed: true, inputType: "insertReplacementText", data: value }));
  f.dispatchEvent(new Event("change", { bubbles: true }));
}
