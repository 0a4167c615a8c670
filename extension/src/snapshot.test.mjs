// What a snapshot says of a page, without a browser: jsdom has the document, and no layout.
import test, { before } from "node:test";
import assert from "node:assert/strict";
import { JSDOM } from "jsdom";

/** @type {typeof import("./snapshot.js")} */
let snapshots;

before(async () => {
  const { window } = new JSDOM("<!doctype html><title>Ferrylink</title>", { url: "https://ferrylink.example/in" });
  const names = Object.getOwnPropertyNames(window).filter((name) => !(name in globalThis));
  for (const name of names) globalThis[name] = window[name];
  globalThis.document = window.document;
  // jsdom's own stumbles over name(), and it has neither layout nor animations.
  window.Document.prototype.evaluate = () => {
    const own = [...window.document.querySelectorAll("*")].filter((el) => el.localName.includes("-"));
    return { snapshotLength: own.length, snapshotItem: (i) => own[i] };
  };
  globalThis.addEventListener = () => {};
  window.Element.prototype.getBoundingClientRect = () => ({
    left: 10,
    top: 10,
    right: 210,
    bottom: 40,
    width: 200,
    height: 30,
  });
  window.Element.prototype.checkVisibility = () => true;
  window.Element.prototype.scrollIntoView = () => {};
  window.Element.prototype.animate = () => {};
  window.Document.prototype.elementsFromPoint = () => [];
  snapshots = await import("./snapshot.js");
});

/** @param {string} html */
function page(html) {
  document.body.innerHTML = html;
}

test("fields are found in the order of the page; a search box is none", () => {
  page(`<input type="search"><form><input name="user"><input type="password" name="pw"><input type="hidden"></form>`);
  assert.deepEqual(
    snapshots.fields().map((f) => f.name || f.type),
    ["user", "pw"],
  );
});

test("a field keeps its number for as long as it is there", () => {
  page(`<input name="a"><input name="b">`);
  const [a, b] = snapshots.fields();
  const [first, second] = [snapshots.numberOf(a), snapshots.numberOf(b)];
  assert.notEqual(first, second);
  assert.equal(snapshots.numberOf(a), first);
  assert.equal(snapshots.fieldByNumber(second), b);
});

test("a label is what stands around a field, or is tied to it", () => {
  page(`<label for="x">User name</label><input id="x"><label>Password <input id="y" type="password"></label>`);
  const [x, y] = snapshots.fields();
  assert.equal(snapshots.labelOf(x).trim(), "User name");
  assert.match(snapshots.labelOf(y), /Password/);
});

test("values stay in the page", () => {
  page(
    `<form action="/in"><label for="u">User</label><input id="u" value="mtolliver"><input type="password" value="hush"></form>`,
  );
  const s = snapshots.snapshot();
  assert.equal(s.fields.length, 2);
  assert.ok(!JSON.stringify(s).includes("mtolliver") && !JSON.stringify(s).includes("hush"));
});

test("fields in open shadow roots are found", () => {
  page(`<harbour-field></harbour-field>`);
  const shadow = document.querySelector("harbour-field").attachShadow({ mode: "open" });
  shadow.innerHTML = `<label>Code <input name="code"></label>`;
  assert.deepEqual(
    snapshots.fields().map((f) => f.name),
    ["code"],
  );
});
