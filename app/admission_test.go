package app_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"regexp"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/records"
	"redlocket/app/syncing"
	"redlocket/cloud"
	"redlocket/core/secret"
	"redlocket/core/wire"
)

// letterBox is a person's mail.
type letterBox struct {
	mu   sync.Mutex
	sent []string
}

func (l *letterBox) Send(_ context.Context, _, subject, text string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.sent = append(l.sent, subject+"\n"+text)
	return nil
}

var codeInMail = regexp.MustCompile(`(?m)^ {4}(\d{4} \d{4})$`)

// code waits for the n-th mail with a code.
func (l *letterBox) code(t testing.TB, n int) (code string) {
	soon(t, "a code comes by mail", func() bool {
		l.mu.Lock()
		defer l.mu.Unlock()
		found := 0
		for _, m := range l.sent {
			if c := codeInMail.FindStringSubmatch(m); c != nil {
				found++
				code = c[1]
			}
		}
		return found >= n
	})
	return code
}

func fieldOf(t testing.TB, err error) string {
	var in *records.InputError
	require.ErrorAs(t, err, &in)
	return in.Field
}

// A cloud that wants an invitation and a proved address: the vault is there from the first moment, and gets its
// account by and by, also after a lock.
func TestAVaultWaitsForItsAccount(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	box := &letterBox{}
	w.cloud.Post, w.cloud.Admission = box, cloud.ByInvitation
	d := w.device("desk")
	desk := w.create(d)
	assert.Equal(t, app.Wanted{Cloud: w.url}, desk.Account.Wanted(t.Context()))
	assert.Empty(t, desk.Profile().Cloud)
	id := records.NewID()
	require.NoError(t, desk.Items.Save(t.Context(), id, login("Before", "pw")))

	err := desk.Account.JoinCloud(t.Context(), w.url, wire.Admission{Invitation: "nothing"})
	assert.Equal(t, "invitation", fieldOf(t, err))
	invitation, err := cloud.Invite(t.Context(), w.file, time.Now().Add(time.Hour))
	require.NoError(t, err)
	err = desk.Account.JoinCloud(t.Context(), w.url, wire.Admission{Invitation: invitation})
	require.ErrorIs(t, err, app.ErrCodeSent)
	assert.Equal(t, "code", fieldOf(t, err))
	desk.Lock()
	desk, err = d.Unlock(t.Context(), desk.Profile().ID, secret.New(master))
	require.NoError(t, err)
	assert.Equal(t, app.Wanted{w.url, invitation, true}, desk.Account.Wanted(t.Context()), "it is put down and gone on with")
	by := wire.Admission{Invitation: invitation, Code: "0000 0000"}
	err = desk.Account.JoinCloud(t.Context(), w.url, by)
	require.ErrorIs(t, err, syncing.ErrCode)
	assert.Equal(t, "code", fieldOf(t, err))
	by.Code = box.code(t, 1)
	require.NoError(t, desk.Account.JoinCloud(t.Context(), w.url, by))
	assert.Equal(t, app.Wanted{}, desk.Account.Wanted(t.Context()))
	w.inStep(desk)
	laptop := w.join(w.device("laptop"), desk)
	soon(t, "what was made before is there", holds(laptop, id))
}

// The answer to "make my account" is lost: code and invitation are used up then, and another try ends well.
func TestALostAnswerToACode(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	box := &letterBox{}
	w.cloud.Post = box
	desk := w.create(w.device("desk"))
	lost := between(func(rw http.ResponseWriter, r *http.Request, next http.Handler) {
		if r.URL.Path == "/v1/accounts" {
			rw = httptest.NewRecorder()
			defer panic(http.ErrAbortHandler)
		}
		next.ServeHTTP(rw, r)
	})
	w.between.Store(&lost)
	by := wire.Admission{Code: box.code(t, 1)}
	require.Error(t, desk.Account.JoinCloud(t.Context(), w.url, by))
	w.between.Store(nil)
	require.NoError(t, desk.Account.JoinCloud(t.Context(), w.url, by))
	w.inStep(desk)
}

// Somebody at a device of the owner's takes the account over: by another master password, which the other devices hear
// of, or by shutting them out. By the mail and the old password it comes back, with all that the owner's device has.
func TestATakenAccountComesBack(t *testing.T) {
	t.Parallel()
	const theirs = "taken over by somebody else"
	for name, take := range map[string]func(t *testing.T, thief, desk *app.Vault){
		"by another master password": func(t *testing.T, thief, desk *app.Vault) {
			require.NoError(t, thief.Account.ChangeMaster(t.Context(), secret.New(master), secret.New(theirs),
				secret.New(theirs)))
			was := desk.Profile().Wrapped
			soon(t, "the desk hears of it", func() bool {
				desk.Sync.Nudge()
				return string(desk.Profile().Wrapped) != string(was)
			})
		},
		"by shutting out": func(t *testing.T, thief, desk *app.Vault) {
			require.NoError(t, thief.Epochs.ShutOut(t.Context(), desk.Profile().Device, secret.New(master)))
			soon(t, "the desk is out", func() bool {
				desk.Sync.Nudge()
				return desk.Sync.Status().State == syncing.Ended
			})
		},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			first := w.device("desk")
			desk := w.create(first)
			thief := w.join(w.device("stolen"), desk)
			kept := w.save(desk, "Kept", "pw", thief)
			box := &letterBox{}
			w.cloud.Post = box
			take(t, thief, desk)
			evil := records.NewID()
			require.NoError(t, thief.Items.Save(t.Context(), evil, login("Theirs", "pw")))
			mine := records.NewID()
			require.NoError(t, desk.Items.Save(t.Context(), mine, login("Mine", "pw")))

			require.NoError(t, desk.FormerKeys.Ask(t.Context()))
			code := box.code(t, 1)
			err := desk.FormerKeys.BringBack(t.Context(), secret.New("not it at all"), code)
			require.Equal(t, "back-password", fieldOf(t, err))
			err = desk.FormerKeys.BringBack(t.Context(), secret.New(master), "1234 5678")
			require.Equal(t, "back-code", fieldOf(t, err))
			require.NoError(t, desk.FormerKeys.BringBack(t.Context(), secret.New(master), code))
			w.inStep(desk)
			soon(t, "the thief is out", func() bool {
				thief.Sync.Nudge()
				return thief.Sync.Status().State == syncing.Ended
			})
			fresh := w.join(w.device("new"), desk)
			assert.True(t, holds(fresh, kept)() && holds(fresh, mine)())

			// The desk opens by the old master password again, and everything on it can be read.
			desk = w.reopen(first, desk)
			assert.True(t, holds(desk, kept)() && holds(desk, mine)())
			assert.Empty(t, desk.Replica.Damaged())
		})
	}
}
