package practice

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/pquerna/otp/totp"
)

const cookie = "session"

// CodeKey is the setup key of the one-time codes that the town's sites ask for (RFC 6238).
const CodeKey = "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ"

func (t *Town) signedIn(r *http.Request, site string) string {
	c, err := r.Cookie(cookie)
	if err != nil {
		return ""
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	at, user, _ := strings.Cut(t.sessions[c.Value], " ")
	if at != site {
		return ""
	}
	return user
}

// letIn signs somebody in, or asks for a one-time code first.
func (t *Town) letIn(w http.ResponseWriter, r *http.Request, p page, user string) {
	token := rand.Text()
	t.mu.Lock()
	to, held := "/welcome", t.sessions
	if p.Site.Code != "" && r.URL.Path == "/sign-in" {
		to, held = "/code", t.halfway
	}
	held[token] = p.Site.Name + " " + user
	t.mu.Unlock()
	http.SetCookie(
		w,
		&http.Cookie{Name: cookie, Value: token, Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode},
	)
	if p.Frame {
		to = "/frame/welcome"
	}
	t.lead(w, r, to)
}

// lead goes on to another page: for scripts by telling them where.
func (t *Town) lead(w http.ResponseWriter, r *http.Request, to string) {
	if r.Header.Get("Accept") == "application/json" {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(map[string]string{"to": to})
		return
	}
	http.Redirect(w, r, to, http.StatusSeeOther)
}

// refuse shows a form again with what is wrong; scripts get the words alone.
func (t *Town) refuse(w http.ResponseWriter, r *http.Request, status int, name string, p page, why string) {
	if p.Error = why; r.Header.Get("Accept") == "application/json" {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(map[string]string{"error": why})
		return
	}
	t.show(w, status, name, p)
}

func (t *Town) site(w http.ResponseWriter, r *http.Request, p page) {
	p.User = t.signedIn(r, p.Site.Name)
	p.Typed = strings.TrimSpace(value(r, "user"))
	password := value(r, "password")
	if p.Site.Name == "yawl" {
		p.Typed = strings.Join(strings.Fields(p.Typed), "")
	}
	switch r.Method + " " + r.URL.Path {
	case "GET /":
		t.show(w, http.StatusOK, "home", p)
	case "GET /sign-in":
		t.show(w, http.StatusOK, shapeOf(p, "sign-in"), p)
	case "POST /sign-in/password":
		if p.Typed == "" {
			t.refuse(w, r, http.StatusUnprocessableEntity, "sign-in-first", p, p.W.Wrong)
			return
		}
		t.show(w, http.StatusOK, "sign-in-second", p)
	case "POST /sign-in":
		right := t.knows(p.Site.Name, p.Typed, password) && (!p.Site.Company || r.PostFormValue("company") != "")
		if t.locked(p.Site, p.Typed, right) {
			const why = "This account is locked after five wrong passwords. Come to the counter with a paper."
			t.refuse(w, r, http.StatusUnauthorized, shapeOf(p, "sign-in"), p, why)
			return
		}
		if !right && p.Site.Silent {
			t.show(w, http.StatusOK, shapeOf(p, "sign-in"), p)
			return
		}
		if !right {
			again := shapeOf(p, "sign-in")
			if p.Site.Shape == TwoPages {
				again = "sign-in-second"
			}
			t.refuse(w, r, http.StatusUnauthorized, again, p, p.W.Wrong)
			return
		}
		t.letIn(w, r, p, p.Typed)
	case "GET /code":
		t.show(w, http.StatusOK, "code", p)
	case "POST /code":
		t.takeCode(w, r, p)
	case "GET /sign-up":
		t.show(w, http.StatusOK, shapeOf(p, "sign-up"), p)
	case "POST /sign-up":
		why := t.wrongPassword(p, password, value(r, "repeat"))
		switch {
		case p.Typed == "" || p.Site.Mail && !strings.Contains(strings.Trim(p.Typed, "@"), "@"):
			why = p.W.Wrong
		case why == "" && p.Site.Asks && (r.PostFormValue("first") == "" || r.PostFormValue("town") == "" || !born(r)):
			why = p.W.Wrong
		case why == "" && !t.settle(p.Site.Name, p.Typed, password):
			why = p.W.Taken
		}
		if why != "" {
			t.refuse(w, r, http.StatusUnprocessableEntity, shapeOf(p, "sign-up"), p, why)
			return
		}
		t.letIn(w, r, p, p.Typed)
	case "GET /forgot":
		t.show(w, http.StatusOK, "forgot", p)
	case "POST /forgot":
		p.Token = rand.Text()
		t.mu.Lock()
		t.letters[p.Token] = p.Site.Name + " " + p.Typed
		t.mu.Unlock()
		t.show(w, http.StatusOK, "letter", p)
	case "GET /reset", "POST /reset":
		t.reset(w, r, p)
	case "GET /welcome", "GET /change", "POST /change", "GET /pay", "POST /pay":
		if p.User == "" {
			http.Redirect(w, r, "/sign-in", http.StatusSeeOther)
			return
		}
		t.inside(w, r, p)
	case "POST /sign-out":
		if c, err := r.Cookie(cookie); err == nil {
			t.mu.Lock()
			delete(t.sessions, c.Value)
			t.mu.Unlock()
		}
		http.Redirect(w, r, "/", http.StatusSeeOther)
	default:
		t.wellKnown(w, r, p)
	}
}

func (t *Town) wellKnown(w http.ResponseWriter, r *http.Request, p page) {
	switch {
	case r.URL.Path == "/.well-known/change-password" && p.Site.Knows:
		http.Redirect(w, r, "/change", http.StatusSeeOther)
	case r.URL.Path == "/.well-known/assetlinks.json" && p.Site.Knows:
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprintf(
			w,
			`[{"relation":["delegate_permission/common.get_login_creds"],`+
				`"target":{"namespace":"android_app","package_name":"example.%s.app","sha256_cert_fingerprints":[]}}]`,
			p.Site.Name,
		)
	default:
		t.show(w, http.StatusNotFound, "nowhere", p)
	}
}

// inside are the pages of somebody who is signed in.
func (t *Town) inside(w http.ResponseWriter, r *http.Request, p page) {
	switch r.Method + " " + r.URL.Path {
	case "GET /welcome":
		t.show(w, http.StatusOK, "welcome", p)
	case "GET /change":
		t.show(w, http.StatusOK, "change", p)
	case "POST /change":
		fresh, again := value(r, "password"), value(r, "repeat")
		if p.Site.Once {
			again = fresh
		}
		why := t.wrongPassword(p, fresh, again)
		if !t.knows(p.Site.Name, p.User, value(r, "current")) {
			why = p.W.Wrong
		}
		if why != "" {
			t.refuse(w, r, http.StatusUnprocessableEntity, "change", p, why)
			return
		}
		t.change(p.Site.Name, p.User, fresh)
		p.Said = p.W.Changed
		t.show(w, http.StatusOK, "changed", p)
	case "GET /pay":
		if p.Site.Sells == "" {
			t.show(w, http.StatusNotFound, "nowhere", p)
			return
		}
		p.Token = t.basket()
		t.show(w, http.StatusOK, "pay-"+p.Site.Sells, p)
	case "POST /pay":
		if p.Site.Sells == "hosted" {
			for name, v := range t.told(r.PostFormValue("basket")) {
				r.PostForm.Set(name, v)
			}
		}
		if why := wrongPayment(r, p.Site.Sells); why != "" {
			p.Token = t.basket()
			t.refuse(w, r, http.StatusUnprocessableEntity, "pay-"+p.Site.Sells, p, why)
			return
		}
		p.Said = p.W.Paid
		t.show(w, http.StatusOK, "changed", p)
	}
}

func (t *Town) takeCode(w http.ResponseWriter, r *http.Request, p page) {
	c, err := r.Cookie(cookie)
	if err != nil {
		http.Redirect(w, r, "/sign-in", http.StatusSeeOther)
		return
	}
	code := strings.Join(r.PostForm["digit"], "") + r.PostFormValue("code")
	t.mu.Lock()
	who := t.halfway[c.Value]
	t.mu.Unlock()
	ok, err := totp.ValidateCustom(code, CodeKey, time.Now(), totp.ValidateOpts{Period: 30, Skew: 1, Digits: 6})
	if who == "" || err != nil || !ok {
		t.refuse(w, r, http.StatusUnauthorized, "code", p, p.W.WrongCode)
		return
	}
	t.mu.Lock()
	delete(t.halfway, c.Value)
	t.sessions[c.Value] = who
	t.mu.Unlock()
	http.Redirect(w, r, "/welcome", http.StatusSeeOther)
}

// reset sets a new password for who has the letter.
func (t *Town) reset(w http.ResponseWriter, r *http.Request, p page) {
	p.Token = r.FormValue("letter")
	t.mu.Lock()
	at, user, _ := strings.Cut(t.letters[p.Token], " ")
	_, known := t.accounts[at][strings.ToLower(user)]
	t.mu.Unlock()
	if at != p.Site.Name || !known {
		t.show(w, http.StatusNotFound, "nowhere", p)
		return
	}
	if r.Method == http.MethodGet {
		t.show(w, http.StatusOK, "reset", p)
		return
	}
	if why := t.wrongPassword(p, value(r, "password"), value(r, "repeat")); why != "" {
		t.refuse(w, r, http.StatusUnprocessableEntity, "reset", p, why)
		return
	}
	t.change(at, user, value(r, "password"))
	p.Said = p.W.Changed
	t.show(w, http.StatusOK, "changed", p)
}

// shapeOf names the page of a site's shape.
func shapeOf(p page, what string) string {
	switch p.Site.Shape {
	case TwoPages:
		if what == "sign-in" {
			return "sign-in-first"
		}
	case Moving:
		return "moving"
	case Formless:
		return "formless"
	case Shadowed:
		return "shadowed-" + what
	case Late:
		return "late-" + what
	case Showing:
		if what == "sign-in" {
			return "showing"
		}
	case Framed, Away:
		if what == "sign-in" && !p.Frame {
			return "in-frame"
		}
	case Dialog:
		if what == "sign-in" {
			return "dialog"
		}
	}
	return what
}

// wrongPassword says why a new password isn't taken.
func (t *Town) wrongPassword(p page, password, repeat string) string {
	n := utf8.RuneCountInString(password)
	has := func(is func(rune) bool) bool { return strings.ContainsFunc(password, is) }
	switch s := p.Site; {
	case n < s.Least, s.Most > 0 && n > s.Most:
		return fmt.Sprintf(p.W.Short, s.Least)
	case s.Plain && (has(func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) ||
		!has(unicode.IsDigit) || !has(unicode.IsLetter)):
		return fmt.Sprintf(p.W.Short, s.Least)
	case s.Rules != "" && (!has(unicode.IsUpper) || !has(unicode.IsLower) || !has(unicode.IsDigit)),
		s.Name == "mooringmutual" && (!has(unicode.IsUpper) || !has(unicode.IsDigit) || !strings.ContainsAny(password,
			"-_.!")):
		return fmt.Sprintf(p.W.Short, s.Least)
	case password != repeat:
		return p.W.Differ
	}
	return ""
}

// born reports whether the three parts of a birthday are a day of the past.
func born(r *http.Request) bool {
	t, err := time.Parse(
		"2006-1-2",
		r.PostFormValue(
			"year",
		)+"-"+strings.TrimLeft(
			r.PostFormValue("month"),
			"0",
		)+"-"+strings.TrimLeft(
			r.PostFormValue("day"),
			"0",
		),
	)
	return err == nil && t.Before(time.Now())
}

// wrongPayment says why a card isn't taken: its number must be one (ISO/IEC 7812), its
// month to come, and everything be written as the checkout asks for it.
func wrongPayment(r *http.Request, shape string) string {
	number, expiry := r.PostFormValue("number"), r.PostFormValue("expiry")
	if shape == "boxes" {
		number = strings.Join(r.PostForm["number"], "")
	}
	layout := "01/06"
	if shape != "whole" && shape != "hosted" {
		expiry = r.PostFormValue("month") + "/" + r.PostFormValue("year")
		if shape == "boxes" {
			layout = "01/2006"
		}
	}
	when, err := time.Parse(layout, expiry)
	switch {
	case !luhn(number):
		return "The card number is not valid."
	case err != nil || when.AddDate(0, 1, 0).Before(time.Now()):
		return "The expiry is not valid."
	case len(r.PostFormValue("safety")) < 3:
		return "The security code is not valid."
	case r.PostFormValue("holder") == "":
		return "The name on the card is required."
	case shape == "whole" && (r.PostFormValue("street") == "" || r.PostFormValue("post") == "" ||
		r.PostFormValue("country") == ""):
		return "The address is not valid."
	}
	return ""
}

// basket makes the token of a basket.
func (t *Town) basket() string {
	token := rand.Text()
	t.mu.Lock()
	defer t.mu.Unlock()
	t.baskets[token] = map[string]string{}
	return token
}

// told is what the payment company was told of a basket, which is gone with that.
func (t *Town) told(basket string) map[string]string {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := t.baskets[basket]
	delete(t.baskets, basket)
	return out
}

// bowsprit is the payment company: shops show its fields in frames, each with one box, and
// never see what is typed there.
func (t *Town) bowsprit(w http.ResponseWriter, r *http.Request, p page) {
	name, basket := r.FormValue("name"), r.FormValue("basket")
	t.mu.Lock()
	_, known := t.baskets[basket]
	t.mu.Unlock()
	if l := r.FormValue("lang"); tongues[l].Card != "" {
		p.W, p.Site.Lang = tongues[l], l
	}
	for _, f := range p.Hosted() {
		if f.Name == name {
			p.Field = f
		}
	}
	if r.URL.Path != "/field" || !known || p.Field.Name == "" {
		t.show(w, http.StatusNotFound, "nowhere", p)
		return
	}
	if r.Method == http.MethodPost {
		t.mu.Lock()
		t.baskets[basket][name] = r.PostFormValue("value")
		t.mu.Unlock()
		w.WriteHeader(http.StatusNoContent)
		return
	}
	p.Token, p.Frame, p.Site.Name = basket, true, "bowsprit"
	t.show(w, http.StatusOK, "hosted-field", p)
}

func luhn(s string) bool {
	if len(s) < 13 {
		return false
	}
	sum := 0
	for i := range len(s) {
		c := s[len(s)-1-i]
		if c < '0' || c > '9' {
			return false
		}
		n := int(c - '0')
		if i%2 == 1 {
			if n *= 2; n > 9 {
				n -= 9
			}
		}
		sum += n
	}
	return sum%10 == 0
}
