package web

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"

	"redlocket/app"
	"redlocket/app/records"
	"redlocket/core/keys"
)

// platformPages open a vault by the computer's own authenticator, and set that up. What the browser says is checked by
// WebAuthn (level 3): by this origin, port included, for a challenge of ours, once, with the user verified. The key
// itself is what the authenticator answers to a salt; without it the check alone opens nothing.
type platformPages struct{ *Server }

// frontRoutes are those of the lock page.
func (s platformPages) frontRoutes(r routes) {
	r.post("/open/{profile}/platform/options", s.openOptions)
	r.post("/open/{profile}/platform", s.open)
}

// sessionRoutes stand in for the master password where it is asked for again.
func (s platformPages) sessionRoutes(r routes) {
	r.post("/again/platform/options", s.againOptions)
	r.post("/again/platform", s.again)
}

func (s platformPages) routes(r routes) {
	r.post("/unlocks/options", s.addOptions)
	r.post("/unlocks", s.add)
	r.post("/unlocks/end", s.end)
	r.post("/unlocks/rule", s.rule)
	r.post("/unlocks/decline", s.decline)
}

// ceremonies are the challenges that wait for an answer: each serves once, and for a short time.
type ceremonies struct {
	mu sync.Mutex // guards of
	of map[string]ceremony
}

type ceremony struct {
	session webauthn.SessionData
	profile string
	salt    []byte // of one that is being set up
	until   time.Time
}

const (
	ceremonyTime   = 3 * time.Minute
	mostCeremonies = 64
	saltSize       = 32
)

func (c *ceremonies) add(x ceremony) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.of == nil || len(c.of) >= mostCeremonies {
		c.of = map[string]ceremony{} // whoever waits asks again
	}
	x.until = time.Now().Add(ceremonyTime)
	c.of[x.session.Challenge] = x
}

func (c *ceremonies) take(challenge, profile string) (ceremony, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	x, ok := c.of[challenge]
	delete(c.of, challenge)
	return x, ok && x.profile == profile && time.Now().Before(x.until)
}

// errPlatformAnswer is returned for an answer that doesn't hold.
var errPlatformAnswer = errors.New("the browser’s answer doesn’t hold; try again, or type the master password")

// relying is this origin as authenticators know it.
func (s *Server) relying() (*webauthn.WebAuthn, error) {
	u, err := url.Parse(s.cfg.Origin)
	if err != nil || u.Hostname() == "" {
		return nil, errors.New("the pages don’t know their own origin")
	}
	return webauthn.New(&webauthn.Config{
		RPID: u.Hostname(), RPDisplayName: "Red Locket", RPOrigins: []string{s.cfg.Origin},
		AuthenticatorSelection: protocol.AuthenticatorSelection{
			AuthenticatorAttachment: protocol.Platform, UserVerification: protocol.VerificationRequired,
			ResidentKey: protocol.ResidentKeyRequirementDiscouraged,
		},
	})
}

// platformUser is a profile as the library knows it.
type platformUser struct {
	id, name    string
	credentials []webauthn.Credential
}

func (u platformUser) WebAuthnID() []byte                         { return []byte(u.id) }
func (u platformUser) WebAuthnName() string                       { return u.name }
func (u platformUser) WebAuthnDisplayName() string                { return u.name }
func (u platformUser) WebAuthnCredentials() []webauthn.Credential { return u.credentials }

func userOf(id, name string, list []app.PlatformUnlock) (u platformUser, err error) {
	u.id, u.name = id, name
	for _, x := range list {
		var c webauthn.Credential
		if err := json.Unmarshal(x.Credential, &c); err != nil {
			return u, err
		}
		u.credentials = append(u.credentials, c)
	}
	return u, nil
}

