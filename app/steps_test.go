package app_test

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/auditing"
	"redlocket/app/filling"
	"redlocket/app/gate"
	"redlocket/app/importing"
	"redlocket/app/records"
	"redlocket/app/store"
	"redlocket/core/autofill"
	"redlocket/core/find"
	"redlocket/core/secret"
	"redlocket/core/transfer"
	"redlocket/core/vault"
)

// Between any two steps of a use case the vault may be locked, or somebody else may do
// something. A step is an entry through a gate. These tests take every use case apart at its
// steps: at each of them the vault is locked once, and another use case is run once. Nothing
// may panic, no lock may stay held, what fails says that the vault is locked, and what was
// acknowledged is there when the vault is opened again.

// bench is a device whose next step can be met by a test.
type bench struct {
	t    *testing.T
	d    *app.Device
	v    *app.Vault
	hook atomic.Pointer[func()]
	id   string // a login at the ferry, with a staged password and a code
	file vault.File
	n    int // items made so far
}

const oathKey = "otpauth://totp/x?secret=JBSWY3DPEHPK3PXP"

func newBench(t *testing.T) *bench {
	b := &bench{t: t}
	f, err := store.In(filepath.Join(t.TempDir(), "steps"))
	require.NoError(t, err)
	b.d = app.New(app.Ports{
		Stores: f, Rand: rand.Reader, Now: time.Now, Platform: "test", Leaked: stepHouse, Post: stepHouse,
		Steps: func() {
			if hook := b.hook.Load(); hook != nil {
				(*hook)()
			}
		},
	})
	t.Cleanup(func() { assert.NoError(t, b.d.Close()) })
	b.v, err = b.d.Create(t.Context(), app.NewVault{
		Name: "Maren", Email: email, Password: secret.New(master), Repeat: secret.New(master),
	})
	require.NoError(t, err)
	setSecond(t, b.v, sheetCode(t, b.v))
	b.prepare()
	return b
}

// prepare brings the vault to where every use case finds what it needs.
func (b *bench) prepare() {
	ctx := b.t.Context()
	b.id = ferryLogin(b.t, b.v, fmt.Sprintf("maren-%d", b.n), "old")
	b.n++
	c := vault.Changes{vault.FieldSetup: oathKey, vault.FieldStaged: secret.New("new"), vault.FieldFolder: "Sea"}
	require.NoError(b.t, b.v.Items.Save(ctx, b.id, c))
	var err error
	b.file, err = b.v.Files.Attach(ctx, b.id, "ticket.txt", strings.NewReader("one way"))
	require.NoError(b.t, err)
}

// reopen opens the vault again after it was locked, and gets it ready.
func (b *bench) reopen() {
	ctx := b.t.Context()
	profiles, err := b.d.Profiles(ctx)
	require.NoError(b.t, err)
	b.v, err = b.d.Unlock(ctx, profiles[0].ID, secret.New(master))
	require.NoError(b.t, err)
	require.NoError(b.t, b.v.Ready())
	_, err = b.v.Items.Entry(b.id)
	require.NoError(b.t, err, "what was acknowledged is there")
}

// unknown is a user name that the vault doesn't have yet.
func (b *bench) unknown() string { return fmt.Sprintf("unknown-%d", b.n) }

// useCase is something that a person or a browser does.
type useCase struct {
	name string
	do   func(ctx context.Context, b *bench) error
	// kept reports whether what was done is there after the vault was opened again; nil where
	// nothing is to be there.
	kept func(ctx context.Context, b *bench) bool
}

func entryText(b *bench, f vault.Field) string {
	e, err := b.v.Items.Entry(b.id)
	require.NoError(b.t, err)
	return e.Text(f)
}

func has(f vault.Field, want string) func(context.Context, *bench) bool {
	return func(_ context.Context, b *bench) bool { return entryText(b, f) == want }
}

// stepHouse is the leak service of all benches.
var stepHouse = &leakHouse{secret: 1}

