package transfer

import (
	"bufio"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"redlocket/core/otp"
	"redlocket/core/secret"
	"redlocket/core/site"
	"redlocket/core/vault"
)

// The Credential Exchange Format of the FIDO Alliance, version 1.0, from memory: its
// text wasn't at hand when this was written, so every name of it stands in this file, in
// the table below or in the types beside it.

// exchangeFieldOf is one member of a credential, and the field that it is.
type exchangeFieldOf struct {
	credential string
	kind       vault.Type
	member     string
	field      vault.Field
	fieldType  string
}

// exchangeFields says which member of which credential is which field. The first type of
// a credential that fits makes the item's kind.
var exchangeFields = []exchangeFieldOf{
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
		Version  *json.RawMessage `json:"version"`
		Accounts []struct {
			Items *[]json.RawMessage `json:"items"`
		} `json:"accounts"`
	}
	if json.Unmarshal(b, &head) != nil || len(head.Accounts) == 0 {
		return false
	}
	for _, a := range head.Accounts { // another list may be called that
		if a.Items == nil && head.Version == nil {
			return false
		}
	}
	return true
}

// readExchange reads a file of the format. Every part of an item becomes a field of a row, or is named by a remark of
// one; an item without anything that can be kept is among the broken.
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
			list := it.rows(folders[it.ID], n)
			if len(list) == 0 {
				why := RowError{Fault: FaultForeign}
				broken = append(broken, Broken{Line: n, Title: it.Title, Cells: []string{it.Title}, Why: why})
			}
			rows = append(rows, list...)
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

// gathered is what the credentials of an item say.
type gathered struct {
	kind    vault.Type
	values  map[vault.Field]string
	notes   []string
	owns    []vault.CustomField
	remarks []Remark
	signIns []map[vault.Field]string // beyond the first: user names and passwords
}

// rows are what an item becomes: one, or one for each of its sign-ins.
func (it exchangeItem) rows(folder string, n int) (out []Row) {
	g := gathered{values: map[vault.Field]string{}}
	for _, c := range it.Creds {
		g.add(c)
	}
	if g.kind == "" {
		if len(g.owns)+len(g.notes) == 0 {
			return nil
		}
		g.kind = vault.TypeNote
	}
	if len(g.notes) > 0 {
		g.values[vault.FieldNotes] = strings.Join(g.notes, "\n\n")
	}
	first := it.row(folder, n, g.kind, g.values, g.owns)
	first.Remarks = append(g.remarks, first.Remarks...)
	out = append(out, first)
	for _, values := range g.signIns {
		out = append(out, it.row(folder, n, vault.TypeLogin, values, nil))
	}
	return out
}

// own keeps a value in a field of its own.
func (g *gathered) own(label string, form vault.Form, value string) {
	if value != "" {
		g.owns = append(g.owns, vault.CustomField{Label: label, Form: form, Value: secret.New(value)})
	}
}

// mayBeLogin reports whether the item is a login, as far as is known yet.
func (g *gathered) mayBeLogin() bool {
	return g.kind == "" || g.kind == vault.TypeNote || g.kind == vault.TypeLogin
}

// add takes what one credential says.
func (g *gathered) add(c map[string]json.RawMessage) {
	var name string
	_ = json.Unmarshal(c["type"], &name)
	switch name {
	case "totp":
		s, ok := exchangeSetup(c)
		switch {
		case !ok:
			var key string
			_ = json.Unmarshal(c["secret"], &key)
			g.own("Setup key", vault.FormHidden, key)
			g.remarks = append(g.remarks, Remark{What: RemarkSetup})
		case g.values[vault.FieldSetup] == "" && g.mayBeLogin():
			g.values[vault.FieldSetup], g.kind = s, vault.TypeLogin
		default:
			g.own("Setup key", vault.FormHidden, s)
		}
	case "custom-fields":
		var list []exchangeField
		_ = json.Unmarshal(c["fields"], &list)
		for _, f := range list {
			if f.Label == "" {
				f.Label = "Field"
			}
			g.own(f.Label, f.form(), f.Value)
		}
	case "passkey":
		g.remarks = append(g.remarks, Remark{What: RemarkPasskey})
	case "basic-auth":
		g.signIn(c)
	default:
		g.fields(name, c)
	}
}

// form is how a field of its own is kept.
func (f exchangeField) form() vault.Form {
	if f.Type == "concealed-string" {
		return vault.FormHidden
	}
	return vault.FormText
}

