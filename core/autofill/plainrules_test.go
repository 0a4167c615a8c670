package autofill

import (
	"crypto/rand"
	"regexp"
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/generator"
)

// TestPlainRules has what sites write beside a new password (written from memory, without looking at the words that are
// known), and what a password must be like that is made there: from and to how many characters, with a lower-case
// letter (l), a capital (u), a digit (d) or a sign (s), and without what an expression finds.
func TestPlainRules(t *testing.T) {
	for _, c := range []struct {
		near        string
		least, most int
		kinds, bad  string
	}{
		{"Must be 8-16 characters and contain at least one letter and one number", 8, 16, "d", ``},
		{"8 to 20 characters, including an uppercase letter, a lowercase letter, and a digit.", 8, 20, "lud", ``},
		{"Minimum 10 characters with upper & lower case letters, numbers and symbols", 10, 999, "luds", ``},
		{"Use at least 12 characters.", 12, 999, "", ``},
		{"Your password must be between 6 and 12 characters long. No special characters.", 6, 12, "", `[^A-Za-z0-9]`},
		{"Password can only contain letters and numbers (max. 15)", 0, 15, "ld", `[^A-Za-z0-9]`},
		{"Mindestens 8 Zeichen, davon eine Ziffer und ein Sonderzeichen", 8, 999, "ds", ``},
		{"Das Passwort muss zwischen 8 und 32 Zeichen lang sein und Groß- und Kleinbuchstaben enthalten.", 8, 32, "lu", ``},
		{"8 caractères minimum, dont 1 majuscule, 1 minuscule et 1 chiffre", 8, 999, "lud", ``},
		{"Entre 8 et 20 caractères, lettres et chiffres uniquement", 8, 20, "ld", `[^A-Za-z0-9]`},
		{"Mínimo 8 caracteres, una mayúscula y un número", 8, 999, "ud", ``},
		{"Debe tener de 6 a 10 caracteres", 6, 10, "", ``},
		{"Almeno 8 caratteri, di cui una maiuscola e un numero", 8, 999, "ud", ``},
		{"Minimaal 8 tekens, waarvan 1 hoofdletter en 1 cijfer", 8, 999, "ud", ``},
		{"Minst 8 tecken med minst en siffra och en versal", 8, 999, "ud", ``},
		{"Co najmniej 8 znaków, w tym wielka litera i cyfra", 8, 999, "ud", ``},
		{"Не менее 8 символов, цифры и заглавные буквы", 8, 999, "ud", ``},
		{"8文字以上20文字以内、大文字・小文字・数字を含む", 8, 20, "lud", ``},
		{"6-16位，必须包含字母和数字", 6, 16, "d", ``},
		{"Password must contain: at least 8 characters; at least 1 capital letter; at least 1 number; at least 1 special character (!@#$%^&*)", 8, 999, "uds", `[^A-Za-z0-9!@#$%^&*]`},
		{"Allowed special characters: - _ . !", 0, 999, "", `[^A-Za-z0-9\-_.!]`},
		{"Only the following special characters are allowed: ! ? @", 0, 999, "", `[^A-Za-z0-9!?@]`},
		{"Cannot contain spaces or any of < > & '", 0, 999, "", `[<>&' ]`},
		{"Must not contain the characters # and %", 0, 999, "", `[#%]`},
		{"At least 8 characters, no more than 2 identical characters in a row", 8, 999, "", `aaa|bbb`},
		{"PIN: 4 digits", 4, 4, "", `\D`},
		{"Choose a 6-digit PIN", 6, 6, "", `\D`},
		{"Numeric password, 6 to 8 digits", 6, 8, "", `\D`},
		{"Must start with a letter", 0, 999, "", `^[^A-Za-z]`},
		{"Password must be exactly 8 characters", 8, 8, "", ``},
		{"Maximum 72 characters", 0, 72, "", ``},
		{"Passwords are case-sensitive and must have 7 or more characters", 7, 999, "", ``},
		{"Length: 8–64. At least one of: digit, symbol", 8, 64, "", ``},
		{"en az 8 karakter, bir büyük harf ve bir rakam", 8, 999, "ud", ``},
		{"at least three of: upper case, lower case, digits, punctuation; min length 9", 9, 999, "lud", ``},
		{"Do not use symbols other than _ and -", 0, 999, "", `[^A-Za-z0-9_\-]`},
		{"Heslo musí mít alespoň 8 znaků, jedno velké písmeno a číslici", 8, 999, "ud", ``},
		{"Legalább 8 karakter, egy nagybetű és egy szám", 8, 999, "ud", ``},
		{"Adgangskoden skal være på mindst 8 tegn og indeholde et stort bogstav og et tal", 8, 999, "ud", ``},
		{"Vähintään 8 merkkiä, iso kirjain ja numero", 8, 999, "ud", ``},
		{"Mínimo de 8 caracteres, com letra maiúscula, número e caractere especial", 8, 999, "uds", ``},
		{"Your new password must be at least eight characters long", 8, 999, "", ``},
		{"Your password has 6 to 12 characters, letters and digits only.", 6, 12, "ld", `[^A-Za-z0-9]`},
		{"8+ characters", 8, 999, "", ``},
		{"(max 12 chars)", 0, 12, "", ``},
		{"Up to 14 characters, letters and digits", 0, 14, "ld", ``},
		{"ASCII letters and digits only, 10-24", 10, 24, "ld", `[^A-Za-z0-9]`},
	} {
		s := Snapshot{
			Heads: "Create account", Forms: []Form{{ID: 1, Submit: "Create account"}},
			Fields: []Field{
				{ID: 1, Form: 1, Type: "email", Label: "Email", Visible: true},
				{ID: 2, Form: 1, Type: "password", Label: "Password", Near: c.near, Visible: true},
			},
		}
		read := Read(s)
		require.Len(t, read, 1, c.near)
		require.True(t, read[0].Has(NewPassword), c.near)
		d := DemandsOf(s, read[0])
		for range 20 {
			made, err := MakePassword(rand.Reader, generator.Default(), d)
			require.NoError(t, err, c.near)
			p := made.Reveal()
			assert.True(t, len(p) >= c.least && len(p) <= c.most, "%s: %s", c.near, p)
			for kind, is := range map[string]func(rune) bool{
				"l": unicode.IsLower, "u": unicode.IsUpper, "d": unicode.IsDigit,
				"s": func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) },
			} {
				assert.True(t, !strings.Contains(c.kinds, kind) || strings.ContainsFunc(p, is), "%s: %s", c.near, p)
			}
			if c.bad != "" {
				assert.NotRegexp(t, regexp.MustCompile(c.bad), p, c.near)
			}
		}
	}
}
