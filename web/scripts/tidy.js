// The bench of Tidy: its keys, and what stays as it is when the next proposal is shown.

const bench = () => document.getElementById("bench");

/** @param {string} key */
function press(key) {
  const el = document.querySelector(`.bench [data-key="${key}"]`);
  if (el instanceof HTMLElement) el.click();
}

/** The keys of the bench of Tidy: each presses what is on it. @type {Record<string, () => void>} */
const onBench = {
  j: () => press("j"),
  k: () => press("k"),
  ArrowDown: () => press("j"),
  ArrowUp: () => press("k"),
  Enter: () => press("Enter"),
  a: () => press("a"),
  l: () => press("l"),
  t: () => press("t"),
  s: () => {
    for (const b of document.querySelectorAll("#bench .secret .act")) if (b instanceof HTMLElement) b.click();
  },
};

/** Lets all of one login survive. @param {number} place from 1 */
function stays(place) {
  for (const row of document.querySelectorAll("#bench tr.differs")) {
    const pick = row.querySelectorAll("td")[place - 1]?.querySelector("input");
    if (pick) pick.checked = true;
  }
}

/** Does what a key means on the bench; false where there is none. @param {KeyboardEvent} e @param {HTMLElement} el */
export function benchKey(e, el) {
  if (!bench()) return false;
  if (/^[1-9]$/.test(e.key)) stays(Number(e.key));
  else if (!(e.key in onBench)) return false;
  else if (e.key === "Enter" && el.closest("a, button, summary"))
    return true; // that is pressed
  else if (e.key.startsWith("Arrow") && el.matches("input[type=radio]"))
    return true; // along the choices
  else onBench[e.key]();
  e.preventDefault();
  return true;
}

/** Where the list was scrolled to. */
let scrolled = 0;
const list = () => document.querySelector("#tidy .book-page");

document.addEventListener("htmx:beforeSwap", () => {
  scrolled = list()?.scrollTop ?? 0;
});
document.addEventListener("htmx:afterSwap", (e) => {
  const page = document.getElementById("tidy");
  const at = list();
  if (!page || !at || /** @type {CustomEvent} */ (e).detail.target.id !== "tidy") return;
  document.body.classList.toggle("at-sheet", "atSheet" in page.dataset);
  at.scrollTop = scrolled;
  at.querySelector("[data-open]")?.scrollIntoView({ block: "nearest" });
  const head = page.querySelector("#sheet h1"); // what is new is read out
  if (head instanceof HTMLElement) head.focus({ preventScroll: true });
});
