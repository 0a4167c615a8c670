package strength

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"redlocket/core/secret"
)

func TestMasterPasswords(t *testing.T) {
	for p, want := range map[string]error{
		"":                               &LengthError{0},
		"kelp":                           &LengthError{4},
		"password":                       &CommonError{Weakness{Top, "p••••••d"}},
		"P@ssw0rd":                       &CommonError{Weakness{Top, "P••••••d"}},
		"12345678":                       &CommonError{Weakness{Top, "1••••••8"}},
		"qwertyuiop":                     &CommonError{Weakness{Top, "q••••••••p"}},
		"aaaaaaaaaaaa":                   &CommonError{Weakness{Pattern: Repeat}},
		"marentolliver":                  &CommonError{Weakness{Pattern: Context}},
		strings.Repeat("kelp ferry", 30): &LengthError{300},
	} {
		assert.Equal(t, want, CheckMaster(secret.New(p), "maren.tolliver@cormorant.example"), p)
	}
	var easy *CommonError
	assert.ErrorAs(t, CheckMaster(secret.New("iloveyou1"), "maren.tolliver@cormorant.example"), &easy)
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
		assert.Equal(t, p == "", v.Empty())
		last = v.Guesses
	}
	assert.Equal(t, 0, Judge(secret.New("password"), Leaked).Closed)
	assert.Equal(t, Links, Judge(secret.New("vq7RtumKaleW9oxBfentcoxswain"), Leaked).Closed)
}

func TestReasonsDontSpellThePassword(t *testing.T) {
	v := Judge(secret.New("dragon"), Leaked)
	assert.NotEmpty(t, v.Reasons)
	assert.NotContains(t, fmt.Sprint(v.Reasons), "dragon")
}

func TestLongPasswordsAreJudgedInTime(t *testing.T) {
	start := time.Now()
	Judge(secret.New(strings.Repeat("abc1!", 200)), Leaked)
	assert.Less(t, time.Since(start), 5*time.Second)
}
