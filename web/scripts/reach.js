// Asks the device app for what somebody pressed or typed, and says where it doesn't answer: a press never comes to
// nothing without a word.

/** What is said then. */
export const SILENT = "Red Locket didn’t answer. Is it still running?";

/** Says that the device app doesn't answer, until it does. */
function away() {
  const notices = document.getElementById("notices");
  if (!notices || notices.querySelector("[data-away]")) return;
  const p = document.createElement("p");
  p.className = "trouble";
  p.dataset.away = "";
  p.textContent = SILENT;
  notices.replaceChildren(p);
}

const answered = () => document.querySelector("#notices [data-away]")?.remove();

/**
 * fetch, which says where there was no answer. The error is fetch's.
 * @param {string} path
 * @param {RequestInit} [init]
 */
export async function reach(path, init) {
  try {
    const resp = await fetch(path, init);
    answered();
    return resp;
  } catch (e) {
    if (!init?.signal?.aborted) away();
    throw e;
  }
}

document.addEventListener("htmx:sendError", (e) => {
  if (!(/** @type {CustomEvent} */ (e).detail.requestConfig.headers["X-By-Itself"])) away();
});
document.addEventListener("htmx:afterOnLoad", answered);
