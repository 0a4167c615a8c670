// Package usersession tells when the screen of the user's session was locked, and when the computer goes to sleep: from
// logind on Linux, from the terminal services of Windows, from the window server's session of macOS.
package usersession

import (
	"context"
	"time"
)

// poll asks every so often whether the screen is locked, while somebody wants to know, and tells when it became so.
// Where it can't be told, it isn't asked again.
func poll(ctx context.Context, every time.Duration, want func() bool, is func() (bool, error), locked func()) {
	tick := time.NewTicker(every)
	defer tick.Stop()
	was := false
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if !want() {
				was = false
				continue
			}
			now, err := is()
			if err != nil {
				return
			}
			if now && !was {
				locked()
			}
			was = now
		}
	}
}
