// Package loopback listens for programs of this computer's own user, and for nobody else.
//
// A browser that looks up a name below .localhost tries both loopback addresses, so [Listen]
// takes the port on both: whoever else held one of them would be the same origin to the browser.
// Where the system tells whose program is at the other end of a connection (Linux does), one
// of another user is closed before anything is read from it. Root's are let in: it can read
// everything anyway. Where the system doesn't tell, all programs of the computer are answered,
// and the session's two halves (see package web) are what keeps them out of an open vault.
package loopback

import (
	"errors"
	"fmt"
	"net"
	"os"
	"strconv"
	"sync"
	"syscall"
)

// Owner tells whose program is at the other end of a loopback connection: its user id. ok is
// false where the system doesn't tell.
type Owner func(conn net.Conn) (uid int, ok bool)

// Listen takes a port on each loopback address that the computer has. Port 0 takes one that is
// free on all of them. It fails with an error that wraps syscall.EADDRINUSE if somebody else has
// the port on one of them.
func Listen(port int) (net.Listener, error) { return listen(port, owner) }

func listen(port int, of Owner) (net.Listener, error) {
	four, err := net.Listen("tcp4", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	if err != nil {
		return nil, err
	}
	l := &listener{Listener: four, accepted: make(chan accepted), closed: make(chan struct{}), owner: of}
	l.all = []net.Listener{four}
	six, err := net.Listen("tcp6", net.JoinHostPort("::1", strconv.Itoa(four.Addr().(*net.TCPAddr).Port)))
	switch {
	case err == nil:
		l.all = append(l.all, six)
	case errors.Is(err, syscall.EADDRINUSE):
		_ = four.Close()
		return nil, fmt.Errorf("failed to listen on the other loopback address: %w", err)
	}
	l.tells = tells(four, of)
	for _, one := range l.all {
		go l.serve(one)
	}
	return l, nil
}

// tells reports whether the system tells who is at the other end: it is asked about a
// connection of our own.
func tells(l net.Listener, of Owner) bool {
	conn, err := net.Dial("tcp4", l.Addr().String())
	if err != nil {
		return false
	}
	defer func() { _ = conn.Close() }()
	back, err := l.Accept()
	if err != nil {
		return false
	}
	defer func() { _ = back.Close() }()
	uid, ok := of(back)
	return ok && uid == os.Getuid()
}

type accepted struct {
	conn net.Conn
	err  error
}

type listener struct {
	net.Listener // the first of all
	all          []net.Listener
	accepted     chan accepted
	closed       chan struct{}
	once         sync.Once
	owner        Owner
	tells        bool
}

// serve takes connections on one address until it is closed.
func (l *listener) serve(one net.Listener) {
	for {
		conn, err := one.Accept()
		if err == nil && !l.welcome(conn) {
			_ = conn.Close()
			continue
		}
		select {
		case l.accepted <- accepted{conn, err}:
		case <-l.closed:
			if err == nil {
				_ = conn.Close()
			}
			return
		}
		if errors.Is(err, net.ErrClosed) {
			return
		}
	}
}

func (l *listener) welcome(conn net.Conn) bool {
	if !l.tells {
		return true
	}
	uid, ok := l.owner(conn)
	return ok && (uid == os.Getuid() || uid == 0)
}

func (l *listener) Accept() (net.Conn, error) {
	select {
	case a := <-l.accepted:
		return a.conn, a.err
	case <-l.closed:
		return nil, net.ErrClosed
	}
}

func (l *listener) Close() error {
	var err error
	l.once.Do(func() {
		close(l.closed)
		for _, one := range l.all {
			err = errors.Join(err, one.Close())
		}
	})
	return err
}
