// Package outside is how adapters reach services on the internet: over HTTPS, or plain HTTP on this computer only.
package outside

import (
	"context"
	"errors"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// ErrAddress is returned for what is no address of a service.
var ErrAddress = errors.New("this is no address of a service")

// Open reads a service's address and returns it without a slash at its end, and a client for it,
// which follows no redirects. Nothing is sent yet.
func Open(address string) (base string, c *http.Client, err error) {
	u, err := url.Parse(strings.TrimSpace(address))
	if err != nil || u.Host == "" || u.User != nil || u.RawQuery != "" || u.Fragment != "" {
		return "", nil, ErrAddress
	}
	if u.Scheme != "https" && !(u.Scheme == "http" && Loopback(u.Hostname())) {
		return "", nil, ErrAddress
	}
	const dialTime = 10 * time.Second
	t := Transport(dialTime)
	if Loopback(u.Hostname()) {
		t.Proxy = nil
	}
	c = &http.Client{Transport: t}
	c.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse } // followed nowhere
	return strings.TrimSuffix(u.String(), "/"), c, nil
}

// Transport returns a transport that finds names under .localhost on this computer (RFC 6761, section 6.3), whatever
// the system's resolver says. It takes nothing compressed: what a service makes us read, it has to send.
func Transport(dialTime time.Duration) *http.Transport {
	dialer := &net.Dialer{Timeout: dialTime}
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.DisableCompression = true
	t.DialContext = func(ctx context.Context, network, addr string) (net.Conn, error) {
		if host, port, err := net.SplitHostPort(addr); err == nil && strings.HasSuffix(host, ".localhost") {
			addr = net.JoinHostPort("127.0.0.1", port)
		}
		return dialer.DialContext(ctx, network, addr)
	}
	return t
}

// Loopback reports whether a host is this computer.
func Loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || strings.HasSuffix(host, ".localhost") || ip != nil && ip.IsLoopback()
}
