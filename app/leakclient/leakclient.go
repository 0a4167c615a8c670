// Package leakclient asks a leak service, over HTTP.
package leakclient

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"time"

	"redlocket/app/auditing"
	"redlocket/app/outside"
	"redlocket/core/leaks"
)

// Client asks leak services: GET /range/ABCDE, GET /key and POST /lookup. Its zero value is ready. Redirects aren't
// followed, no cookie is kept, and no name of a program is told.
type Client struct{}

const (
	askTime   = 20 * time.Second
	maxAnswer = 64 << 20
)

// Key returns the service's public key.
func (c Client) Key(ctx context.Context, service string) ([]byte, error) {
	var key leaks.ServiceKey
	return key.Key, c.json(ctx, service, http.MethodGet, "/key", nil, &key)
}

// LookUp asks for things.
func (c Client) LookUp(ctx context.Context, service string, req leaks.Request) (a leaks.Answer, err error) {
	return a, c.json(ctx, service, http.MethodPost, "/lookup", req, &a)
}

// Range asks for the leaked passwords whose hashes begin with a prefix.
func (c Client) Range(ctx context.Context, service, prefix string) (io.Reader, error) {
	b, err := c.ask(ctx, service, http.MethodGet, "/range/"+prefix, nil)
	return bytes.NewReader(b), err
}

func (c Client) json(ctx context.Context, service, method, path string, in, out any) error {
	var body []byte
	if in != nil {
		var err error
		if body, err = json.Marshal(in); err != nil {
			return err
		}
	}
	b, err := c.ask(ctx, service, method, path, body)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(b, out); err != nil {
		return fmt.Errorf("%w: %w", auditing.ErrServiceAnswer, err)
	}
	return nil
}

func (c Client) ask(ctx context.Context, service, method, path string, body []byte) ([]byte, error) {
	base, client, err := outside.Open(service)
	if err != nil {
		return nil, err
	}
	defer client.CloseIdleConnections()
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, method, base+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header.Set("User-Agent", "")
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	resp, err := client.Do(req)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", auditing.ErrServiceAway, err)
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("%w: it answered %d", auditing.ErrServiceAnswer, resp.StatusCode)
	}
	b, err := io.ReadAll(io.LimitReader(resp.Body, maxAnswer+1))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", auditing.ErrServiceAway, err)
	}
	if len(b) > maxAnswer {
		return nil, auditing.ErrServiceAnswer
	}
	return b, nil
}
