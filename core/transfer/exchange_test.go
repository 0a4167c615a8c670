package transfer

import (
	"bytes"
	"context"
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/secret"
	"redlocket/core/vault"
)

// everyKind is an item of each kind with every field filled in a way that its form takes.
func everyKind(t testing.TB) (out []vault.Entry) {
	t.Helper()
	values := map[vault.Form]string{
		vault.FormDate:    "2030-05-06",
		vault.FormMonth:   "2030-05",
		vault.FormPhone:   "01632 960 001",
		vault.FormEmail:   "maren@cormorant.example",
		vault.FormAddress: "https://kelp.example/",
		vault.FormCountry: "NO",
		vault.FormCard:    "4111111111111111",
		vault.FormCode:    "123",
		vault.FormIBAN:    "GB82WEST12345698765432",
		vault.FormBIC:     "DEUTDEFF",
		vault.FormYesNo:   "yes",
		vault.FormSetup:   "otpauth://totp/maren?algorithm=SHA256&digits=8&issuer=Gull&period=60&secret=GEZDGNBVGY3TQOJQ",
	}
	n := 0
	for _, k := range vault.Kinds() {
		c := vault.Changes{
			vault.FieldTitle:  "A " + string(k.Type),
			vault.FieldNotes:  "notes of " + string(k.Type),
			vault.FieldFolder: "Home/Papers",
			vault.FieldTags:   []string{"a", "b"},
			vault.FieldPinned: true,
		}
		for _, s := range k.Specs {
			v := values[s.Form]
			if v == "" {
				v = "the " + s.Name
			}
			if len(s.Choices) > 0 {
				v = s.Choices[0].Value
			}
			c[s.Field] = secret.New(v)
		}
		if k.HasAddresses() {
			c[vault.FieldAddresses] = []vault.Address{{URL: "https://kelp.example/in"}}
		}
		f, v := vault.CustomField{
			ID:    "x",
			Label: "Of my own",
			Form:  vault.FormHidden,
			Value: secret.New("hidden away"),
		}.Register()
		c[f] = v
		e, err := vault.New(ids(&n)(), k.Type, vault.Stamp{At: 1700000000000, By: "desk"}, c)
		require.NoError(t, err)
		out = append(out, e)
	}
	return out
}

// TestExchangeKeepsEverything writes an item of every kind and reads it back: no value is
// lost, though what the format has no place for comes back as a custom field.
func TestExchangeKeepsEverything(t *testing.T) {
	have := everyKind(t)
	var b bytes.Buffer
	require.NoError(t, WriteExchange(&b, have, now.At, "maren@cormorant.example"))
	require.True(t, json.Valid(b.Bytes()))
	src, err := Read(context.Background(), "x.json", b.Bytes(), nil)
	require.NoError(t, err)
	assert.Equal(t, KindExchange, src.Kind)
	assert.Empty(t, src.Broken)
	require.Len(t, src.Rows, len(have))
	for i, r := range src.Rows {
		was, is := vault.View(have[i]), vault.View(r.Entry)
		assert.Equal(
			t,
			[]any{was.Title, was.Notes, was.Folder, was.Tags, was.Pinned},
			[]any{is.Title, is.Notes, is.Folder, is.Tags, is.Pinned},
			was.Title,
		)
		var all []string
		for f := range r.Entry.Fields {
			all = append(all, r.Entry.Text(f))
		}
		for _, o := range r.Entry.CustomFields() {
			all = append(all, o.Value.Reveal())
		}
		k, _ := vault.KindOf(have[i].Type)
		for _, s := range k.Specs {
			if s.Field != vault.FieldPaper {
				assert.Contains(t, all, have[i].Text(s.Field), "%s of %s", s.Name, was.Title)
			}
		}
		assert.Contains(t, all, "hidden away")
		switch have[i].Type {
		case vault.TypeLogin, vault.TypeCard, vault.TypePerson, vault.TypePaper, vault.TypeNote, vault.TypeWiFi:
			assert.Equal(t, was.Type, is.Type)
		}
	}
}

func TestExchangeOfOthers(t *testing.T) {
	rows, broken, err := readExchange(
		[]byte(`{"version":{"major":1,"minor":0},"exporterRpId":"x.example","accounts":[{"id":"YQ","items":[
		{"id":"MQ","title":"","modifiedAt":1714550400,"scope":{"urls":["https://gull.example/in?x=1","not an address at all"]},"credentials":[
			{"type":"basic-auth","username":{"fieldType":"string","value":"maren"},"password":{"id":"Mg","fieldType":"concealed-string","value":"p"}},
			{"type":"something-new","x":1}]},
		{"id":"Mg","title":"Plain","credentials":[{"type":"note","content":"just text"}]},
		{"id":"Mw","title":"A passkey","credentials":[{"type":"passkey","credentialId":"AA"}]},
		{"id":"NA","title":"App","scope":{"urls":[],"androidApps":[{"bundleId":"com.gull.app"}]},"credentials":[{"type":"basic-auth","password":"q"}]}]}]}`),
	)
	require.NoError(t, err)
	require.Len(t, rows, 3)
	assert.Equal(t, "Gull", rows[0].Entry.Text(vault.FieldTitle))
	assert.Equal(t, []vault.Address{{URL: "https://gull.example/in"}}, vault.View(rows[0].Entry).Addresses)
	assert.Equal(t, int64(1714550400000), rows[0].Entry.Fields[vault.FieldPassword].Stamp.At)
	assert.Equal(t, "just text", rows[1].Entry.Text(vault.FieldNotes))
	assert.Equal(t, vault.TypeApp, rows[2].Entry.Type)
	require.Len(t, broken, 1)
	assert.Equal(t, RowError{Fault: FaultForeign}, broken[0].Why)
}

