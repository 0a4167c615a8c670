package share_test

import (
	"bytes"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"flag"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/keys"
	"redlocket/core/ledger"
	"redlocket/core/share"
)

var write = flag.Bool("write", false, "write testdata/share.json anew")

const vectorFile = "../../testdata/share.json"

// vectors are what docs/format.md's other implementations are checked with. Byte strings are in hex.
type vectors struct {
	Comment    string              `json:"comment"`
	Asks       string              `json:"asks"` // private: Ed25519 seed, HPKE seed
	Answers    string              `json:"answers"`
	AsksKeys   keys.PublicIdentity `json:"asks_keys"` // public, as they travel
	Meeting    string              `json:"meeting"`
	AsksNonce  string              `json:"asks_nonce"`
	Commitment string              `json:"commitment"`
	Nonce      string              `json:"answers_nonce"`
	Words      []string            `json:"words"`
	Code       string              `json:"asks_code"` // as the screen of who asks shows it
	Letter     string              `json:"letter"`
	LetterID   string              `json:"letter_id"`
	Note       json.RawMessage     `json:"note"`
	Set        setVectors          `json:"set"`
	Hand       handVectors         `json:"hand"`
}

// handVectors are a helping hand: parts of which any two open what is sealed.
type handVectors struct {
	Code   string       `json:"code"`
	Parts  []share.Part `json:"parts"` // as they travel
	Sealed string       `json:"sealed"`
}

// vectorHand opens what stands in the file by each two parts, or makes it anew.
func vectorHand(t *testing.T, was handVectors, anew bool) handVectors {
	code := keys.Code(bytes.Repeat([]byte{6}, keys.CodeSize))
	const hand, vaultID = "0197a5c0-0000-7000-8000-000000000005", "0197a5c0-0000-7000-8000-000000000006"
	if anew {
		sealed, parts, err := share.Split(rand.Reader, hand, vaultID, code, share.Rule{Need: 2, Of: 3}, 1764300000000)
		require.NoError(t, err)
		was = handVectors{hex.EncodeToString(code[:]), parts, hex.EncodeToString(sealed)}
	}
	sealed, err := hex.DecodeString(was.Sealed)
	require.NoError(t, err)
	require.Len(t, was.Parts, 3)
	for i := range was.Parts {
		got, err := share.Together(sealed, append(append([]share.Part{}, was.Parts[:i]...), was.Parts[i+1:]...))
		require.NoError(t, err)
		assert.Equal(t, was.Code, hex.EncodeToString(got[:]))
	}
	return was
}

// setVectors are a shared set's first epoch: what its two members hold, and what its chain has.
type setVectors struct {
	Roll     json.RawMessage `json:"roll"`
	Digest   string          `json:"roll_digest"`
	Key      string          `json:"key"`
	Box      string          `json:"box"`    // to who answers
	Head     json.RawMessage `json:"head"`   // as it is sealed
	Sealed   string          `json:"sealed"` // head 1
	Record   string          `json:"record"` // revision 1, sealed
	RecordID string          `json:"record_id"`
	Plain    string          `json:"plain"`
	Farewell string          `json:"farewell"` // to who answers, of epoch 2
}

// vectorSet makes them. What is sealed differs each time: was has what stands in the file, which is opened.
func vectorSet(t *testing.T, asks, answers keys.Identity, was setVectors, anew bool) (v setVectors) {
	key := keys.VaultKey(bytes.Repeat([]byte{5}, keys.KeySize))
	r := share.Roll{Set: "0197a5c0-0000-7000-8000-000000000003", Epoch: 1, Name: "Family", At: 1764300000000,
		Members: []share.Member{
			{Email: "maren@cormorant.example", Name: "Maren", Keys: asks.Public(), Right: share.Manage},
			{Email: "idris@cormorant.example", Name: "Idris", Keys: answers.Public(), Right: share.See},
		}}
	require.NoError(t, r.Check())
	roll, err := json.Marshal(r)
	require.NoError(t, err)
	digest := r.Digest()
	v = was
	v.Roll, v.Digest, v.Key = roll, hex.EncodeToString(digest[:]), hex.EncodeToString(key[:])
	v.RecordID, v.Plain = "0197a5c0-0000-7000-8000-000000000004", `{"t":"note","id":"x"}`
	epoch := share.Epoch(r, key, rand.Reader)
	sealed := func(b []byte, err error) string {
		require.NoError(t, err)
		return hex.EncodeToString(b)
	}
	if anew {
		v.Box = sealed(share.SealBox(asks, answers.Public(), r, key))
		v.Record = sealed(epoch.SealRecord(v.RecordID, 1, []byte(v.Plain)))
		v.Farewell = sealed(share.SealFarewell(asks, answers.Public(), r.Set, 2))
	}
	record, err := hex.DecodeString(v.Record)
	require.NoError(t, err)
	h := ledger.Head{Number: 1, Device: "d", At: r.At, StateHash: ledger.StateHash(ledger.State{
		v.RecordID: {Rev: 1, Hash: ledger.Sum(record)},
	})}
	h.Signature = share.SignHead(asks, r, h)
	v.Head = h.Encode()
	if anew {
		v.Sealed = sealed(epoch.SealHead(1, v.Head))
	}
	open := func(s string) []byte {
		b, err := hex.DecodeString(s)
		require.NoError(t, err)
		return b
	}
	got, k, by, err := share.OpenBox(answers, r.Set, 1, open(v.Box))
	require.NoError(t, err)
	assert.Equal(t, r, got)
	assert.Equal(t, key, k)
	assert.Equal(t, asks.Public().Sign, by)
	require.NoError(t, share.OpenFarewell(answers, r, 2, open(v.Farewell)))
	_, pulled, err := ledger.Chain{}.Verify(epoch, 1, []ledger.SealedHead{{Number: 1, Blob: open(v.Sealed)}},
		[]ledger.SealedRecord{{ID: v.RecordID, Rev: 1, Blob: record}})
	require.NoError(t, err)
	assert.Equal(t, v.Plain, string(pulled.Records[0].Plain))
	_, err = share.HeadBy(r, pulled.Heads[0])
	require.NoError(t, err)
	return v
}

