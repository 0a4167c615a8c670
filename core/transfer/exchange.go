package transfer

import (
	"bufio"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"redlocket/core/otp"
	"redlocket/core/secret"
	"redlocket/core/site"
	"redlocket/core/vault"
)

// The Credential Exchange Format of the FIDO Alliance, version 1.0, as remembered: its
// text wasn't at hand when this was written, so every name of it stands in this file, in
// the table below or in the types beside it.

// exchangeFields says which member of which credential is which field. The first type of
// a credential that fits makes the item's kind.
var exchangeFields = []struct {
	credential string
	kind       vault.Type
	member     string
	field      vault.Field
	fieldType  string
}{
	{"basic-auth", vault.TypeLogin, "username", vault.FieldUsername, "string"},
	{"basic-auth", vault.TypeLogin, "password", vault.FieldPassword, "concealed-string"},
	{"credit-card", vault.TypeCard, "number", vault.FieldNumber, "concealed-string"},
	{"credit-card", vault.TypeCard, "fullName", vault.FieldHolder, "string"},
	{"credit-card", vault.TypeCard, "verificationNumber", vault.FieldCode, "concealed-string"},
	{"credit-card", vault.TypeCard, "pin", vault.FieldPIN, "concealed-string"},
	{"credit-card", vault.TypeCard, "expiryDate", vault.FieldExpiry, "year-month"},
	{"wifi", vault.TypeWiFi, "ssid", vault.FieldSSID, "string"},
	{"wifi", vault.TypeWiFi, "passphrase", vault.FieldPassword, "concealed-string"},
	{"passport", vault.TypePaper, "passportNumber", vault.FieldNumber, "string"},
	{"passport", vault.TypePaper, "fullName", vault.FieldHolder, "string"},
	{"passport", vault.TypePaper, "issueDate", vault.FieldIssued, "date"},
	{"passport", vault.TypePaper, "expiryDate", vault.FieldExpiry, "date"},
	{"passport", vault.TypePaper, "issuingCountry", vault.FieldCountry, "country-code"},
	{"drivers-license", vault.TypePaper, "licenseNumber", vault.FieldNumber, "string"},
	{"drivers-license", vault.TypePaper, "fullName", vault.FieldHolder, "string"},
	{"drivers-license", vault.TypePaper, "issueDate", vault.FieldIssued, "date"},
	{"drivers-license", vault.TypePaper, "expiryDate", vault.FieldExpiry, "date"},
	{"identity-document", vault.TypePaper, "documentNumber", vault.FieldNumber, "string"},
	{"identity-document", vault.TypePaper, "fullName", vault.FieldHolder, "string"},
	{"identity-document", vault.TypePaper, "expiryDate", vault.FieldExpiry, "date"},
	{"person-name", vault.TypePerson, "title", "honorific-prefix", "string"},
	{"person-name", vault.TypePerson, "given", "given-name", "string"},
	{"person-name", vault.TypePerson, "given2", "additional-name", "string"},
	{"person-name", vault.TypePerson, "surname", "family-name", "string"},
	{"person-name", vault.TypePerson, "generation", "honorific-suffix", "string"},
	{"address", vault.TypePerson, "streetAddress", "street-address", "string"},
	{"address", vault.TypePerson, "postalCode", "postal-code", "string"},
	{"address", vault.TypePerson, "city", "address-level2", "string"},
	{"address", vault.TypePerson, "territory", "address-level1", "subdivision-code"},
	{"address", vault.TypePerson, "country", "country", "country-code"},
	{"address", vault.TypePerson, "tel", "tel", "string"},
	{"note", vault.TypeNote, "content", vault.FieldNotes, "string"},
}

// exchangePapers names the credential of each kind of identity paper.
var exchangePapers = map[string]string{
	"passport": "passport",
	"licence":  "drivers-license",
	"identity": "identity-document",
}

type exchangeFile struct {
	Version  exchangeVersion   `json:"version"`
	RPID     string            `json:"exporterRpId"`
	Exporter string            `json:"exporterDisplayName"`
	At       int64             `json:"timestamp"` // seconds
	Accounts []exchangeAccount `json:"accounts"`
}

type exchangeVersion struct {
	Major int `json:"major"`
	Minor int `json:"minor"`
}

type exchangeAccount struct {
	ID          string               `json:"id"`
	Username    string               `json:"username"`
	Email       string               `json:"email"`
	Collections []exchangeCollection `json:"collections"`
	Items       []exchangeItem       `json:"items"`
}

type exchangeCollection struct {
	ID    string `json:"id"`
	Title string `json:"title"`
	Items []struct {
		Item string `json:"item"`
	} `json:"items"`
	Sub []exchangeCollection `json:"subCollections,omitempty"`
}

