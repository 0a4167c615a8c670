// Reads a page through the browser's own getters and methods. A form's fields, and a document's
// images and forms, answer to their names as properties of it, in every script: an input named
// "getAttribute" stands where a form's method should. Taken from the prototypes they can't be
// replaced by anything in a page.

/** @param {object} proto @param {string} name @returns {(of: any) => any} */
function getter(proto, name) {
  const get = Object.getOwnPropertyDescriptor(proto, name)?.get;
  if (!get) throw new Error(`there is no getter ${name}`);
  return (of) => Reflect.apply(get, of, []);
}

/** @param {any} proto @param {string} name @returns {(of: any, ...more: any[]) => any} */
function method(proto, name) {
  const f = proto[name];
  if (!f) throw new Error(`there is no method ${name}`);
  return (of, ...more) => Reflect.apply(f, of, more);
}

const E = Element.prototype,
  N = Node.prototype,
  D = Document.prototype,
  F = HTMLFormElement.prototype;

const inElement = method(E, "querySelectorAll"),
  inDocument = method(D, "querySelectorAll"),
  inFragment = method(DocumentFragment.prototype, "querySelectorAll");

/**
 * What matches below a node, as the browser lists it: of thousands only those that are looked at reach a script.
 * @type {(in_: Document | DocumentFragment | Element, what: string) => NodeListOf<HTMLElement>}
 */
export const list = (node, what) =>
  node instanceof Element
    ? inElement(node, what)
    : node instanceof DocumentFragment
      ? inFragment(node, what)
      : inDocument(node, what);
/** What matches below a node. @type {(in_: Document | DocumentFragment | Element, what: string) => HTMLElement[]} */
export const all = (node, what) => [...list(node, what)];
const oneInElement = method(E, "querySelector"),
  oneInDocument = method(D, "querySelector"),
  oneInFragment = method(DocumentFragment.prototype, "querySelector");

/** The first that matches below a node. @type {(in_: Document | DocumentFragment | Element, what: string) => any} */
export const one = (node, what) =>
  (node instanceof Element
    ? oneInElement(node, what)
    : node instanceof DocumentFragment
      ? oneInFragment(node, what)
      : oneInDocument(node, what)) ?? undefined;

/** @type {(el: Element, name: string) => string | null} */
export const attr = method(E, "getAttribute");
/** @type {(el: Element, name: string) => boolean} */
export const has = method(E, "hasAttribute");
/** @type {(el: Element, what: string) => boolean} */
export const matches = method(E, "matches");
/** @type {(el: Element, what: string) => Element | null} */
export const closest = method(E, "closest");
/** @type {(el: Element) => DOMRect} */
export const rect = method(E, "getBoundingClientRect");
/** @type {(el: Element, how?: object) => boolean} */
export const checkVisibility = method(E, "checkVisibility");
/** @type {(el: Element, how?: object) => void} */
export const scrollTo = method(E, "scrollIntoView");
/** @type {(el: Element) => ShadowRoot | null} */
export const shadow = getter(E, "shadowRoot");
/** @type {(el: Element) => Element | null} */
export const previous = getter(E, "previousElementSibling");
/** @type {(el: Element) => Element | null} */
export const next = getter(E, "nextElementSibling");
/** @type {(el: Element) => string} */
export const tag = getter(E, "tagName");
/** @type {(to: Element, ...what: (Node | string)[]) => void} */
export const append = method(E, "append");
/** @type {(el: Element, frames: Keyframe[], how: KeyframeAnimationOptions) => void} */
export const animate = method(E, "animate");

/** @type {(el: Element) => Element | null} */
export const first = getter(E, "firstElementChild");

/** @type {(n: Node) => Element | null} */
export const parent = getter(N, "parentElement");
/** @type {(n: Node) => Node | null} */
export const before = getter(N, "previousSibling");
/** @type {(n: Node) => string | null} */
export const text = getter(N, "textContent");
/** @type {(n: Node) => Node} */
export const rootOf = method(N, "getRootNode");
/** @type {(a: Node, b: Node) => boolean} */
export const contains = method(N, "contains");
const nodes = getter(N, "childNodes");
/** @type {(n: Node) => Node[]} */
export const kids = (n) => [...nodes(n)];

/** @type {(el: HTMLElement) => void} */
export const focus = method(HTMLElement.prototype, "focus");
const inputType = getter(HTMLInputElement.prototype, "type"),
  inputForm = getter(HTMLInputElement.prototype, "form"),
  buttonForm = getter(HTMLButtonElement.prototype, "form");
