// The forms of items: more addresses and fields, suggested sites, pictures of QR codes.
import { askAgain } from "./ask.js";
import { hx } from "./htmx.js";
import { SILENT, reach } from "./reach.js";

document.addEventListener("click", (e) => {
  const el = /** @type {HTMLElement} */ (e.target);
  if (el.closest("[data-add-address]")) addAddress();
  if (el.closest("[data-add-own]")) addOwn();
  const out = el.closest("[data-remove-own]")?.closest(".own-line");
  if (out instanceof HTMLElement) removeOwn(out);
  const drawer = el.closest("[data-drawer]");
  if (drawer instanceof HTMLElement) void showMade(drawer);
  const made = el.closest("[data-use-made]");
  if (made instanceof HTMLElement) void fetchMade(made.dataset.useMade ?? "", usePassword);
  const use = el.closest("[data-use]");
  if (use instanceof HTMLElement) usePassword(use.dataset.use ?? "");
  if (el.closest("[data-make-another]")) makeOne(el.closest(".generator"));
  const site = el.closest("[data-site]");
  if (site instanceof HTMLElement) useSite(site);
});

/** Has a password made. @param {Element | null} generator */
function makeOne(generator) {
  const making = generator?.querySelector(".making");
  if (making) void hx.then((h) => h?.trigger(making, "make"));
}

/** Has the first password made, once. @param {unknown} d */
function begin(d) {
  if (!(d instanceof HTMLDetailsElement) || !d.matches(".generator[open]:not([data-begun])")) return;
  d.dataset.begun = "";
  if (!document.querySelector("#made *")) makeOne(d);
}

// A password is there as soon as the generator is open, as it is in the form of a new login; a slider says where it
// stands.
document.addEventListener("toggle", (e) => begin(e.target), true);
begin(document.querySelector(".generator"));
document.addEventListener("input", (e) => {
  const el = e.target;
  if (el instanceof HTMLInputElement && el.type === "range" && el.nextElementSibling instanceof HTMLOutputElement)
    el.nextElementSibling.value = el.value;
});
document.addEventListener("keydown", (e) => {
  const el = /** @type {HTMLElement} */ (e.target);
  if (
    e.key !== "m" ||
    e.ctrlKey ||
    e.metaKey ||
    e.altKey ||
    el.matches("input[type=text], input[type=number], input:not([type])")
  )
    return;
  const generator = el.closest(".generator[open]");
  if (!generator) return;
  e.preventDefault();
  makeOne(generator);
});

/** Adds an empty address line below the last. */
function addAddress() {
  const lines = document.querySelectorAll(".address-line");
  const last = lines[lines.length - 1];
  const copy = /** @type {HTMLElement} */ (last.cloneNode(true));
  for (const f of copy.querySelectorAll("input")) f.value = "";
  for (const f of copy.querySelectorAll("select")) f.selectedIndex = 0;
  last.after(copy);
  copy.querySelector("input")?.focus();
}

/** Adds a custom field. */
function addOwn() {
  const template = /** @type {HTMLTemplateElement} */ (document.getElementById("own-new"));
  const line = /** @type {HTMLElement} */ (
    /** @type {HTMLElement} */ (template.content.firstElementChild).cloneNode(true)
  );
  /** @type {HTMLInputElement} */ (line.querySelector("[name=own_id]")).value = crypto
    .getRandomValues(new Uint32Array(3))
    .join("-");
  document.getElementById("owns")?.append(line);
  /** @type {HTMLElement} */ (line.querySelector("[name=own_label]")).focus();
}

/** Takes an own field out: one without name and value is removed when the form is kept. @param {HTMLElement} line */
function removeOwn(line) {
  for (const f of line.querySelectorAll("input")) if (f.name !== "own_id") f.value = "";
  line.hidden = true;
}

document.addEventListener("change", (e) => {
  const el = /** @type {HTMLElement} */ (e.target);
  // Another site may demand another password.
  if (el instanceof HTMLInputElement && el.name === "address") makeOne(document.querySelector(".generator[open]"));
  if (el instanceof HTMLSelectElement && el.name === "own_form") {
    const value = /** @type {HTMLInputElement} */ (el.closest(".own-line")?.querySelector("[name=own_value]"));
    value.type = { hidden: "password", date: "date" }[el.value] ?? "text";
    value.toggleAttribute("list", false);
    if (el.value === "yes-no") value.setAttribute("list", "yes-no");
  }
  if (el instanceof HTMLInputElement && "pictureFile" in el.dataset && el.files?.[0]) void readPicture(el, el.files[0]);
  if (el instanceof HTMLInputElement && el.dataset.attach && el.files?.length) attach(el, el.files);
});

/**
 * Fetches one password from the generated passwords, as it is asked for.
 * @param {string} at
 * @param {(text: string) => void} then
 */
