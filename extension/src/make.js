/**
 * Makes an element of a page of the extension's; texts are set as text, never as markup.
 * @param {string} tag
 * @param {string} [cls]
 * @param {string} [text]
 */
export function make(tag, cls, text) {
  const el = document.createElement(tag);
  if (cls) el.className = cls;
  if (text !== undefined) el.textContent = text;
  return el;
}
