// Copies by one press and clears the clipboard after a while.
import { askAgain } from "./ask.js";
import { idOf, say } from "./book.js";
import { reach } from "./reach.js";

/** Until the clipboard is cleared, in milliseconds; 0 for never. */
const clearAfter = Number(document.body.dataset.clipboard ?? 30) * 1000;
/** @type {number | undefined} */
let clearing;

document.addEventListener("click", (e) => {
  const b = /** @type {HTMLElement} */ (e.target).closest("[data-copy]");
  if (b instanceof HTMLElement && !b.dataset.hand) void copyOf(b);
});

// Hands over a login to a program, one press after the other: the user name, then the password.
document.addEventListener("click", (e) => {
  const b = /** @type {HTMLElement} */ (e.target).closest("[data-hand]");
  if (!(b instanceof HTMLElement)) return;
  const second = b.dataset.copy === "username";
  b.dataset.of = b.dataset.hand;
  b.dataset.copy = second ? "password" : "username";
  b.dataset.label = second ? "Copy both in turn" : "Now the password";
  void copyOf(b).then(() => {
    if (second) delete b.dataset.copy;
  });
});

/**
 * Fetches one value, as it is asked for, and puts it on the clipboard.
 * @param {HTMLElement} b
 */
async function copyOf(b) {
  const body = new URLSearchParams({ field: b.dataset.copy ?? "" });
  if (b.dataset.past) body.set("past", b.dataset.past);
  if (b.dataset.at) body.set("at", b.dataset.at);
  const label = b.dataset.label ?? b.textContent ?? "";
  b.dataset.label = label;
  const resp = await reach(`/items/${idOf(b)}/copy`, { method: "POST", body });
  try {
    if (resp.status === 428) {
      askAgain(() => void copyOf(b));
      return;
    }
    if (resp.redirected || !resp.ok) {
      location.reload();
      return;
    }
    await navigator.clipboard.writeText(await resp.text());
    b.textContent = "Copied";
    b.classList.add("did");
    clearTimeout(clearing);
    if (clearAfter) clearing = setTimeout(clearClipboard, clearAfter);
    say(clearAfter ? `Copied. The clipboard is cleared in ${clearAfter / 1000} seconds.` : "Copied.");
  } catch {
    b.textContent = "Not copied";
    say("The browser didn’t let the clipboard be used. Show it and copy by hand.");
  }
  setTimeout(() => {
    b.textContent = label;
    b.classList.remove("did");
  }, 2500);
}

/** Empties the clipboard; a page in the background has to wait to be in front. */
function clearClipboard() {
  navigator.clipboard.writeText("").catch(() => window.addEventListener("focus", clearClipboard, { once: true }));
}
