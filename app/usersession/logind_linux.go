package usersession

import (
	"context"
	"os"
	"time"

	"github.com/godbus/dbus/v5"

	"redlocket/app"
)

// The names of logind on the system bus: org.freedesktop.login1(5) of systemd.
const (
	login    = "org.freedesktop.login1"
	manager  = login + ".Manager"
	session  = login + ".Session"
	sessions = "/org/freedesktop/login1/session"

	askTime = 5 * time.Second
)

// Watch tells of the user's session until ctx ends, or the system's bus is gone. Before sleep the system is asked to
// wait until what is to be done is done.
func Watch(ctx context.Context, on app.SessionEvents) {
	conn, err := dbus.ConnectSystemBus(dbus.WithContext(ctx))
	if err != nil {
		return // no such bus: the clock tells of sleep, afterwards
	}
	defer func() { _ = conn.Close() }()
	signals := make(chan *dbus.Signal, 16)
	conn.Signal(signals)
	for _, m := range [][]dbus.MatchOption{
		{dbus.WithMatchInterface(session), dbus.WithMatchMember("Lock"), dbus.WithMatchPathNamespace(sessions)},
		{
			dbus.WithMatchInterface("org.freedesktop.DBus.Properties"), dbus.WithMatchMember("PropertiesChanged"),
			dbus.WithMatchPathNamespace(sessions), dbus.WithMatchArg(0, session),
		},
		{dbus.WithMatchInterface(manager), dbus.WithMatchMember("PrepareForSleep")},
	} {
		if err := conn.AddMatchSignalContext(ctx, append(m, dbus.WithMatchSender(login))...); err != nil {
			return
		}
	}
	l := logind{conn: conn, on: on}
	l.holdSleep(ctx)
	defer l.letSleep()
	for {
		select {
		case <-ctx.Done():
			return
		case s, ok := <-signals:
			if !ok {
				return
			}
			l.hear(ctx, s)
		}
	}
}

type logind struct {
	conn *dbus.Conn
	on   app.SessionEvents
	hold *os.File // while it is open the system waits a moment before it sleeps
}

func (l *logind) hear(ctx context.Context, s *dbus.Signal) {
	switch s.Name {
	case manager + ".PrepareForSleep":
		if begins, ok := first(s).(bool); ok && begins {
			l.on.Sleeping()
			l.letSleep()
		} else {
			l.holdSleep(ctx)
		}
	case session + ".Lock":
		if l.own(ctx, s.Path) {
			l.on.Locked()
		}
	case "org.freedesktop.DBus.Properties.PropertiesChanged":
		if hinted(s) && l.own(ctx, s.Path) {
			l.on.Locked()
		}
	}
}

func first(s *dbus.Signal) any {
	if len(s.Body) == 0 {
		return nil
	}
	return s.Body[0]
}

// hinted reports whether a session says that its screen is locked now.
func hinted(s *dbus.Signal) bool {
	if len(s.Body) < 2 {
		return false
	}
	changed, _ := s.Body[1].(map[string]dbus.Variant)
	locked, _ := changed["LockedHint"].Value().(bool)
	return locked
}

// own reports whether a session is one of this program's user.
func (l *logind) own(ctx context.Context, path dbus.ObjectPath) bool {
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	var user dbus.Variant
	err := l.conn.Object(login, path).CallWithContext(ctx, "org.freedesktop.DBus.Properties.Get", 0, session, "User").
		Store(&user)
	of, _ := user.Value().([]any)
	if err != nil || len(of) == 0 {
		return false
	}
	uid, ok := of[0].(uint32)
	return ok && int(uid) == os.Getuid()
}

func (l *logind) holdSleep(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	var fd dbus.UnixFD
	err := l.conn.Object(login, "/org/freedesktop/login1").CallWithContext(ctx, manager+".Inhibit", 0,
		"sleep", "Red Locket", "Locks the open vaults", "delay").Store(&fd)
	if err == nil && l.hold == nil {
		l.hold = os.NewFile(uintptr(fd), "sleep inhibitor")
	}
}

func (l *logind) letSleep() {
	if l.hold != nil {
		_ = l.hold.Close() // nothing was written
		l.hold = nil
	}
}
