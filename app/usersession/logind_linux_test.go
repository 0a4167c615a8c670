package usersession

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/godbus/dbus/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
)

// bus is a stand-in for the system's bus with logind on it: sessions and whose they are.
type bus struct {
	t     *testing.T
	conn  net.Conn
	users map[dbus.ObjectPath]uint32
	ready chan struct{}
	once  sync.Once
}

// newBus listens where the program looks for the system's bus.
func newBus(t *testing.T) *bus {
	at := filepath.Join(t.TempDir(), "bus")
	l, err := net.Listen("unix", at)
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	t.Setenv("DBUS_SYSTEM_BUS_ADDRESS", "unix:path="+at)
	b := &bus{t: t, ready: make(chan struct{}), users: map[dbus.ObjectPath]uint32{
		sessions + "/own": uint32(os.Getuid()), sessions + "/other": uint32(os.Getuid()) + 1,
	}}
	go func() {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		b.conn = conn
		b.serve()
	}()
	return b
}

// serve speaks the authentication of the D-Bus specification, and answers calls.
func (b *bus) serve() {
	in := bufio.NewReader(b.conn)
	for {
		line, err := in.ReadString('\n')
		if err != nil {
			return
		}
		switch word, how, _ := strings.Cut(strings.Trim(line, "\x00\r\n"), " "); word {
		case "AUTH":
			if how == "" { // what there is?
				fmt.Fprint(b.conn, "REJECTED EXTERNAL\r\n")
				continue
			}
			fmt.Fprint(b.conn, "OK 0123456789abcdef0123456789abcdef\r\n")
		case "NEGOTIATE_UNIX_FD":
			fmt.Fprint(b.conn, "ERROR not here\r\n")
		case "BEGIN":
			for {
				m, err := dbus.DecodeMessage(in)
				if err != nil {
					return
				}
				b.answer(m)
			}
		}
	}
}

func (b *bus) answer(m *dbus.Message) {
	what, _ := m.Headers[dbus.FieldMember].Value().(string)
	path, _ := m.Headers[dbus.FieldPath].Value().(dbus.ObjectPath)
	var body []any
	switch what {
	case "Hello":
		body = []any{":1.1"}
	case "Get":
		body = []any{dbus.MakeVariant(struct {
			UID  uint32
			Path dbus.ObjectPath
		}{b.users[path], "/org/freedesktop/login1/user/x"})}
	case "Inhibit":
		b.once.Do(func() { close(b.ready) }) // it listens from here on
		b.send(dbus.TypeError, map[dbus.HeaderField]dbus.Variant{
			dbus.FieldReplySerial: dbus.MakeVariant(m.Serial()),
			dbus.FieldErrorName:   dbus.MakeVariant("org.freedesktop.DBus.Error.AccessDenied"),
		})
		return
	}
	b.send(dbus.TypeMethodReply, map[dbus.HeaderField]dbus.Variant{
		dbus.FieldReplySerial: dbus.MakeVariant(m.Serial()),
	}, body...)
}

func (b *bus) send(kind dbus.Type, h map[dbus.HeaderField]dbus.Variant, body ...any) {
	m := &dbus.Message{Type: kind, Headers: h, Body: body}
	m.Headers[dbus.FieldSender] = dbus.MakeVariant(login)
	if len(body) > 0 {
		m.Headers[dbus.FieldSignature] = dbus.MakeVariant(dbus.SignatureOf(body...))
	}
	var out bytes.Buffer
	if err := m.EncodeTo(&out, binary.LittleEndian); err != nil {
		b.t.Error(err)
		return
	}
	raw := out.Bytes()
	binary.LittleEndian.PutUint32(raw[8:12], 7) // any serial but 0
	_, _ = b.conn.Write(raw)
}

func (b *bus) signal(path dbus.ObjectPath, of, member string, body ...any) {
	b.send(dbus.TypeSignal, map[dbus.HeaderField]dbus.Variant{
		dbus.FieldPath: dbus.MakeVariant(path), dbus.FieldInterface: dbus.MakeVariant(of),
		dbus.FieldMember: dbus.MakeVariant(member),
	}, body...)
}

func TestLogindTellsOfTheSession(t *testing.T) {
	b := newBus(t)
	var locked, slept atomic.Int64
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		Watch(ctx, app.SessionEvents{
			Open: func() bool { return true }, Locked: func() { locked.Add(1) }, Sleeping: func() { slept.Add(1) },
		})
	}()
	select {
	case <-b.ready:
	case <-time.After(5 * time.Second):
		t.Fatal("it doesn't listen")
	}
	changed := func(path dbus.ObjectPath, to bool) {
		b.signal(path, "org.freedesktop.DBus.Properties", "PropertiesChanged", session,
			map[string]dbus.Variant{"LockedHint": dbus.MakeVariant(to)}, []string{})
	}
	heard := func(n int64) func() bool { return func() bool { return locked.Load() == n } }

	b.signal(sessions+"/own", session, "Lock")
	require.Eventually(t, heard(1), 5*time.Second, time.Millisecond, "asked to lock")
	b.signal(sessions+"/other", session, "Lock")
	changed(sessions+"/other", true)
	changed(sessions+"/own", false)
	changed(sessions+"/own", true)
	require.Eventually(t, heard(2), 5*time.Second, time.Millisecond, "its screen is locked")
	b.signal("/org/freedesktop/login1", manager, "PrepareForSleep", false)
	b.signal("/org/freedesktop/login1", manager, "PrepareForSleep", true)
	require.Eventually(t, func() bool { return slept.Load() == 1 }, 5*time.Second, time.Millisecond)
	assert.EqualValues(t, 2, locked.Load(), "another user's screen is none of ours, and an unlocked one is no lock")
	cancel()
	<-ended
}

func TestWithoutABusNothingIsTold(t *testing.T) {
	t.Setenv("DBUS_SYSTEM_BUS_ADDRESS", "unix:path="+filepath.Join(t.TempDir(), "none"))
	Watch(t.Context(), app.SessionEvents{}) // returns
}

func TestALockedScreenIsToldOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		states := []bool{false, true, true, false, true}
		looked, told := 0, 0
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		poll(ctx, time.Second, func() bool { return looked != 2 || told > 0 }, func() (bool, error) {
			looked++
			if looked > len(states) {
				return false, errors.New("over")
			}
			return states[looked-1], nil
		}, func() { told++ })
		assert.Equal(t, 2, told)
	})
}
