package usersession

import (
	"context"
	"os/exec"
	"regexp"
	"time"

	"redlocket/app"
)

// pollDarwin is how often the session is looked at, while a vault is open.
const pollDarwin = 5 * time.Second

// Watch tells of the user's session until ctx ends. Sleep is told by the clock, afterwards.
func Watch(ctx context.Context, on app.SessionEvents) {
	is := func() (bool, error) {
		out, err := exec.CommandContext(ctx, "/usr/sbin/ioreg", "-n", "Root", "-d1", "-a").Output()
		return locked.Match(out), err
	}
	poll(ctx, pollDarwin, on.Open, is, on.Locked)
}

// locked is how the registry lists a session at the console whose screen is locked. From memory.
var locked = regexp.MustCompile(`<key>CGSSessionScreenIsLocked</key>\s*<true/>`)
