// Package siteclient asks kept sites what they publish about themselves, under
// /.well-known/. Nothing of the vault is sent, not even a cookie.
package siteclient

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"redlocket/app/outside"
	"redlocket/core/site"
)

// Client asks sites. Its zero value isn't usable; see New.
type Client struct{ http *http.Client }

const (
	askTime   = 4 * time.Second
	maxAnswer = 512 << 10
)

var errLedAway = errors.New("the site leads to another one")

// New returns a client.
func New() *Client {
	t := outside.Transport(askTime)
	return &Client{
		&http.Client{Transport: t, Timeout: askTime, CheckRedirect: func(r *http.Request, via []*http.Request) error {
			if len(via) > 4 || site.Domain(r.URL.String()) != site.Domain(via[0].URL.String()) {
				return errLedAway
			}
			return nil
		}},
	}
}

// Get returns the status and the body of an address. Redirects are followed within the
// site; what is longer than half a megabyte is refused.
func (c *Client) Get(ctx context.Context, url string) (status int, body []byte, err error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return 0, nil, err
	}
	resp, err := c.http.Do(req)
	if err != nil {
		return 0, nil, fmt.Errorf("failed to ask the site: %w", err)
	}
	defer resp.Body.Close()
	body, err = io.ReadAll(io.LimitReader(resp.Body, maxAnswer+1))
	if err == nil && len(body) > maxAnswer {
		err = errors.New("the site's answer is too long")
	}
	return resp.StatusCode, body, err
}
