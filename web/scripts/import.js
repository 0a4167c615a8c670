// Import and export: files dropped on the page, columns changed, downloads that ask first.
import { askAgain } from "./ask.js";
import { say } from "./book.js";
import { hx } from "./htmx.js";
import { reach } from "./reach.js";

const dropForm = () => /** @type {HTMLFormElement | null} */ (document.querySelector("form[data-drop]"));
document.addEventListener("dragover", (e) => {
  if (!dropForm()) return;
  e.preventDefault();
  dropForm()?.classList.add("over");
});
document.addEventListener("dragleave", () => dropForm()?.classList.remove("over"));
document.addEventListener("drop", (e) => {
  const form = dropForm();
  if (!form || !e.dataTransfer?.files.length) return;
  e.preventDefault();
  /** @type {HTMLInputElement} */ (form.querySelector("input[type=file]")).files = e.dataTransfer.files;
  form.requestSubmit();
});

// Chosen files are read at once; what else a column means is planned at once.
document.addEventListener("change", (e) => {
  const el = /** @type {HTMLElement} */ (e.target);
  if (el.id === "import-files") el.closest("form")?.requestSubmit();
  if (el.closest("form[data-columns]"))
    void hx.then((h) => h?.trigger(/** @type {Element} */ (el.closest("form")), "submit"));
});

// A file in clear is downloaded after the master password was shown.
document.addEventListener("submit", (e) => {
  const form = /** @type {HTMLFormElement} */ (e.target);
  const first = form.dataset.download;
  if (!first || form.dataset.may) return;
  e.preventDefault();
  void mayDownload(form, first);
});

/** @param {HTMLFormElement} form @param {string} first */
async function mayDownload(form, first) {
  const resp = await reach(first, { method: "POST" });
  if (resp.status === 428) return askAgain(() => void mayDownload(form, first));
  if (resp.redirected) return location.reload();
  delete form.dataset.sent; // asking first was no sending
  form.dataset.may = "1";
  form.requestSubmit();
  delete form.dataset.may;
  if (form.action.endsWith("/export")) say("Written. Remember to delete the file when it has done its work.");
}