func TestFilesThatCantBeRead(t *testing.T) {
	for in, want := range map[string]error{
		"PK\x03\x04....": ErrPacked, "\x1f\x8b\x08.....": ErrPacked, `{"a":1}`: ErrJSON,
		`[{"a":1}]`: ErrJSON, "<!DOCTYPE html><p>": ErrPage,
		"age-encryption.org/v1\n-> scrypt": ErrSealed, `{"version":{"major":2},"accounts":[{}]}`: ErrNewer,
	} {
		_, err := Read(context.Background(), "x", []byte(in), nil)
		assert.ErrorContains(t, err, want.Error(), in)
	}
}

// TestOurOwnFilesComeBack exports a vault in each format and brings it into itself, which
// changes nothing, and into an empty one, which is then the same.
func TestOurOwnFilesComeBack(t *testing.T) {
	have := everyKind(t)
	have = append(
		have,
		bring(t, nil, now, read(t, "f.csv", "url,username,password\nskua.example,m,p\n"))[0],
	) // with a title that was made
	var items, table bytes.Buffer
	require.NoError(t, WriteJSON(&items, Export{Made: now.At, Entries: have}))
	n, err := WriteCSV(
		&table,
		have,
		[]Meaning{
			MeansTitle,
			MeansAddress,
			MeansUsername,
			MeansPassword,
			MeansNotes,
			MeansSetup,
			MeansFolder,
			MeansTags,
			MeansPinned,
			MeansChanged,
			MeansKind,
		},
	)
	require.NoError(t, err)
	assert.Equal(t, len(have), n)
	src, err := Read(context.Background(), "items.json", items.Bytes(), nil)
	require.NoError(t, err)
	p := newPlan(have, []Source{src}, Options{By: now})
	assert.Equal(t, Count{Steps: len(have), Rows: len(have)}, p.Count(GroupKnown))
	assert.Equal(t, shown(have), shown(bring(t, nil, now, src)))

	src, err = Read(context.Background(), "table.csv", table.Bytes(), nil)
	require.NoError(t, err)
	assert.Empty(t, src.Broken)
	for _, e := range bring(t, nil, now, src) {
		if e.Type != vault.TypeLogin || e.Text(vault.FieldTitle) != "A login" {
			continue
		}
		assert.Equal(t, have[0].Text(vault.FieldPassword), e.Text(vault.FieldPassword))
		assert.Equal(t, have[0].Text(vault.FieldSetup), e.Text(vault.FieldSetup))
		assert.Equal(t, have[0].Fields[vault.FieldPassword].Stamp.At, e.Fields[vault.FieldPassword].Stamp.At)
		assert.Equal(
			t,
			[]any{"Home/Papers", []string{"a", "b"}, true},
			[]any{vault.View(e).Folder, vault.View(e).Tags, vault.View(e).Pinned},
		)
	}
}

func FuzzRead(f *testing.F) {
	f.Add(
		[]byte(
			`{"version":{"major":1},"accounts":[{"items":[{"title":"x","scope":{"urls":["a.example"]},"credentials":[{"type":"basic-auth","username":"u","password":{"value":"p"}},{"type":"totp","secret":"GEZDGNBV"},{"type":"custom-fields","fields":[{"label":"l","value":true}]}]}],"collections":[{"title":"a/b","items":[{"item":""}],"subCollections":[{"title":"c"}]}]}]}`,
		),
	)
	f.Add([]byte("name;url\nx;https://a.example"))
	f.Fuzz(func(t *testing.T, b []byte) {
		src, err := Read(context.Background(), "x", b, nil)
		if err != nil {
			return
		}
		n := 0
		p := newPlan(nil, []Source{src}, Options{By: now})
		d, err := p.Apply(context.Background(), Writer{By: now, NewID: ids(&n)})
		if err != nil && len(b) < vault.MaxEncoded {
			t.Fatal(err)
		}
		var out bytes.Buffer
		if err := WriteExchange(&out, d.Entries, now.At, "m"); err != nil || !json.Valid(out.Bytes()) {
			t.Fatal(err)
		}
	})
}