// askOptions writes what the browser asks an authenticator with.
func (s platformPages) askOptions(
	w http.ResponseWriter, profile string, list []app.PlatformUnlock,
) error {
	rp, err := s.relying()
	if err != nil {
		return err
	}
	u, err := userOf(profile, profile, list)
	if err != nil {
		return err
	}
	salts := map[string]protocol.PRFValues{}
	for _, x := range list {
		salts[base64.RawURLEncoding.EncodeToString(x.ID)] = protocol.PRFValues{First: x.Salt}
	}
	options, session, err := rp.BeginLogin(u, webauthn.WithUserVerification(protocol.VerificationRequired),
		webauthn.WithAssertionExtensions(webauthn.WithExtensionPRFByCredential(salts, nil)))
	if err != nil {
		return err
	}
	s.ceremonies.add(ceremony{session: *session, profile: profile})
	return writeJSON(w, options.Response)
}

func writeJSON(w http.ResponseWriter, x any) error {
	b, err := json.Marshal(x)
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "application/json")
	_, _ = w.Write(b) // the reader is gone if this fails
	return nil
}

// answered checks an authenticator's answer, and returns by which credential it was given, what its next answer is
// checked by, and what the authenticator made of the salt.
func (s platformPages) answered(
	r *http.Request, profile string, list []app.PlatformUnlock,
) (id, credential []byte, prf [keys.PRFSize]byte, err error) {
	got, err := protocol.ParseCredentialRequestResponseBytes([]byte(r.FormValue("answer")))
	if err != nil {
		return nil, nil, prf, errPlatformAnswer
	}
	c, ok := s.ceremonies.take(got.Response.CollectedClientData.Challenge, profile)
	rp, err := s.relying()
	if err != nil {
		return nil, nil, prf, err
	}
	u, err := userOf(profile, profile, list)
	if err != nil {
		return nil, nil, prf, err
	}
	if !ok {
		return nil, nil, prf, errPlatformAnswer
	}
	used, err := rp.ValidateLogin(u, c.session, got)
	if err != nil || used.Authenticator.CloneWarning {
		return nil, nil, prf, errPlatformAnswer
	}
	if prf, ok = typedPRF(r); !ok {
		return nil, nil, prf, errPlatformAnswer
	}
	credential, err = json.Marshal(used)
	return used.ID, credential, prf, err
}

func typedPRF(r *http.Request) (prf [keys.PRFSize]byte, ok bool) {
	b, err := base64.RawURLEncoding.DecodeString(r.FormValue("prf"))
	if err != nil || len(b) != len(prf) {
		return prf, false
	}
	return [keys.PRFSize]byte(b), true
}

// told answers a script with a sentence, and reports whether there was one to tell.
func told(w http.ResponseWriter, err error) bool {
	var wrong *app.WrongPassword
	var in *records.InputError
	if !errors.As(err, &wrong) && !errors.As(err, &in) && !errors.Is(err, app.ErrMasterDue) &&
		!errors.Is(err, app.ErrPlatform) && !errors.Is(err, errPlatformAnswer) {
		return false
	}
	http.Error(w, errorWords(err), http.StatusForbidden)
	return true
}

func (s platformPages) openOptions(w http.ResponseWriter, r *http.Request) error {
	profile := chi.URLParam(r, "profile")
	list, err := s.device.PlatformUnlocks(r.Context(), profile)
	if err == nil && len(list) == 0 {
		err = app.ErrPlatform
	}
	if told(w, err) {
		return nil
	}
	if err != nil {
		return err
	}
	return s.askOptions(w, profile, list)
}

func (s platformPages) open(w http.ResponseWriter, r *http.Request) error {
	profile := chi.URLParam(r, "profile")
	list, err := s.device.PlatformUnlocks(r.Context(), profile)
	var v *app.Vault
	if err == nil {
		var id, credential []byte
		var prf [keys.PRFSize]byte
		if id, credential, prf, err = s.answered(r, profile, list); err == nil {
			v, err = s.device.UnlockByPlatform(r.Context(), profile, id, credential, prf)
		}
	}
	if err == nil {
		return s.enter(w, r, v, "/logins")
	}
	if !errors.Is(err, app.ErrMasterDue) && !errors.Is(err, app.ErrPlatform) && !errors.Is(err, errPlatformAnswer) {
		return err
	}
	d, err2 := frontPages(s).openData(r)
	if err2 != nil {
		return err2
	}
	d.Wrong = errorWords(err)
	s.render(w, r, http.StatusForbidden, "open", s.view(r, d.Profile.Name, "", d))
	return nil
}

