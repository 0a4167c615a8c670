// The sealed line to the device app. What is said over it is decided elsewhere.
import { WORDS } from "./wordlist.js";

export const api = globalThis.browser ?? chrome;

/** @param {ArrayBuffer | Uint8Array} b @returns {string} */
const toBase64 = (b) => btoa(String.fromCharCode(...new Uint8Array(b)));
/** @param {string} s @returns {Uint8Array<ArrayBuffer>} */
const fromBase64 = (s) => Uint8Array.from(atob(s), (c) => c.charCodeAt(0));
/** @param {string} s */
const bytes = (s) => new TextEncoder().encode(s);

/** @param {Uint8Array[]} parts @returns {Uint8Array<ArrayBuffer>} */
function concat(...parts) {
  const out = new Uint8Array(parts.reduce((n, p) => n + p.length, 0));
  let at = 0;
  for (const p of parts) {
    out.set(p, at);
    at += p.length;
  }
  return out;
}

/** What came back instead of an answer. */
export class LineError extends Error {
  /**
   * @param {"none" | "locked" | "over" | "away" | "no session" | "app too old" | "extension too old"} kind
   * @param {string} [open]
   */
  constructor(kind, open) {
    super(kind);
    this.kind = kind;
    this.open = open;
  }
}

/** @param {string} app @param {string} path @param {unknown} body @returns {Promise<any>} */
async function post(app, path, body) {
  let resp;
  try {
    resp = await fetch(`http://${app}/bridge/${path}`, {
      method: "POST",
      headers: { "Content-Type": "application/json" },
      body: JSON.stringify(body),
      credentials: "omit",
      cache: "no-store",
    });
  } catch {
    throw new LineError("away");
  }
  const out = await resp.json().catch(() => undefined);
  if (resp.ok && out) return out;
  if (resp.status === 423) throw new LineError("locked", out?.open);
  if (resp.status === 401) throw new LineError("no session");
  if (resp.status === 426) throw new LineError(out?.error === "app too old" ? "app too old" : "extension too old");
  if (resp.status === 410) throw new LineError("over");
  throw new LineError("away");
}

/**
 * One value in the extension's own database: a key can be kept there without ever being readable.
 * @returns {Promise<IDBDatabase>}
 */
function database() {
  return new Promise((done, fail) => {
    const r = indexedDB.open("red-locket", 1);
    r.onupgradeneeded = () => r.result.createObjectStore("line");
    r.onsuccess = () => done(r.result);
    r.onerror = () => fail(r.error);
  });
}

/** @typedef {{app: string, profile: string, name: string, id: string, key: CryptoKey}} Connection */

/** @param {string} key @returns {Promise<any>} */
async function load(key) {
  const db = await database();
  return new Promise((done, fail) => {
    const r = db.transaction("line").objectStore("line").get(key);
    r.onsuccess = () => done(r.result);
    r.onerror = () => fail(r.error);
  });
}

/** @param {string} key @param {any} value @returns {Promise<void>} */
async function save(key, value) {
  const db = await database();
  return new Promise((done, fail) => {
    const t = db.transaction("line", "readwrite");
    t.objectStore("line").put(value, key);
    t.oncomplete = () => done();
    t.onerror = () => fail(t.error);
  });
}

/** @returns {Promise<Connection | undefined>} */
export const loadConnection = () => load("connection");

/** What tells this installation from others of the same extension: made once, known to the app alone. */
async function installation() {
  const had = await load("installation");
  if (had) return had;
  const made = [...crypto.getRandomValues(new Uint8Array(16))].map((b) => b.toString(16).padStart(2, "0")).join("");
  await save("installation", made);
  return made;
}

/** Length-prefixed parts, as docs/format.md has them. @param {Uint8Array[]} parts */
function prefixed(...parts) {
  return concat(...parts.flatMap((p) => [new Uint8Array([p.length >> 8, p.length & 255]), p]));
}

/** Whose vaults an app has. @param {string} app @returns {Promise<{id: string, name: string, email: string}[]>} */
export const vaults = async (app) => (await post(app, "vaults", {})).vaults ?? [];

/**
 * Asks to be connected to a vault: shows the four words, and resolves once the app has said yes or no. Nothing is kept
 * yet: that is for the person to say, in the extension's own page.
 * @param {{app: string, vault: string, name: string, show: (words: string[]) => void}} what
 * @returns {Promise<Connection | undefined>} undefined if it was refused
 */