// signIn takes a user name and a password. A second one of an item is a login of its own.
func (g *gathered) signIn(c map[string]json.RawMessage) {
	values := map[vault.Field]string{}
	for _, f := range exchangeFields {
		var v exchangeField
		if f.credential != "basic-auth" || c[f.member] == nil {
			continue
		}
		if json.Unmarshal(c[f.member], &v) == nil && v.Value != "" {
			values[f.field] = v.Value
		}
	}
	has := g.values[vault.FieldUsername]+g.values[vault.FieldPassword] != ""
	switch {
	case len(values) == 0:
	case has || !g.mayBeLogin():
		g.signIns = append(g.signIns, values)
	default:
		g.kind = vault.TypeLogin
		maps.Copy(g.values, values)
	}
}

// fields takes the members of a credential: into the fields of their kind, or else into fields of their own.
func (g *gathered) fields(name string, c map[string]json.RawMessage) {
	known := false
	for _, member := range slices.Sorted(maps.Keys(c)) {
		var v exchangeField
		if member == "type" || json.Unmarshal(c[member], &v) != nil || v.Value == "" {
			continue
		}
		at := slices.IndexFunc(exchangeFields, func(f exchangeFieldOf) bool {
			return f.credential == name && f.member == member
		})
		if name == "note" && member == "content" {
			known = true
			g.notes = append(g.notes, v.Value)
			continue
		}
		if at >= 0 {
			f := exchangeFields[at]
			known = true
			if g.kind == "" || g.kind == vault.TypeNote {
				g.kind = f.kind
			}
			if g.kind == f.kind && (g.values[f.field] == "" || g.values[f.field] == v.Value) {
				g.values[f.field] = v.Value
				continue
			}
		}
		g.own(memberName(member), v.form(), v.Value)
	}
	for kind, credential := range exchangePapers {
		if credential == name && g.kind == vault.TypePaper && g.values[vault.FieldPaper] == "" {
			g.values[vault.FieldPaper] = kind
		}
	}
	if !known {
		g.remarks = append(g.remarks, Remark{What: RemarkUnknown, Name: memberName(strings.ReplaceAll(name, "-", " "))})
	}
}

// memberName turns the name of a member into words: "cardholderName" into "Cardholder name".
func memberName(s string) string {
	s = foldName(s)
	if s == "" {
		return "Field"
	}
	r := []rune(s)
	return string(unicode.ToUpper(r[0])) + string(r[1:])
}

// row makes a row from an item's values.
func (it exchangeItem) row(
	folder string, n int, kind vault.Type, values map[vault.Field]string, owns []vault.CustomField,
) Row {
	row := Row{
		Line: n, Entry: vault.Entry{Type: kind, Fields: map[vault.Field]vault.Register{}}, Named: it.Title != "",
	}
	at := max(it.Modified*1000, it.Created*1000, Unknown)
	owns = append(owns, it.scope(&row, values)...)
	title := it.Title
	if title == "" {
		title = exchangeTitle(row, values)
	}
	if title == "" {
		title = "Item " + strconv.Itoa(n)
		row.Remarks = append(row.Remarks, Remark{What: RemarkUntitled})
	}
	row.set(vault.FieldTitle, title, Unknown)
	for f, v := range values {
		stamp := int64(Unknown)
		if f == vault.FieldPassword {
			stamp = at
		}
		if f == vault.FieldNotes && utf8.RuneCountInString(v) > maxNotes {
			row.Files = append(row.Files, TextFile{Name: "Note.txt", Text: secret.New(v)})
			row.Remarks = append(row.Remarks, Remark{What: RemarkLong, Name: "Note"})
			v = clip(v, 500) + "…"
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
	return row
}

// scope sets where an item works. What can't be opened, and programs beyond the first of an item without addresses,
// come back as fields.
func (it exchangeItem) scope(row *Row, values map[vault.Field]string) (owns []vault.CustomField) {
	if it.Scope == nil {
		return nil
	}
	own := func(label, value string, what Remarked) {
		owns = append(owns, vault.CustomField{Label: label, Form: vault.FormText, Value: secret.New(value)})
		row.Remarks = append(row.Remarks, Remark{What: what, Name: value})
	}
	var list []vault.Address
	for _, u := range it.Scope.URLs {
		clean, err := site.Clean(u)
		switch {
		case strings.TrimSpace(u) == "":
		case err != nil:
			own("Address", u, RemarkAddress)
		case !slices.Contains(list, vault.Address{URL: clean}):
			list = append(list, vault.Address{URL: clean})
		}
	}
	if len(list) > 0 {
		sortAddresses(list)
		row.set(vault.FieldAddresses, list, Unknown)
	}
	for _, a := range it.Scope.Apps {
		switch {
		case a.Bundle == "":
		case len(list) == 0 && row.Entry.Type == vault.TypeLogin:
			row.Entry.Type = vault.TypeApp
			values[vault.FieldApp] = a.Bundle
		case values[vault.FieldApp] != a.Bundle:
			own("Program", a.Bundle, RemarkProgram)
		}
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
