// A second implementation of docs/format.md, written from that page on general-purpose libraries
// (@noble/hashes, @noble/ciphers, WebCrypto), against the vectors in testdata/.
import test from "node:test";
import { WORDS as list } from "../extension/src/wordlist.js";
import assert from "node:assert/strict";
import { createPrivateKey, createPublicKey, verify } from "node:crypto";
import { readFileSync } from "node:fs";
import { join } from "node:path";
import { inflateRawSync } from "node:zlib";
import { argon2id } from "@noble/hashes/argon2.js";
import { expand as expandRaw, extract, hkdf } from "@noble/hashes/hkdf.js";
import { hmac } from "@noble/hashes/hmac.js";
import { sha256 } from "@noble/hashes/sha2.js";
import { shake256 } from "@noble/hashes/sha3.js";
import { XWing } from "@noble/post-quantum/hybrid.js";
import { chacha20poly1305, xchacha20poly1305 } from "@noble/ciphers/chacha.js";
import { root } from "./harness.mjs";

const v = JSON.parse(readFileSync(join(root, "testdata/format.json"), "utf8"));
const b = JSON.parse(readFileSync(join(root, "testdata/bridge.json"), "utf8"));
const hex = (u) => Buffer.from(u).toString("hex");
const un = (s) => new Uint8Array(Buffer.from(s, "hex"));
const utf8 = (s) => new TextEncoder().encode(s);
const cat = (...p) => new Uint8Array(Buffer.concat(p.map((x) => Buffer.from(x))));
const lp = (p) => cat([p.length >> 8, p.length & 255], p);
const u64 = (n) => {
  const o = Buffer.alloc(8);
  o.writeBigUInt64BE(BigInt(n));
  return new Uint8Array(o);
};
const expand = (key, info) => hkdf(sha256, key, utf8("redlocket/1"), utf8(info), 32);

/** The public key of an Ed25519 seed (RFC 8032), by PKCS #8 (RFC 8410). */
const publicOf = (seed) => {
  const key = createPrivateKey({
    key: Buffer.concat([Buffer.from("302e020100300506032b657004220420", "hex"), Buffer.from(seed)]),
    format: "der",
    type: "pkcs8",
  });
  return Buffer.from(createPublicKey(key).export({ format: "jwk" }).x, "base64url");
};

// HPKE (RFC 9180, base mode) with KEM 0x647a of draft-ietf-hpke-pq, HKDF-SHA-256 and ChaCha20-Poly1305.
const kem = cat(utf8("KEM"), Uint8Array.of(0x64, 0x7a));
const suite = cat(utf8("HPKE"), Uint8Array.of(0x64, 0x7a, 0, 1, 0, 3));
const u16 = (n) => Uint8Array.of(n >> 8, n & 255);

/** The key pair of a seed: DeriveKeyPair. */
function hpkeKeys(seed) {
  const label = utf8("DeriveKeyPair");
  const derived = shake256(cat(seed, utf8("HPKE-v1"), kem, u16(label.length), label, u16(32)), { dkLen: 32 });
  return XWing.keygen(derived);
}

function openHPKE(seed, info, sealed) {
  const shared = XWing.decapsulate(sealed.slice(0, 1120), hpkeKeys(seed).secretKey);
  const labeled = (label, ikm) => cat(utf8("HPKE-v1"), suite, utf8(label), ikm);
  const extracted = (salt, label, ikm) => extract(sha256, labeled(label, ikm), salt);
  const none = new Uint8Array();
  const context = cat(Uint8Array.of(0), extracted(none, "psk_id_hash", none), extracted(none, "info_hash", info));
  const secret = extracted(shared, "secret", none);
  const expanded = (label, size) => expandRaw(sha256, secret, cat(u16(size), labeled(label, context)), size);
  return chacha20poly1305(expanded("key", 32), expanded("base_nonce", 12)).decrypt(sealed.slice(1120));
}

function open(key, ad, sealed, epoch = 2) {
  assert.deepEqual([...sealed.slice(0, 5)], [2, 0, 0, 0, epoch]);
  const padded = xchacha20poly1305(key, sealed.slice(5, 29), cat(sealed.slice(0, 5), ad)).decrypt(sealed.slice(29));
  const end = padded.lastIndexOf(0x80);
  assert.ok(padded.slice(end + 1).every((x) => x === 0));
  const n = padded.length,
    e = Math.floor(Math.log2(n)),
    s = Math.floor(Math.log2(e)) + 1;
  assert.equal(n % 2 ** (e - s), 0, "a Padmé size");
  return padded.slice(0, end);
}

