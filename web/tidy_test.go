package web_test

import (
	"net/http"
	"net/url"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app/records"
	"redlocket/core/secret"
	"redlocket/core/vault"
)

// The whole of Tidy without a script: asked, joined, taken back, joined at once.
func TestTidyWithoutScripts(t *testing.T) {
	c, _, v := setup(t)
	c.open(v)
	page := body(t, c.do("GET", "/tidy", nil))
	assert.Contains(t, page, "No two logins in this book look like the same one.")
	for _, user := range []string{"maren", "Maren"} {
		require.NoError(t, v.Items.Save(t.Context(), records.NewID(), vault.Changes{
			vault.FieldTitle: "<b>Ferrylink", vault.FieldUsername: user, vault.FieldPassword: secret.New("kelp-Ferry-9"),
			vault.FieldAddresses: []vault.Address{{URL: "https://ferrylink.example/"}},
		}))
	}
	page = body(t, c.do("GET", "/tidy", nil))
	assert.Contains(t, page, "1 to decide")
	assert.Contains(t, page, "&lt;b&gt;Ferrylink")
	assert.NotContains(t, page, "kelp-Ferry-9", "a password is shown only when it's asked for")
	ids := regexp.MustCompile(`name="ids" value="([^"]+)"`).FindStringSubmatch(page)
	require.NotNil(t, ids)
	form := url.Values{"ids": {ids[1]}, "title": {"nobody"}}
	r := c.do("POST", "/tidy/join", form)
	assert.Equal(t, http.StatusConflict, r.StatusCode, "a row that isn't one of them")
	form.Del("title")
	r = c.do("POST", "/tidy/join", form)
	require.Equal(t, http.StatusSeeOther, r.StatusCode)
	page = body(t, c.do("GET", r.Header.Get("Location"), nil))
	assert.Contains(t, page, "2 logins joined")
	assert.Equal(t, http.StatusConflict, c.do("POST", "/tidy/join", form).StatusCode, "it is joined already")
	back := regexp.MustCompile(`action="(/tidy/[0-9a-f-]+/back)"`).FindStringSubmatch(page)
	require.NotNil(t, back)
	r = c.do("POST", back[1], url.Values{})
	require.Equal(t, http.StatusSeeOther, r.StatusCode)
	page = body(t, c.do("GET", "/tidy", nil))
	assert.Contains(t, page, "1 decision was taken back.")
	assert.Contains(t, page, "1 to decide")
	assert.Equal(t, http.StatusConflict, c.do("POST", back[1], url.Values{}).StatusCode)
	assert.Equal(t, http.StatusOK, c.do("GET", "/tidy?at=0000&after=%00", nil).StatusCode)
}

// The weak spots are listed, what falls is drawn and said, and which mailbox resets what can be corrected.
func TestWeakSpotsWithoutScripts(t *testing.T) {
	c, _, v := setup(t)
	c.open(v)
	assert.Contains(t, body(t, c.do("GET", "/weak", nil)), "Nothing is wrong with any password")
	var ids []string
	for _, l := range [][3]string{
		{"Cormorant Mail", "maren@cormorant.example", "https://mail.cormorant.example/"},
		{"<i>Gullwing", "maren@cormorant.example", "https://gullwing.example/"},
		{"Brackish", "mt", "https://brackish.example/"},
	} {
		ids = append(ids, records.NewID())
		password := "kelp-Ferry-9"
		if l[0] == "<i>Gullwing" {
			password = "x9!Lq0zVtR"
		}
		require.NoError(t, v.Items.Save(t.Context(), ids[len(ids)-1], vault.Changes{
			vault.FieldTitle: l[0], vault.FieldUsername: l[1], vault.FieldPassword: secret.New(password),
			vault.FieldAddresses: []vault.Address{{URL: l[2]}},
		}))
	}
	assert.Contains(t, body(t, c.do("GET", "/weak", nil)), "used more than once")
	page := body(t, c.do("GET", "/weak/"+ids[2], nil))
	assert.Contains(t, page, "The same password opens Cormorant Mail.")
	assert.Contains(t, page, "If a thief knows it, 2 others fall")
	assert.Contains(t, page, "Brackish → the same password → Cormorant Mail → reset by mail → &lt;i&gt;Gullwing")
	assert.NotContains(t, page, "kelp-Ferry-9")
	r := c.do("POST", "/weak/"+ids[1]+"/reset-by", url.Values{"mailbox": {"none"}})
	require.Equal(t, http.StatusSeeOther, r.StatusCode)
	assert.Contains(t, body(t, c.do("GET", "/weak/"+ids[2], nil)), "If a thief knows it, 1 other falls")
	r = c.do("POST", "/weak/"+ids[1]+"/reset-by", url.Values{"mailbox": {"nobody@nowhere.example"}})
	assert.Equal(t, http.StatusUnprocessableEntity, r.StatusCode)

	require.NoError(t, v.Items.Save(t.Context(), ids[2], vault.Changes{vault.FieldPassword: secret.New("Qz7!pLw0XrTa")}))
	page = body(t, c.do("GET", "/weak/"+ids[2], nil))
	assert.Regexp(t, `1 login fell\s+with it`, page)
	assert.Regexp(t, `Now\s+none does`, page)
	assert.Equal(t, http.StatusNotFound, c.do("GET", "/weak/nobody", nil).StatusCode)
}

// Titles that are addresses are offered as a whole, but for those that are to stay.
func TestBetterWithoutScripts(t *testing.T) {
	c, _, v := setup(t)
	c.open(v)
	var ids []string
	for _, host := range []string{"dunlin.example", "whimbrel.example"} {
		ids = append(ids, records.NewID())
		require.NoError(t, v.Items.Save(t.Context(), ids[len(ids)-1], vault.Changes{
			vault.FieldTitle: host, vault.FieldUsername: "m", vault.FieldPassword: secret.New("pw of " + host),
			vault.FieldAddresses: []vault.Address{{URL: "https://" + host + "/in"}},
		}))
	}
	assert.Contains(t, body(t, c.do("GET", "/tidy", nil)), "Titles that say more")
	page := body(t, c.do("GET", "/tidy/better/title", nil))
	assert.Contains(t, page, "Whimbrel")
	form := url.Values{"ids": {ids[0] + " " + ids[1]}, "not": {ids[1]}}
	r := c.do("POST", "/tidy/better/title", form)
	require.Equal(t, http.StatusSeeOther, r.StatusCode)
	page = body(t, c.do("GET", "/tidy", nil))
	assert.Contains(t, page, "1 login: titles changed")
	assert.Contains(t, page, "1 login left as before")
	assert.NotContains(t, page, "Titles that say more")
	e, err := v.Items.Entry(ids[0])
	require.NoError(t, err)
	assert.Equal(t, "Dunlin", e.Text(vault.FieldTitle))
	assert.Equal(t, http.StatusConflict, c.do("POST", "/tidy/better/title", form).StatusCode)
	assert.Equal(t, http.StatusSeeOther, c.do("GET", "/tidy/better/title", nil).StatusCode)
	r = c.do("POST", "/tidy/today/back", url.Values{})
	require.Equal(t, http.StatusSeeOther, r.StatusCode)
	assert.Contains(t, body(t, c.do("GET", "/tidy", nil)), "Titles that say more")
}
