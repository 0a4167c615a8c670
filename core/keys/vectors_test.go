//go:build !teststrength

package keys

import (
	"bytes"
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"flag"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/secret"
)

var write = flag.Bool("write", false, "write testdata/format.json anew")

const vectorFile = "../../testdata/format.json"

// vectors are what docs/format.md's other implementations are checked with.
// Byte strings are in hex.
type vectors struct {
	Comment  string `json:"comment"`
	Password string `json:"password"` // NFD and with a no-break space: to be prepared first
	Prepared string `json:"prepared"`
	Salt     string `json:"salt"`
	Time     uint32 `json:"time"`
	Memory   uint32 `json:"memory_kib"`
	Threads  uint8  `json:"threads"`

	Stretched      string   `json:"stretched"`
	Carried        string   `json:"carried"`
	CarriedPrinted []string `json:"carried_printed"`
	Unlock         string   `json:"unlock_seed"` // of the HPKE key pair
	Inner          string   `json:"inner_key"`
	SignIn         string   `json:"sign_in_key"`

	Recovery        string   `json:"recovery"`
	RecoveryPrinted []string `json:"recovery_printed"`
	RecoverySeed    string   `json:"recovery_seed"` // of the HPKE key pair
	RecoverySignIn  string   `json:"recovery_sign_in_key"`
	PRF             string   `json:"prf"`
	PlatformSeed    string   `json:"platform_seed"` // of the HPKE key pair
	LatePublic      string   `json:"late_public"`

	VaultID   string `json:"vault_id"`
	VaultKey  string `json:"vault_key"`
	Wrapped   string `json:"wrapped"`    // for four slots, of which the third is the master password's
	Covered   string `json:"covered"`    // in base64
	CoveredOf string `json:"covered_of"` // the device
	CoveredIs string `json:"covered_is"` // text
	Ring      string `json:"ring"`       // of two epochs; the second key is vault_key
	FirstKey  string `json:"first_key"`  // of epoch 1
	RingPlain string `json:"ring_plain"` // text
	RecordKey string `json:"record_key"`
	HeadKey   string `json:"head_key"`

	RecordID     string `json:"record_id"`
	RecordRev    uint64 `json:"record_rev"`
	RecordPlain  string `json:"record_plain"` // text
	RecordSealed string `json:"record_sealed"`
	HeadNumber   uint64 `json:"head_number"`
	HeadPlain    string `json:"head_plain"` // text
	HeadSealed   string `json:"head_sealed"`

	SignInPublic       string   `json:"sign_in_public_key"`
	SignedPurpose      string   `json:"signed_purpose"`
	SignedParts        []string `json:"signed_parts"` // texts
	SignedByDevice     string   `json:"signed"`       // by the sign-in key
	IntroductionEmail  string   `json:"introduction_email"`
	IntroductionWords  string   `json:"introduction_words"`
	IntroductionKey    string   `json:"introduction_key"`
	IntroductionPublic string   `json:"introduction_public_key"` // not of the group: the codes alone are shown
	IntroductionHello  string   `json:"introduction_hello_code"`
	IntroductionSealed string   `json:"introduction_sealed"`
	IntroductionAnswer string   `json:"introduction_answer_code"`
}

// counting is a source of bytes that anyone can repeat: 0, 1, 2 …
type counting byte

func (c *counting) Read(b []byte) (int, error) {
	for i := range b {
		b[i] = byte(*c)
		*c++
	}
	return len(b), nil
}

