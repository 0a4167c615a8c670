package share_test

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"flag"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/keys"
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
	Letter     string              `json:"letter"`
	LetterID   string              `json:"letter_id"`
	Note       json.RawMessage     `json:"note"`
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
		Nonce: hex.EncodeToString(other.Nonce), Words: one.Words(), LetterID: "0197a5c0-0000-7000-8000-000000000002",
		Note: plain,
	}
	var got vectors
	b, err := os.ReadFile(vectorFile)
	if err == nil {
		require.NoError(t, json.Unmarshal(b, &got))
	}
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
	assert.Equal(t, want, got, "go test ./core/share -run Vectors -write")
	sealed, err := hex.DecodeString(got.Letter)
	require.NoError(t, err)
	opened, from, err := share.OpenNote(answers, got.LetterID, sealed, at)
	require.NoError(t, err)
	assert.Equal(t, n, opened)
	assert.Equal(t, asks.Public().Sign, from)
}