// RFC 9106, section 5.3: what the library computes is Argon2id.
test("Argon2id of the RFC", () => {
  const fill = (x, n) => new Uint8Array(n).fill(x);
  const tag = argon2id(fill(1, 32), fill(2, 16), {
    t: 3,
    m: 32,
    p: 4,
    dkLen: 32,
    key: fill(3, 8),
    personalization: fill(4, 12),
  });
  assert.equal(hex(tag), "0d640df58d78766c08c037a34a8b53c9d01ef0452d75b65eb52520e96b01e659");
});

test("from the master password to the keys", () => {
  const prepared = utf8(v.password.replace(/[\u00a0\u2000-\u200a\u202f\u205f\u3000]/g, " ").normalize("NFC"));
  assert.equal(hex(prepared), v.prepared);
  const stretched = argon2id(prepared, un(v.salt), { t: v.time, m: v.memory_kib, p: v.threads, dkLen: 32 });
  assert.equal(hex(stretched), v.stretched);
  const both = cat(stretched, un(v.carried));
  assert.equal(hex(expand(both, "unlock")), v.unlock_seed);
  assert.equal(hex(expand(stretched, "inner")), v.inner_key);
  assert.equal(hex(expand(both, "sign-in")), v.sign_in_key);
  assert.equal(hex(expand(un(v.recovery), "recovery")), v.recovery_seed);
  assert.equal(hex(expand(un(v.recovery), "recovery sign-in")), v.recovery_sign_in_key);
  assert.equal(hex(expand(un(v.prf), "platform")), v.platform_seed);
  assert.equal(hex(publicOf(expand(un(v.prf), "late"))), v.late_public);
});

test("a covered part, by the master password and by the recovery code", () => {
  const part = Buffer.from(v.covered, "base64");
  assert.equal(part.length, 49152);
  const plain = (key, ad, b) => xchacha20poly1305(key, b.slice(0, 24), ad).decrypt(b.slice(24));
  const place = (what, ...of) =>
    cat(lp(utf8(`redlocket/2 ${what}`)), lp(utf8(v.vault_id)), ...of.map((x) => lp(utf8(x))));
  const key = plain(un(v.inner_key), place("covered key"), part.slice(0, 72));
  assert.equal(hex(openHPKE(un(v.recovery_seed), place("covered recovery"), part.slice(144, 1312))), hex(key));
  const content = plain(expand(key, "covered"), place("covered", v.covered_of), part.slice(1312));
  const size = Buffer.from(content).readUInt32BE(0);
  assert.equal(inflateRawSync(content.slice(4, 4 + size)).toString(), v.covered_is);
  assert.ok(content.slice(4 + size).every((x) => x === 0));
});

