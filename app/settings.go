package app

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strconv"
	"time"

	"golang.org/x/text/language"

	"redlocket/core/vault"
)

// Settings are what a person set, for this device or for all of theirs.
type Settings struct {
	// For this device.
	LockAfter   time.Duration // without use; AtOnce means as soon as its pages are left
	LockOnSleep bool
	LockOnClose bool          // when the last page was closed
	Clipboard   time.Duration // until what was copied is cleared; 0 for never
	Theme       string        // "", "light" or "dark"
	TextSize    string        // "", "large" or "larger"
	Density     string        // "", "close" or "wide"

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
	LockAfter   int64  `json:"lock_after"` // seconds
	LockOnSleep bool   `json:"lock_on_sleep"`
	LockOnClose bool   `json:"lock_on_close"`
	Clipboard   int64  `json:"clipboard"` // seconds
	Theme       string `json:"theme"`
	TextSize    string `json:"text_size"`
	Density     string `json:"density"`
}

const localSettings = "settings"

// Registers of the profile's entry: one for each setting, so that two devices can
// change two of them at once.
const (
	fieldAskToShow vault.Field = "set:ask-to-show"
	fieldAskFor    vault.Field = "set:ask-for" // seconds
	fieldLanguage  vault.Field = "set:language"
)

func defaultSettings(c Profile) deviceSettings {
	s := deviceSettings{LockAfter: int64(DefaultLockAfter / time.Second), LockOnSleep: true, Clipboard: 30}
	if c.LockAfter > 0 {
		s.LockAfter = c.LockAfter
	}
	return s
}

const defaultAskFor = 5 * time.Minute

func (v *Vault) loadSettings(ctx context.Context) error {
	v.device = defaultSettings(v.card)
	b, err := v.local(ctx, localSettings)
	if err != nil || b == nil {
		return err
	}
	return json.Unmarshal(b, &v.device)
}

// Settings returns what is set.
func (v *Vault) Settings() Settings {
	v.mu.RLock()
	defer v.mu.RUnlock()
	d := v.device
	s := Settings{
		LockAfter: time.Duration(d.LockAfter) * time.Second, LockOnSleep: d.LockOnSleep, LockOnClose: d.LockOnClose,
		Clipboard: time.Duration(d.Clipboard) * time.Second, Theme: d.Theme, TextSize: d.TextSize, Density: d.Density,
		AskFor: defaultAskFor, Language: "en-GB",
	}
	profile := v.entries[v.card.Vault].entry
	s.AskToShow = profile.Text(fieldAskToShow) == "yes"
	if n, err := strconv.Atoi(profile.Text(fieldAskFor)); err == nil && n >= 0 {
		s.AskFor = time.Duration(n) * time.Second
	}
	if l := profile.Text(fieldLanguage); l != "" {
		s.Language = l
	}
	return s
}

// Languages are those that dates can be written and the book be sorted in, as
// BCP 47 tags with their own names.
var Languages = []struct{ Tag, Name string }{
	{"en-GB", "English"}, {"en-US", "English (American dates)"}, {"cs-CZ", "Čeština"}, {"da-DK", "Dansk"}, {"de-DE", "Deutsch"}, {"es-ES", "Español"},
	{"fr-FR", "Français"}, {"it-IT", "Italiano"}, {"nl-NL", "Nederlands"}, {"nb-NO", "Norsk bokmål"}, {"pl-PL", "Polski"}, {"pt-PT", "Português"},
	{"fi-FI", "Suomi"}, {"sv-SE", "Svenska"}, {"tr-TR", "Türkçe"}, {"el-GR", "Ελληνικά"}, {"ru-RU", "Русский"}, {"uk-UA", "Українська"},
}

