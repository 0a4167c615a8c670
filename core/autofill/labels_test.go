package autofill

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Labels that share a word with those of persons' details, written without looking at the rules. An address may be a
// mailbox's or a machine's, a name a thing's, and a place one that a security question is about.
func TestLabelsThatShareAWord(t *testing.T) {
	for role, labels := range map[Role][]string{
		Email: {
			"E-mail cím", "E-mailová adresa", "Adresa de e-mail", "E-mail adresa", "Имейл адрес", "Електронна адреса",
			"Адреса електронної пошти", "Alamat email", "Địa chỉ email", "Διεύθυνση email", "כתובת אימייל", "ที่อยู่อีเมล",
			"E-posta adresi", "Adres e-mail", "E-postadress", "Sähköpostiosoite", "Email address", "Dirección de correo",
			"Adresse mail", "عنوان البريد الإلكتروني", "ईमेल पता", "Indirizzo e-mail", "Endereço de e-mail", "E-Mail-Adresse",
			"Adresse électronique", "E-mailadres",
		},
		"": {
			"Web address", "IP address", "MAC address", "Wallet address", "Wi-Fi name", "Project name", "Name of your pet", "Event name",
			"Team name", "File name", "Product title", "Channel name", "Name des Projekts", "Nom du projet",
			"Nombre del producto", "City you were born in", "Mother's city of birth", "Street you grew up on",
			"Company registration number", "Number of people", "Mobile app name", "Country of birth", "Phone model",
		},
		Name: {
			"Name", "Name *", "Your name", "Name (required)", "Full legal name", "Name of cardholder",
			"Name as on your passport", "Billing name", "Customer's name", "Name of applicant", "Contact name", "Ship to name", "Name in full",
		},
		Street: {"Address", "Home address", "Exact address", "UK address", "Address of residence", "Billing address", "Your present address"},
		Prefix: {"Title", "Your title"},
	} {
		for _, label := range labels {
			s := onePage("Go on", Field{Type: "text", Label: "Postcode"}, Field{Type: "text", Label: "Town"},
				Field{Type: "text", Label: label})
			list := Read(s)
			require.Len(t, list, 1, label)
			assert.Equal(t, role, list[0].Roles[2], label)
		}
	}
}