test("the vault key, a record and a head", () => {
  const wrapped = un(v.wrapped);
  assert.equal(wrapped.length, 5 + 4 * 1172);
  assert.deepEqual([...wrapped.slice(0, 5)], [2, 0, 0, 0, 2]);
  const slot = (n) => wrapped.slice(5 + n * 1172, 5 + (n + 1) * 1172);
  const info = (n) => cat(lp(utf8("redlocket/2 slot")), lp(utf8(v.vault_id)), lp(Uint8Array.of(n)));
  const opened = openHPKE(un(v.unlock_seed), info(2), slot(2));
  assert.deepEqual([...opened.slice(0, 4)], [0, 0, 0, 2]);
  const key = opened.slice(4);
  assert.equal(hex(key), v.vault_key);
  for (const n of [0, 1, 3]) assert.throws(() => openHPKE(un(v.unlock_seed), info(n), slot(n)), "another passphrase's");
  const ring = open(expand(key, "ring"), cat(lp(utf8("redlocket/2 ring")), lp(utf8(v.vault_id))), un(v.ring));
  assert.equal(Buffer.from(ring).toString(), v.ring_plain);
  const epochs = JSON.parse(v.ring_plain).epochs;
  assert.equal(Buffer.from(epochs[0].key, "base64").toString("hex"), v.first_key);
  assert.equal(epochs[1].key, undefined, "the newest key isn't in it");
  const { locks } = JSON.parse(v.ring_plain);
  const master = hpkeKeys(un(v.unlock_seed)).publicKey;
  assert.equal(locks.length, 4);
  assert.equal(locks[2].seal, Buffer.from(master).toString("base64"));
  assert.equal(Buffer.from(locks[2].sign_in, "base64").toString("hex"), v.sign_in_public_key);
  assert.equal(hex(expand(key, "record")), v.record_key);
  const ad = (rev) => cat(lp(utf8("redlocket/2 record")), lp(utf8(v.vault_id)), lp(utf8(v.record_id)), lp(u64(rev)));
  assert.equal(Buffer.from(open(un(v.record_key), ad(v.record_rev), un(v.record_sealed))).toString(), v.record_plain);
  assert.throws(
    () => open(un(v.record_key), ad(v.record_rev + 1), un(v.record_sealed)),
    "another revision doesn't open",
  );
  const head = open(
    expand(key, "head"),
    cat(lp(utf8("redlocket/2 head")), lp(utf8(v.vault_id)), lp(u64(v.head_number))),
    un(v.head_sealed),
  );
  assert.equal(Buffer.from(head).toString(), v.head_plain);
});

test("codes on paper", () => {
  const digits = "0123456789ABCDEFGHJKMNPQRSTVWXYZ";
  const mul = (x, y) => {
    let p = 0;
    for (; y; y >>= 1, x = x & 16 ? ((x << 1) ^ 37) & 31 : x << 1) if (y & 1) p ^= x;
    return p;
  };
  const print = (code, use) => {
    const bits = [...un(code)].map((x) => x.toString(2).padStart(8, "0")).join("");
    const d = bits.match(/.{5}/g).map((x) => parseInt(x, 2));
    return Array.from({ length: 8 }, (_, g) => {
      const four = d.slice(g * 4, g * 4 + 4);
      const check = four.reduce((sum, x, i) => sum ^ mul(2 << i, x), g ^ use);
      return [...four, check].map((x) => digits[x]).join("");
    });
  };
  assert.deepEqual(print(v.carried, 0), v.carried_printed);
  assert.deepEqual(print(v.recovery, 16), v.recovery_printed);
});

const words = (digest, n) =>
  Array.from(
    { length: n },
    (_, i) => list[Number(BigInt("0x" + hex(digest.slice(i * 5, i * 5 + 5))) % BigInt(list.length))],
  );

test("a signature", () => {
  const x = Buffer.from(v.sign_in_public_key, "hex").toString("base64url");
  const key = createPublicKey({ format: "jwk", key: { kty: "OKP", crv: "Ed25519", x } });
  const of = (purpose) => cat(...[`redlocket/2 ${purpose}`, ...v.signed_parts].map((p) => lp(utf8(p))));
  assert.ok(verify(null, of(v.signed_purpose), key, un(v.signed)));
  assert.ok(!verify(null, of("sign-in"), key, un(v.signed)));
});

test("the codes of an introduction", () => {
  const salt = sha256(cat(lp(utf8("redlocket/2 introduction")), lp(utf8(v.introduction_email)))).slice(0, 16);
  const key = argon2id(utf8(v.introduction_words), salt, { t: 3, m: 64 * 1024, p: 4, dkLen: 32 });
  assert.equal(hex(key), v.introduction_key);
  const code = (purpose, ...parts) => hex(hmac(sha256, expand(key, purpose), cat(...parts.map(lp))));
  const address = utf8(v.introduction_email),
    mine = un(v.introduction_public_key);
  assert.equal(code("introduction hello", address, mine), v.introduction_hello_code);
  assert.equal(code("introduction answer", mine, un(v.introduction_sealed)), v.introduction_answer_code);
});

