package app_test

import (
	"bytes"
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/auditing"
	"redlocket/app/gate"
	"redlocket/app/records"
	"redlocket/app/store"
	"redlocket/core/audit"
	"redlocket/core/leaks"
	"redlocket/core/secret"
	"redlocket/core/vault"
)

// leakHouse is a leak service, and a mail server.
type leakHouse struct {
	mu        sync.Mutex
	secret    byte
	passwords map[leaks.Hash]int64
	known     map[leaks.Thing][]leaks.Leak
	away      error
	ranges    []string
	lookups   int
	mails     []auditing.Mail
	noMail    error
	made      *leaks.Service // of known and secret; nil after a change
}

func (h *leakHouse) service() (s *leaks.Service, err error) {
	if h.made == nil {
		h.made, err = leaks.NewService(bytes.Repeat([]byte{h.secret}, 32), h.known, rand.Reader)
	}
	return h.made, err
}

func (h *leakHouse) Key(context.Context, string) ([]byte, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.away != nil {
		return nil, h.away
	}
	s, err := h.service()
	if err != nil {
		return nil, err
	}
	return s.Key()
}

func (h *leakHouse) Range(_ context.Context, _, prefix string) (io.Reader, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.ranges = append(h.ranges, prefix)
	var b bytes.Buffer
	return &b, leaks.WriteRange(&b, prefix, h.passwords, rand.Reader)
}

func (h *leakHouse) LookUp(_ context.Context, _ string, req leaks.Request) (a leaks.Answer, err error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.lookups++
	if h.away != nil {
		return a, h.away
	}
	s, err := h.service()
	if err != nil {
		return a, err
	}
	return s.Answer(req)
}

func (h *leakHouse) Send(_ context.Context, _ auditing.MailServer, m auditing.Mail) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.mails = append(h.mails, m)
	return h.noMail
}

// asked says how often the house was asked since the last time.
func (h *leakHouse) asked() (ranges, lookups int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	ranges, lookups = len(h.ranges), h.lookups
	h.ranges, h.lookups = nil, 0
	return ranges, lookups
}

func (h *leakHouse) change(fn func()) {
	h.mu.Lock()
	defer h.mu.Unlock()
	fn()
	h.made = nil
}

func thing(t *testing.T, kind leaks.Kind, text string) leaks.Thing {
	t.Helper()
	got, ok := leaks.NewThing(kind, text)
	require.True(t, ok)
	return got
}

