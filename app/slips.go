package app

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"redlocket/core/autofill"
	"redlocket/core/secret"
	"redlocket/core/site"
	"redlocket/core/vault"
)

// PromptKind says what a slip is about.
type PromptKind string

// The kinds.
const (
	PromptKeep      PromptKind = "keep"      // a sign-in that the vault doesn't know
	PromptUpdate    PromptKind = "update"    // another password than is kept
	PromptConfirmed PromptKind = "confirmed" // the site took the new password
	PromptWaiting   PromptKind = "waiting"   // a new password is staged; the site hasn't said yet
	PromptRefused   PromptKind = "refused"   // the site didn't take it
	PromptSignedUp  PromptKind = "joined"    // the site took a sign-up whose login was staged
)

// SavePrompt is the small paper that asks whether a sign-in that was typed should be kept, or
// says how a change of password stands.
type SavePrompt struct {
	ID       string     `json:"id"`
	Kind     PromptKind `json:"kind"`
	Title    string     `json:"title"`
	Username string     `json:"username"`
	Address  string     `json:"address"`
	Folder   string     `json:"folder"`
	Update   string     `json:"update,omitempty"` // id of the login that it is about

	url     string
	since   time.Time
	sent    bool
	by      bool        // its user asked for it by hand
	frame   bool        // it was sent from a frame
	top     string      // of the tab, at the time
	ready   *SavePrompt // what a frame found out, for the page around it to show
	login   string      // that was filled here, whose password is being changed, or that is staged
	made    secret.Text // the password made for a form of this page
	shown   PromptKind
	attempt autofill.Submission
}

const slipLife = 15 * time.Minute

func slipKey(p Page) string { return p.Tab + " " + site.Domain(p.URL) }

// slipFor returns the tab's slip for this site, fresh if there is none. v.mu is held.
func (v *Vault) slipFor(p Page) *SavePrompt {
	for k, s := range v.slip {
		if v.d.p.Now().Sub(s.since) > slipLife {
			delete(v.slip, k)
		}
	}
	s := v.slip[slipKey(p)]
	if s == nil {
		s = &SavePrompt{ID: NewID(), since: v.d.p.Now()}
		v.slip[slipKey(p)] = s
	}
	return s
}

// noteFilled remembers which login was filled in a tab: a change of password on the next
// page is likely its.
func (v *Vault) noteFilled(p Page, it vault.Item) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.seal == nil {
		return
	}
	v.here[slipKey(p)] = it.ID
	s := v.slipFor(p)
	s.login, s.attempt.Username = it.ID, it.Username
}

// likely puts the login first that was last used in this tab.
func (v *Vault) likely(p Page, items []vault.Item) []vault.Item {
	v.mu.RLock()
	id := v.here[slipKey(p)]
	v.mu.RUnlock()
	i := slices.IndexFunc(items, func(it vault.Item) bool { return it.ID == id })
	if i <= 0 {
		return items
	}
	return slices.Concat(items[i:i+1], items[:i], items[i+1:])
}

// noteNew remembers a password that was made for a form.
func (v *Vault) noteNew(p Page, kind autofill.Kind, n NewPasswordRequest, password secret.Text) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.seal == nil {
		return
	}
	s := v.slipFor(p)
	s.attempt.Password, s.attempt.Kind, s.url, s.since, s.made = password, kind, p.URL, v.d.p.Now(), password
	if n.Username != "" {
		s.attempt.Username = n.Username
	}
	if n.Login != "" {
		s.login = n.Login
	}
}

// Submitted notes that a form was sent. What it means is decided when the page is looked at
// again. The new password of a change is staged at its login at once; a sign-up with a
// password that was made is staged as a login of its own.
func (v *Vault) Submitted(ctx context.Context, p Page, form int, values map[int]secret.Text) error {
	if p.elsewhere() != "" || v.alarm(p.URL) != nil {
		return nil
	}
	for _, r := range autofill.Read(p.Snapshot) {
		if r.Form != form {
			continue
		}
		a, ok := autofill.Submitted(p.Snapshot, r, values)
		if !ok || autofill.Masked(a.Username) || a.Kind == autofill.Forgot || a.Kind == autofill.CodeForm {
			return nil
		}
		login, err := v.note(p, a)
		switch {
		case err != nil:
			return err
		case a.Kind == autofill.SignUp:
			return v.join(ctx, p)
		case a.Kind != autofill.Change && a.Kind != autofill.Reset:
			return nil
		}
		if id := v.changed(p, a, login); id != "" {
			v.mu.Lock()
			v.slipFor(p).login = id
			v.mu.Unlock()
			return v.stage(ctx, id, a.Password)
		}
	}
	return nil
}

