package loopback

import (
	"errors"
	"io"
	"net"
	"os"
	"runtime"
	"strconv"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// answer has a listener say hello to whoever is let in.
func answer(t *testing.T, l net.Listener) {
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			_, _ = io.WriteString(conn, "hello")
			_ = conn.Close()
		}
	}()
}

func ask(t *testing.T, network, host string, port int) string {
	t.Helper()
	conn, err := net.DialTimeout(network, net.JoinHostPort(host, strconv.Itoa(port)), time.Second)
	if err != nil {
		return err.Error()
	}
	defer func() { _ = conn.Close() }()
	require.NoError(t, conn.SetDeadline(time.Now().Add(2*time.Second)))
	b, _ := io.ReadAll(conn)
	return string(b)
}

func hasIPv6() bool {
	l, err := net.Listen("tcp6", "[::1]:0")
	if err == nil {
		_ = l.Close()
	}
	return err == nil
}

func TestBothAddressesAreTaken(t *testing.T) {
	l, err := Listen(0)
	require.NoError(t, err)
	answer(t, l)
	port := l.Addr().(*net.TCPAddr).Port
	assert.Equal(t, "hello", ask(t, "tcp4", "127.0.0.1", port))
	if hasIPv6() {
		assert.Equal(t, "hello", ask(t, "tcp6", "::1", port))
		_, err = net.Listen("tcp6", net.JoinHostPort("::1", strconv.Itoa(port)))
		assert.ErrorIs(t, err, syscall.EADDRINUSE, "nobody else gets the other one")
	}
	require.NoError(t, l.Close())
	_, err = l.Accept()
	assert.ErrorIs(t, err, net.ErrClosed)
	again, err := Listen(port)
	require.NoError(t, err, "and both are free again")
	require.NoError(t, again.Close())
}

func TestAPortThatIsHalfTaken(t *testing.T) {
	if !hasIPv6() {
		t.Skip("this computer has one loopback address")
	}
	other, err := net.Listen("tcp6", "[::1]:0")
	require.NoError(t, err)
	defer func() { _ = other.Close() }()
	_, err = Listen(other.Addr().(*net.TCPAddr).Port)
	assert.ErrorIs(t, err, syscall.EADDRINUSE)
}

func TestOwner(t *testing.T) {
	for _, host := range []string{"127.0.0.1", "::1"} {
		l, err := net.Listen("tcp", net.JoinHostPort(host, "0"))
		if err != nil {
			continue
		}
		conn, err := net.Dial("tcp", l.Addr().String())
		require.NoError(t, err)
		back, err := l.Accept()
		require.NoError(t, err)
		uid, ok := owner(back)
		assert.Equal(t, runtime.GOOS == "linux", ok, host)
		if ok {
			assert.Equal(t, os.Getuid(), uid)
		}
		require.NoError(t, errors.Join(conn.Close(), back.Close(), l.Close()))
	}
}

func TestOthersAreTurnedAway(t *testing.T) {
	me := os.Getuid()
	for name, c := range map[string]struct {
		first, then int
		known       bool
		want        string
	}{
		"one's own":             {me, me, true, "hello"},
		"another user":          {me, me + 1, true, ""},
		"root":                  {me, 0, true, "hello"},
		"one that isn't known":  {me, 0, false, ""},
		"the system says other": {me + 1, me + 1, true, "hello"}, // it is of no use then
	} {
		t.Run(name, func(t *testing.T) {
			asked := 0
			l, err := listen(0, func(net.Conn) (int, bool) {
				if asked++; asked == 1 {
					return c.first, true
				}
				return c.then, c.known
			})
			require.NoError(t, err)
			answer(t, l)
			assert.Equal(t, c.want, ask(t, "tcp4", "127.0.0.1", l.Addr().(*net.TCPAddr).Port))
		})
	}
}