func useCases() []useCase {
	return []useCase{
		{"leave out", func(ctx context.Context, b *bench) error {
			id := records.NewID()
			if err := b.v.Items.Save(ctx, id, vault.Changes{vault.FieldTitle: b.unknown()}); err != nil {
				return err
			}
			_, err := b.v.Second.LeaveOut(ctx, id)
			return err
		}, func(_ context.Context, b *bench) bool {
			ids := titled(b.t, b.v, b.unknown())
			return len(ids) == 1 && b.v.Cover.Has(ids[0])
		}},
		{"show again", func(ctx context.Context, b *bench) error {
			items, _, err := b.v.Cover.Room()
			if err != nil || len(items) == 0 {
				return err
			}
			_, err = b.v.Second.Show(ctx, items[0].ID)
			return err
		}, nil},
		{"write the covered part anew", func(ctx context.Context, b *bench) error { return b.v.Cover.Refresh(ctx) }, nil},
		{"save", func(ctx context.Context, b *bench) error {
			return b.v.Items.Save(ctx, b.id, vault.Changes{vault.FieldNotes: "saved"})
		}, has(vault.FieldNotes, "saved")},
		{"save a form", func(ctx context.Context, b *bench) error {
			return b.v.Items.SaveForm(ctx, b.id, &records.Form{
				Kind: vault.TypeLogin, Title: "Ferry", Values: map[vault.Field]string{vault.FieldUsername: "form"},
			})
		}, has(vault.FieldUsername, "form")},
		{"save all", func(ctx context.Context, b *bench) error {
			return b.v.Items.SaveAll(ctx, []vault.Draft{{Title: "Bittern"}})
		}, func(_ context.Context, b *bench) bool { return len(found(b.t, b.v, "bittern")) > 0 }},
		{"resolve", func(ctx context.Context, b *bench) error {
			return b.v.Items.Resolve(ctx, b.id, secret.New("old"))
		}, nil},
		{"restore", func(ctx context.Context, b *bench) error {
			e, err := b.v.Items.Entry(b.id)
			if err != nil {
				return err
			}
			return b.v.Items.RestoreAt(ctx, b.id, e.Created)
		}, nil},
		{"code", func(_ context.Context, b *bench) error { _, _, err := b.v.Items.Code(b.id); return err }, nil},
		{"archive and undo", func(ctx context.Context, b *bench) error {
			done, err := b.v.Acts.Archive(ctx, b.id)
			if err != nil {
				return err
			}
			_, err = b.v.Acts.Undo(ctx, done.Undo)
			return err
		}, func(_ context.Context, b *bench) bool {
			e, err := b.v.Items.Entry(b.id)
			return err == nil && !e.Archived()
		}},
		{"move", func(ctx context.Context, b *bench) error {
			_, err := b.v.Acts.Move(ctx, "Harbour", b.id)
			return err
		}, has(vault.FieldFolder, "Harbour")},
		{"tag and pin", func(ctx context.Context, b *bench) error {
			_, err1 := b.v.Acts.Tag(ctx, "sea", b.id)
			_, err2 := b.v.Acts.Pin(ctx, true, b.id)
			return errors.Join(err1, err2)
		}, nil},
		{"purge", func(ctx context.Context, b *bench) error {
			b.v.Guard.Given()
			id := records.NewID()
			if err := b.v.Items.Save(ctx, id, vault.Changes{vault.FieldTitle: "gone"}); err != nil {
				return err
			}
			if _, err := b.v.Acts.Archive(ctx, id); err != nil {
				return err
			}
			_, err := b.v.Acts.Purge(ctx, id)
			return err
		}, nil},
		{"find", func(_ context.Context, b *bench) error {
			_, err := b.v.Book.Find(find.Parse("ferry"), 0)
			return err
		}, nil},
		{"as of", func(_ context.Context, b *bench) error {
			_, err := b.v.Book.AsOf(time.Now().UnixMilli())
			return err
		}, nil},
		{"read the book", func(_ context.Context, b *bench) error {
			_, err1 := b.v.Usernames()
			_, err2 := b.v.Book.ExpiringSoon()
			_, err3 := b.v.Book.DeviceNames()
			return errors.Join(err1, err2, err3, b.v.Book.Use(b.id))
		}, nil},
		{"attach", func(ctx context.Context, b *bench) error {
			_, err := b.v.Files.Attach(ctx, b.id, "more.txt", strings.NewReader("return"))
			return err
		}, func(_ context.Context, b *bench) bool {
			e, err := b.v.Items.Entry(b.id)
			return err == nil && len(e.Files()) > 1
		}},
		{"read and detach a file", func(ctx context.Context, b *bench) error {
			if err := b.v.Files.Read(ctx, b.file, io.Discard); err != nil {
				return err
			}
			b.v.Files.RemoveUnused(ctx)
			return b.v.Files.Detach(ctx, b.id, b.file.ID)
		}, nil},
		{"set a site's rule", func(ctx context.Context, b *bench) error {
			return b.v.Sites.SetRule(ctx, records.SiteRule{Domain: "ferrylink.example", NoAsk: true})
		}, func(_ context.Context, b *bench) bool { return b.v.Sites.Rule("ferrylink.example").NoAsk }},
		{"add a site", func(ctx context.Context, b *bench) error {
			const list = `{"format":"red-locket-sites/1","sites":[{"name":"Ferrylink","domains":["ferrylink.example","ferry.example"]}]}`
			_, err := b.v.Sites.Add(ctx, []byte(list))
			return err
		}, nil},
		{"keep locally", func(ctx context.Context, b *bench) error {
			return b.v.Local.Set(ctx, "test", []byte("kept"))
		}, func(ctx context.Context, b *bench) bool {
			got, err := b.v.Local.Get(ctx, "test")
			return err == nil && string(got) == "kept"
		}},
		{"tidy up", func(ctx context.Context, b *bench) error {
			twin := records.NewID()
			if err := b.v.Items.Save(ctx, twin, vault.Changes{
				vault.FieldTitle: "Whimbrel", vault.FieldUsername: "wren", vault.FieldPassword: secret.New("pw"),
				vault.FieldAddresses: []vault.Address{{URL: "https://whimbrel.example/"}},
			}); err != nil {
				return err
			}
			other := records.NewID()
			if err := b.v.Items.Save(ctx, other, vault.Changes{
				vault.FieldTitle: "Whimbrel", vault.FieldUsername: "Wren", vault.FieldPassword: secret.New("pw"),
				vault.FieldAddresses: []vault.Address{{URL: "https://www.whimbrel.example/"}},
			}); err != nil {
				return err
			}
			return b.v.Tidying.KeepApart(ctx, []string{twin, other})
		}, func(ctx context.Context, b *bench) bool {
			l, err := b.v.Tidying.List(ctx)
			return err == nil && len(l.Done) > 0
		}},
		{"look for weak spots", func(ctx context.Context, b *bench) error {
			if _, err := b.v.Auditing.Look(ctx); err != nil {
				return err
			}
			_, _, err := b.v.Auditing.BeforeChange(ctx, b.id)
			return errors.Join(err, b.v.Auditing.ResetBy(ctx, b.id, "none"))
		}, has("reset-by", "none")},
		{"watch for leaks", func(ctx context.Context, b *bench) error {
			if err := b.v.Auditing.SetWatch(ctx, auditing.Watch{
				Service: "https://leaks.example", Passwords: true, Names: true,
			}); err != nil {
				return err
			}
			return errors.Join(b.v.Auditing.WatchIfDue(ctx), b.v.Auditing.Seen(ctx, "none"))
		}, func(ctx context.Context, b *bench) bool {
			w, err := b.v.Auditing.Watching(ctx)
			return err == nil && w.On()
		}},
		{"read a page", func(ctx context.Context, b *bench) error {
			b.v.Pages.NeedsReading(signInPage)
			_, err := b.v.Pages.Read(ctx, signInPage)
			return err
		}, nil},
		{"come from the book", func(ctx context.Context, b *bench) error {
			if err := b.v.Pages.ExpectFill(b.id); err != nil {
				return err
			}
			_, err := b.v.Pages.Read(ctx, signInPage)
			return err
		}, nil},
		{"fill", func(ctx context.Context, b *bench) error {
			_, err := b.v.Pages.Fill(ctx, signInPage, filling.Request{ID: b.id, Form: 1, Part: filling.PartLogin})
			return err
		}, nil},
		{"change a password", func(ctx context.Context, b *bench) error {
			values, err := b.v.Pages.FillNew(ctx, changePage, filling.NewPasswordRequest{Form: 1, Login: b.id})
			if err != nil {
				return err
			}
			made := values.Fills[1].Value
			if err := b.v.Prompts.Submitted(ctx, changePage, 1, typed("old", made, made)); err != nil {
				return err
			}
			view, err := b.v.Pages.Read(ctx, insidePage)
			if err != nil || view.Slip == nil {
				return errors.Join(err, errors.New("the change wasn’t noticed"))
			}
			login, err := b.v.Prompts.Login(insidePage, view.Slip.ID)
			if err != nil {
				return err
			}
			return b.v.Staged.Confirm(ctx, login)
		}, func(_ context.Context, b *bench) bool { return entryText(b, vault.FieldPassword) != "old" }},
		{"sign up", func(ctx context.Context, b *bench) error {
			want := filling.NewPasswordRequest{Form: 1, Username: "fresh"}
			values, err := b.v.Pages.FillNew(ctx, signUpPage, want)
			if err != nil {
				return err
			}
			made := values.Fills[len(values.Fills)-1].Value
			if err := b.v.Prompts.Submitted(ctx, signUpPage, 1, typed("fresh", made, made)); err != nil {
				return err
			}
			view, err := b.v.Pages.Read(ctx, insidePage)
			if err != nil || view.Slip == nil {
				return errors.Join(err, errors.New("the sign-up wasn’t noticed"))
			}
			view.Slip.Folder = "Fresh"
			return b.v.Prompts.Accept(ctx, insidePage, *view.Slip)
		}, func(_ context.Context, b *bench) bool { return len(found(b.t, b.v, "folder=Fresh")) > 0 }},
		{"keep a sign-in", func(ctx context.Context, b *bench) error {
			if err := b.v.Prompts.Submitted(ctx, signInPage, 1, typed(b.unknown(), "pw")); err != nil {
				return err
			}
			view, err := b.v.Pages.Read(ctx, insidePage)
			if err != nil || view.Slip == nil {
				return errors.Join(err, errors.New("the sign-in wasn’t noticed"))
			}
			if _, err := b.v.Prompts.Password(insidePage, view.Slip.ID); err != nil {
				return err
			}
			return b.v.Prompts.Accept(ctx, insidePage, *view.Slip)
		}, func(_ context.Context, b *bench) bool { return len(found(b.t, b.v, b.unknown())) > 0 }},
		{"keep by hand, then not", func(ctx context.Context, b *bench) error {
			s, err := b.v.Prompts.ByHand(ctx, signInPage, 1, typed("hand", "pw"))
			if err != nil {
				return err
			}
			return errors.Join(b.v.Prompts.Dismiss(signInPage, s.ID), b.v.Prompts.NeverAsk(ctx, ferryAddress))
		}, nil},
		{"confirm and step back", func(ctx context.Context, b *bench) error {
			if err := b.v.Staged.Confirm(ctx, b.id); err != nil {
				return err
			}
			return b.v.Staged.StepBack(ctx, b.id)
		}, has(vault.FieldPassword, "old")},
		{"generated passwords", func(ctx context.Context, b *bench) error {
			if _, err := b.v.Generated.Keep(ctx, filling.GeneratedPassword{Password: "made"}, 0); err != nil {
				return err
			}
			list, err := b.v.Generated.List()
			if err != nil {
				return err
			}
			if _, err := b.v.Generated.At(list[0].At); err != nil {
				return err
			}
			return nil
		}, func(_ context.Context, b *bench) bool {
			list, err := b.v.Generated.List()
			return err == nil && len(list) > 0 && list[0].Password == "made"
		}},
		{"vouch and ask for the change page", func(ctx context.Context, b *bench) error {
			b.v.Guard.Given()
			if _, err := b.v.Pages.ChangePage(ctx, b.id); err != nil {
				return err
			}
			return b.v.Pages.Vouch(ctx, b.id, "https://ferry1ink.example/")
		}, nil},
		{"import", func(ctx context.Context, b *bench) error {
			csv := "url,username,password\nhttps://dunlin.example/,dunlin,pw\n"
			job, _, err := b.v.Imports.Prepare(ctx, []importing.File{{Name: "a.csv", Bytes: []byte(csv)}})
			if err != nil {
				return err
			}
			if err := job.Start(true); err != nil {
				return err
			}
			state := importing.State{Running: true}
			for state.Running {
				runtime.Gosched()
				job.View(func(_ *transfer.Plan, s importing.State) { state = s })
			}
			if state.Err != nil {
				return state.Err
			}
			_, err = b.v.Imports.Originals(ctx)
			return errors.Join(err, b.v.Imports.Drop())
		}, func(_ context.Context, b *bench) bool { return len(found(b.t, b.v, "dunlin")) > 0 }},
		{"export", func(ctx context.Context, b *bench) error {
			b.v.Guard.Given()
			_, err := b.v.Exports.Write(ctx, io.Discard, importing.Selection{Format: importing.FormatJSON})
			return err
		}, nil},
		{"back up and restore", func(ctx context.Context, b *bench) error {
			b.v.Guard.Given()
			pass := secret.New("twelve letters at least")
			var out bytes.Buffer
			if _, err := b.v.Backups.Write(ctx, &out, pass); err != nil {
				return err
			}
			_, err := b.v.Backups.Restore(ctx, &out, pass, nil)
			return err
		}, nil},
		{"settings", func(ctx context.Context, b *bench) error {
			s := b.v.Settings.Get()
			s.Theme = "dark"
			return b.v.Settings.Change(ctx, s)
		}, func(_ context.Context, b *bench) bool { return b.v.Settings.Get().Theme == "dark" }},
		{"account", func(ctx context.Context, b *bench) error {
			_, err1 := b.v.Sheets.Sheet(ctx)
			_, _, err2 := b.v.Account.Devices(ctx)
			b.v.Sheets.Waits(ctx)
			return errors.Join(err1, err2)
		}, nil},
		{"first day", func(ctx context.Context, b *bench) error {
			_, err := b.v.Account.PassStep(ctx, app.FirstSheet, true)
			return err
		}, func(ctx context.Context, b *bench) bool { return b.v.Account.FirstDay(ctx).HasLeft(app.FirstSheet) }},
		{"a forgotten master password", func(ctx context.Context, b *bench) error {
			v := b.v
			u := app.PlatformUnlock{ID: []byte(records.NewID()), Credential: []byte("{}")}
			if err := v.Authenticators.Add(ctx, secret.New(master), u, thumb); err != nil {
				return err
			}
			err := v.ForgottenMaster.Ask(ctx, u.ID, thumb, secret.New(remembered), secret.New(remembered))
			if err != nil {
				return err
			}
			if _, err := v.ForgottenMaster.State(ctx); err != nil {
				return err
			}
			return errors.Join(v.ForgottenMaster.Stop(ctx), v.Authenticators.End(ctx, u.ID))
		}, nil},
		{"a new sheet", func(ctx context.Context, b *bench) error {
			sheets := b.v.Sheets
			if err := sheets.New(ctx); err != nil {
				return err
			}
			s, err := sheets.Sheet(ctx)
			if err != nil {
				return err
			}
			sheets.Replaces(ctx)
			err = sheets.Check(ctx, app.TypedSheet{
				CarriedGroup: 1, Carried: s.Carried[0], RecoveryGroup: 1, Recovery: s.Recovery[0],
				Password: secret.New(master),
			})
			b.v.Epochs.OldKeys()
			b.v.Replica.Damaged()
			return err
		}, nil},
		{"books", useBooks, func(_ context.Context, b *bench) bool {
			return strings.HasPrefix(b.v.Books.Name(vault.Item{Book: entryText(b, vault.FieldBook)}), "B")
		}},
		{"sharing", shareThings, nil},
		{"a helping hand", helpOut, nil},
		{"people", knowPeople, keptWhatWasPassed},
		{"sync without a cloud", func(ctx context.Context, b *bench) error {
			b.v.Sync.Status()
			return b.v.Sync.Sync(ctx)
		}, nil},
	}
}

