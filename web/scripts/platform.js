// The computer's own authenticator: opening a vault by fingerprint, face or PIN (WebAuthn level 3, with the extension
// "prf"), and setting that up.
import { given } from "./ask.js";

/** @param {string} text @returns {Uint8Array<ArrayBuffer>} */
function bytes(text) {
  const plain = atob(text.replace(/-/g, "+").replace(/_/g, "/"));
  return Uint8Array.from(plain, (c) => c.charCodeAt(0));
}

/** @param {ArrayBuffer | ArrayBufferView} b */
function text(b) {
  const all = b instanceof ArrayBuffer ? new Uint8Array(b) : new Uint8Array(b.buffer, b.byteOffset, b.byteLength);
  const plain = Array.from(all, (x) => String.fromCharCode(x)).join("");
  return btoa(plain).replace(/\+/g, "-").replace(/\//g, "_").replace(/=+$/, "");
}

/** What the server's options are as the browser wants them. @param {any} o @returns {any} */
function read(o) {
  const out = { ...o, challenge: bytes(o.challenge) };
  if (o.user) out.user = { ...o.user, id: bytes(o.user.id) };
  for (const list of ["allowCredentials", "excludeCredentials"]) {
    if (o[list]) out[list] = o[list].map((/** @type {any} */ c) => ({ ...c, id: bytes(c.id) }));
  }
  const prf = o.extensions?.prf;
  if (prf?.eval) out.extensions = { prf: { eval: { first: bytes(prf.eval.first) } } };
  if (prf?.evalByCredential) {
    const by = Object.entries(prf.evalByCredential).map(([id, v]) => [id, { first: bytes(v.first) }]);
    out.extensions = { prf: { evalByCredential: Object.fromEntries(by) } };
  }
  return out;
}

/** @param {PublicKeyCredential} c @returns {ArrayBuffer | undefined} what the authenticator made of the salt */
const answerOf = (c) => /** @type {any} */ (c.getClientExtensionResults()).prf?.results?.first;

/**
 * What the server checks: without what the authenticator made of the salt, which goes by itself.
 * @param {PublicKeyCredential} c
 */
function written(c) {
  const r = /** @type {any} */ (c.response);
  const response = Object.fromEntries(
    ["clientDataJSON", "attestationObject", "authenticatorData", "signature", "userHandle"]
      .filter((name) => r[name])
      .map((name) => [name, text(r[name])]),
  );
  return JSON.stringify({ id: c.id, rawId: text(c.rawId), type: c.type, response, clientExtensionResults: {} });
}

/** Asks the authenticator. @param {any} options */
async function ask(options) {
  const publicKey = read(options);
  if (!options.rp) {
    const c = /** @type {PublicKeyCredential} */ (await navigator.credentials.get({ publicKey }));
    return { c, prf: answerOf(c) };
  }
  const c = /** @type {PublicKeyCredential} */ (await navigator.credentials.create({ publicKey }));
  let prf = answerOf(c);
  if (!prf) {
    // some answer to a salt only when they are asked for a signature
    const again = await navigator.credentials.get({
      publicKey: {
        challenge: crypto.getRandomValues(new Uint8Array(32)),
        rpId: options.rp.id,
        userVerification: "required",
        allowCredentials: [{ type: "public-key", id: c.rawId }],
        extensions: publicKey.extensions,
      },
    });
    prf = answerOf(/** @type {PublicKeyCredential} */ (again));
  }
  return { c, prf };
}

/** @param {unknown} error */
function why(error) {
  const name = error instanceof DOMException ? error.name : "";
  if (name === "NotAllowedError") return "Nothing was done: it was put aside, or took too long.";
  if (name === "InvalidStateError") return "This is set up here already.";
  return "This browser and this computer can’t do it together.";
}

/** @param {HTMLFormElement} form @returns {Promise<string | undefined>} what went wrong */
async function answer(form) {
  const data = new URLSearchParams(/** @type {any} */ (new FormData(form)));
  const resp = await fetch(form.dataset.platform ?? "", { method: "POST", body: data });
  if (resp.redirected) location.reload();
  if (!resp.ok) return resp.text();
  const { c, prf } = await ask(await resp.json());
  if (!prf) return "This computer knows you, but can’t keep a key for a vault. The master password opens it as before.";
  /** @type {HTMLInputElement} */ (form.elements.namedItem("answer")).value = written(c);
  /** @type {HTMLInputElement} */ (form.elements.namedItem("prf")).value = text(prf);
  return undefined;
}

document.addEventListener("submit", (e) => {
  const form = e.target;
  if (!(form instanceof HTMLFormElement) || !form.dataset.platform) return;
  if (form.dataset.answered) {
    delete form.dataset.answered;
    return;
  }
  e.preventDefault();
  const bad = /** @type {HTMLElement} */ (form.querySelector("[data-platform-says]"));
  bad.hidden = true;
  if (form.dataset.asking) return;
  form.dataset.asking = "1";
  answer(form)
    .catch(why)
    .then((wrong) => {
      delete form.dataset.asking;
      if (wrong !== undefined) {
        bad.textContent = wrong;
        bad.hidden = false;
      } else if ("platformAgain" in form.dataset) void again(form, bad);
      else {
        form.dataset.answered = "1";
        form.noValidate = true;
        form.submit();
      }
    });
});

/** In the place of the master password. @param {HTMLFormElement} form @param {HTMLElement} bad */
async function again(form, bad) {
  const data = new URLSearchParams(/** @type {any} */ (new FormData(form)));
  const resp = await fetch(form.action, { method: "POST", body: data });
  if (resp.status === 204) return given(form, data.get("back") ?? "");
  bad.textContent = await resp.text();
  bad.hidden = false;
}

/** Shows what only a computer with an authenticator has use for. */
function reveal() {
  const hidden = [
    .../** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll("[data-platform-only][hidden]")),
  ];
  if (!hidden.length || !globalThis.PublicKeyCredential) return;
  PublicKeyCredential.isUserVerifyingPlatformAuthenticatorAvailable()
    .then((has) => {
      if (!has) return;
      for (const el of hidden) {
        el.hidden = false;
        if (el instanceof HTMLFormElement && "atOnce" in el.dataset) el.requestSubmit();
      }
    })
    .catch(() => {}); // then it has none
}
reveal();
document.addEventListener("htmx:afterSettle", reveal);