func (s platformPages) againOptions(w http.ResponseWriter, r *http.Request) error {
	p := vaultOf(r).Profile()
	list, err := s.device.PlatformUnlocks(r.Context(), p.ID)
	if told(w, err) {
		return nil
	}
	if err != nil {
		return err
	}
	return s.askOptions(w, p.ID, list)
}

func (s platformPages) again(w http.ResponseWriter, r *http.Request) error {
	v := vaultOf(r)
	id, _, prf, err := s.answered(r, v.Profile().ID, v.Profile().Unlocks)
	if err == nil {
		err = v.Authenticators.Given(id, prf)
	}
	if told(w, err) {
		return nil
	}
	if err == nil {
		w.WriteHeader(http.StatusNoContent)
	}
	return err
}

// addOptions begins to set an authenticator up, for whoever types the master password.
func (s platformPages) addOptions(w http.ResponseWriter, r *http.Request) error {
	v := vaultOf(r)
	if err := v.Reauthenticate(typedMaster(r)); err != nil {
		if told(w, err) {
			return nil
		}
		return err
	}
	rp, err := s.relying()
	if err != nil {
		return err
	}
	p := v.Profile()
	u, err := userOf(p.ID, p.Email, p.Unlocks)
	if err != nil {
		return err
	}
	salt := make([]byte, saltSize)
	if _, err := io.ReadFull(v.Rand(), salt); err != nil {
		return err
	}
	options, session, err := rp.BeginRegistration(u,
		webauthn.WithExclusions(webauthn.Credentials(u.credentials).CredentialDescriptors()),
		webauthn.WithExtensions(webauthn.WithExtensionPRF(protocol.PRFValues{First: salt})))
	if err != nil {
		return err
	}
	s.ceremonies.add(ceremony{session: *session, profile: p.ID, salt: salt})
	return writeJSON(w, options.Response)
}

func (s platformPages) add(w http.ResponseWriter, r *http.Request) error {
	v := vaultOf(r)
	err := s.tryAdd(r, v)
	if errors.Is(err, errPlatformAnswer) {
		err = records.BadInput("unlock", err)
	}
	return devicesPages(s).after(w, r, err, "unlock")
}

func (s platformPages) tryAdd(r *http.Request, v *app.Vault) error {
	got, err := protocol.ParseCredentialCreationResponseBytes([]byte(r.FormValue("answer")))
	if err != nil {
		return errPlatformAnswer
	}
	p := v.Profile()
	c, ok := s.ceremonies.take(got.Response.CollectedClientData.Challenge, p.ID)
	prf, ok2 := typedPRF(r)
	if !ok || !ok2 || c.salt == nil {
		return errPlatformAnswer
	}
	rp, err := s.relying()
	if err != nil {
		return err
	}
	made, err := rp.CreateCredential(platformUser{id: p.ID, name: p.Email}, c.session, got)
	if err != nil || !made.Flags.UserVerified {
		return errPlatformAnswer
	}
	b, err := json.Marshal(made)
	if err != nil {
		return err
	}
	u := app.PlatformUnlock{ID: made.ID, Credential: b, Salt: c.salt, Name: r.FormValue("name")}
	return v.Authenticators.Add(r.Context(), typedMaster(r), u, prf)
}

func (s platformPages) end(w http.ResponseWriter, r *http.Request) error {
	id, err := base64.RawURLEncoding.DecodeString(r.FormValue("id"))
	if err == nil {
		err = vaultOf(r).Authenticators.End(r.Context(), id)
	}
	return devicesPages(s).after(w, r, err, "unlock-ended")
}

func (s platformPages) rule(w http.ResponseWriter, r *http.Request) error {
	days, _ := strconv.Atoi(r.FormValue("days")) // what is no number isn't between 1 and 90
	err := vaultOf(r).Authenticators.SetMasterRule(r.Context(), days, r.FormValue("restart") != "")
	return devicesPages(s).after(w, r, err, "saved")
}

func (s platformPages) decline(w http.ResponseWriter, r *http.Request) error {
	if err := vaultOf(r).Authenticators.AnswerOffer(r.Context()); err != nil {
		return err
	}
	redirect(w, r, "/logins")
	return nil
}