// fixed is randomness of which every byte is the same.
type fixed byte

func (f fixed) Read(b []byte) (int, error) {
	return copy(b, bytes.Repeat([]byte{byte(f)}, len(b))), nil
}

// TestVectors checks that testdata/share.json is what this package makes. The letter is different each time it is
// sealed: the one that is there is opened.
func TestVectors(t *testing.T) {
	asks, err := keys.NewIdentity(fixed(1))
	require.NoError(t, err)
	answers, err := keys.NewIdentity(fixed(2))
	require.NoError(t, err)
	const meeting = "0197a5c0-0000-7000-8000-000000000001"
	one, err := share.NewAsker(fixed(3), meeting, asks.Public())
	require.NoError(t, err)
	offer := one.Offer("Maren")
	other, err := share.NewAnswerer(fixed(4), offer, answers.Public())
	require.NoError(t, err)
	require.NoError(t, one.Take(other.Answer("Idris")))
	at := time.Date(2026, 11, 27, 10, 0, 0, 0, time.UTC)
	n := share.Note{At: at.UnixMilli(), Text: "the gate is 4471"}
	plain, err := json.Marshal(n)
	require.NoError(t, err)
	want := vectors{
		Comment: "Test vectors of docs/format.md, people and letters. Byte strings in hex.",
		Asks:    hex.EncodeToString(asks.Bytes()), Answers: hex.EncodeToString(answers.Bytes()),
		AsksKeys: asks.Public(),
		Meeting:  meeting, AsksNonce: hex.EncodeToString(one.Nonce), Commitment: hex.EncodeToString(offer.Commitment),
		Nonce: hex.EncodeToString(other.Nonce), Words: one.Words(),
		Code:     share.Code(meeting, asks.Public(), answers.Public(), one.Words()),
		LetterID: "0197a5c0-0000-7000-8000-000000000002", Note: plain,
	}
	var got vectors
	b, err := os.ReadFile(vectorFile)
	if err == nil {
		require.NoError(t, json.Unmarshal(b, &got))
	}
	want.Set = vectorSet(t, asks, answers, got.Set, *write)
	want.Hand = vectorHand(t, got.Hand, *write)
	if *write {
		sealed, err := n.Seal(asks, answers.Public(), want.LetterID)
		require.NoError(t, err)
		want.Letter = hex.EncodeToString(sealed)
		b, err := json.MarshalIndent(want, "", "  ")
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(vectorFile, append(b, '\n'), 0o600))
		return
	}
	want.Letter = got.Letter
	var compact bytes.Buffer
	require.NoError(t, json.Compact(&compact, got.Note))
	got.Note = compact.Bytes()
	for _, raw := range []*json.RawMessage{&got.Set.Roll, &got.Set.Head} {
		var one bytes.Buffer
		require.NoError(t, json.Compact(&one, *raw))
		*raw = one.Bytes()
	}
	assert.Equal(t, want, got, "go test ./core/share -run Vectors -write")
	sealed, err := hex.DecodeString(got.Letter)
	require.NoError(t, err)
	opened, from, err := share.OpenNote(answers, got.LetterID, sealed, at)
	require.NoError(t, err)
	assert.Equal(t, n, opened)
	assert.Equal(t, asks.Public().Sign, from)
}
