package app

import (
	"context"
	"errors"
	"slices"
	"strconv"
	"sync"
	"time"

	"redlocket/app/reauth"
	"redlocket/app/records"
	"redlocket/core/vault"
)

// Settings are what a person set, for this device or for all of theirs.
type Settings struct {
	// For this device.
	LockAfter    time.Duration // without use; AtOnce means as soon as its pages are left
	LockOnSleep  bool
	LockOnScreen bool          // when the screen of the user's session is locked, where the system tells
	LockOnClose  bool          // when the last page was closed
	SignOut      bool          // browsers sign out of the sites that were filled since the vault was opened
	Clipboard    time.Duration // until what was copied is cleared; 0 for never
	Theme        string        // "", "light" or "dark"
	TextSize     string        // "", "large" or "larger"
	Density      string        // "", "close" or "wide"

	// For all devices.
	AskToShow bool          // the master password before any password is shown or copied
	AskFor    time.Duration // how long it isn't asked for again; 0 for each time
	Language  string        // of dates and sorting, BCP 47
}

// AtOnce locks as soon as the pages of Red Locket are left.
const AtOnce = time.Second

// leftAtOnce is how long a vault that locks at once stays open while a page of
// it is being looked at and not used.
const leftAtOnce = 30 * time.Second

// deviceSettings is what is kept of Settings on this device, sealed.
type deviceSettings struct {
	LockAfter    int64  `json:"lock_after"` // seconds
	LockOnSleep  bool   `json:"lock_on_sleep"`
	LockOnScreen bool   `json:"lock_on_screen"`
	LockOnClose  bool   `json:"lock_on_close"`
	SignOut      bool   `json:"sign_out"`
	Clipboard    int64  `json:"clipboard"` // seconds
	Theme        string `json:"theme"`
	TextSize     string `json:"text_size"`
	Density      string `json:"density"`
}

const localSettings = "settings"

// Registers of the profile's entry: one for each setting, so that two devices can
// change two of them at once. That of the language is the book's.
const (
	fieldAskToShow vault.Field = "set:ask-to-show"
	fieldAskFor    vault.Field = "set:ask-for" // seconds
)

const (
	defaultAskFor    = 5 * time.Minute
	defaultClipboard = 30 * time.Second
	defaultLanguage  = "en-GB"
)

func defaultSettings(p Profile) deviceSettings {
	s := deviceSettings{
		LockAfter: int64(DefaultLockAfter / time.Second), LockOnSleep: true, LockOnScreen: true,
		Clipboard: int64(defaultClipboard / time.Second),
	}
	if p.LockAfter > 0 {
		s.LockAfter = p.LockAfter
	}
	return s
}

// Whose a computer is, which sets at once when a vault locks on it and what goes then.
const (
	PrivateComputer = "private"
	SharedComputer  = "shared"
)

// sharedLockAfter is how long a vault on a shared computer stays open without use.
const sharedLockAfter = time.Minute

// For returns the settings as they are for a private or for a shared computer. What isn't about locking stays.
func (s Settings) For(computer string) (Settings, error) {
	s.LockOnSleep, s.LockOnScreen, s.Clipboard = true, true, defaultClipboard
	switch computer {
	case PrivateComputer:
		s.LockAfter, s.LockOnClose, s.SignOut = DefaultLockAfter, false, false
	case SharedComputer:
		s.LockAfter, s.LockOnClose, s.SignOut = sharedLockAfter, true, true
	default:
		return s, records.BadInput("computer", errNotListed)
	}
	return s, nil
}

// Computer is whose computer it is by what is set; empty where it is set otherwise.
func (s Settings) Computer() string {
	for _, c := range []string{PrivateComputer, SharedComputer} {
		if as, err := s.For(c); err == nil && as == s {
			return c
		}
	}
	return ""
}

// Preferences reads and changes the settings of an open vault.
type Preferences struct {
	vault *Vault

	mu     sync.RWMutex // guards device
	device deviceSettings
}

func openPreferences(ctx context.Context, v *Vault, p Profile) (*Preferences, error) {
	s := &Preferences{vault: v, device: defaultSettings(p)}
	return s, v.Local.GetJSON(ctx, localSettings, &s.device)
}

func (s *Preferences) ofDevice() deviceSettings {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.device
}

// Get returns what is set. While the records are being opened, what is set for all devices is
// as it is by default.
func (s *Preferences) Get() Settings {
	d := s.ofDevice()
	out := Settings{
		LockAfter: time.Duration(d.LockAfter) * time.Second, LockOnSleep: d.LockOnSleep,
		LockOnScreen: d.LockOnScreen, LockOnClose: d.LockOnClose, SignOut: d.SignOut,
		Clipboard: time.Duration(d.Clipboard) * time.Second, Theme: d.Theme, TextSize: d.TextSize, Density: d.Density,
		AskFor: defaultAskFor, Language: defaultLanguage,
	}
	profile := s.vault.Book.Profile()
	out.AskToShow = profile.Text(fieldAskToShow) == "yes"
	if n, err := strconv.Atoi(profile.Text(fieldAskFor)); err == nil && n >= 0 {
		out.AskFor = time.Duration(n) * time.Second
	}
	if l := profile.Text(records.FieldLanguage); l != "" {
		out.Language = l
	}
	return out
}

