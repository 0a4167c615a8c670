package audit

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"redlocket/core/vault"
)

func TestWhatLabelsSay(t *testing.T) {
	for what, texts := range map[string]struct{ yes, no []string }{
		"reset": {
			[]string{
				"Recovery e-mail:", "backup address", "signed up with", "my e-mail", "Passwort zurücksetzen über",
				"hinterlegt ist", "Réinitialisation", "e-mail de récupération", "Correo de recuperación",
				"registrato con", "Herstel-adres", "e-posta", "Odzyskiwanie hasła", "återställs med", "почта",
				"для восстановления", "再設定用", "找回密码", "복구",
			},
			[]string{"ask", "landlord", "invoice to", "frag", "chiedere a", "call", "vraag", "спросить"},
		},
		"factor": {
			[]string{
				"2FA", "Two-factor", "two-step login", "Authenticator app", "Zwei-Faktor", "Zweifaktor-Anmeldung",
				"Double authentification", "Vérification en deux étapes", "Doble factor", "verifica in due passaggi",
				"Tweestapsverificatie", "Двухфакторная", "二段階認証", "两步验证", "2단계 인증", "Klíč: bezpečnostní klíč",
			},
			[]string{"factory", "steps", "Faktor", "deux", "PIN", "security question", "step 2 of 3"},
		},
		"card": {
			[]string{
				"PIN", "Card number", "Credit card", "Creditcard", "IBAN", "CVV", "Kontonummer", "Kreditkarte",
				"Carte bancaire", "Tarjeta", "Numero di conto", "Rekeningnummer", "Numer karty", "ПИН", "номер карты",
				"暗証番号", "银行卡", "카드 번호", "Backup codes",
			},
			[]string{
				"Shipping", "Spinning class", "Cardiology", "Discard", "Opinion", "Kartoffel", "cartoon",
				"picard", "account name", "code word", "escort",
			},
		},
	} {
		for _, text := range texts.yes {
			assert.True(t, saysOf(text, what), "%s: %s", what, text)
		}
		for _, text := range texts.no {
			assert.False(t, saysOf(text, what), "%s: %s", what, text)
		}
	}
	for _, v := range []string{"no", "None", " Off ", "-", "", "n/a", "nein", "Keine", "нет", "なし", "Não", "sin"} {
		assert.True(t, saysNone(v), v)
	}
	for _, v := range []string{"yes", "on", "app on my phone", "ja", "no. 2 in the drawer", "SMS", "да"} {
		assert.False(t, saysNone(v), v)
	}
}

// What is kept with a login, and in which language it is labelled, makes it worth as much.
func TestLabelsCount(t *testing.T) {
	s := survey(t,
		kept(t, "mail", "Cormorant Mail", maren, "kelp-ferry", "https://mail.cormorant.example/"),
		kept(t, "note", "Quai", "m.t", "own-one-9", "https://quai.example/", "note:Récupération : "+maren),
		kept(t, "by", "Kade", maren, "own-two-9", "https://kade.example/", "field:Zwei-Faktor=App"),
		kept(t, "mailed", "Kai", maren, "own-three-9", "https://kai.example/", "field:Zwei-Faktor=per E-Mail"),
		kept(t, "none", "Muelle", maren, "own-four-9", "https://muelle.example/", "field:Doble factor=no"),
	)
	var fallen []string
	for _, f := range s.Reach("mail").Fell {
		fallen = append(fallen, f.ID)
	}
	assert.ElementsMatch(t, []string{"note", "mailed", "none"}, fallen)
	assert.True(t, worthOf(vault.Item{Title: "Seehund", Labels: []string{"Kontonummer"}}, "seehund.example").Cards)
	assert.False(t, worthOf(vault.Item{Title: "Seehund", Labels: []string{"Shipping code"}}, "seehund.example").Cards)
	assert.Equal(t, Money, worthOf(vault.Item{Title: "Gullwing"}, "bank24.example").Kind)
}
