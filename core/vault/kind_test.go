package vault

import (
	"encoding/json"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"redlocket/core/secret"
)

func TestCheck(t *testing.T) {
	for _, c := range []struct {
		form  Form
		typed string
		kept  string
		fault Fault
	}{
		{FormText, "  Maren ", "Maren", ""},
		{FormHidden, " a b ", " a b ", ""},
		{FormDate, "31.3.2027", "2027-03-31", ""}, {FormDate, "2027-02-29", "", FaultShape}, {FormDate,
			"2028-02-29", "2028-02-29", ""}, {FormDate, "5 May 2026", "2026-05-05", ""},
		{FormMonth, "3/27", "2027-03", ""}, {FormMonth, "03 / 2027", "2027-03", ""}, {FormMonth, "1327", "", FaultShape}, {FormMonth, "2027-12", "2027-12", ""}, {FormMonth, "0328", "2028-03", ""},
		{FormPhone, "+44 (0)1632 960117 x3", "+44 (0)1632 960117 x3", ""},
		{FormPhone, "call me", "", FaultShape},
		{FormPhone, "12", "", FaultCount},
		{FormEmail, "maren@cormorant.example", "maren@cormorant.example", ""},
		{FormEmail, "maren", "", FaultShape},
		{FormEmail, "a b@c.example", "", FaultShape},
		{FormCode, "123", "123", ""},
		{FormCode, "12a", "", FaultShape},
		{FormCode, "12345", "", FaultShape},
		{FormCountry, "gb", "GB", ""},
		{FormCountry, "ZZ", "", FaultShape},
		{FormCountry, "XYZ", "", FaultShape},
		{FormYesNo, "Yes", "yes", ""}, {FormYesNo, "maybe", "", FaultShape},
		{FormBIC, "deut de ff", "DEUTDEFF", ""}, {FormBIC, "DEUTDEF", "", FaultCount}, {FormBIC, "1EUTDEFF", "", FaultShape},
	} {
		kept, err := Check(Spec{Form: c.form}, c.typed)
		if c.fault != "" {
			assert.Equal(t, &FormError{Form: c.form, Fault: c.fault}, err, c.typed)
			continue
		}
		require.NoError(t, err, c.typed)
		assert.Equal(t, c.kept, kept)
		again, err := Check(Spec{Form: c.form}, kept)
		require.NoError(t, err)
		assert.Equal(t, kept, again, "what is kept is right")
	}
	_, err := Check(Spec{Form: FormText, Max: 3}, "four")
	assert.Equal(t, &FormError{FormText, FaultLong, 4, 3}, err)
	_, err = Check(Spec{Form: FormChoice, Choices: []Choice{{"a", "A"}}}, "b")
	assert.Error(t, err)
	for _, k := range Kinds() {
		for _, s := range k.Specs {
			_, err := Check(s, "")
			assert.NoError(t, err, "nothing has to be filled in: %s of %s", s.Name, k.Type)
		}
	}
}

// Test numbers as payment providers publish them for trying out (from memory);
// their check digits follow ISO/IEC 7812-1, annex B.
func TestCardNumbers(t *testing.T) {
	for number, brand := range map[string]string{
		"4111 1111 1111 1111": "Visa", "4012888888881881": "Visa", "5555-5555-5555-4444": "Mastercard",
		"2223003122003222": "Mastercard", "378282246310005": "American Express",
		"6011111111111117": "Discover", "3056930009020004": "Diners Club", "36227206271667": "Diners Club",
		"3566002020360505": "JCB", "6200000000000005": "UnionPay", "6759649826438453": "Maestro",
	} {
		kept, err := Check(Spec{Form: FormCard}, number)
		require.NoError(t, err, number)
		assert.Equal(t, brand, Brand(number), number)
		for i := range kept { // one wrong digit is always noticed
			b := []byte(kept)
			b[i] = '0' + (b[i]-'0'+1)%10
			_, err := Check(Spec{Form: FormCard}, string(b))
			assert.Equal(t, misshapen(FormCard), err)
		}
	}
	for _, bad := range []string{"4111", "4111 1111 1111 111x", strings.Repeat("4", 20)} {
		_, err := Check(Spec{Form: FormCard}, bad)
		assert.Error(t, err)
	}
	assert.Empty(t, Brand("9999"))
	assert.Empty(t, Brand(""))
}

