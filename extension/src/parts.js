// The parts of what stands in the extension's own frames, and the port to the content script that
// made the frame.
import { make } from "./make.js";
import { meant } from "./meant.js";

/** @type {MessagePort | undefined} */
let port;
/** Questions that were asked over the port. @type {Map<number, (answer: any) => void>} */
const asked = new Map();
let asks = 0;

/** Says something over the port. @param {any} m */
export const say = (m) => port?.postMessage(m);

/** Takes the port, once. @param {MessagePort} p @param {(m: any) => void} hear */
export function open(p, hear) {
  if (port) return;
  port = p;
  port.onmessage = ({ data }) => {
    if (data.answer) {
      asked.get(data.answer)?.(data.with);
      asked.delete(data.answer);
    } else hear(data);
  };
  say({ ready: true });
}

/**
 * Asks the device app by way of the page's content script.
 * @param {Record<string, unknown>} m @returns {Promise<any>}
 */
export const ask = (m) =>
  new Promise((done) => {
    asked.set(++asks, done);
    say({ ask: asks, message: m });
  });

/**
 * Where this frame stands in the page, if all of it is in the window.
 * @returns {Promise<{x: number, y: number, width: number, height: number} | undefined>}
 */
export const where = () =>
  new Promise((done) => {
    asked.set(++asks, done);
    say({ where: asks });
  });

/** Has the frame put away. */
export const close = () => say({ close: true });

/**
 * A button whose press counts only if a person meant it.
 * @param {string} text
 * @param {string} cls
 * @param {() => void} act
 */
export function button(text, cls, act) {
  const b = make("button", cls, text);
  b.setAttribute("type", "button");
  b.addEventListener("click", async (e) => {
    if (await meant(e)) act();
  });
  b.addEventListener("mousedown", (e) => e.preventDefault()); // the page's field keeps the focus
  return b;
}
