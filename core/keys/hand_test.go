package keys_test

import (
	"crypto/rand"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/keys"
	"redlocket/core/secret"
)

const handEmail = "maren@harbour.example"

// What asks and who helps know each other by the words alone, and an introduction's words or answers count for nothing.
func TestHelpGoesByTheWords(t *testing.T) {
	seeker, err := keys.NewSeeker(handEmail, rand.Reader)
	require.NoError(t, err)
	words := strings.Join(seeker.Words(), " ")
	helper, err := keys.NewHelper(handEmail, words)
	require.NoError(t, err)
	sealed, err := helper.Help(seeker.Hello(), []byte("a share"))
	require.NoError(t, err)
	plain, err := seeker.Helped(sealed)
	require.NoError(t, err)
	assert.Equal(t, "a share", string(plain))

	_, err = seeker.Helped(sealed[:len(sealed)-1])
	assert.ErrorIs(t, err, keys.ErrOpen)
	other, err := keys.NewSeeker(handEmail, rand.Reader)
	require.NoError(t, err)
	_, err = helper.Help(other.Hello(), []byte("a share"))
	assert.ErrorIs(t, err, keys.ErrWords)
	_, err = other.Helped(sealed)
	assert.ErrorIs(t, err, keys.ErrOpen)
	elsewhere, err := keys.NewHelper("idris@harbour.example", words)
	require.NoError(t, err)
	_, err = elsewhere.Help(seeker.Hello(), []byte("a share"))
	assert.ErrorIs(t, err, keys.ErrWords)

	introducer, err := keys.NewIntroducer(handEmail, words)
	require.NoError(t, err)
	_, err = introducer.Introduce(seeker.Hello(), keys.Introduction{})
	assert.ErrorIs(t, err, keys.ErrWords)
	_, err = introducer.Help(seeker.Hello(), nil)
	assert.ErrorIs(t, err, keys.ErrWords)
	_, err = keys.NewHelper(handEmail, "only five of the words")
	assert.ErrorIs(t, err, keys.ErrNotWords)
}

// What asks is written down for days, and opens with the new master password alone.
func TestASeekerIsWrittenDown(t *testing.T) {
	params := keys.DefaultParams(make([]byte, keys.SaltSize))
	chosen, err := keys.Stretch(secret.New("gulls over a wet slipway"), params)
	require.NoError(t, err)
	other, err := keys.Stretch(secret.New("gulls over a dry slipway"), params)
	require.NoError(t, err)
	seeker, err := keys.NewSeeker(handEmail, rand.Reader)
	require.NoError(t, err)
	sealed, err := chosen.SealSeeker(rand.Reader, seeker)
	require.NoError(t, err)
	_, err = other.OpenSeeker(sealed)
	require.ErrorIs(t, err, keys.ErrOpen)
	again, err := chosen.OpenSeeker(sealed)
	require.NoError(t, err)
	assert.Equal(t, seeker.Words(), again.Words())
	assert.Equal(t, seeker.Hello(), again.Hello())
	helper, err := keys.NewHelper(handEmail, strings.Join(seeker.Words(), " "))
	require.NoError(t, err)
	answer, err := helper.Help(seeker.Hello(), []byte("a share"))
	require.NoError(t, err)
	plain, err := again.Helped(answer)
	require.NoError(t, err)
	assert.Equal(t, "a share", string(plain))
}

func TestWhatIsSealedForAHand(t *testing.T) {
	code, err := keys.NewCode(rand.Reader)
	require.NoError(t, err)
	key := keys.Key{1}
	sealed, err := keys.SealHand(rand.Reader, key, "hand", "vault", code)
	require.NoError(t, err)
	got, err := keys.OpenHand(key, "hand", "vault", sealed)
	require.NoError(t, err)
	assert.True(t, code.Equal(got))
	for _, wrong := range []struct {
		key         keys.Key
		hand, vault string
	}{{keys.Key{2}, "hand", "vault"}, {key, "other", "vault"}, {key, "hand", "other"}} {
		_, err := keys.OpenHand(wrong.key, wrong.hand, wrong.vault, sealed)
		assert.ErrorIs(t, err, keys.ErrOpen)
	}
}
