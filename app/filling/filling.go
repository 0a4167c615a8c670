// Package filling answers what a browser asks about a page: what can be filled, what a form
// that was sent means, and whether the page imitates a kept site.
//
// The browser describes a page ([Page]); what it is, package autofill says. [Pages] reads pages
// and hands out values for their forms. [Prompts] asks whether a sign-in that was typed is to
// be kept, or says how a change of password stands. [Generated] are the passwords made lately.
// [Staged] is a new password beside the present one, until the site has taken it.
//
// What is known of each tab is in memory only and behind a gate of its own. [Filling.Close]
// ends it and hands back the prompts that still wait for an answer, to be sealed with the vault.
package filling

import (
	"context"
	"encoding/json"
	"io"
	"slices"
	"sync/atomic"
	"time"

	"redlocket/app/gate"
	"redlocket/app/reauth"
	"redlocket/app/records"
	"redlocket/core/secret"
)

// Config is what filling works with.
type Config struct {
	Set       *records.Set
	Guard     *reauth.Guard
	Now       func() time.Time
	Rand      io.Reader
	Sites     Asker                // nil without a network
	Clipboard func() time.Duration // until what was copied is cleared; 0 for never
	Used      func()               // the vault was used just now
	Usernames func() ([]string, error)
	Judged    func(context.Context, Judged) // a site took or refused a sign-in; nil tells nobody
	// Foresee says what would be wrong with a password that a sign-in at a page would be kept with; nil knows nothing.
	Foresee func(ctx context.Context, p secret.Text, page, user string) (leaked bool, others int, err error)
	// NameToTry is the user name that a login is filled with while it is tried out, if that isn't its own; nil knows
	// none.
	NameToTry func(ctx context.Context, id string) (name string, ok bool)
	Steps     gate.Steps // for tests
}

// Judged is what a site made of a sign-in.
type Judged struct {
	URL      string // of the page that it was sent from
	Username string // empty where the form asked for none
	Password secret.Text
	Taken    bool
}

// Filling is all of it, as its parts.
type Filling struct {
	Pages     *Pages
	Prompts   *Prompts
	Generated *Generated
	Staged    *Staged

	core *core
}

// core is what the parts share.
type core struct {
	Config
	gate    *gate.Gate[state]
	matcher atomic.Pointer[matcher] // of one index of the book
}

// state is there while the vault is open.
type state struct {
	prompts   map[string]*prompt // by tab and site
	lastUsed  map[string]string  // by tab and site: the login that was last used there
	pending   pendingFill        // where the user was sent from the book
	generated []GeneratedPassword
}

// Open returns filling for an open vault, with what its last opening kept.
func Open(ctx context.Context, cfg Config) (*Filling, error) {
	s := &state{prompts: map[string]*prompt{}, lastUsed: map[string]string{}}
	if err := cfg.Set.Local.GetJSON(ctx, localGenerated, &s.generated); err != nil {
		return nil, err
	}
	if err := loadPrompts(ctx, cfg, s); err != nil {
		return nil, err
	}
	c := &core{Config: cfg, gate: gate.New(s, cfg.Steps)}
	f := &Filling{core: c, Generated: &Generated{c}, Staged: &Staged{c}}
	f.Prompts = &Prompts{core: c, staged: f.Staged}
	f.Pages = &Pages{core: c, prompts: f.Prompts, generated: f.Generated, staged: f.Staged}
	return f, nil
}

// Close ends filling. What still waits is put into keep, by the name that the next opening
// looks for.
func (f *Filling) Close(keep map[string][]byte) {
	s := f.core.gate.Close()
	if s == nil {
		return
	}
	list := slices.DeleteFunc(s.waiting(), func(p keptPrompt) bool { return f.core.Set.Cover.Covers(p.URL) })
	if len(list) > 0 {
		if b, err := json.Marshal(list); err == nil {
			keep[localPrompts] = b
		}
	}
}