export async function connect({ app, vault, name, show }) {
  const pair = await crypto.subtle.generateKey({ name: "ECDH", namedCurve: "P-256" }, false, ["deriveBits"]);
  const pub = new Uint8Array(await crypto.subtle.exportKey("raw", pair.publicKey));
  const nonce = crypto.getRandomValues(new Uint8Array(32));
  const commit = await crypto.subtle.digest("SHA-256", concat(pub, nonce));
  const hello = await post(app, "hello", { commit: toBase64(commit), name, vault, installation: await installation() });
  const theirPub = fromBase64(hello.pub),
    theirNonce = fromBase64(hello.nonce);
  const peer = await crypto.subtle.importKey("raw", theirPub, { name: "ECDH", namedCurve: "P-256" }, false, []);
  const secret = await crypto.subtle.deriveBits({ name: "ECDH", public: peer }, pair.privateKey, 256);
  const parts = [bytes("redlocket/2 pairing"), bytes(vault), pub, nonce, theirPub, theirNonce];
  const transcript = new Uint8Array(await crypto.subtle.digest("SHA-256", prefixed(...parts)));
  await post(app, "reveal", { id: hello.id, pub: toBase64(pub), nonce: toBase64(nonce) });
  show(wordsOf(transcript, 4));
  const base = await crypto.subtle.importKey("raw", secret, "HKDF", false, ["deriveBits"]);
  const shared = await crypto.subtle.deriveBits(
    { name: "HKDF", hash: "SHA-256", salt: transcript, info: bytes("redlocket/1 connection") },
    base,
    256,
  );
  const key = await crypto.subtle.importKey("raw", shared, "HKDF", false, ["deriveKey"]);
  for (;;) {
    const s = await post(app, "state", { id: hello.id });
    if (s.state === "refused") return undefined;
    if (s.state === "confirmed") {
      const told = await openConfirmed(key, fromBase64(s.sealed));
      if (told.profile !== vault) throw new LineError("away");
      return { app, profile: vault, name: String(told.name), id: hello.id, key };
    }
    await new Promise((r) => setTimeout(r, 700));
  }
}

/** Opens what the app says once it has confirmed. @param {CryptoKey} key @param {Uint8Array<ArrayBuffer>} sealed */
async function openConfirmed(key, sealed) {
  const once = await crypto.subtle.deriveKey(
    { name: "HKDF", hash: "SHA-256", salt: new Uint8Array(0), info: bytes("redlocket/2 confirmed") },
    key,
    { name: "AES-GCM", length: 256 },
    false,
    ["decrypt"],
  );
  const plain = await crypto.subtle.decrypt({ name: "AES-GCM", iv: iv(0) }, once, sealed);
  return JSON.parse(new TextDecoder().decode(plain));
}

/** Takes a connection that its person agreed to, in place of the one before. @param {Connection} c */
export const keepConnection = (c) => save("connection", c);

/** Ends the session of the connection before. */
export function forgetSession() {
  session = undefined;
}

/**
 * The words of a digest: five bytes each, modulo the list.
 * @param {Uint8Array} digest
 * @param {number} n
 * @returns {string[]}
 */
function wordsOf(digest, n) {
  return Array.from({ length: n }, (_, i) => {
    let v = 0n;
    for (const b of digest.subarray(i * 5, i * 5 + 5)) v = v * 256n + BigInt(b);
    return WORDS[Number(v % BigInt(WORDS.length))];
  });
}

/** @type {Promise<{id: string, app: string, toApp: CryptoKey, back: CryptoKey, n: number}> | undefined} */
let session;

async function startSession() {
  const c = await loadConnection();
  if (!c) throw new LineError("none");
  const nonce = crypto.getRandomValues(new Uint8Array(32));
  const { version } = chrome.runtime.getManifest();
  const hello = { protocol: PROTOCOL, profile: c.profile, id: c.id, nonce: toBase64(nonce), version };
  const s = await post(c.app, "session", hello);
  const salt = concat(nonce, fromBase64(s.nonce));
  /** @param {string} info @param {KeyUsage[]} use */
  const derive = (info, use) =>
    crypto.subtle.deriveKey(
      { name: "HKDF", hash: "SHA-256", salt, info: bytes(info) },
      c.key,
      { name: "AES-GCM", length: 256 },
      false,
      use,
    );
  return {
    id: s.session,
    app: c.app,
    toApp: await derive("redlocket/1 to app", ["encrypt"]),
    back: await derive("redlocket/1 to browser", ["decrypt"]),
    n: 0,
  };
}

/** @param {number} n */
function iv(n) {
  const b = new Uint8Array(12);
  new DataView(b.buffer).setBigUint64(4, BigInt(n));
  return b;
}

/** What is said between extension and app, as the app numbers it. */
const PROTOCOL = 1;

/** What is done whenever the vault is found locked. @type {() => void} */
let locked = () => {};
/** @param {() => void} then */
export const onLocked = (then) => (locked = then);

/** Asks the app one thing. @param {Record<string, unknown>} request @returns {Promise<any>} */
export async function ask(request) {
  for (let turn = 0; ; turn++) {
    session ??= startSession();
    const mine = session;
    try {
      const s = await mine;
      const n = ++s.n;
      const sealed = await crypto.subtle.encrypt(
        { name: "AES-GCM", iv: iv(n), additionalData: bytes(s.id) },
        s.toApp,
        bytes(JSON.stringify(request)),
      );
      const answer = await post(s.app, "message", { session: s.id, n, sealed: toBase64(sealed) });
      if (answer.n !== n) throw new LineError("away");
      const plain = await crypto.subtle.decrypt(
        { name: "AES-GCM", iv: iv(n), additionalData: bytes(s.id) },
        s.back,
        fromBase64(answer.sealed),
      );
      return JSON.parse(new TextDecoder().decode(plain));
    } catch (e) {
      if (session === mine) session = undefined;
      if (e instanceof LineError && e.kind === "locked") locked();
      // The app was started again, or the vault was locked and opened: begin again, once.
      if (e instanceof LineError && e.kind === "no session" && turn === 0) continue;
      throw e;
    }
  }
}
