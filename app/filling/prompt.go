package filling

import (
	"context"
	"errors"
	"time"

	"redlocket/app/records"
	"redlocket/core/autofill"
	"redlocket/core/secret"
	"redlocket/core/vault"
)

// PromptKind says what a prompt is about.
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

// SavePrompt asks whether a sign-in that was typed should be kept, or says how a change of
// password stands. The interface calls it a slip.
type SavePrompt struct {
	ID       string     `json:"id"`
	Kind     PromptKind `json:"kind"`
	Title    string     `json:"title"`
	Username string     `json:"username"`
	Address  string     `json:"address"`
	Folder   string     `json:"folder"`
	Update   string     `json:"update,omitempty"` // id of the login that it is about
	Leaked   bool       `json:"-"`                // the password is known to be
	Others   int        `json:"-"`                // other accounts that have the password
}

// prompt is what is known of a tab at one site: a form that was sent there, and what is to
// become of it.
type prompt struct {
	id         string
	title      string
	from       origin
	since      time.Time
	sent       bool
	byHand     bool                // the user asked for it
	ready      *SavePrompt         // what a frame found out, for the page around it to show
	login      string              // that was filled here, whose password is being changed, or that is staged
	made       secret.Text         // the password made for a form of this page
	shown      PromptKind          // what the user has seen of it
	submission autofill.Submission // what was typed
	doc        string              // the document that it was sent from
	alerts     string              // and what that had announced by then
}

// origin is where a form was sent from.
type origin struct {
	url   string
	top   string // of the tab, at the time
	frame bool   // it was sent from a frame
}

// promptLife is how long what is known of a tab is good for.
const promptLife = 15 * time.Minute

// Prompts asks whether what was typed is to be kept.
type Prompts struct {
	core   *core
	staged *Staged
}

// ErrNoPrompt is returned for a prompt that was answered already or is too old.
var ErrNoPrompt = errors.New("this was answered already")

// at returns what is known of the page's tab and site, fresh if nothing is.
func (in *state) at(p Page, now time.Time) *prompt {
	for k, held := range in.prompts {
		if now.Sub(held.since) > promptLife {
			delete(in.prompts, k)
		}
	}
	held := in.prompts[p.key()]
	if held == nil {
		held = &prompt{id: records.NewID(), since: now}
		in.prompts[p.key()] = held
	}
	return held
}

// find returns a prompt and its key.
func (in *state) find(id string) (*prompt, string, error) {
	for k, held := range in.prompts {
		if held.id == id {
			return held, k, nil
		}
	}
	return nil, "", ErrNoPrompt
}

// noteFilled remembers which login was filled in a tab: a change of password on the next
// page is likely its.
func (s *Prompts) noteFilled(p Page, it vault.Item) error {
	return s.core.gate.Write(func(in *state) error {
		in.lastUsed[p.key()] = it.ID
		held := in.at(p, s.core.Now())
		held.login, held.submission.Username = it.ID, it.Username
		return nil
	})
}

// noteNew remembers a password that was made for a form.
func (s *Prompts) noteNew(p Page, kind autofill.Kind, n NewPasswordRequest, password secret.Text) error {
	return s.core.gate.Write(func(in *state) error {
		held := in.at(p, s.core.Now())
		held.since, held.made, held.from.url = s.core.Now(), password, p.URL
		held.submission.Password, held.submission.Kind = password, kind
		if n.Username != "" {
			held.submission.Username = n.Username
		}
		if n.Login != "" {
			held.login = n.Login
		}
		return nil
	})
}

// noteLogin remembers which login a prompt is about.
func (s *Prompts) noteLogin(p Page, login string) error {
	return s.core.gate.Write(func(in *state) error {
		in.at(p, s.core.Now()).login = login
		return nil
	})
}

// noteUsed notes the login as the one that was last used where the prompt belongs. Nothing is
// noted for one that was answered meanwhile.
func (s *Prompts) noteUsed(id, login string) error {
	return s.core.gate.Write(func(in *state) error {
		if held, key, err := in.find(id); err == nil {
			in.lastUsed[key], held.login = login, login
		}
		return nil
	})
}

// own returns a prompt if it belongs to a page's tab and site: a page has no say about others.
func (s *Prompts) own(p Page, id string) (out prompt, err error) {
	err = s.core.gate.Read(func(in *state) error {
		held, key, err := in.find(id)
		if err == nil && (key != p.key() || p.Opaque) {
			err = ErrNoPrompt
		}
		if err == nil {
			out = *held
		}
		return err
	})
	return out, err
}

// Dismiss forgets a prompt of a page. One that isn't there any more is no error.
func (s *Prompts) Dismiss(p Page, id string) error {
	if _, err := s.own(p, id); err != nil {
		if errors.Is(err, ErrNoPrompt) {
			return nil
		}
		return err
	}
	return s.dismiss(id)
}

func (s *Prompts) dismiss(id string) error {
	return s.core.gate.Write(func(in *state) error {
		if _, key, err := in.find(id); err == nil {
			delete(in.prompts, key)
		}
		return nil
	})
}

// Password is what a prompt of a page would keep.
func (s *Prompts) Password(p Page, id string) (secret.Text, error) {
	held, err := s.own(p, id)
	return held.submission.Password, err
}

// Login is the login that a prompt of a page is about.
func (s *Prompts) Login(p Page, id string) (login string, err error) {
	held, err := s.own(p, id)
	if err != nil {
		return "", err
	}
	if held.login == "" {
		return "", ErrNoPrompt
	}
	return held.login, s.core.mustFit(held.login, p.URL)
}

// Prompts that wait while the vault is locked are sealed with it, and are there again when it
// is opened soon enough.

const localPrompts = "slips"

type keptPrompt struct {
	Key, ID, Title, URL, Username, Password, Login string
	Kind                                           autofill.Kind
	Since                                          int64
}

// waiting are the prompts that wait for an answer.
func (in *state) waiting() (out []keptPrompt) {
	for key, held := range in.prompts {
		if held.sent && !held.submission.Password.IsEmpty() {
			out = append(out, keptPrompt{
				key, held.id, held.title, held.from.url, held.submission.Username,
				held.submission.Password.Reveal(), held.login, held.submission.Kind, held.since.UnixMilli(),
			})
		}
	}
	return out
}

func loadPrompts(ctx context.Context, cfg Config, in *state) error {
	var list []keptPrompt
	if err := cfg.Set.Local.GetJSON(ctx, localPrompts, &list); err != nil || len(list) == 0 {
		return err
	}
	for _, k := range list {
		since := time.UnixMilli(k.Since)
		if cfg.Now().Sub(since) < promptLife {
			in.prompts[k.Key] = &prompt{
				id: k.ID, title: k.Title, from: origin{url: k.URL}, since: since, sent: true, login: k.Login,
				submission: autofill.Submission{Kind: k.Kind, Username: k.Username, Password: secret.New(k.Password)},
			}
		}
	}
	return cfg.Set.Local.Set(ctx, localPrompts, nil)
}