func (s Settings) check() error {
	switch {
	case s.LockAfter != AtOnce && (s.LockAfter < 10*time.Second || s.LockAfter > 14*24*time.Hour):
		return badInput("lock_after", errors.New("choose a time from 10 seconds to two weeks, or at once"))
	case s.Clipboard != 0 && (s.Clipboard < 5*time.Second || s.Clipboard > time.Hour):
		return badInput("clipboard", errors.New("choose a time from 5 seconds to an hour, or never"))
	case s.AskFor < 0 || s.AskFor > 24*time.Hour:
		return badInput("ask_for", errors.New("choose a time up to a day"))
	case !slices.Contains([]string{"", "light", "dark"}, s.Theme):
		return badInput("theme", errors.New("choose one of the list"))
	case !slices.Contains([]string{"", "large", "larger"}, s.TextSize):
		return badInput("text_size", errors.New("choose one of the list"))
	case !slices.Contains([]string{"", "close", "wide"}, s.Density):
		return badInput("density", errors.New("choose one of the list"))
	}
	for _, l := range Languages {
		if l.Tag == s.Language {
			return nil
		}
	}
	return badInput("language", errors.New("choose one of the list"))
}

// ChangeSettings changes the settings. To ask less often than now takes the master password.
func (v *Vault) ChangeSettings(ctx context.Context, s Settings) error {
	if err := s.check(); err != nil {
		return err
	}
	now := v.Settings()
	if now.AskToShow && (!s.AskToShow || s.AskFor > now.AskFor) {
		if err := v.RequireReauth(ReauthSettings); err != nil {
			return err
		}
	}
	d := deviceSettings{
		LockAfter: int64(s.LockAfter / time.Second), LockOnSleep: s.LockOnSleep, LockOnClose: s.LockOnClose,
		Clipboard: int64(s.Clipboard / time.Second), Theme: s.Theme, TextSize: s.TextSize, Density: s.Density,
	}
	b, err := json.Marshal(d)
	if err != nil {
		return err
	}
	if err := v.setLocal(ctx, v.store, localSettings, b); err != nil {
		return err
	}
	v.mu.Lock()
	v.device = d
	v.mu.Unlock()
	ask := ""
	if s.AskToShow {
		ask = "yes"
	}
	c := vault.Changes{fieldAskToShow: ask, fieldAskFor: strconv.Itoa(int(s.AskFor / time.Second)), fieldLanguage: s.Language}
	if s.AskFor == now.AskFor {
		delete(c, fieldAskFor)
	}
	if s.Language == now.Language {
		delete(c, fieldLanguage)
	}
	err = v.existing(ctx, v.Profile().Vault, func(e vault.Entry) (vault.Entry, error) { return e.With(v.stamp(), c) })
	v.tell(NoticeStatus)
	return err
}

// LockAfter is how long the vault stays open without use.
func (v *Vault) LockAfter() time.Duration {
	v.mu.RLock()
	defer v.mu.RUnlock()
	if after := time.Duration(v.device.LockAfter) * time.Second; after > AtOnce {
		return after
	}
	return leftAtOnce
}

// language of the book's order. v.mu is held.
func (v *Vault) language() language.Tag {
	if l := v.entries[v.card.Vault].entry.Text(fieldLanguage); l != "" {
		return language.Make(l)
	}
	return language.BritishEnglish
}

// Going from one page to the next leaves one for a moment, so leaving waits for the
// next one: closeGrace where the last page was closed, leaveGrace where the vault
// locks at once and a page was turned away from.
const (
	closeGrace = 10 * time.Second
	leaveGrace = 2 * time.Second
)

// PageLeft notes that a page was turned away from. A vault that locks at once does so,
// unless it is used meanwhile.
func (v *Vault) PageLeft() {
	if v.Settings().LockAfter != AtOnce {
		return
	}
	at := v.touched.Load()
	time.AfterFunc(min(v.d.closeGrace, leaveGrace), func() {
		if v.touched.Load() == at {
			v.Lock()
		}
	})
}

// PageOpened notes that a page of the vault is open; call what it returns when the page
// is gone.
func (v *Vault) PageOpened() (gone func()) {
	v.pages.Add(1)
	return func() {
		if v.pages.Add(-1) > 0 || !v.Settings().LockOnClose {
			return
		}
		time.AfterFunc(v.d.closeGrace, func() {
			if v.pages.Load() == 0 && v.Settings().LockOnClose {
				v.Lock()
			}
		})
	}
}