const ferryAddress = "https://ferrylink.example/"

// steps runs a use case and counts its steps, the first time, or meets one of them.
func (b *bench) run(u useCase, meet int, at func()) (steps int, err error) {
	var n atomic.Int64
	var meeting sync.Mutex // guards over, and is held while a step is met
	over := false
	hook := func() {
		if n.Add(1) != int64(meet) {
			return
		}
		meeting.Lock()
		defer meeting.Unlock()
		if !over {
			at()
		}
	}
	b.hook.Store(&hook)
	defer func() {
		b.hook.Store(nil)
		meeting.Lock() // a step in the background may just be met
		defer meeting.Unlock()
		over = true
	}()
	err = withoutPanic(func() error { return u.do(b.t.Context(), b) })
	return int(n.Load()), err
}

var errPanic = errors.New("panic")

func withoutPanic(fn func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("%w: %v", errPanic, p)
		}
	}()
	return fn()
}

// within fails the test if something doesn't come to an end: a lock stayed held.
func within(t *testing.T, what string, done <-chan struct{}) {
	t.Helper()
	select {
	case <-done:
	case <-time.After(20 * time.Second):
		t.Fatalf("%s doesn't end: a lock is held", what)
	}
}

// stride is from one step that is met to the next: each of them, every third one where it has to be short, and every
// ninth one in `make check`.
func stride() int {
	switch {
	case hurried():
		return 9
	case testing.Short():
		return 3
	}
	return 1
}