type exchangeItem struct {
	ID       string                       `json:"id"`
	Created  int64                        `json:"creationAt,omitempty"` // seconds
	Modified int64                        `json:"modifiedAt,omitempty"` // seconds
	Title    string                       `json:"title"`
	Favorite bool                         `json:"favorite,omitempty"`
	Scope    *exchangeScope               `json:"scope,omitempty"`
	Creds    []map[string]json.RawMessage `json:"credentials"`
	Tags     []string                     `json:"tags,omitempty"`
}

type exchangeScope struct {
	URLs []string      `json:"urls"`
	Apps []exchangeApp `json:"androidApps"`
}

type exchangeApp struct {
	Bundle string `json:"bundleId"`
}

// exchangeField is an editable field; files that write its value alone are read too.
type exchangeField struct {
	Type  string `json:"fieldType"`
	Value string `json:"value"`
	Label string `json:"label,omitempty"`
}

func (f *exchangeField) UnmarshalJSON(b []byte) error {
	var value any
	if err := json.Unmarshal(b, &value); err != nil {
		return err
	}
	switch v := value.(type) {
	case string:
		f.Value = v
	case map[string]any:
		f.Type, _ = v["fieldType"].(string)
		f.Label, _ = v["label"].(string)
		switch x := v["value"].(type) {
		case string:
			f.Value = x
		case bool, float64:
			f.Value = fmt.Sprint(x)
		}
	}
	return nil
}

// isExchange reports whether JSON looks like this format.
func isExchange(b []byte) bool {
	var head struct {
		Accounts []json.RawMessage `json:"accounts"`
	}
	return json.Unmarshal(b, &head) == nil && len(head.Accounts) > 0
}

// readExchange reads a file of the format. Credentials that aren't known are left out,
// and said so by the item being among the broken.
func readExchange(b []byte) (rows []Row, broken []Broken, err error) {
	if len(b) > MaxBytes {
		return nil, nil, ErrTooLarge
	}
	if depth(b) > maxDepth {
		return nil, nil, ErrTooDeep
	}
	var file exchangeFile
	if err := json.Unmarshal(b, &file); err != nil {
		return nil, nil, fmt.Errorf("%w: %w", ErrBadJSON, err)
	}
	if file.Version.Major > 1 {
		return nil, nil, ErrNewer
	}
	n := 0
	for _, a := range file.Accounts {
		folders := map[string]string{}
		for _, c := range a.Collections {
			c.folders("", folders)
		}
		for _, it := range a.Items {
			if n++; n > MaxItems {
				return nil, nil, ErrTooMany
			}
			r, ok := it.row(folders[it.ID])
			if !ok {
				broken = append(
					broken,
					Broken{
						Line:  n,
						Cells: []string{it.Title},
						Why:   RowError{Fault: FaultForeign},
					},
				)
				continue
			}
			r.Line = n
			rows = append(rows, r)
		}
	}
	return rows, broken, nil
}

func (c exchangeCollection) folders(above string, out map[string]string) {
	if len(above) > 200 {
		return
	}
	name := vault.CleanFolder(above + "/" + strings.ReplaceAll(c.Title, "/", "-"))
	for _, i := range c.Items {
		out[i.Item] = name
	}
	for _, s := range c.Sub {
		s.folders(name, out)
	}
}

func (it exchangeItem) row(folder string) (row Row, ok bool) {
	row = Row{Entry: vault.Entry{Fields: map[vault.Field]vault.Register{}}, Named: it.Title != ""}
	at := max(it.Modified*1000, it.Created*1000, Unknown)
	values := map[vault.Field]string{}
	var owns []vault.CustomField
	for _, c := range it.Creds {
		var name string
		_ = json.Unmarshal(c["type"], &name)
		for _, f := range exchangeFields {
			var v exchangeField
			if f.credential != name || c[f.member] == nil || json.Unmarshal(c[f.member], &v) != nil || v.Value == "" {
				continue
			}
			if row.Entry.Type == "" || row.Entry.Type == vault.TypeNote {
				row.Entry.Type = f.kind
			}
			if name == "passport" || name == "drivers-license" || name == "identity-document" {
				for kind, credential := range exchangePapers {
					if credential == name {
						values[vault.FieldPaper] = kind
					}
				}
			}
			values[f.field] = v.Value
		}
		switch name {
		case "totp":
			if s, ok := exchangeSetup(c); ok {
				values[vault.FieldSetup] = s
				row.Entry.Type = vault.TypeLogin
			}
		case "custom-fields":
			var list []exchangeField
			_ = json.Unmarshal(c["fields"], &list)
			for _, f := range list {
				form := vault.FormText
				if f.Type == "concealed-string" {
					form = vault.FormHidden
				}
				if f.Label == "" {
					f.Label = "Field"
				}
				owns = append(owns, vault.CustomField{Label: f.Label, Form: form, Value: secret.New(f.Value)})
			}
		}
	}
	if row.Entry.Type == "" {
		if len(owns) == 0 {
			return row, false
		}
		row.Entry.Type = vault.TypeNote
	}
	owns = append(owns, it.scope(&row, values)...)
	title := it.Title
	if title == "" {
		title = exchangeTitle(row, values)
	}
	row.set(vault.FieldTitle, title, Unknown)
	for f, v := range values {
		stamp := int64(Unknown)
		if f == vault.FieldPassword {
			stamp = at
		}
		row.set(f, v, stamp)
	}
	if folder != "" {
		row.set(vault.FieldFolder, folder, Unknown)
	}
	if tags := vault.CleanTags(strings.Join(it.Tags, ",")); len(tags) > 0 {
		row.set(vault.FieldTags, tags, Unknown)
	}
	if it.Favorite {
		row.set(vault.FieldPinned, true, Unknown)
	}
	row.setOwns(owns)
	return row, title != ""
}

