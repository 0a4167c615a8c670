package wire

import (
	"crypto/sha256"
	"encoding/base64"
	"strconv"
	"strings"

	"redlocket/core/keys"
)

// A request is signed by the device that makes it: nothing in it can be used for another request, at another cloud, or
// twice. What an account's own keys are needed for carries a proof besides, over a challenge of the cloud.
const (
	headerSigned = "Authorization"
	headerProof  = "Red-Locket-Proof"
	scheme       = "RedLocket "
)

// Header is a request's header, such as http.Header.
type Header interface {
	Get(name string) string
	Set(name, value string)
}

// Signature is how a device signs a request.
type Signature struct {
	Account, Device string
	Time            int64  // of the device's clock, milliseconds since 1970
	Nonce           string // fresh
	Bytes           []byte
}

// Digest is what signatures and proofs name a body by.
func Digest(body []byte) string {
	sum := sha256.Sum256(body)
	return string(sum[:])
}

func (s Signature) parts(authority, method, target, digest string) []string {
	return []string{
		authority, method, target, s.Account, s.Device, strconv.FormatInt(s.Time, 10), s.Nonce, digest,
	}
}

// Sign signs a request to an authority (the host of the cloud's address, with its port if it isn't the usual one).
// target is the path with the query, as it is sent.
func (s Signature) Sign(key keys.Key, authority, method, target, digest string) Signature {
	s.Bytes = key.Sign("request", s.parts(authority, method, target, digest)...)
	return s
}

// Holds reports whether the device with a public key signed this request.
func (s Signature) Holds(public []byte, authority, method, target, digest string) bool {
	return keys.Verify(public, s.Bytes, "request", s.parts(authority, method, target, digest)...)
}

// Set writes the signature into a request's header, with the digest of its body.
func (s Signature) Set(h Header, digest string) {
	h.Set(headerSigned, scheme+strings.Join([]string{
		"account=" + s.Account, "device=" + s.Device, "time=" + strconv.FormatInt(s.Time, 10), "nonce=" + s.Nonce,
		"digest=" + encode(digest), "signature=" + encode(string(s.Bytes)),
	}, ","))
}

// SignatureOf reads a request's signature and the digest that it is made over. ok is false if there is none.
func SignatureOf(h Header) (s Signature, digest string, ok bool) {
	m, ok := fields(h.Get(headerSigned), scheme)
	if !ok {
		return s, "", false
	}
	s.Account, s.Device, s.Nonce = m["account"], m["device"], m["nonce"]
	at, err := strconv.ParseInt(m["time"], 10, 64)
	digest, ok1 := decode(m["digest"])
	sig, ok2 := decode(m["signature"])
	s.Time, s.Bytes = at, []byte(sig)
	return s, digest, err == nil && ok1 && ok2 && s.Account != "" && s.Device != "" && len(s.Nonce) >= 16 &&
		len(s.Nonce) <= 64
}

// Proof shows that whoever makes a request has one of an account's own keys.
type Proof struct {
	Challenge []byte // of the cloud
	Bytes     []byte
}

// The purposes of proofs, by the key that is shown.
const (
	ProofSignIn   = "sign-in"
	ProofRecovery = "recovery"
	ProofLate     = "late" // by a key that an authenticator makes; see [LateKeys]
)

// Prove makes the proof for a request.
func Prove(key keys.Key, purpose string, challenge []byte, authority, method, target, digest string) Proof {
	return Proof{challenge, key.Sign(purpose, authority, method, target, string(challenge), digest)}
}

// Holds reports whether a proof is made with the key that belongs to a public one.
func (p Proof) Holds(public []byte, purpose, authority, method, target, digest string) bool {
	return keys.Verify(public, p.Bytes, purpose, authority, method, target, string(p.Challenge), digest)
}

// Set writes the proof into a request's header.
func (p Proof) Set(h Header) {
	h.Set(headerProof, "challenge="+encode(string(p.Challenge))+",signature="+encode(string(p.Bytes)))
}

// ProofOf reads a request's proof. ok is false if there is none.
func ProofOf(h Header) (p Proof, ok bool) {
	m, ok := fields(h.Get(headerProof), "")
	c, ok1 := decode(m["challenge"])
	b, ok2 := decode(m["signature"])
	return Proof{[]byte(c), []byte(b)}, ok && ok1 && ok2
}

func fields(s, prefix string) (map[string]string, bool) {
	const most = 2048
	rest, ok := strings.CutPrefix(s, prefix)
	if !ok || s == "" || len(s) > most {
		return nil, false
	}
	m := map[string]string{}
	for f := range strings.SplitSeq(rest, ",") {
		name, value, _ := strings.Cut(f, "=")
		if _, twice := m[name]; twice {
			return nil, false
		}
		m[name] = value
	}
	return m, true
}

func encode(s string) string { return base64.RawURLEncoding.EncodeToString([]byte(s)) }

func decode(s string) (string, bool) {
	b, err := base64.RawURLEncoding.DecodeString(s)
	return string(b), err == nil
}

// Authority is the host of an address as signatures name it: in lower case, without the port that its scheme has
// anyway.
func Authority(scheme, host string) string {
	host = strings.ToLower(host)
	switch scheme {
	case "https":
		return strings.TrimSuffix(host, ":443")
	case "http":
		return strings.TrimSuffix(host, ":80")
	}
	return host
}