func TestLockedBetweenAnyTwoSteps(t *testing.T) {
	for _, u := range useCases() {
		t.Run(u.name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t)
			b.reopen()
			steps, err := b.run(u, 0, nil)
			require.NoError(t, err, "undisturbed")
			require.Positive(t, steps)
			if u.kept != nil {
				require.True(t, u.kept(t.Context(), b), "the check knows what it looks for")
			}
			for meet := 1; meet <= steps; meet += stride() {
				b.prepare()
				locked, met := make(chan struct{}), atomic.Bool{} // what runs in the background passes gates too
				v := b.v
				_, err := b.run(u, meet, func() {
					met.Store(true)
					go func() { v.Lock(); close(locked) }()
					for !v.Locked() {
						runtime.Gosched()
					}
				})
				require.NotErrorIs(t, err, errPanic, "locked at step %d of %d", meet, steps)
				if !met.Load() { // it had fewer steps this time
					require.NoError(t, err)
					continue
				}
				within(t, fmt.Sprintf("locking at step %d", meet), locked)
				if err != nil {
					lockedOrStopped := errors.Is(err, gate.ErrLocked) || errors.Is(err, importing.ErrStopped)
					require.True(t, lockedOrStopped, "step %d of %d: %v", meet, steps, err)
				}
				b.reopen()
				if err == nil && u.kept != nil {
					require.True(t, u.kept(t.Context(), b), "acknowledged and lost at step %d of %d", meet, steps)
				}
			}
		})
	}
}