// scope sets where an item works. The program of a login that has addresses too comes
// back as a field.
func (it exchangeItem) scope(row *Row, values map[vault.Field]string) (owns []vault.CustomField) {
	if it.Scope == nil {
		return nil
	}
	var list []vault.Address
	for _, u := range it.Scope.URLs {
		if clean, err := site.Clean(u); err == nil && !slices.Contains(list, vault.Address{URL: clean}) {
			list = append(list, vault.Address{URL: clean})
		}
	}
	if len(list) > 0 {
		sortAddresses(list)
		row.set(vault.FieldAddresses, list, Unknown)
		for _, a := range it.Scope.Apps {
			owns = append(owns, vault.CustomField{Label: "Program", Form: vault.FormText, Value: secret.New(a.Bundle)})
		}
	} else if len(it.Scope.Apps) > 0 && row.Entry.Type == vault.TypeLogin {
		row.Entry.Type = vault.TypeApp
		values[vault.FieldApp] = it.Scope.Apps[0].Bundle
	}
	return owns
}

func exchangeTitle(row Row, values map[vault.Field]string) string {
	if list := vault.View(row.Entry).Addresses; len(list) > 0 {
		return site.Title(list[0].URL)
	}
	for _, f := range []vault.Field{vault.FieldApp, vault.FieldSSID, vault.FieldHolder, "given-name",
		vault.FieldNotes} {
		if v := values[f]; v != "" {
			return clip(v, 60)
		}
	}
	return ""
}

// exchangeSetup reads a credential of one-time codes.
func exchangeSetup(c map[string]json.RawMessage) (string, bool) {
	var t struct {
		Secret    string `json:"secret"`
		Period    int    `json:"period"`
		Digits    int    `json:"digits"`
		Algorithm string `json:"algorithm"`
		Issuer    string `json:"issuer"`
		Username  string `json:"username"`
	}
	for _, m := range []struct {
		name string
		to   any
	}{{"secret", &t.Secret}, {"period", &t.Period}, {"digits", &t.Digits}, {"algorithm", &t.Algorithm}, {"issuer",
		&t.Issuer}, {"username", &t.Username}} {
		if raw := c[m.name]; raw != nil {
			_ = json.Unmarshal(raw, m.to)
		}
	}
	q := url.Values{"secret": {strings.TrimRight(t.Secret, "=")}}
	if t.Period > 0 {
		q.Set("period", strconv.Itoa(t.Period))
	}
	if t.Digits > 0 {
		q.Set("digits", strconv.Itoa(t.Digits))
	}
	if t.Algorithm != "" {
		q.Set("algorithm", strings.ToUpper(t.Algorithm))
	}
	if t.Issuer != "" {
		q.Set("issuer", t.Issuer)
	}
	u := (&url.URL{Scheme: "otpauth", Host: "totp", Path: "/" + t.Username, RawQuery: q.Encode()}).String()
	s, err := otp.Parse(secret.New(u))
	return s.String().Reveal(), err == nil
}

// WriteExchange writes entries in the Credential Exchange Format, in clear. History and
// files don't fit into it.
func WriteExchange(w io.Writer, entries []vault.Entry, now int64, email string) error {
	file := exchangeFile{
		Version:  exchangeVersion{1, 0},
		RPID:     "redlocket.localhost",
		Exporter: "Red Locket",
		At:       now / 1000,
	}
	account := exchangeAccount{
		ID:          exchangeID(email),
		Username:    email,
		Email:       email,
		Collections: []exchangeCollection{},
		Items:       []exchangeItem{},
	}
	for _, e := range entries {
		if !e.IsItem() {
			continue
		}
		account.Items = append(account.Items, toExchange(e))
		if folder := e.Text(vault.FieldFolder); folder != "" {
			account.file(folder, exchangeID(e.ID))
		}
	}
	file.Accounts = []exchangeAccount{account}
	out := bufio.NewWriter(w)
	b, err := plainJSON(file)
	if err != nil {
		return err
	}
	_, _ = out.Write(append(b, '\n'))
	return out.Flush()
}