// The examples of the IBAN registry (SWIFT, ISO 13616-1; from memory).
func TestIBAN(t *testing.T) {
	for _, good := range []string{"GB29 NWBK 6016 1331 9268 19", "DE89370400440532013000", "fr14 2004 1010 0505 " +
		"0001 3m02 606", "NO9386011117947", "MT84MALT011000012345MTLCAST001S", "BE68539007547034"} {
		_, err := Check(Spec{Form: FormIBAN}, good)
		assert.NoError(t, err, good)
	}
	for _, bad := range []string{"GB29 NWBK 6016 1331 9268 " +
		"18", "DE8937040044053201300", "GB", "12345678901234567", "GB29 NWBK 6016 1331 9268 1ä"} {
		_, err := Check(Spec{Form: FormIBAN}, bad)
		assert.Error(t, err, bad)
	}
}

func TestExpiry(t *testing.T) {
	end, ok := Expiry("2027-03")
	require.True(t, ok)
	assert.Equal(t, time.Date(2027, 4, 1, 0, 0, 0, 0, time.UTC), end, "good through the whole month")
	end, ok = Expiry("2027-03-31")
	require.True(t, ok)
	assert.Equal(t, time.Date(2027, 4, 1, 0, 0, 0, 0, time.UTC), end)
	_, ok = Expiry("soon")
	assert.False(t, ok)
}

func TestKindsHaveDistinctFields(t *testing.T) {
	for _, k := range Kinds() {
		seen := map[Field]bool{}
		for _, s := range k.Specs {
			assert.False(t, seen[s.Field], "%s has %s twice", k.Type, s.Field)
			seen[s.Field] = true
			assert.NotEmpty(t, s.Name)
		}
	}
	_, ok := KindOf("spaceship")
	assert.False(t, ok)
}

func TestViewOfKinds(t *testing.T) {
	for want, e := range map[string]Entry{
		"•••• 1111 · Maren " +
			"Tolliver": make_(t, TypeCard, Changes{FieldNumber: "4111111111111111", FieldHolder: "Maren Tolliver",
			FieldExpiry: "2027-03"}),
		"Passport · Wren": make_(t, TypePaper, Changes{FieldPaper: "passport", FieldHolder: "Wren"}),
		"Tolliver Nest":   make_(t, TypeWiFi, Changes{FieldSSID: "Tolliver Nest", FieldPassword: "x"}),
		"Maren Tolliver · Quay": make_(t, TypePerson, Changes{"given-name": "Maren", "family-name": "Tolliver",
			"address-level2": "Quay"}),
		"mtolliver · Yawl": make_(t, TypeApp, Changes{FieldUsername: "mtolliver", FieldApp: "Yawl"}),
		"":                 make_(t, TypeNote, Changes{FieldNotes: "padlock"}),
	} {
		it := View(e)
		assert.Equal(t, want, it.Subtitle)
		assert.True(t, e.IsItem())
	}
	assert.Equal(t, "2027-03", View(make_(t, TypeCard, Changes{FieldExpiry: "2027-03"})).Expires)
	assert.Equal(t, "•••• 23", Tail("10 23"))
	assert.Empty(t, Tail("1"))
	changed := edit(t, login(t, Changes{FieldTitle: "x"}), at(2000), Changes{FieldKind: string(TypeCard)})
	assert.Equal(t, TypeCard, View(changed).Type)
	assert.Equal(t, TypeLogin, changed.Type, "what it was written down as stays")
}

func make_(t testing.TB, k Type, c Changes) Entry {
	t.Helper()
	e, err := New("01", k, at(1000), c)
	require.NoError(t, err)
	return e
}

