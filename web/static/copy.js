// Copies by one press and clears the clipboard after a while.
"use strict";

const clearAfter = 30_000;
/** @type {number | undefined} */
let clearing;

document.addEventListener("click", (e) => {
  const b = /** @type {HTMLElement} */ (e.target).closest("[data-copy]");
  if (b instanceof HTMLElement) void copyOf(b);
});

/**
 * Fetches one value, as it is asked for, and puts it on the clipboard.
 * @param {HTMLElement} b
 */
async function copyOf(b) {
  const body = new URLSearchParams({ field: b.dataset.copy ?? "" });
  if (b.dataset.past) body.set("past", b.dataset.past);
  const label = b.dataset.label ?? b.textContent ?? "";
  b.dataset.label = label;
  try {
    const resp = await fetch(`/logins/${b.dataset.of}/copy`, { method: "POST", body });
    if (resp.redirected || !resp.ok) {
      location.reload();
      return;
    }
    await navigator.clipboard.writeText(await resp.text());
    b.textContent = "Copied";
    b.classList.add("did");
    clearTimeout(clearing);
    clearing = setTimeout(clearClipboard, clearAfter);
    say(`Copied. The clipboard is cleared in ${clearAfter / 1000} seconds.`);
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

/** @param {string} text */
function say(text) {
  const n = document.getElementById("notices");
  if (!n) return;
  const p = document.createElement("p");
  p.className = "done";
  p.textContent = text;
  n.replaceChildren(p);
  setTimeout(() => p.remove(), 4000);
}