// exchangeID is an id as the format writes them: base64url without padding.
func exchangeID(id string) string { return base64.RawURLEncoding.EncodeToString([]byte(id)) }

// file puts an item into the collection of its folder.
func (a *exchangeAccount) file(folder, item string) {
	list := &a.Collections
	path := ""
	for name := range strings.SplitSeq(folder, "/") {
		path += "/" + name
		i := slices.IndexFunc(*list, func(c exchangeCollection) bool { return c.Title == name })
		if i < 0 {
			*list, i = append(*list, exchangeCollection{ID: exchangeID(path), Title: name}), len(*list)
		}
		if path == "/"+folder {
			(*list)[i].Items = append((*list)[i].Items, struct {
				Item string `json:"item"`
			}{item})
		}
		list = &(*list)[i].Sub
	}
}

func raw(v any) json.RawMessage {
	b, _ := plainJSON(v) // of texts and numbers, which are always written
	return b
}

func toExchange(e vault.Entry) exchangeItem {
	it := vault.View(e)
	out := exchangeItem{
		ID:       exchangeID(e.ID),
		Created:  e.Created / 1000,
		Modified: max(e.Modified().At/1000, 0),
		Title:    it.Title,
		Favorite: it.Pinned,
		Tags:     it.Tags,
		Creds:    []map[string]json.RawMessage{},
	}
	if len(it.Addresses) > 0 || e.Text(vault.FieldApp) != "" {
		out.Scope = &exchangeScope{URLs: []string{}, Apps: []exchangeApp{}}
		for _, a := range it.Addresses {
			out.Scope.URLs = append(out.Scope.URLs, a.URL)
		}
		if app := e.Text(vault.FieldApp); app != "" {
			out.Scope.Apps = append(out.Scope.Apps, exchangeApp{app})
		}
	}
	kind := it.Type
	if kind == vault.TypeApp {
		kind = vault.TypeLogin
	}
	written := map[vault.Field]bool{vault.FieldApp: true, vault.FieldPaper: true}
	for _, f := range exchangeFields {
		if f.kind != kind && f.credential != "note" ||
			kind == vault.TypePaper && f.credential != "note" &&
				exchangePapers[e.Text(vault.FieldPaper)] != f.credential {
			continue
		}
		v := e.Text(f.field)
		if v == "" {
			continue
		}
		written[f.field] = true
		i := slices.IndexFunc(
			out.Creds,
			func(c map[string]json.RawMessage) bool { return string(c["type"]) == strconv.Quote(f.credential) },
		)
		if i < 0 {
			i = len(out.Creds)
			out.Creds = append(out.Creds, map[string]json.RawMessage{"type": raw(f.credential)})
		}
		out.Creds[i][f.member] = raw(exchangeField{Type: f.fieldType, Value: v})
	}
	if s, err := otp.Parse(e.Secret(vault.FieldSetup)); err == nil && !s.Counts() {
		written[vault.FieldSetup] = true
		out.Creds = append(out.Creds, exchangeTOTP(s))
	}
	if list := exchangeOwns(e, written); len(list) > 0 {
		out.Creds = append(out.Creds, map[string]json.RawMessage{"type": raw("custom-fields"), "fields": raw(list)})
	}
	return out
}

// exchangeOwns are an item's custom fields, and those that the format has no place for.
func exchangeOwns(e vault.Entry, written map[vault.Field]bool) (list []exchangeField) {
	k, _ := vault.KindOf(e.Kind())
	for _, s := range k.Specs {
		if v := e.Text(s.Field); v != "" && !written[s.Field] {
			f := exchangeField{Type: "string", Value: v, Label: s.Name}
			if s.Hidden() {
				f.Type = "concealed-string"
			}
			list = append(list, f)
		}
	}
	for _, o := range e.CustomFields() {
		f := exchangeField{Type: "string", Value: o.Value.Reveal(), Label: o.Label}
		if o.Form == vault.FormHidden {
			f.Type = "concealed-string"
		}
		list = append(list, f)
	}
	return list
}

func exchangeTOTP(s otp.Setup) map[string]json.RawMessage {
	out := map[string]json.RawMessage{
		"type": raw(
			"totp",
		), "secret": raw(s.Key.Reveal()), "period": raw(int(s.Period.Seconds())), "digits": raw(s.Digits),
		"algorithm": raw(strings.ToLower(string(s.Algorithm))), "username": raw(s.Account),
	}
	if s.Issuer != "" {
		out["issuer"] = raw(s.Issuer)
	}
	return out
}