func TestOwnFieldsAndFiles(t *testing.T) {
	c := Changes{}
	for i, o := range []CustomField{{ID: "b", Label: "Limit", Form: FormText, Order: 2, Value: secret.New("300")},
		{ID: "a", Label: "Gate", Form: FormHidden, Order: 1, Value: secret.New("4711")}} {
		o, err := CheckCustomField(o)
		require.NoError(t, err, i)
		f, v := o.Register()
		c[f] = v
	}
	c[FileField("f1")] = File{Name: "passport.png", Type: "image/png", Size: 3, Chunks: 1}
	e := make_(t, TypeNote, c)
	owns := e.CustomFields()
	require.Len(t, owns, 2)
	assert.Equal(t, "Gate", owns[0].Label)
	assert.Equal(t, "4711", owns[0].Value.Reveal())
	assert.Equal(t, []File{{ID: "f1", Name: "passport.png", Type: "image/png", Size: 3, Chunks: 1}}, e.Files())
	it := View(e)
	assert.ElementsMatch(t, []string{"Gate", "Limit", "passport.png"}, it.Labels)
	assert.Equal(t, 1, it.Files)
	off := edit(t, e, at(2000), Changes{FileField("f1"): nil, CustomFieldKey("b"): nil})
	assert.Empty(t, off.Files())
	assert.Len(t, off.CustomFields(), 1)
	assert.Equal(t, []string{"f1"}, off.AllFileIDs(), "the past still names it")
	for _, bad := range []CustomField{{Label: "", Form: FormText, Value: secret.New("x")}, {Label: "x",
		Form: "colour"}, {Label: "x", Form: FormDate, Value: secret.New("never")}, {Label: strings.Repeat("x", 81),
		Form: FormText}} {
		_, err := CheckCustomField(bad)
		assert.Error(t, err)
	}
}

func TestCleanFolderAndTags(t *testing.T) {
	assert.Equal(t, "Bank/Joint account", CleanFolder(" /Bank //  Joint   account/ "))
	assert.Equal(t, []string{"a", "of the boat"}, CleanTags("#a, of  the boat,,A"))
	assert.True(t, slices.Equal([]string{}, CleanTags(" , ")))
}

// An item of any kind, with custom fields, files, a past and registers
// of a newer version, is the same after it was written and read.
func TestEveryKindIsReadBackAsItWas(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		kind := rapid.SampledFrom(Kinds()).Draw(t, "kind")
		e, err := New(
			"01",
			kind.Type,
			at(1000),
			Changes{FieldTitle: rapid.String().Draw(t, "title"), "newer": map[string]any{"n": 1.5}},
		)
		if err != nil {
			t.Fatal(err)
		}
		for i := range rapid.IntRange(1, 4).Draw(t, "edits") {
			c := Changes{}
			for _, s := range kind.Specs {
				if rapid.Bool().Draw(t, "changed") {
					c[s.Field] = secret.New(rapid.String().Draw(t, string(s.Field)))
				}
			}
			own := CustomField{
				ID:    "a",
				Label: rapid.StringN(1, 10, -1).Draw(t, "label"),
				Form:  FormHidden,
				Order: i,
				Value: secret.New(rapid.String().Draw(t, "own")),
			}
			f, v := own.Register()
			c[f] = v
			c[FileField("f")] = File{
				Name:   rapid.StringN(1, 10, -1).Draw(t, "file"),
				Type:   "text/plain",
				Size:   int64(i),
				Chunks: 1,
			}
			if e, err = e.With(at(int64(2000+i)), c); err != nil {
				t.Fatal(err)
			}
		}
		e.Extra = map[string]json.RawMessage{"later": json.RawMessage(`{"x":[1,2]}`)}
		b, err := e.Encode()
		if err != nil {
			t.Fatal(err)
		}
		back, err := Decode(b)
		if err != nil {
			t.Fatal(err)
		}
		if !reflect.DeepEqual(e, back) {
			t.Fatalf("%s is read back as another", b)
		}
		if !reflect.DeepEqual(View(e), View(back)) || !reflect.DeepEqual(e.CustomFields(), back.CustomFields()) ||
			!reflect.DeepEqual(e.History(), back.History()) {
			t.Fatalf("%s looks different", b)
		}
	})
}