async function fetchMade(at, then) {
  const resp = await reach("/drawer", { method: "POST", body: new URLSearchParams({ at }) });
  if (resp.status === 428) return askAgain(() => void fetchMade(at, then));
  if (resp.redirected) return location.reload();
  if (resp.ok) then(await resp.text());
}

/** @param {HTMLElement} b */
async function showMade(b) {
  const dots = b.closest("li")?.querySelector("[data-dots]");
  if (!dots) return;
  if (b.textContent === "Hide") {
    dots.textContent = "● ● ● ● ● ●";
    b.textContent = "Show";
    return;
  }
  await fetchMade(b.dataset.drawer ?? "", (text) => {
    dots.textContent = text;
    b.textContent = "Hide";
  });
}

/** Puts a password that was made into the form. @param {string} value */
function usePassword(value) {
  const field = document.getElementById("password");
  if (!(field instanceof HTMLInputElement)) return;
  field.value = value;
  field.dispatchEvent(new Event("input", { bubbles: true }));
  field.focus();
}

/** Takes a suggested site's name and sign-in page. @param {HTMLElement} site */
function useSite(site) {
  const title = /** @type {HTMLInputElement} */ (document.getElementById("title"));
  title.value = site.dataset.site ?? "";
  const lines = /** @type {NodeListOf<HTMLInputElement>} */ (document.querySelectorAll("[name=address]"));
  const address = site.dataset.signIn || site.dataset.domain || "";
  if (lines.length && ![...lines].some((l) => l.value.includes(site.dataset.domain ?? ""))) {
    const empty = [...lines].find((l) => !l.value);
    if (empty) empty.value = address;
  }
  document.getElementById("site-suggestions")?.replaceChildren();
  document.getElementById("username")?.focus();
}

/** Has the setup key read from a picture of a QR code. @param {HTMLElement} at @param {Blob} picture */
async function readPicture(at, picture) {
  const field = at.closest("[data-picture]");
  const input = field?.querySelector("input.form-control");
  const said = field?.parentElement?.querySelector("[data-picture-said]");
  if (!(input instanceof HTMLInputElement) || !said) return;
  said.textContent = "Reading the picture …";
  try {
    const resp = await fetch("/pictures", { method: "POST", body: picture });
    const text = await resp.text();
    if (resp.ok) input.value = text;
    said.textContent = resp.ok ? "The setup key was read from the picture." : text;
  } catch {
    said.textContent = SILENT;
  }
}

/** @param {DataTransfer | null} data */
const pictureIn = (data) => [...(data?.files ?? [])].find((f) => f.type.startsWith("image/"));

document.addEventListener("paste", (e) => {
  const picture = pictureIn(e.clipboardData);
  const at = document.querySelector("[data-picture]");
  if (!picture || !(at instanceof HTMLElement)) return;
  e.preventDefault();
  void readPicture(at, picture);
});
document.addEventListener("dragover", (e) => {
  if (document.querySelector("[data-picture], [data-attach]")) e.preventDefault();
});
document.addEventListener("drop", (e) => {
  const at = document.querySelector("[data-picture]");
  const attachTo = document.querySelector("input[data-attach]");
  if (at instanceof HTMLElement) {
    e.preventDefault();
    const picture = pictureIn(e.dataTransfer);
    if (picture) void readPicture(at, picture);
  } else if (attachTo instanceof HTMLInputElement && e.dataTransfer?.files.length) {
    e.preventDefault();
    attach(attachTo, e.dataTransfer.files);
  }
});

/** Sends files to be attached, and shows how far that is. @param {HTMLInputElement} at @param {FileList} files */
function attach(at, files) {
  const place = /** @type {HTMLElement} */ (at.closest(".row-line")?.querySelector(".attaching"));
  const bar = /** @type {HTMLProgressElement} */ (place.querySelector("progress"));
  const words = /** @type {HTMLElement} */ (place.querySelector("span"));
  const data = new FormData();
  for (const f of files) data.append("file", f, f.name);
  const send = new XMLHttpRequest();
  send.open("POST", `/items/${at.dataset.attach}/files`);
  send.setRequestHeader("HX-Request", "true");
  place.hidden = false;
  words.textContent = "sealing …";
  send.upload.onprogress = (e) => (bar.value = e.total ? e.loaded / e.total : 0);
  send.onerror = () => (words.textContent = "Red Locket didn’t answer, or broke it off. Nothing of it was kept.");
  send.onload = () => {
    place.hidden = true;
    const to = send.getResponseHeader("HX-Redirect");
    if (to) return location.assign(to);
    const n = document.getElementById("notices");
    if (n) n.innerHTML = send.responseText;
    document.body.dispatchEvent(new Event("vault-changed"));
  };
  send.send(data);
}
document.addEventListener("keydown", (e) => {
  const label = /** @type {HTMLElement} */ (e.target);
  if ((e.key === "Enter" || e.key === " ") && label.matches("label.act")) {
    e.preventDefault();
    label.querySelector("input")?.click();
  }
});