/** What an input is: one of an unknown type is one for text. @type {(el: HTMLInputElement) => string} */
export const typeOf = inputType;
/**
 * The form that a button belongs to, also from elsewhere in the page.
 * @param {HTMLButtonElement | HTMLInputElement} b
 */
export const formOf = (b) =>
  /** @type {HTMLFormElement | null} */ (b instanceof HTMLInputElement ? inputForm(b) : buttonForm(b));
/** @type {(form: HTMLFormElement) => void} */
export const requestSubmit = method(F, "requestSubmit");

const active = getter(D, "activeElement"),
  body = getter(D, "body"),
  html = getter(D, "documentElement"),
  hidden = getter(D, "hidden"),
  title = getter(D, "title"),
  state = getter(D, "readyState"),
  create = method(D, "createElement"),
  createNS = method(D, "createElementNS"),
  evaluate = method(D, "evaluate"),
  hasFocus = method(D, "hasFocus"),
  baseURI = getter(N, "baseURI"),
  stack = method(D, "elementsFromPoint"),
  stackIn = "elementsFromPoint" in ShadowRoot.prototype ? method(ShadowRoot.prototype, "elementsFromPoint") : undefined,
  activeIn = Object.getOwnPropertyDescriptor(ShadowRoot.prototype, "activeElement")
    ? getter(ShadowRoot.prototype, "activeElement")
    : undefined,
  byIdIn = method(DocumentFragment.prototype, "getElementById"),
  byId = method(D, "getElementById"),
  listener = method(EventTarget.prototype, "addEventListener");

/** The document's own parts. */
export const page = () => /** @type {HTMLElement} */ (html(document));
export const bodyOf = () => /** @type {HTMLElement} */ (body(document));
export const isHidden = () => /** @type {boolean} */ (hidden(document));
export const isComplete = () => state(document) === "complete";
export const pageTitle = () => /** @type {string} */ (title(document));
export const focused = () => /** @type {boolean} */ (hasFocus(document));
export const base = () => /** @type {string} */ (baseURI(document));

/** @param {string} name @returns {HTMLElement} */
export const make = (name) => create(document, name);
/** @param {string} space @param {string} name @returns {Element} */
export const makeNS = (space, name) => createNS(document, space, name);

/** The element that has the focus, in shadow roots too. @returns {Element | null} */
export function activeElement() {
  let el = active(document);
  for (let r = el && shadow(el); r && activeIn?.(r); r = el && shadow(el)) el = activeIn(r);
  return el;
}

/** The topmost element at a point of the window. @param {number} x @param {number} y @returns {Element | null} */
export function at(x, y) {
  return stack(document, x, y)[0] ?? null;
}

/**
 * The elements at a point, beneath our own host and in open shadow roots too, the topmost first.
 * @param {number} x @param {number} y @param {Element} own @param {Document | ShadowRoot} [root]
 * @returns {Generator<Element>}
 */
export function* under(x, y, own, root = document) {
  /** @type {Element[]} */
  const list = root instanceof ShadowRoot ? (stackIn?.(root, x, y) ?? []) : stack(root, x, y);
  for (const el of list) {
    if (el === own || rootOf(el) !== root) continue;
    const inner = shadow(el);
    if (inner) yield* under(x, y, own, inner);
    yield el;
  }
}

/** @param {Document | ShadowRoot} root @param {string} name @returns {Element | null} */
export const withId = (root, name) => (root instanceof Document ? byId(root, name) : byIdIn(root, name));

/** Elements by an XPath expression. @param {string} path @param {number} most @returns {Element[]} */
export function byPath(path, most) {
  const list = evaluate(document, path, document, null, XPathResult.ORDERED_NODE_SNAPSHOT_TYPE, null);
  return Array.from({ length: Math.min(list.snapshotLength, most) }, (_, i) => list.snapshotItem(i));
}

/** Ends every listener of this script: another one takes its place, or the extension is gone. */
export const leaving = new AbortController();

/** @param {EventTarget} to @param {string} kind @param {(e: any) => void} hear @param {boolean | object} [how] */
export function listen(to, kind, hear, how = {}) {
  const more = typeof how === "boolean" ? { capture: how } : how;
  listener(to, kind, hear, { ...more, signal: leaving.signal });
}