// Somebody else does something between two steps: at each step of each use case, each of a few
// others is run to its end.
func TestSecondCallerBetweenAnyTwoSteps(t *testing.T) {
	t.Parallel()
	second := func() (out []useCase) {
		for _, u := range useCases() {
			switch u.name {
			case "save", "fill", "change a password", "archive and undo", "settings", "find":
				out = append(out, u)
			}
		}
		return out
	}()
	for _, u := range useCases() {
		t.Run(u.name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t)
			b.reopen()
			steps, err := b.run(u, 0, nil)
			require.NoError(t, err)
			for meet := 1; meet <= steps; meet += stride() {
				other := second[meet/stride()%len(second)]
				b.prepare()
				var err2 error
				_, err := b.run(u, meet, func() {
					done := make(chan struct{})
					go func() {
						defer close(done)
						err2 = withoutPanic(func() error { return other.do(t.Context(), b) })
					}()
					within(t, other.name, done)
				})
				require.NotErrorIs(t, err, errPanic, "%s at step %d of %d", other.name, meet, steps)
				require.NotErrorIs(t, err2, errPanic, "%s at step %d of %d", other.name, meet, steps)
				require.NotErrorIs(t, err, gate.ErrLocked)
				if err == nil && err2 == nil {
					_, err := b.v.Items.Entry(b.id)
					require.NoError(t, err)
				}
			}
		})
	}
}