func TestFormatVectors(t *testing.T) {
	var source counting
	code := func(from byte) (c Code) {
		for i := range c {
			c[i] = from + byte(i)*7
		}
		return c
	}
	must := func(b []byte, err error) string {
		require.NoError(t, err)
		return hex.EncodeToString(b)
	}
	v := vectors{
		Comment:    "Test vectors of docs/format.md. Byte strings in hex.",
		Password:   "Mo\u0300le\u00a0Quay 12",
		VaultID:    "0197f3a2-0000-7000-8000-000000000001",
		RecordID:   "0197f3a2-0000-7000-8000-000000000002",
		RecordRev:  3,
		HeadNumber: 12,
	}
	p := DefaultParams([]byte("saltmarsh quay 1"))
	v.Salt, v.Time, v.Memory, v.Threads = hex.EncodeToString(p.Salt), p.Time, p.Memory, p.Threads
	v.Prepared = must(Prepare(secret.New(v.Password)))
	stretched, err := Stretch(secret.New(v.Password), p)
	require.NoError(t, err)
	v.Stretched = hex.EncodeToString(stretched[:])
	carried, recovery := code(1), code(100)
	pair := Derive(stretched, carried)
	rec, err := DeriveRecovery(recovery)
	require.NoError(t, err)
	hexed := func(k Key) string { return hex.EncodeToString(k[:]) }
	v.Carried, v.CarriedPrinted = hex.EncodeToString(carried[:]), carried.Print(Carried)
	v.Unlock, v.Inner, v.SignIn = hexed(pair.seed), hexed(pair.inner), hexed(pair.SignIn)
	v.Recovery, v.RecoveryPrinted = hex.EncodeToString(recovery[:]), recovery.Print(Recovery)
	v.RecoverySeed, v.RecoverySignIn = hexed(expand(recovery[:], "recovery")), hexed(rec.SignIn)
	prf := bytes.Repeat([]byte{0x5A}, PRFSize)
	v.PRF, v.PlatformSeed = hex.EncodeToString(prf), hexed(expand(prf, "platform"))
	late := expand(prf, "late")
	v.LatePublic = hex.EncodeToString(late.Public())
	first, err := NewVaultKey(&source)
	require.NoError(t, err)
	vk, err := NewVaultKey(&source)
	require.NoError(t, err)
	v.FirstKey, v.VaultKey = hexed(Key(first)), hexed(Key(vk))
	ring := NewRing(first).With(vk, Start{After: 11, Hash: [32]byte{7}})
	locks, err := NewLocks(&source)
	require.NoError(t, err)
	locks[2], err = pair.Slot()
	require.NoError(t, err)
	v.Wrapped = wrappedVector(t, locks, pair, v.VaultID, ring.Newest())
	v.CoveredOf, v.CoveredIs = "0197f3a2-0000-7000-8000-000000000003", `{"entries":[]}`
	v.Covered = coveredVector(t, pair, rec, v)
	v.Ring = must(ring.Seal(&source, v.VaultID, Kept{carried, locks}))
	sealed, err := hex.DecodeString(v.Ring)
	require.NoError(t, err)
	plain, err := open(expand(vk[:], "ring"), associatedData("ring", v.VaultID), sealed)
	require.NoError(t, err)
	v.RingPlain = string(plain)
	vault := NewVault(v.VaultID, ring, &source)
	v.RecordKey, v.HeadKey = hexed(vault.keys[1].record), hexed(vault.keys[1].head)
	v.RecordPlain = `{"created":1,"f":{"password":{"at":1,"by":"d","v":"winkle"}},"id":"` + v.RecordID + `","t":"login"}`
	v.RecordSealed = must(vault.SealRecord(v.RecordID, v.RecordRev, []byte(v.RecordPlain)))
	v.HeadPlain = `{"n":12,"prev":"` + strings.Repeat(
		"ab",
		32,
	) + `","root":"` + strings.Repeat(
		"cd",
		32,
	) + `","device":"d","at":1}`
	v.HeadSealed = must(vault.SealHead(v.HeadNumber, []byte(v.HeadPlain)))
	v.SignInPublic, v.SignedPurpose = hex.EncodeToString(pair.SignIn.Public()), "request"
	v.SignedParts = []string{
		"cloud.example", "GET", "/v1/changes?since=12", "0197f3a2-0000-7000-8000-000000000003",
		"0197f3a2-0000-7000-8000-000000000004", "1790000000000", "ABCDEFGHIJKLMNOPQRSTUVWXYZ", "digest",
	}
	v.SignedByDevice = hex.EncodeToString(pair.SignIn.Sign(v.SignedPurpose, v.SignedParts...))
	v.IntroductionEmail, v.IntroductionWords = "maren@x.example", "abacus zoom kelp ferry lantern forty"
	key := introductionKey(introductionLabel, v.IntroductionEmail, v.IntroductionWords)
	public, answer := bytes.Repeat([]byte{0x5a}, 1216), bytes.Repeat([]byte{0xa5}, 1500)
	v.IntroductionKey, v.IntroductionPublic = hex.EncodeToString(key[:]), hex.EncodeToString(public)
	v.IntroductionHello = hex.EncodeToString(helloCode(key, v.IntroductionEmail, public))
	v.IntroductionSealed = hex.EncodeToString(answer)
	v.IntroductionAnswer = hex.EncodeToString(answerCode(key, public, answer))

	got, err := json.MarshalIndent(v, "", "  ")
	require.NoError(t, err)
	got = append(got, '\n')
	if *write {
		require.NoError(t, os.WriteFile(vectorFile, got, 0o644))
	}
	want, err := os.ReadFile(vectorFile)
	require.NoError(t, err)
	assert.Equal(t, string(want), string(got), "the format changed: what was sealed before can't be opened any more")
}

