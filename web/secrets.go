package web

import (
	"net/http"
	"strconv"
	"strings"

	"github.com/go-chi/chi/v5"

	"redlocket/app/filling"
	"redlocket/app/reauth"
	"redlocket/app/records"
	"redlocket/core/generator"
	"redlocket/core/otp"
	"redlocket/core/secret"
	"redlocket/core/share"
	"redlocket/core/strength"
	"redlocket/core/vault"
)

// secretPages make passwords and draw the QR pictures of secrets.
type secretPages struct{ *Server }

func (s secretPages) routes(r routes) {
	r.post("/items/{id}/show", s.showSecret)
	r.post("/items/{id}/copy", s.copySecret)
	r.post("/items/{id}/join-code", s.joinCode)
	r.post("/generate", s.generate)
}

// valueOf reads one field's value: of a kind, or of the user's own.
func valueOf(e vault.Entry, f vault.Field) string {
	if id, own := strings.CutPrefix(string(f), "own:"); own {
		for _, o := range e.CustomFields() {
			if o.ID == id {
				return o.Value.Reveal()
			}
		}
		return ""
	}
	value := e.Text(f)
	if f == vault.FieldSetup { // the key alone: what another program asks for
		if s, err := otp.Parse(secret.New(value)); err == nil {
			return s.Key.Reveal()
		}
	}
	return value
}

// secretOf reads the one value that a request names.
func (s *Server) secretOf(r *http.Request) (p secret.Text, slot slotData, err error) {
	e, at, err := entryOf(r)
	slot = slotData{ID: chi.URLParam(r, "id"), Field: r.FormValue("field"), At: at}
	if slot.Field == "" {
		slot.Field = string(vault.FieldPassword)
	}
	if err == nil && !vaultOf(r).Items.Right(e).Includes(share.See) {
		err = records.ErrNotToSee
	}
	if err != nil {
		return p, slot, err
	}
	if i, err := strconv.Atoi(r.FormValue("past")); err == nil && i >= 0 && i < len(e.Past) {
		slot.Past, slot.Field = strconv.Itoa(i), string(e.Past[i].Field)
		return secret.New(vault.Plain(e.Past[i].Value)), slot, nil
	}
	return secret.New(valueOf(e, vault.Field(slot.Field))), slot, nil
}

type secretData struct {
	slotData
	Groups []Group
	Lines  string // for what is too long to set in groups
}

// inGroups is the longest value that is set in groups of four, in characters.
const inGroups = 128

func (s secretPages) showSecret(w http.ResponseWriter, r *http.Request) error {
	p, slot, err := s.secretOf(r)
	d := secretData{slotData: slot}
	if err == nil && r.FormValue("hide") == "" {
		if err = vaultOf(r).Guard.Require(reauth.Show); err == nil {
			if text := p.Reveal(); len(text) > inGroups || strings.Contains(text, "\n") {
				d.Lines = text
			} else {
				d.Groups = grouped(text)
			}
		}
	}
	if err != nil {
		return err
	}
	s.render(w, r, http.StatusOK, "secret", s.view(r, "", "", d))
	return nil
}

