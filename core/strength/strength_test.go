package strength

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"redlocket/core/secret"
)

func TestMasterPasswords(t *testing.T) {
	for p, want := range map[string]string{
		"":                               "at least 8",
		"kelp":                           "at least 8",
		"password":                       "most used",
		"P@ssw0rd":                       "first that a thief tries",
		"12345678":                       "first that a thief tries",
		"qwertyuiop":                     "first that a thief tries",
		"aaaaaaaaaaaa":                   "repeats itself",
		"marentolliver":                  "contains your name",
		"iloveyou1":                      "first that a thief tries",
		strings.Repeat("kelp ferry", 30): "at most 256",
	} {
		assert.ErrorContains(t, CheckMaster(secret.New(p), "maren.tolliver@cormorant.example"), want, p)
	}
	for _, p := range []string{"kelp ferry lantern forty", "møde i havnen klokken " +
		"ni", "vq7RtumKaleW", "海の見える町で会いましょう"} {
		assert.NoError(t, CheckMaster(secret.New(p), "maren.tolliver@cormorant.example"), p)
	}
}

func TestJudgeOrdersPasswords(t *testing.T) {
	weakToStrong := []string{
		"",
		"password",
		"Tolliver1985",
		"vq7RtumK",
		"saltmarsh quay",
		"kelp ferry lantern forty",
		"vq7RtumKaleW9oxBfent",
	}
	last := -1.0
	for _, p := range weakToStrong {
		v := Judge(secret.New(p), Leaked)
		assert.Greater(t, v.Guesses, last, p)
		assert.NotEmpty(t, v.Lasts)
		last = v.Guesses
	}
	assert.Equal(t, 0, Judge(secret.New("password"), Leaked).Closed)
	assert.Equal(t, Links, Judge(secret.New("vq7RtumKaleW9oxBfentcoxswain"), Leaked).Closed)
}

func TestReasonsDontSpellThePassword(t *testing.T) {
	v := Judge(secret.New("dragon"), Leaked)
	assert.NotEmpty(t, v.Reasons)
	assert.NotContains(t, strings.Join(v.Reasons, " "), "dragon")
}

func TestLongPasswordsAreJudgedInTime(t *testing.T) {
	start := time.Now()
	Judge(secret.New(strings.Repeat("abc1!", 200)), Leaked)
	assert.Less(t, time.Since(start), 5*time.Second)
}