// A service is asked daily for what the user switched on, and for no more; what turned up is told once, with regard to
// when passwords were changed.
func TestLeaksAreWatched(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 5, 1, 9, 0, 0, 0, time.UTC)
	mail := thing(t, leaks.KindMail, email)
	house := &leakHouse{
		secret: 1, passwords: map[leaks.Hash]int64{leaks.HashOf(secret.New("Tide-table-19")): 3},
		known: map[leaks.Thing][]leaks.Leak{
			mail: {
				{Name: "Whimbrel", Site: "whimbrel.example", Day: "2026-05-01"},
				{Name: "Dunlin", Site: "dunlin.example", Day: "2020-01-01"},
			},
			thing(t, leaks.KindCard, "4012888888881881"): {{Name: "Ferrylink"}},
		},
	}
	f, err := store.In(filepath.Join(t.TempDir(), "desk"))
	require.NoError(t, err)
	d := app.New(app.Ports{
		Stores: f, Rand: rand.Reader, Now: func() time.Time { return now }, Platform: "test", Leaked: house, Post: house,
	})
	t.Cleanup(func() { assert.NoError(t, d.Close()) })
	v, err := d.Create(t.Context(), app.NewVault{
		Name: "Maren", Email: email, Password: secret.New(master), Repeat: secret.New(master),
	})
	require.NoError(t, err)
	login := func(title, user, password string) string {
		id := records.NewID()
		require.NoError(t, v.Items.Save(t.Context(), id, vault.Changes{
			vault.FieldTitle: title, vault.FieldUsername: user, vault.FieldPassword: secret.New(password),
			vault.FieldAddresses: []vault.Address{{URL: "https://" + title + ".example/"}},
		}))
		return id
	}
	whimbrel := login("whimbrel", email, "Tide-table-19")
	login("dunlin", email, "mV5#hGt2NcYe-other")
	require.NoError(t, v.Items.SaveAs(t.Context(), records.NewID(), vault.TypeCard, vault.Changes{
		vault.FieldTitle: "Card", vault.FieldNumber: secret.New("4012888888881881"),
	}))
	watching := func() auditing.Watching {
		w, err := v.Auditing.Watching(t.Context())
		require.NoError(t, err)
		return w
	}
	look := func() { require.NoError(t, v.Auditing.WatchIfDue(t.Context())) }

	look()
	ranges, lookups := house.asked()
	assert.Zero(t, ranges+lookups, "nothing is asked before it is switched on")

	var in *records.InputError
	set := auditing.Watch{Service: "https://leaks.example", Passwords: true}
	house.change(func() { house.away = fmt.Errorf("%w: dialling", auditing.ErrServiceAway) })
	require.ErrorAs(t, v.Auditing.SetWatch(t.Context(), set), &in)
	assert.Equal(t, auditing.ErrServiceAway, in.Err)
	assert.False(t, watching().On())
	house.change(func() { house.away = nil })
	require.ErrorAs(t, v.Auditing.SetWatch(t.Context(), auditing.Watch{
		Service: "https://leaks.example", Cards: true, Mail: true, MailTo: "nobody",
	}), &in)
	require.ErrorAs(t, v.Auditing.SetWatch(t.Context(), auditing.Watch{
		Service: "https://leaks.example", Cards: true, Mail: true, MailTo: email,
	}), &in, "no mail server")

	require.NoError(t, v.Auditing.SetWatch(t.Context(), set))
	look()
	ranges, lookups = house.asked()
	assert.Equal(t, []int{2, 0}, []int{ranges, lookups}, "passwords alone")
	assert.Equal(t, map[string][]audit.Fault{"whimbrel": {audit.FaultLeaked}}, faults(t, v))

	set.Names, set.Cards, set.Mail, set.MailTo = true, true, true, email
	set.Server.Address = "localhost:25"
	require.NoError(t, v.Auditing.SetWatch(t.Context(), set))
	look()
	ranges, lookups = house.asked()
	assert.Equal(t, []int{0, 1}, []int{ranges, lookups}, "what was asked today isn't asked again")
	w := watching()
	require.Len(t, w.Turned, 3)
	assert.NoError(t, w.Fault)
	told := map[string]bool{} // whether it was before the change, by site
	for _, u := range w.Turned {
		ids, since, err := v.Auditing.Touched(t.Context(), u)
		require.NoError(t, err)
		told[u.Leak.Name] = since
		if u.Leak.Name == "Whimbrel" {
			assert.Equal(t, []string{whimbrel}, ids)
		}
	}
	assert.Equal(t, map[string]bool{"Whimbrel": false, "Dunlin": true, "Ferrylink": false}, told)
	assert.Equal(t, []audit.Fault{audit.FaultLeaked, audit.FaultExposed}, faults(t, v)["whimbrel"])
	assert.NotContains(t, faults(t, v), "dunlin")
	require.Len(t, house.mails, 1)
	for _, secret := range []string{"Whimbrel", "whimbrel", "1881", "Tide", "card", "password"} {
		assert.NotContains(t, house.mails[0].Subject+house.mails[0].Text, secret)
	}

	look()
	ranges, lookups = house.asked()
	assert.Zero(t, ranges+lookups, "all was asked today")
	login("curlew", "curlew@saltmarsh.example", "A-new-one-77")
	look()
	ranges, lookups = house.asked()
	assert.Equal(t, []int{1, 1}, []int{ranges, lookups}, "a new login is looked up at once, and alone")
	now = now.Add(25 * time.Hour)
	look()
	ranges, lookups = house.asked()
	assert.Equal(t, []int{3, 1}, []int{ranges, lookups}, "the next day all are asked for")
	assert.Len(t, house.mails, 1, "what is known isn't told again")

	// A new password after the leak, and a lock between.
	now = now.Add(48 * time.Hour)
	require.NoError(t, v.Items.Save(t.Context(), whimbrel, vault.Changes{
		vault.FieldPassword: secret.New("kR8$uJb4WqZp-fresh"),
	}))
	assert.NotContains(t, faults(t, v), "whimbrel")
	require.NoError(t, v.Auditing.Seen(t.Context(), w.Turned[0].ID))
	v.Lock()
	assert.ErrorIs(t, v.Auditing.WatchIfDue(t.Context()), gate.ErrLocked)
	assert.ErrorIs(t, v.Auditing.Seen(t.Context(), w.Turned[0].ID), gate.ErrLocked)
	profiles, err := d.Profiles(t.Context())
	require.NoError(t, err)
	v, err = d.Unlock(t.Context(), profiles[0].ID, secret.New(master))
	require.NoError(t, err)
	seen := 0
	for _, u := range watching().Turned {
		if u.Seen {
			seen++
		}
	}
	assert.Equal(t, 1, seen)
	assert.True(t, watching().On())

	// Another key: nothing is believed, it is said, and tried again an hour later.
	house.change(func() { house.secret = 2; house.known[mail] = nil })
	now = now.Add(25 * time.Hour)
	require.ErrorIs(t, v.Auditing.WatchIfDue(t.Context()), auditing.ErrServiceKey)
	assert.Equal(t, auditing.ErrServiceKey, watching().Fault)
	assert.Len(t, watching().Turned, 3)
	house.asked()
	look()
	ranges, lookups = house.asked()
	assert.Zero(t, ranges+lookups, "not before an hour")
	house.change(func() {
		house.secret = 1
		house.known[mail] = []leaks.Leak{{Name: "Curlew", Site: "curlew.example", Day: "2026-05-02"}}
		house.noMail = auditing.ErrMailServer
	})
	now = now.Add(2 * time.Hour)
	require.ErrorIs(t, v.Auditing.WatchIfDue(t.Context()), auditing.ErrMailServer)
	assert.Len(t, watching().Turned, 4, "it is told on the page all the same")
	sent := len(house.mails)
	look()
	assert.Len(t, house.mails, sent, "not at once again")
	house.change(func() { house.noMail = nil })
	now = now.Add(2 * time.Hour)
	look()
	assert.Len(t, house.mails, sent+1, "but an hour later, though there is nothing new")
	now = now.Add(2 * time.Hour)
	look()
	assert.Len(t, house.mails, sent+1, "and only until it was taken")

	require.NoError(t, v.Auditing.SetWatch(t.Context(), auditing.Watch{}))
	assert.Len(t, watching().Turned, 4)
	house.asked()
	now = now.Add(25 * time.Hour)
	look()
	ranges, lookups = house.asked()
	assert.Zero(t, ranges+lookups)
}
