// Asks for the master password again, where an act needs it, and then does the act.
import { SILENT } from "./reach.js";

/** What is done once the password was shown. @type {(() => void) | undefined} */
let askedFor;

/** Asks, and runs the act if the answer is right. @param {() => void} then */
export function askAgain(then) {
  const dialog = document.getElementById("ask");
  if (!(dialog instanceof HTMLDialogElement)) {
    location.assign("/settings");
    return;
  }
  askedFor = then;
  dialog.querySelector("form")?.reset();
  dialog.showModal();
}

document.addEventListener("submit", (e) => {
  const form = e.target;
  if (!(form instanceof HTMLFormElement) || !("again" in form.dataset)) return;
  e.preventDefault();
  void answer(form);
});

/** @param {HTMLFormElement} form */
async function answer(form) {
  const bad = /** @type {HTMLElement} */ (form.querySelector(".bad"));
  const data = new FormData(form);
  const to = String(data.get("back") ?? "");
  data.delete("back");
  const body = new URLSearchParams(/** @type {any} */ (data));
  const resp = await fetch("/again", { method: "POST", body }).catch(() => undefined);
  if (!resp) {
    bad.hidden = false;
    bad.textContent = SILENT;
    return;
  }
  if (resp.status === 204) return given(form, to);
  if (resp.redirected) return location.reload();
  bad.hidden = false;
  bad.textContent = await resp.text();
  form.reset();
}

/** The answer was right: what was asked for is done, or its page shown. @param {HTMLElement} form @param {string} to */
export function given(form, to) {
  form.closest("dialog")?.close();
  const then = askedFor;
  askedFor = undefined;
  if (to) location.replace(to);
  else then?.();
}

document.addEventListener("click", (e) => {
  if (/** @type {HTMLElement} */ (e.target).closest("[data-leave]")) {
    askedFor = undefined;
    /** @type {HTMLDialogElement | null} */ (document.getElementById("ask"))?.close();
  }
});

// A request of htmx that was refused for it is made again.
document.addEventListener("htmx:responseError", (e) => {
  const d = /** @type {CustomEvent} */ (e).detail;
  if (d.xhr.status !== 428 || d.requestConfig.headers["X-By-Itself"]) return; // nobody pressed anything
  const el = /** @type {HTMLElement} */ (d.elt);
  askAgain(() => {
    if (el instanceof HTMLFormElement) {
      delete el.dataset.sent;
      el.requestSubmit();
    } else el.click();
  });
});
