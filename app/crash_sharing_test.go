package app_test

import (
	"context"
	"fmt"
	mrand "math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/helping"
	"redlocket/app/records"
	"redlocket/app/store"
	"redlocket/app/syncing"
	"redlocket/core/secret"
	"redlocket/core/share"
	"redlocket/core/vault"
)

// crashSharing shares logins with somebody who was checked, changes them, ends it for every second one, and names that
// person as a helper and not any more, over and over.
func crashSharing(ctx context.Context, v *app.Vault, peer string) error {
	for i := 0; ; i++ {
		id := records.NewID()
		if err := v.Items.Save(ctx, id, vault.Changes{vault.FieldTitle: "Of " + id}); err != nil {
			return err
		}
		fmt.Println("saved", id)
		set, err := v.Sharing.ShareItem(ctx, id, peer, share.Change)
		if err != nil {
			return err
		}
		fmt.Println("shared", id)
		if err := v.Items.Save(ctx, id, vault.Changes{vault.FieldNotes: "changed"}); err != nil {
			return err
		}
		fmt.Println("changed", id)
		if err := v.Sync.Sync(ctx); err != nil {
			return err
		}
		if i%2 == 1 {
			if err := v.Sharing.End(ctx, set, idrisEmail); err != nil {
				return err
			}
			fmt.Println("ended", id)
		}
		if i%3 != 2 {
			continue
		}
		err = v.Helpers.Arrange(ctx, app.Helpers{Peers: []string{peer}, Need: 1, Password: secret.New(master)})
		if err != nil {
			return err
		}
		fmt.Println("arranged")
		if i%2 == 0 {
			if err := v.Helpers.End(ctx, secret.New(master)); err != nil {
				return err
			}
			fmt.Println("nobody helps")
		}
	}
}

// A process is killed at random moments of sharing, ending and naming a helper: what was acknowledged is there, both
// hold the same of what is shared and nothing of what isn't, neither finds fault, and it all goes on.
func TestSharingKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	kills := killsOr(t, 6)
	w := newWorld(t)
	dir := t.TempDir()
	folder, err := store.In(filepath.Join(dir, "sharing"))
	require.NoError(t, err)
	d := w.deviceIn(folder)
	v := w.create(d)
	profile := v.Profile().ID
	idris := w.createFor(w.device("idris"), "Idris Moss", idrisEmail)
	peer := w.known(v, idris).ID
	require.NoError(t, d.Close())

	// Idris takes whatever is shared with him.
	ctx, stop := context.WithCancel(t.Context())
	var takes sync.WaitGroup
	takes.Go(func() {
		for ctx.Err() == nil {
			list, _ := idris.Sharing.List()
			for _, of := range list {
				if of.Waits {
					_ = idris.Sharing.Take(ctx, of.Set)
				}
			}
			time.Sleep(20 * time.Millisecond)
		}
	})
	defer takes.Wait()
	defer stop()

	saved, changed, ended := map[string]bool{}, map[string]bool{}, map[string]bool{}
	arranged, unfinished := 0, 0
	for round := range kills {
		fresh := map[string]bool{}
		p := run(t, "sharing", dir, strings.TrimPrefix(w.url, "http://"), peer)
		first := <-p.lines
		time.Sleep(time.Duration(mrand.IntN(900)) * time.Millisecond)
		for _, line := range append([]string{first}, p.kill()...) {
			switch kind, id, _ := strings.Cut(line, " "); kind {
			case "saved":
				saved[id], fresh[id] = true, true
			case "changed":
				changed[id] = true
			case "ended":
				ended[id] = true
			case "arranged":
				arranged++
			case "shared", "nobody":
			default:
				t.Fatalf("the device said %q", line)
			}
		}
		d := w.deviceIn(folder)
		v, err := d.Unlock(t.Context(), profile, secret.New(master))
		require.NoError(t, err)
		soon(t, "in step", func() bool {
			s := v.Sync.Status()
			return s.State == syncing.InStep && s.Waiting == 0
		})
		// What was cut short is done now: an end of which the cloud has heard, and he hasn't.
		require.NoError(t, v.Sharing.Collect(t.Context()))
		w.inStep(v)
		require.NoError(t, idris.Sharing.Collect(t.Context()))
		last := "" // of each kill one that goes on being shared
		for id := range saved {
			require.True(t, holds(v, id)(), "an acknowledged save is gone")
			if !fresh[id] && round < kills-1 {
				continue
			}
			e, err := v.Items.Entry(id)
			require.NoError(t, err)
			if changed[id] {
				require.Equal(t, "changed", e.Text(vault.FieldNotes))
			}
			shares := func() bool {
				e, err := v.Items.Entry(id)
				require.NoError(t, err)
				of, err := v.Sharing.OfItem(e)
				return err == nil && !of.Over && len(of.Members) == 2
			}
			if ended[id] {
				require.False(t, shares(), "what was ended is shared")
			}
			soon(t, "both hold the same of it", func() bool {
				theirs := titled(t, idris, "Of "+id)
				if !shares() {
					return len(theirs) == 0
				}
				if len(theirs) != 1 {
					return false
				}
				e, err := idris.Items.Entry(theirs[0])
				return err == nil && (!changed[id] || e.Text(vault.FieldNotes) == "changed")
			})
		}
		list, err := v.Sharing.List()
		require.NoError(t, err)
		for _, s := range list {
			if !s.Over && len(s.Members) == 2 && fresh[s.Item] && !ended[s.Item] {
				last = s.Item
			}
		}
		his, err := idris.Sharing.List()
		require.NoError(t, err)
		for _, s := range slices.Concat(list, his) {
			require.Empty(t, s.Fault)
		}
		if last != "" {
			theirs := gets(t, idris, "Of "+last)
			value := records.NewID()
			c := vault.Changes{vault.FieldPassword: secret.New(value)}
			require.NoError(t, idris.Items.Save(t.Context(), theirs, c))
			says(t, v, last, vault.FieldPassword, value)
		}
		for i, s := range list {
			if i >= 10 && !s.Over { // the cloud takes no more than some
				require.NoError(t, v.Sharing.EndAll(t.Context(), s.Set))
				ended[s.Item] = true
			}
		}
		soon(t, "both know who helps", func() bool {
			own, helps, err := v.Helpers.Hand()
			require.NoError(t, err)
			if own.Unfinished { // the page says so
				unfinished++
				require.NoError(t, v.Helpers.End(t.Context(), secret.New(master)))
			}
			inForce := slices.ContainsFunc(held(t, idris), func(h helping.Held) bool { return !h.Over })
			return helps == inForce && !own.Unfinished
		})
		require.NoError(t, d.Close())
	}
	t.Logf("%d kills, %d acknowledged saves, %d ended, %d times with a helper, %d times cut short",
		kills, len(saved), len(ended), arranged, unfinished)
}
