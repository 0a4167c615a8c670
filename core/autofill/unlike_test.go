package autofill

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestPagesUnlikeTheOthers are forms of shapes that neither the town nor the corpus has, made
// up to be misread. Want is what truth.tsv would say; empty where nothing is to be filled.
func TestPagesUnlikeTheOthers(t *testing.T) {
	text := func(label string) Field { return Field{Type: "text", Label: label} }
	mail := func(label string) Field { return Field{Type: "email", Label: label} }
	pass := func(label string) Field { return Field{Type: "password", Label: label} }
	for name, c := range map[string]struct {
		title, submit string
		fields        []Field
		want          string
	}{
		"check-in":               {"Check in for your ferry", "Find booking", []Field{text("Booking reference"), text("Surname"), {Type: "date", Label: "Date of travel"}}, ""},
		"telephone first":        {"Sign in", "Send code", []Field{{Type: "tel", Label: "Mobile number"}}, "first-step 0=username"},
		"memorable word":         {"Log on", "Log on", []Field{text("Customer number"), pass("Password"), pass("Memorable word")}, "sign-in 0=username 1=current-password"},
		"guest or not":           {"Checkout", "Continue as guest", []Field{mail("E-mail for your receipt")}, ""},
		"chosen names":           {"Join the club", "Sign me up", []Field{text("Choose a user name"), mail("E-mail"), pass("Choose a password")}, "sign-up 0=username 1=email 2=new-password"},
		"another mail address":   {"Change your e-mail", "Save", []Field{mail("New e-mail"), pass("Current password")}, "sign-in 1=current-password"},
		"before deleting":        {"Delete account", "Delete my account", []Field{pass("Confirm your password to go on")}, "sign-in 0=current-password"},
		"a key of a program":     {"Developers", "Save", []Field{text("Name of the key"), pass("Secret key")}, ""},
		"German, bare":           {"Willkommen", "OK", []Field{text("Name:"), pass("Kennwort:")}, "sign-in 0=username 1=current-password"},
		"work mail":              {"Try it free", "Get started", []Field{mail("Work e-mail"), text("Full name"), pass("Password")}, "sign-up 0=username 1=name 2=new-password"},
		"both in one":            {"Sign in or create an account", "Continue", []Field{mail("E-mail address")}, "first-step 0=username"},
		"Polish, placeholders":   {"Panel klienta", "Zaloguj", []Field{text("Login"), pass("Hasło")}, "sign-in 0=username 1=current-password"},
		"Russian":                {"Вход", "Войти", []Field{text("Номер телефона или почта"), pass("Пароль")}, "sign-in 0=username 1=current-password"},
		"Chinese":                {"", "登录", []Field{text("手机号/邮箱"), pass("密码")}, "sign-in 0=username 1=current-password"},
		"Korean sign-up":         {"회원가입", "가입하기", []Field{text("아이디"), pass("비밀번호"), pass("비밀번호 확인")}, "sign-up 0=username 1=new-password 2=new-password"},
		"Turkish":                {"Giriş yap", "Giriş yap", []Field{text("E-posta"), pass("Şifre")}, "sign-in 0=username 1=current-password"},
		"Czech change":           {"Změna", "Uložit", []Field{pass("Současné heslo"), pass("Nové heslo"), pass("Nové heslo znovu")}, "change 0=current-password 1=new-password 2=new-password"},
		"letter and new one":     {"Reset your password", "Set it", []Field{text("Code from the e-mail"), pass("New password"), pass("Confirm new password")}, "reset 0=one-time-code 1=new-password 2=new-password"},
		"comment":                {"The tide tables are wrong", "Post comment", []Field{text("Name"), mail("E-mail (will not be shown)"), {Type: "textarea", Label: "Comment"}}, ""},
		"gift card":              {"Check your balance", "Check", []Field{text("Gift card number"), pass("Gift card PIN")}, ""},
		"transfer":               {"Pay somebody", "Send", []Field{text("IBAN"), {Type: "number", Label: "Amount"}, text("Reference")}, ""},
		"newsletter with a name": {"Stay in touch", "Subscribe", []Field{text("First name"), mail("E-mail")}, ""},
		"coupon in a sign-in":    {"Sign in", "Sign in", []Field{text("Coupon"), mail("E-mail"), pass("Password")}, "sign-in 1=username 2=current-password"},
		"security question":      {"One more thing", "Go on", []Field{pass("Your mother’s maiden name")}, ""},
		"shown at once":          {"Sign in", "Sign in", []Field{text("E-mail"), {Type: "text", Label: "Password", Name: "password"}}, "sign-in 0=username 1=current-password"},
		"only types":             {"", "", []Field{{Type: "email"}, {Type: "password"}, {Type: "password"}}, "sign-up 0=username 1=new-password 2=new-password"},
		"name and telephone":     {"Open an account", "Open the account", []Field{text("Vor- und Nachname"), mail("E-Mail"), {Type: "tel", Label: "Handynummer"}, pass("Passwort"), pass("Passwort wiederholen")}, "sign-up 0=name 1=username 2=tel 3=new-password 4=new-password"},
		"seat and name":          {"Hotel check-in", "Next", []Field{text("Given names"), text("Family name"), text("Nationality"), text("Passport number"), {Type: "date", Label: "Date of birth"}}, "other 0=given-name 1=family-name 4=bday"},
		"turned off":             {"Sign in", "Sign in", []Field{{Type: "text", Label: "User", Autocomplete: "off"}, {Type: "password", Label: "Password", Autocomplete: "new-password"}}, "sign-in 0=username 1=current-password"},
		"bank's chosen letters":  {"Enter three letters of your password", "Next", []Field{{Type: "password", Label: "2nd", MaxLength: 1}, {Type: "password", Label: "5th", MaxLength: 1}, {Type: "password", Label: "7th", MaxLength: 1}}, ""},
		"unknown card fields":    {"Top up", "Top up", []Field{text("Debit card number"), text("Valid thru"), text("3 digits on the back"), text("Issue number")}, "other 0=cc-number 1=cc-exp 2=cc-csc"},
	} {
		t.Run(name, func(t *testing.T) {
			s := page(c.title, c.submit, c.fields...)
			s.Heads = c.title
			got := ""
			for _, r := range Read(s) {
				got = told(s, r)
			}
			assert.Equal(t, c.want, got)
		})
	}
}