test("a pairing and a message of the bridge", async () => {
  const { subtle } = globalThis.crypto;
  const curve = { name: "ECDH", namedCurve: "P-256" };
  const point = un(b.browser_public);
  const url = (u) => Buffer.from(u).toString("base64url");
  const mine = await subtle.importKey(
    "jwk",
    { kty: "EC", crv: "P-256", x: url(point.slice(1, 33)), y: url(point.slice(33)), d: url(un(b.browser_private)) },
    curve,
    false,
    ["deriveBits"],
  );
  const theirs = await subtle.importKey("raw", un(b.app_public), curve, false, []);
  const secret = new Uint8Array(await subtle.deriveBits({ name: "ECDH", public: theirs }, mine, 256));
  const t = sha256(
    cat(
      ...[
        utf8("redlocket/2 pairing"),
        utf8(b.vault),
        point,
        un(b.browser_nonce),
        un(b.app_public),
        un(b.app_nonce),
      ].map(lp),
    ),
  );
  assert.deepEqual(words(t, 4), b.words);
  const shared = hkdf(sha256, secret, t, utf8("redlocket/1 connection"), 32);
  assert.equal(hex(shared), b.shared);
  const salt = cat(un(b.session_browser_nonce), un(b.session_app_nonce));
  const seal = async (info, plain) => {
    const key = await subtle.importKey("raw", hkdf(sha256, shared, salt, utf8(info), 32), "AES-GCM", false, [
      "encrypt",
    ]);
    return hex(
      new Uint8Array(
        await subtle.encrypt(
          { name: "AES-GCM", iv: cat([0, 0, 0, 0], u64(b.n)), additionalData: utf8(b.session) },
          key,
          utf8(plain),
        ),
      ),
    );
  };
  assert.equal(await seal("redlocket/1 to app", b.plain), b.sealed_to_app);
  assert.equal(await seal("redlocket/1 to browser", b.answer), b.sealed_to_browser);
});

test("a meeting of two people, and a letter", () => {
  const s = JSON.parse(readFileSync(join(root, "testdata/share.json"), "utf8"));
  const of = (secret) => {
    const b = un(secret);
    return { sign: new Uint8Array(publicOf(b.slice(0, 32))), seal: hpkeKeys(b.slice(32)).publicKey };
  };
  const asks = of(s.asks),
    answers = of(s.answers);
  assert.equal(Buffer.from(asks.sign).toString("base64"), s.asks_keys.sign);
  assert.equal(Buffer.from(asks.seal).toString("base64"), s.asks_keys.seal);
  const digest = (k) => sha256(cat(lp(k.sign), lp(k.seal)));
  const lps = (...parts) => cat(...parts.map((p) => lp(typeof p === "string" ? utf8(p) : p)));
  const first = un(s.asks_nonce);
  const commitment = sha256(lps("redlocket/2 meeting commitment", s.meeting, digest(asks), first));
  assert.equal(hex(commitment), s.commitment);
  const named = lps("redlocket/2 meeting words", s.meeting, digest(asks), digest(answers), first, un(s.answers_nonce));
  assert.deepEqual(words(sha256(named), 6), s.words);
  const shown = lps("redlocket/2 meeting code", s.meeting, digest(asks), digest(answers), s.words.join(" "));
  assert.equal("redlocket:meeting:" + Buffer.from(sha256(shown)).toString("base64url"), s.asks_code);

  const padded = openHPKE(un(s.answers).slice(32), lps("redlocket/2 letter", s.letter_id), un(s.letter));
  const body = padded.slice(0, padded.lastIndexOf(0x80));
  const from = body.slice(0, 32),
    signature = body.slice(32, 96),
    plain = body.slice(96);
  assert.equal(hex(from), hex(asks.sign));
  assert.deepEqual(JSON.parse(Buffer.from(plain).toString()), s.note);
  const key = createPublicKey({
    format: "jwk",
    key: { kty: "OKP", crv: "Ed25519", x: Buffer.from(from).toString("base64url") },
  });
  const signed = lps("redlocket/2 letter", s.letter_id, digest(answers), sha256(plain));
  assert.ok(verify(null, signed, key, signature));
});

