package web_test

import (
	"net/http"
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/records"
	"redlocket/core/secret"
	"redlocket/core/vault"
)

// everyKind makes an item of each kind, with a value in each field, its past, and all that the
// pages show beside: a site that the directory knows, a staged password, passwords set at once,
// custom fields, a file and tags.
func everyKind(t *testing.T, v *app.Vault) (ids []string) {
	ctx := t.Context()
	for _, kind := range vault.Kinds() {
		c := vault.Changes{
			vault.FieldTitle: "The " + string(kind.Type), vault.FieldNotes: "two\nlines", vault.FieldTags: []string{"sea"},
			vault.FieldFolder: "Harbour", vault.FieldAliases: []string{"Other name"},
			vault.FieldAddresses: []vault.Address{{URL: "https://gullwing.example/sign-in"}},
		}
		for _, spec := range kind.Specs {
			c[spec.Field] = secret.New(example(spec))
		}
		for _, form := range []vault.Form{vault.FormText, vault.FormHidden, vault.FormDate, vault.FormYesNo} {
			own := vault.CustomField{ID: string(form), Label: "Mine", Form: form, Value: secret.New("2026-01-02")}
			field, value := own.Register()
			c[field] = value
		}
		id := records.NewID()
		require.NoError(t, v.Items.SaveAs(ctx, id, kind.Type, c))
		again := vault.Changes{vault.FieldTitle: "A " + string(kind.Type), vault.FieldStaged: secret.New("waits")}
		require.NoError(t, v.Items.SaveAs(ctx, id, kind.Type, again))
		ids = append(ids, id)
	}
	return ids
}

func example(spec vault.Spec) string {
	switch spec.Form {
	case vault.FormDate:
		return "2026-12-01"
	case vault.FormMonth:
		return "2026-12"
	case vault.FormCountry:
		return "GB"
	case vault.FormCard:
		return "4111111111111111" // the industry's test number
	case vault.FormYesNo:
		return "yes"
	case vault.FormSetup:
		return "otpauth://totp/x?secret=JBSWY3DPEHPK3PXP"
	case vault.FormChoice:
		return spec.Choices[0].Value
	}
	return "example"
}

// A name that a template gets wrong shows only when the page is drawn: each page is, for each
// kind of item.
func TestEveryPageIsDrawn(t *testing.T) {
	c, _, v := setup(t)
	ids := everyKind(t, v)
	c.open(v)
	paths := []string{
		"/logins", "/cards", "/notes", "/rows?q=kind%3Dlogin", "/rows?q=nothing-fits", "/ids", "/narrow", "/archive",
		"/items/new",
		"/settings", "/import", "/devices", "/status", "/browsers", "/sites?title=gull", "/logins?on=2026-01-01",
	}
	for _, k := range vault.Kinds() {
		paths = append(paths, "/items/new?kind="+string(k.Type))
	}
	for _, id := range ids {
		for _, page := range []string{"", "/edit", "/past", "/print", "/print?open=1",
			"/vouch?address=https%3A%2F%2Fgu11wing.example"} {
			paths = append(paths, "/items/"+id+page)
		}
	}
	for _, path := range paths {
		r := c.do("GET", path, nil)
		text := body(t, r)
		assert.Less(t, r.StatusCode, http.StatusInternalServerError, path)
		assert.NotContains(t, text, "can’t be shown", path)
		for _, target := range []string{"sheet", "book", "list", "notices"} {
			r := c.do("GET", path, nil, "HX-Request", "true", "HX-Target", target)
			assert.Less(t, r.StatusCode, http.StatusInternalServerError, path+" for "+target)
		}
	}
	for _, id := range ids {
		for _, act := range []string{"/show?field=password", "/copy?field=password", "/show?field=setup", "/code"} {
			r := c.do("POST", "/items/"+id+act, map[string][]string{})
			assert.NotContains(t, body(t, r), "can’t be shown", act)
		}
	}
	for _, path := range []string{"/front", "/new", "/join", "/recover", "/forgot/" + v.Profile().ID, "/sheet"} {
		r := c.do("GET", path, nil)
		assert.NotContains(t, body(t, r), "can’t be shown", path)
	}
}

// Forty characters are typed off a sheet of paper: what else was wrong in the form, they are there still.
func TestATypedRecoveryCodeStays(t *testing.T) {
	c, _, v := setup(t)
	c.open(v)
	const code = "AAAAA BBBBB CCCCC DDDDD EEEEE FFFFF GGGGG HHHH7"
	for _, path := range []string{"/second", "/forgot/" + v.Profile().ID, "/recover"} {
		form := url.Values{
			"email": {"maren@cormorant.example"}, "cloud": {"http://127.0.0.1:1"}, "device": {"Desk"}, "master": {master},
			"code": {code}, "password": {"gravel opera thicket nineteen"}, "repeat": {"gravel opera"},
		}
		r := c.do("POST", path, form)
		text := body(t, r)
		assert.Equal(t, http.StatusUnprocessableEntity, r.StatusCode, path)
		assert.Contains(t, text, `value="`+code+`"`, path)
		assert.NotContains(t, text, "gravel opera", "a password doesn't")
	}
}