// wrappedVector returns the wrapped key of the vectors: sealing to a public key is different each time, so the one that
// is there has to open.
func wrappedVector(t *testing.T, locks Locks, pair Pair, vaultID string, key EpochKey) string {
	b, err := os.ReadFile(vectorFile)
	require.NoError(t, err)
	var was vectors
	require.NoError(t, json.Unmarshal(b, &was))
	wrapped, err := hex.DecodeString(was.Wrapped)
	require.NoError(t, err)
	if *write {
		wrapped, err = locks.Wrap(vaultID, key)
		require.NoError(t, err)
	}
	got, slot, err := pair.Open(vaultID, wrapped)
	require.NoError(t, err)
	assert.Equal(t, key, got)
	assert.Equal(t, 2, slot)
	return hex.EncodeToString(wrapped)
}

// coveredVector is the same for a covered part.
func coveredVector(t *testing.T, pair Pair, recovery RecoveryKeys, v vectors) string {
	b, err := os.ReadFile(vectorFile)
	require.NoError(t, err)
	var was vectors
	require.NoError(t, json.Unmarshal(b, &was))
	if *write {
		c, err := NewCovered(rand.Reader, v.VaultID, pair, recovery.Public())
		require.NoError(t, err)
		part, err := c.Seal(rand.Reader, v.CoveredOf, []byte(v.CoveredIs))
		require.NoError(t, err)
		was.Covered = base64.StdEncoding.EncodeToString(part)
	}
	part, err := base64.StdEncoding.DecodeString(was.Covered)
	require.NoError(t, err)
	for _, open := range []func(string, []byte) (Covered, error){pair.OpenCovered, recovery.OpenCovered} {
		c, err := open(v.VaultID, part)
		require.NoError(t, err)
		content, err := c.Open(v.CoveredOf, part)
		require.NoError(t, err)
		assert.Equal(t, v.CoveredIs, string(content))
	}
	return was.Covered
}

// A release stretches as much as it says: what age chooses by itself, and all that a vault's parameters ask for.
func TestAReleaseStretches(t *testing.T) {
	assert.Equal(t, 18, AgeWork) // filippo.io/age: "1s on a modern machine"
	time, memory := cost(Params{Time: 3, Memory: 64 << 10, Threads: 4})
	assert.Equal(t, []uint32{3, 64 << 10}, []uint32{time, memory})
}