// oldTabs keeps prompts the way it was done before there was a gate: what is there is looked up
// in one step and used in the next.
type oldTabs struct {
	prompts map[string]*autofill.Submission
}

// The two faults that made this test necessary are found by it: a prompt that is read after it
// was noted, when a lock came between the two, is nil; and a map that a lock took away is
// written to.
func TestStepsFindTheFaultsThatWereThere(t *testing.T) {
	t.Parallel()
	faults := map[string]func(g *gate.Gate[oldTabs], tabs *oldTabs) error{
		"read after it was noted": func(g *gate.Gate[oldTabs], tabs *oldTabs) error {
			if err := g.Write(func(in *oldTabs) error { in.prompts["7"] = &autofill.Submission{}; return nil }); err != nil {
				return err
			}
			_ = g.Read(func(*oldTabs) error { return nil })
			_ = tabs.prompts["7"].Username // without asking again
			return nil
		},
		"written after a lock": func(g *gate.Gate[oldTabs], tabs *oldTabs) error {
			if err := g.Read(func(*oldTabs) error { return nil }); err != nil {
				return err
			}
			_ = g.Read(func(*oldTabs) error { return nil })
			tabs.prompts["8"] = &autofill.Submission{}
			return nil
		},
	}
	for name, fault := range faults {
		t.Run(name, func(t *testing.T) {
			foundIt := false
			for meet := 1; meet <= 2; meet++ {
				tabs := &oldTabs{prompts: map[string]*autofill.Submission{}}
				n := 0
				var g *gate.Gate[oldTabs]
				g = gate.New(tabs, func() {
					if n++; n == meet {
						g.Close()
						tabs.prompts = nil // as Lock did
					}
				})
				foundIt = foundIt || errors.Is(withoutPanic(func() error { return fault(g, tabs) }), errPanic)
			}
			assert.True(t, foundIt)
		})
	}
}