// A shared set: the box that tells a member its roll and key, a head, and a record.
test("a shared set", () => {
  const all = JSON.parse(readFileSync(join(root, "testdata/share.json"), "utf8")),
    s = all.set,
    r = s.roll;
  const lps = (...parts) => cat(...parts.map((p) => lp(typeof p === "string" ? utf8(p) : p)));
  const b64 = (text) => new Uint8Array(Buffer.from(text, "base64"));
  const publicKey = (b) =>
    createPublicKey({ format: "jwk", key: { kty: "OKP", crv: "Ed25519", x: Buffer.from(b).toString("base64url") } });
  const own = un(all.answers);
  const me = { sign: new Uint8Array(publicOf(own.slice(0, 32))), seal: hpkeKeys(own.slice(32)).publicKey };
  const members = r.members.flatMap((m) => [m.email, m.name, b64(m.keys.sign), b64(m.keys.seal), m.right]);
  const digest = sha256(lps("redlocket/2 roll", r.set, `${r.epoch}`, "", r.name, `${r.at}`, ...members));
  assert.equal(hex(digest), s.roll_digest);

  const letter = (kind, epoch, sealed) => {
    const id = `set ${kind} ${r.set} ${epoch}`;
    const padded = openHPKE(own.slice(32), lps("redlocket/2 letter", id), un(sealed));
    const body = padded.slice(0, padded.lastIndexOf(0x80));
    const plain = body.slice(96);
    const signed = lps("redlocket/2 letter", id, sha256(lps(me.sign, me.seal)), sha256(plain));
    assert.equal(hex(body.slice(0, 32)), hex(b64(r.members[0].keys.sign)), "by one who may manage");
    assert.ok(verify(null, signed, publicKey(body.slice(0, 32)), body.slice(32, 96)));
    return Buffer.from(plain).toString();
  };
  const box = JSON.parse(letter("box", 1, s.box));
  assert.deepEqual(box.roll, r);
  assert.equal(Buffer.from(box.key, "base64").toString("hex"), s.key);
  assert.equal(letter("farewell", 2, s.farewell), "");
  assert.throws(() => letter("farewell", 3, s.farewell));

  const vault = `${r.set}/1`;
  const record = open(
    expand(un(s.key), "record"),
    lps("redlocket/2 record", vault, s.record_id, u64(1)),
    un(s.record),
    1,
  );
  assert.equal(Buffer.from(record).toString(), s.plain);
  const head = JSON.parse(
    Buffer.from(open(expand(un(s.key), "head"), lps("redlocket/2 head", vault, u64(1)), un(s.sealed), 1)).toString(),
  );
  assert.deepEqual(head, s.head);
  const rev = u64(1),
    id = utf8(s.record_id);
  const state = sha256(cat(utf8("redlocket/1 root"), Uint8Array.of(0, id.length), id, rev, sha256(un(s.record))));
  assert.equal(hex(state), head.root);
  const signed = lps(
    "redlocket/2 shared head",
    vault,
    digest,
    "1",
    un(head.prev),
    un(head.root),
    head.device,
    `${head.at}`,
  );
  assert.ok(verify(null, signed, publicKey(b64(r.members[0].keys.sign)), b64(head.sig)));
  assert.ok(
    !verify(null, signed, publicKey(b64(r.members[1].keys.sign)), b64(head.sig)),
    "not by one who may only see",
  );
});

// A helping hand: Shamir's scheme over the order of ristretto255, by Lagrange's formula at 0.
test("the parts of a helping hand", () => {
  const h = JSON.parse(readFileSync(join(root, "testdata/share.json"), "utf8")).hand;
  const order = 2n ** 252n + 27742317777372353535851937790883648493n;
  const mod = (a) => ((a % order) + order) % order;
  const inverse = (a) => {
    let out = 1n,
      base = mod(a);
    for (let e = order - 2n; e > 0n; e >>= 1n, base = mod(base * base)) if (e & 1n) out = mod(out * base);
    return out;
  };
  const little = (b) => BigInt("0x" + Buffer.from(b).reverse().toString("hex"));
  const lps = (...parts) => cat(...parts.map((p) => lp(utf8(p))));
  const two = (a, b) => {
    const at = (p, q) => mod(little(Buffer.from(p.value, "base64")) * mod(BigInt(q) * inverse(BigInt(q - p.number))));
    const secret = mod(at(a, b.number) + at(b, a.number));
    const key = new Uint8Array(Buffer.from(secret.toString(16).padStart(64, "0"), "hex").reverse());
    return hex(open(expand(key, "hand"), lps("redlocket/2 hand", a.hand, a.vault), un(h.sealed), 0));
  };
  const [one, other, third] = h.parts;
  assert.equal(two(one, other), h.code);
  assert.equal(two(third, one), h.code);
  assert.throws(() => two(one, { ...third, number: 2 }));
});