// note takes an attempt down, and returns the login that was filled in the tab.
func (v *Vault) note(p Page, a autofill.Submission) (login string, err error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.seal == nil {
		return "", ErrLocked
	}
	s := v.slipFor(p)
	if a.Username == "" {
		a.Username = s.attempt.Username // typed on the page before
	}
	s.since = v.d.p.Now()
	if a.Password.IsEmpty() {
		s.attempt.Username = a.Username
		return s.login, nil
	}
	s.attempt, s.sent, s.url, s.shown, s.frame, s.top, s.ready = a, true, p.URL, "", p.Frame, p.Top, nil
	if s.Title == "" {
		s.Title = siteTitle(p)
	}
	return s.login, nil
}

// join stages a login for a sign-up that was sent with a password made here: whatever
// becomes of the page, the login is in the vault. Sent again after the site refused it, it
// is the same one.
func (v *Vault) join(ctx context.Context, p Page) error {
	v.mu.RLock()
	s := *v.slip[slipKey(p)]
	v.mu.RUnlock()
	items, err := v.matching(p.URL)
	if err != nil || s.attempt.Password.IsEmpty() {
		return err
	}
	id := ""
	for _, it := range items {
		same := strings.EqualFold(it.Username, s.attempt.Username)
		if same && !it.SigningUp() {
			return nil // it's in the vault: the slip will ask about it
		}
		if e, err := v.Entry(it.ID); err == nil && it.SigningUp() && (same || e.Secret(vault.FieldStaged).Equal(s.attempt.Password)) {
			id = it.ID
		}
	}
	switch address := v.signInOf(s); {
	case id != "":
		err = v.Save(ctx, id, vault.Changes{vault.FieldUsername: s.attempt.Username, vault.FieldStaged: s.attempt.Password})
	case address == "" || !s.attempt.Password.Equal(s.made):
		return nil
	default:
		id = NewID()
		c := vault.Draft{Title: s.Title, Username: s.attempt.Username, Addresses: []vault.Address{{URL: address}}}.Changes()
		c[vault.FieldStaged] = s.attempt.Password
		err = v.Save(ctx, id, c)
	}
	if err != nil {
		return err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	v.slipFor(p).login = id
	return nil
}

// changed finds the login whose password a form changes: by user name, by the present
// password, the one filled in this tab, or the only one of the site.
func (v *Vault) changed(p Page, a autofill.Submission, filled string) string {
	items, err := v.matching(p.URL)
	if err != nil {
		return ""
	}
	byPassword := ""
	for _, it := range items {
		if a.Username != "" && strings.EqualFold(it.Username, a.Username) {
			return it.ID
		}
		if e, err := v.Entry(it.ID); err == nil && !a.Current.IsEmpty() && e.Secret(vault.FieldPassword).Equal(a.Current) && byPassword == "" {
			byPassword = it.ID
		}
	}
	switch {
	case byPassword != "":
		return byPassword
	case filled != "" && v.fits(filled, p.URL):
		return filled
	case len(items) == 1 && (a.Username == "" || items[0].Username == ""):
		return items[0].ID
	}
	return ""
}

// ripen is ripe for a page, or for a frame of it: what a frame finds out is shown by the page
// around it. up reports that there is such a thing.
func (v *Vault) ripen(ctx context.Context, p Page, readings []autofill.Reading) (slip *SavePrompt, up bool, err error) {
	slip, err = v.ripe(ctx, p, readings)
	if err != nil || slip == nil || !p.Frame {
		return slip, false, err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if held, _ := v.findSlip(slip.ID); held != nil {
		held.ready = slip
	}
	return nil, true, nil
}

// ripe returns the slip to show on this page, if the page tells what the site made of what
// was sent from the page before.
func (v *Vault) ripe(ctx context.Context, p Page, readings []autofill.Reading) (*SavePrompt, error) {
	v.mu.Lock()
	held := v.slip[slipKey(p)]
	if held == nil || !held.sent || held.attempt.Password.IsEmpty() {
		v.mu.Unlock()
		return nil, nil
	}
	if held.ready != nil && !p.Frame {
		out := held.ready
		v.mu.Unlock()
		return out, nil
	}
	s := *held
	v.mu.Unlock()
	if s.frame != p.Frame && (p.Frame || s.top == p.Top) && !s.by {
		return nil, nil // what was sent from a frame is for that frame to tell, until the tab moves on
	}
	if s.shown == PromptSignedUp {
		if e, err := v.Entry(s.login); err == nil && !e.Archived() {
			s.Address, s.Username = site.Shown(v.signInOf(s)), s.attempt.Username
			return v.about(s, vault.View(e), PromptSignedUp), nil
		}
		return nil, v.DismissPrompt(s.ID)
	}
	outcome := autofill.Judge(s.attempt.Kind, p.Snapshot, readings)
	if s.by {
		outcome = autofill.Taken
	}
	address := v.signInOf(s)
	if address == "" {
		return nil, nil
	}
	s.Address, s.Username = site.Shown(address), s.attempt.Username
	if s.attempt.Kind == autofill.Change || s.attempt.Kind == autofill.Reset {
		return v.ripeChange(ctx, p, s, outcome, readings)
	}
	switch outcome {
	case autofill.Waiting:
		return nil, nil
	case autofill.Refused:
		v.mu.Lock()
		held.sent = false
		v.mu.Unlock()
		return nil, nil
	}
	return v.ripeSignIn(ctx, p, s)
}

// signInOf is the address to keep for what a slip holds: the sign-in page. A page where one
// signs up or changes a password is none: then it's the one that the directory of sites
// knows, or the site's front page, until somebody signs in.
func (v *Vault) signInOf(s SavePrompt) string {
	address, err := site.Clean(s.url)
	if err != nil {
		return ""
	}
	if s.attempt.Kind == autofill.SignIn || s.attempt.Kind == autofill.FirstStep || s.by {
		return address
	}
	if known, ok := v.Sites().Lookup(site.Domain(address)); ok && known.SignIn != "" && site.Host(known.SignIn) == site.Host(address) {
		return known.SignIn
	}
	return site.WellKnown(address, "/")
}

// settleAddress makes the sign-in page the address of a login that was kept with its site's
// front page only. A page that asks for the password alone is none: it asks once more.
func (v *Vault) settleAddress(ctx context.Context, it vault.Item, s SavePrompt) error {
	page, err := site.Clean(s.url)
	if err != nil || s.attempt.Kind != autofill.SignIn || !s.attempt.Named || len(it.Addresses) != 1 || it.Addresses[0].URL != site.WellKnown(page, "/") || page == it.Addresses[0].URL {
		return nil
	}
	return v.Save(ctx, it.ID, vault.Changes{vault.FieldAddresses: []vault.Address{{URL: page, Match: it.Addresses[0].Match}}})
}

// ripeSignIn is a sign-in or sign-up that the site took.
func (v *Vault) ripeSignIn(ctx context.Context, p Page, s SavePrompt) (*SavePrompt, error) {
	if e, err := v.Entry(s.login); err == nil && !s.by && vault.View(e).SigningUp() && e.Secret(vault.FieldStaged).Equal(s.attempt.Password) {
		return v.confirm(ctx, s, vault.View(e))
	}
	if s.attempt.Username == "" && !s.by {
		return nil, nil
	}
	items, err := v.matching(s.url)
	if err != nil {
		return nil, err
	}
	s.Kind = PromptKeep
	for _, it := range items {
		if !strings.EqualFold(it.Username, s.attempt.Username) {
			continue
		}
		e, err := v.Entry(it.ID)
		if err != nil {
			return nil, err
		}
		switch {
		case e.Secret(vault.FieldPassword).Equal(s.attempt.Password):
			v.noteFilled(p, it)
			return nil, errors.Join(v.settleAddress(ctx, it, s), v.DismissPrompt(s.ID)) // known already
		case it.Staged && e.Secret(vault.FieldStaged).Equal(s.attempt.Password):
			return v.confirm(ctx, s, it)
		}
		s.Kind, s.Update, s.Title, s.Folder = PromptUpdate, it.ID, it.Title, it.Folder
	}
	return &s, nil
}

// ripeChange is a change of password that is staged.
func (v *Vault) ripeChange(ctx context.Context, p Page, s SavePrompt, outcome autofill.Outcome, readings []autofill.Reading) (*SavePrompt, error) {
	e, err := v.Entry(s.login)
	if s.login == "" || err != nil {
		if outcome == autofill.Taken && s.attempt.Username != "" { // of a login that the vault doesn't have
			return v.ripeSignIn(ctx, p, s)
		}
		return nil, nil
	}
	it := vault.View(e)
	if !it.Staged {
		return nil, v.DismissPrompt(s.ID) // decided in the vault meanwhile
	}
	switch outcome {
	case autofill.Refused:
		return v.about(s, it, PromptRefused), nil
	case autofill.Waiting:
		return nil, nil
	}
	for _, r := range readings {
		if r.Kind == autofill.SignIn || r.Kind == autofill.FirstStep { // signed out: the next sign-in will tell
			return v.about(s, it, PromptWaiting), nil
		}
	}
	return v.confirm(ctx, s, it)
}

// confirm makes the password that waits the login's own: the site took it.
func (v *Vault) confirm(ctx context.Context, s SavePrompt, it vault.Item) (*SavePrompt, error) {
	if err := v.ConfirmStaged(ctx, it.ID); err != nil {
		return nil, err
	}
	if !it.SigningUp() {
		return v.about(s, it, PromptConfirmed), nil
	}
	if err := v.settleAddress(ctx, it, s); err != nil {
		return nil, err
	}
	v.usedHere(s.ID, it.ID)
	return v.about(s, it, PromptSignedUp), nil
}

// about makes the slip that says how a change stands; each is shown once. That of a sign-up
// stands until it is answered.
func (v *Vault) about(s SavePrompt, it vault.Item, kind PromptKind) *SavePrompt {
	v.mu.Lock()
	defer v.mu.Unlock()
	held, _ := v.findSlip(s.ID)
	if held == nil || held.shown == kind && kind != PromptSignedUp {
		return nil
	}
	held.shown = kind
	if kind != PromptWaiting && kind != PromptSignedUp {
		held.sent = false
	}
	s.Kind, s.Update, s.Title, s.Username, s.Folder = kind, it.ID, it.Title, it.Username, it.Folder
	return &s
}

// NeedsReading reports whether a page has to be looked at even if it has no fields: it imitates a
// kept site, or may tell what became of a form that was sent before it.
func (v *Vault) NeedsReading(p Page) bool {
	if v.alarm(p.URL) != nil {
		return true
	}
	v.mu.RLock()
	defer v.mu.RUnlock()
	s := v.slip[slipKey(p)]
	return s != nil && s.sent
}

// PromptByHand makes a slip of what stands in a page's form now, because its user asked for it.
func (v *Vault) PromptByHand(ctx context.Context, p Page, form int, values map[int]secret.Text) (*SavePrompt, error) {
	var a autofill.Submission
	for _, r := range autofill.Read(p.Snapshot) {
		if r.Form == form {
			a, _ = autofill.Submitted(p.Snapshot, r, values)
		}
	}
	if a.Password.IsEmpty() && a.Username == "" {
		return nil, errors.New("there is no user name and no password on this page yet")
	}
	a.Kind = autofill.SignIn
	v.mu.Lock()
	if v.seal == nil {
		v.mu.Unlock()
		return nil, ErrLocked
	}
	s := v.slipFor(p)
	s.attempt, s.sent, s.by, s.url, s.since, s.Title = a, true, true, p.URL, v.d.p.Now(), siteTitle(p)
	out := *s
	v.mu.Unlock()
	address, err := site.Clean(p.URL)
	if err != nil {
		return nil, err
	}
	out.Address, out.Username = site.Shown(address), a.Username
	if out2, err := v.ripeSignIn(ctx, p, out); err != nil || out2 != nil {
		return out2, err
	}
	return nil, errors.New("the vault has this sign-in already")
}

// usedHere notes the login as the one that was last used where the slip belongs.
func (v *Vault) usedHere(slip, login string) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if s, k := v.findSlip(slip); s != nil && v.here != nil {
		v.here[k], s.login = login, login
	}
}

func (v *Vault) findSlip(id string) (*SavePrompt, string) {
	for k, s := range v.slip {
		if s.ID == id {
			return s, k
		}
	}
	return nil, ""
}

// ErrNoPrompt is returned for a slip that was answered already or is too old.
var ErrNoPrompt = errors.New("this was answered already")

// PromptPassword shows what a slip would keep.
func (v *Vault) PromptPassword(id string) (secret.Text, error) {
	v.mu.RLock()
	defer v.mu.RUnlock()
	s, _ := v.findSlip(id)
	if s == nil {
		return secret.Text{}, ErrNoPrompt
	}
	return s.attempt.Password, nil
}

// AcceptPrompt makes a login of a slip, or updates the one it names. What was changed on the
// slip of a sign-up is changed at its login.
func (v *Vault) AcceptPrompt(ctx context.Context, in SavePrompt) error {
	v.mu.RLock()
	held, _ := v.findSlip(in.ID)
	var s SavePrompt
	if held != nil {
		s = *held
	}
	v.mu.RUnlock()
	if held == nil {
		return ErrNoPrompt
	}
	if in.Update != "" && !v.fits(in.Update, s.url) {
		return ErrWrongSite
	}
	joined := s.shown == PromptSignedUp && in.Update == s.login
	if in.Update != "" && !joined {
		if err := v.Save(ctx, in.Update, vault.Changes{vault.FieldPassword: s.attempt.Password}); err != nil {
			return err
		}
		return v.DismissPrompt(in.ID)
	}
	address, err := slipAddress(in.Address, v.signInOf(s))
	if err != nil {
		return err
	}
	if in.Title = strings.TrimSpace(in.Title); in.Title == "" {
		in.Title = site.Title(address)
	}
	if joined {
		e, err := v.Entry(s.login)
		if err != nil {
			return err
		}
		c := vault.Changes{vault.FieldTitle: in.Title, vault.FieldFolder: vault.CleanFolder(in.Folder)}
		if it := vault.View(e); it.Username == "" {
			c[vault.FieldUsername] = in.Username
		}
		if address != v.signInOf(s) { // else it may know better by now
			c[vault.FieldAddresses] = []vault.Address{{URL: address}}
		}
		if err := v.Save(ctx, s.login, c); err != nil {
			return err
		}
		return v.DismissPrompt(in.ID)
	}
	d := vault.Draft{Title: in.Title, Username: in.Username, Password: s.attempt.Password, Folder: in.Folder, Addresses: []vault.Address{{URL: address}}}
	// The slip's id is the login's: pressed twice, it is kept once.
	if err := v.Save(ctx, s.ID, d.Changes()); err != nil {
		return err
	}
	v.usedHere(s.ID, s.ID)
	return v.DismissPrompt(in.ID)
}

// slipAddress is the address as it was changed on a slip: another page of the same site.
func slipAddress(typed, address string) (string, error) {
	if address == "" {
		return "", ErrNoPrompt
	}
	if typed == "" || typed == site.Shown(address) {
		return address, nil
	}
	if scheme, _, ok := strings.Cut(address, "://"); ok && !strings.Contains(typed, "://") {
		typed = scheme + "://" + typed
	}
	typed, err := site.Clean(typed)
	if err != nil {
		return "", err
	}
	if site.Domain(typed) != site.Domain(address) {
		return "", errors.New("this address belongs to another site than the page")
	}
	return typed, nil
}

// DismissPrompt forgets a slip.
func (v *Vault) DismissPrompt(id string) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if _, k := v.findSlip(id); k != "" {
		delete(v.slip, k)
	}
	return nil
}

// NeverAsk keeps slips from being shown on a site again.
func (v *Vault) NeverAsk(ctx context.Context, url string) error {
	r := v.SiteRule(site.Domain(url))
	r.NoAsk = true
	return v.SetSiteRule(ctx, r)
}