func (s secretPages) copySecret(w http.ResponseWriter, r *http.Request) error {
	p, slot, err := s.secretOf(r)
	if err == nil && r.FormValue("field") == "one-time" {
		var c otp.Code
		c, _, err = vaultOf(r).Items.Code(slot.ID)
		p = c.Text
	} else if err == nil && slot.Field != string(vault.FieldUsername) {
		err = vaultOf(r).Guard.Require(reauth.Show)
	}
	if err != nil {
		return err
	}
	if err := vaultOf(r).Book.Use(slot.ID); err != nil {
		return err
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	_, _ = w.Write([]byte(p.Reveal()))
	return nil
}

// joinCode shows the code that brings a telephone into a Wi-Fi network. Its text has no
// standard; the form is common practice (WIFI:T:…;S:…;P:…;H:…;;).
func (s secretPages) joinCode(w http.ResponseWriter, r *http.Request) error {
	e, _, err := entryOf(r)
	if err == nil {
		err = vaultOf(r).Guard.Require(reauth.Show)
	}
	if err != nil {
		return err
	}
	code, err := qr(wifiText(e))
	if err != nil {
		return err
	}
	s.render(w, r, http.StatusOK, "join-code", s.view(r, "", "", code))
	return nil
}

func wifiText(e vault.Entry) string {
	escape := strings.NewReplacer(`\`, `\\`, `;`, `\;`, `,`, `\,`, `:`, `\:`, `"`, `\"`).Replace
	security := e.Text(vault.FieldSecurity)
	password := e.Text(vault.FieldPassword)
	if security == "" {
		security = "WPA"
		if password == "" {
			security = "nopass"
		}
	}
	text := "WIFI:T:" + security + ";S:" + escape(e.Text(vault.FieldSSID)) + ";"
	if security != "nopass" {
		text += "P:" + escape(password) + ";"
	}
	if e.Text(vault.FieldUnseen) == "yes" {
		text += "H:true;"
	}
	return text + ";"
}

type madeData struct {
	Value   string
	Groups  []Group
	Verdict strength.Verdict
	Why     string
	For     string // the site whose rules were obeyed
	At      int64  // by which it is known
}

// generateForm says what a password is to be made of. What isn't a number is 0, which the
// generator refuses with its reason.
type generateForm struct {
	Instead      int64    `form:"instead"` // by which the one that is shown is known
	Make         string   `form:"make"`    // "words", "sounds", or empty for characters
	Title        string   `form:"title"`
	Addresses    []string `form:"address"`
	Length       int      `form:"length"`
	Lower        bool     `form:"lower"`
	Upper        bool     `form:"upper"`
	Digits       bool     `form:"digits"`
	Symbols      bool     `form:"symbols"`
	MinDigits    int      `form:"min_digits"`
	MinSymbols   int      `form:"min_symbols"`
	NoLookalikes bool     `form:"no_lookalikes"`
	OwnRules     bool     `form:"own_rules"`
	Words        int      `form:"words"`
	Between      string   `form:"between"`
}

// generate makes a password for a form. It is kept with the generated passwords before it is shown.
func (s secretPages) generate(w http.ResponseWriter, r *http.Request) error {
	in := decode[generateForm](r)
	o := generator.Options{
		Length: in.Length, Lower: in.Lower, Upper: in.Upper, Digits: in.Digits, Symbols: in.Symbols,
		MinDigits: in.MinDigits, MinSymbols: in.MinSymbols, NoLookalikes: in.NoLookalikes,
	}
	var d madeData
	for _, a := range in.Addresses {
		if !in.OwnRules {
			o, d.For = vaultOf(r).Sites.Directory().Obey(a, o)
		}
	}
	var p secret.Text
	var err error
	switch in.Make {
	case "words":
		p, err = generator.Passphrase(vaultOf(r).Rand(), in.Words, in.Between)
	case "sounds":
		p, err = generator.Pronounceable(vaultOf(r).Rand(), o.Length)
	default:
		p, err = generator.Password(vaultOf(r).Rand(), o)
	}
	if err == nil {
		made := filling.GeneratedPassword{Password: p.Reveal(), Site: in.Title}
		if len(in.Addresses) > 0 {
			made.URL = in.Addresses[0]
		}
		d.At, err = vaultOf(r).Generated.Keep(r.Context(), made, in.Instead)
	}
	if err != nil {
		d.Why = errorWords(err)
	} else {
		d.Value, d.Groups, d.Verdict = p.Reveal(), grouped(p.Reveal()), strength.Judge(p, strength.Leaked)
	}
	s.render(w, r, http.StatusOK, "made", s.view(r, "", "", d))
	return nil
}
