package otp

import (
	"encoding/base32"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"redlocket/core/secret"
)

func key(ascii string) secret.Text {
	return secret.New(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString([]byte(ascii)))
}

// RFC 4226, appendix D.
func TestHOTPVectors(t *testing.T) {
	s := Setup{Key: key("12345678901234567890"), Algorithm: SHA1, Digits: 6}
	for i, want := range []string{"755224", "287082", "359152", "969429", "338314", "254676", "287922", "162583",
		"399871", "520489"} {
		s.Counter = uint64(i)
		c, err := s.Now(time.Time{})
		require.NoError(t, err)
		assert.Equal(t, want, c.Text.Reveal(), i)
		assert.Zero(t, c.Left)
	}
}

// RFC 6238, appendix B. The seeds of SHA-256 and SHA-512 are 32 and 64 bytes long,
// as in the reference implementation of appendix A.
func TestTOTPVectors(t *testing.T) {
	seed := strings.Repeat("1234567890", 7)
	for _, v := range []struct {
		at                   int64
		sha1, sha256, sha512 string
	}{
		{59, "94287082", "46119246", "90693936"},
		{1111111109, "07081804", "68084774", "25091201"},
		{1111111111, "14050471", "67062674", "99943326"},
		{1234567890, "89005924", "91819424", "93441116"},
		{2000000000, "69279037", "90698825", "38618901"},
		{20000000000, "65353130", "77737706", "47863826"},
	} {
		for _, x := range []struct {
			a    Algorithm
			n    int
			want string
		}{{SHA1, 20, v.sha1}, {SHA256, 32, v.sha256}, {SHA512, 64, v.sha512}} {
			s := Setup{Key: key(seed[:x.n]), Algorithm: x.a, Digits: 8, Period: 30 * time.Second}
			c, err := s.Now(time.Unix(v.at, 0))
			require.NoError(t, err)
			assert.Equal(t, x.want, c.Text.Reveal(), "%s at %d", x.a, v.at)
			after, err := s.Now(time.Unix(v.at, 0).Add(c.Left))
			require.NoError(t, err)
			assert.Equal(t, c.Next, after.Text)
			assert.Equal(t, 30*time.Second, after.Left)
		}
	}
}

func TestParse(t *testing.T) {
	s, err := Parse(secret.New(" jbsw y3dp-ehpk 3pxp "))
	require.NoError(t, err)
	assert.Equal(t, Setup{Key: secret.New("JBSWY3DPEHPK3PXP"), Algorithm: SHA1, Digits: 6, Period: 30 * time.Second}, s)

	s, err = Parse(
		secret.New(
			"OTPAUTH://totp/Gullwing%20Credit%20Union:maren?secret=jbswy3dpehpk3pxp&algorithm=SHA-256&digits=8&period=45",
		),
	)
	require.NoError(t, err)
	assert.Equal(
		t,
		Setup{
			Key:       secret.New("JBSWY3DPEHPK3PXP"),
			Algorithm: SHA256,
			Digits:    8,
			Period:    45 * time.Second,
			Issuer:    "Gullwing Credit Union",
			Account:   "maren",
		},
		s,
	)

	s, err = Parse(secret.New("OTPAUTH://TOTP/X?SECRET=JBSWY3DPEHPK3PXP&DIGITS=8"))
	require.NoError(t, err)
	assert.Equal(t, 8, s.Digits)

	s, err = Parse(secret.New("otpauth://hotp/x?secret=JBSWY3DPEHPK3PXP&counter=7&issuer=Kelp"))
	require.NoError(t, err)
	assert.True(t, s.Counts())
	assert.Equal(t, uint64(7), s.Counter)

	for text, want := range map[string]error{
		"": ErrKey, "hello": ErrKey, "11111111": ErrKey, strings.Repeat("A", 2001): ErrKey,
		"otpauth://totp/x": ErrKey, "otpauth://push/x?secret=JBSWY3DPEHPK3PXP": ErrAddress,
		"otpauth://hotp/x?secret=JBSWY3DPEHPK3PXP":               ErrAddress,
		"otpauth://totp/x?secret=JBSWY3DPEHPK3PXP&digits=9":      ErrDigits,
		"otpauth://totp/x?secret=JBSWY3DPEHPK3PXP&period=0":      ErrPeriod,
		"otpauth://totp/x?secret=JBSWY3DPEHPK3PXP&algorithm=MD5": ErrAlgorithm,
		"otpauth://%zz": ErrAddress,
	} {
		_, err := Parse(secret.New(text))
		assert.ErrorIs(t, err, want, text)
	}
	assert.NotContains(t, fmt.Sprintf("%+v", s), "JBSWY3DPEHPK3PXP")
}

func TestStringIsReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := Setup{
			Key: key(rapid.StringN(5, 64, -1).Draw(t, "key")), Digits: rapid.IntRange(6, 8).Draw(t, "digits"),
			Algorithm: rapid.SampledFrom([]Algorithm{SHA1, SHA256, SHA512}).Draw(t, "algorithm"),
			Issuer: rapid.StringMatching(`[ -~]{0,20}`).
				Draw(t, "issuer"),
			Account: rapid.StringMatching(`[!-9;-~]{0,20}`).Draw(t, "account"),
		}
		if rapid.Bool().Draw(t, "counts") {
			s.Counter = rapid.Uint64Range(0, 1<<62).Draw(t, "counter")
		} else {
			s.Period = time.Duration(rapid.IntRange(1, 3600).Draw(t, "period")) * time.Second
		}
		back, err := Parse(s.String())
		if err != nil || back != s {
			t.Fatalf("%v\n%v\n%v", s, back, err)
		}
	})
}

func FuzzParse(f *testing.F) {
	f.Add("otpauth://totp/a:b?secret=JBSWY3DPEHPK3PXP&digits=8")
	f.Add("jbsw y3dp")
	f.Fuzz(func(t *testing.T, text string) {
		s, err := Parse(secret.New(text))
		if err != nil {
			return
		}
		if c, err := s.Now(time.Unix(1e9, 0)); err != nil || len(c.Text.Reveal()) != s.Digits {
			t.Fatalf("%q gives %v, %v", text, c, err)
		}
	})
}