// policy is how the user wants to be asked for the master password again.
func (s *Preferences) policy() (reauth.Policy, error) {
	if err := s.vault.Ready(); err != nil { // what is set for all devices is in a record
		return reauth.Policy{}, err
	}
	now := s.Get()
	return reauth.Policy{AskToShow: now.AskToShow, For: now.AskFor}, nil
}

// Languages are those that dates can be written and the book be sorted in, as
// BCP 47 tags with their own names.
var Languages = []struct{ Tag, Name string }{
	{"en-GB", "English"},
	{"en-US", "English (American dates)"},
	{"cs-CZ", "Čeština"},
	{"da-DK", "Dansk"},
	{"de-DE", "Deutsch"},
	{"es-ES", "Español"},
	{"fr-FR", "Français"},
	{"it-IT", "Italiano"},
	{"nl-NL", "Nederlands"},
	{"nb-NO", "Norsk bokmål"},
	{"pl-PL", "Polski"},
	{"pt-PT", "Português"},
	{"fi-FI", "Suomi"},
	{"sv-SE", "Svenska"},
	{"tr-TR", "Türkçe"},
	{"el-GR", "Ελληνικά"},
	{"ru-RU", "Русский"},
	{"uk-UA", "Українська"},
}

// The errors of changing settings.
var (
	errLockAfter = errors.New("choose a time from 10 seconds to two weeks, or at once")
	errClipboard = errors.New("choose a time from 5 seconds to an hour, or never")
	errAskFor    = errors.New("choose a time up to a day")
	errNotListed = errors.New("choose one of the list")
)

func (s Settings) check() error {
	switch {
	case s.LockAfter != AtOnce && (s.LockAfter < 10*time.Second || s.LockAfter > 14*24*time.Hour):
		return records.BadInput("lock_after", errLockAfter)
	case s.Clipboard != 0 && (s.Clipboard < 5*time.Second || s.Clipboard > time.Hour):
		return records.BadInput("clipboard", errClipboard)
	case s.AskFor < 0 || s.AskFor > 24*time.Hour:
		return records.BadInput("ask_for", errAskFor)
	case !slices.Contains([]string{"", "light", "dark"}, s.Theme):
		return records.BadInput("theme", errNotListed)
	case !slices.Contains([]string{"", "large", "larger"}, s.TextSize):
		return records.BadInput("text_size", errNotListed)
	case !slices.Contains([]string{"", "close", "wide"}, s.Density):
		return records.BadInput("density", errNotListed)
	}
	for _, l := range Languages {
		if l.Tag == s.Language {
			return nil
		}
	}
	return records.BadInput("language", errNotListed)
}

// Change changes the settings. To ask less often than now takes the master password.
func (s *Preferences) Change(ctx context.Context, to Settings) error {
	if err := to.check(); err != nil {
		return err
	}
	now := s.Get()
	if now.AskToShow && (!to.AskToShow || to.AskFor > now.AskFor) {
		if err := s.vault.Guard.Require(reauth.Settings); err != nil {
			return err
		}
	}
	if err := s.changeDevice(ctx, deviceSettings{
		LockAfter: int64(to.LockAfter / time.Second), LockOnSleep: to.LockOnSleep,
		LockOnScreen: to.LockOnScreen, LockOnClose: to.LockOnClose, SignOut: to.SignOut,
		Clipboard: int64(to.Clipboard / time.Second), Theme: to.Theme, TextSize: to.TextSize, Density: to.Density,
	}); err != nil {
		return err
	}
	ask := ""
	if to.AskToShow {
		ask = "yes"
	}
	c := vault.Changes{fieldAskToShow: ask}
	if to.AskFor != now.AskFor {
		c[fieldAskFor] = strconv.Itoa(int(to.AskFor / time.Second))
	}
	if to.Language != now.Language {
		c[records.FieldLanguage] = to.Language
	}
	edit := func(e vault.Entry, by vault.Stamp) (vault.Entry, error) { return e.With(by, c) }
	err := s.vault.Items.Edit(ctx, s.vault.Profile().Vault, edit)
	s.vault.notices.tell(NoticeStatus)
	return err
}

func (s *Preferences) changeDevice(ctx context.Context, d deviceSettings) error {
	if err := s.vault.Local.SetJSON(ctx, localSettings, d); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.device = d
	return nil
}

// LockAfter is how long the vault stays open without use.
func (s *Preferences) LockAfter() time.Duration {
	if after := time.Duration(s.ofDevice().LockAfter) * time.Second; after > AtOnce {
		return after
	}
	return leftAtOnce
}
