package autofill

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// How sites ask for a date, in their languages' letters (common practice; from memory).
func TestDateText(t *testing.T) {
	for label, want := range map[string]string{
		"Date of birth DD/MM/YYYY":       "11/04/1985",
		"Date of birth (MM/DD/YYYY)":     "04/11/1985",
		"Birthday - mm-dd-yyyy":          "04-11-1985",
		"YYYY-MM-DD":                     "1985-04-11",
		"Geburtsdatum TT.MM.JJJJ":        "11.04.1985",
		"TT.MM.JJ":                       "11.04.85",
		"Date de naissance (jj/mm/aaaa)": "11/04/1985",
		"Fecha dd/mm/aaaa":               "11/04/1985",
		"Data di nascita gg/mm/aaaa":     "11/04/1985",
		"dd-mm-jjjj":                     "11-04-1985",
		"dd.mm.åååå":                     "11.04.1985",
		"ÅÅÅÅ-MM-DD":                     "1985-04-11",
		"pp.kk.vvvv":                     "11.04.1985",
		"dd.mm.rrrr":                     "11.04.1985",
		"дд.мм.гггг":                     "11.04.1985",
		"gg.aa.yyyy":                     "11.04.1985",
		"éééé.hh.nn":                     "1985.04.11",
		"DD / MM / YYYY":                 "11 / 04 / 1985",
		"DDMMYYYY":                       "11041985",
		"YYYYMMDD":                       "19850411",
		"YYMMDD":                         "850411",
		"Birthday (so we can send a treat) DD/MM": "11/04",
		"MM/DD":         "04/11",
		"D/M/YYYY":      "11/04/1985",
		"Date of birth": "11/04/1985",
		"When were you born? We add a summer gift": "11/04/1985",
		"A/B testing. Born":                        "11/04/1985",
	} {
		assert.Equal(t, want, dateText(Field{Label: label}, date{"11", "04", "1985"}, "en-GB"), label)
	}
	assert.Equal(t, "850411", dateText(Field{Label: "생년월일 6자리", MaxLength: 6}, date{"11", "04", "1985"}, "ko"))
	assert.Equal(t, "11.04.1985", dateText(Field{Label: "Geburtsdatum"}, date{"11", "04", "1985"}, "de-AT"))
	assert.Equal(t, "04/11/1985", dateText(Field{Label: "Birthday"}, date{"11", "04", "1985"}, "en-US"))
}

// Whatever a label says, a date is written: with day, month and year, or as the label shows.
func TestDatesOfAnyLabel(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		label := rapid.StringOf(rapid.SampledFrom([]rune("dmyjattгм/.- \n1É"))).Draw(t, "label")
		assert.Contains(t, dateText(Field{Label: label}, date{"11", "04", "1985"}, "en"), "04")
		assert.Contains(t, expiryText(Field{Label: label}, "09", "27", "2027"), "09")
	})
}

func TestExpiryText(t *testing.T) {
	for label, want := range map[string]string{
		"MM/YY": "09/27", "MM / YY": "09 / 27", "MM/YYYY": "09/2027", "MM-YY": "09-27", "MMYY": "0927",
		"YYYY-MM": "2027-09", "YY/MM": "27/09", "Gültig bis MM/JJ": "09/27", "MM/AA": "09/27", "MM/AAAA": "09/2027",
		"Lejárat (HH/ÉÉ)": "09/27", "Voimassa KK/VV": "09/27", "AA/YY": "09/27", "ММ/ГГ": "09/27", "mm.rrrr": "09.2027",
		"Expiry date": "09/27", "Valid on or to": "09/27", "Expiry (mm yy)": "09 27", "LL/AA": "09/27",
		"Card on/off, expiry": "09/27",
	} {
		assert.Equal(t, want, expiryText(Field{Label: label}, "09", "27", "2027"), label)
	}
	assert.Equal(t, "0927", expiryText(Field{Label: "MM / YYYY", MaxLength: 4}, "09", "27", "2027"))
}
