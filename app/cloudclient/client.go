// Package cloudclient is the line from a device to its cloud, over HTTP.
package cloudclient

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"redlocket/app"
	"redlocket/app/outside"
	"redlocket/app/syncing"
	"redlocket/core/keys"
	"redlocket/core/wire"
)

// Client calls one cloud.
type Client struct {
	base string
	http *http.Client
}

const (
	callTime    = 60 * time.Second
	silenceTime = 50 * time.Second // an event line that says nothing for so long is dead
)

// Dial returns a client for the cloud at an address. Nothing is sent yet. Plain
// HTTP is taken for this computer only.
func Dial(address string) (app.Cloud, error) {
	base, client, err := outside.Open(address)
	if err != nil {
		return nil, syncing.ErrCloudURL
	}
	return &Client{base, client}, nil
}

func (c *Client) call(ctx context.Context, method, path, token string, in, out any) error {
	ctx, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	resp, err := c.do(ctx, method, path, token, in)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if out == nil {
		return nil
	}
	if err := json.NewDecoder(io.LimitReader(resp.Body, wire.MaxBody)).Decode(out); err != nil {
		return fmt.Errorf("%w: its answer was cut short", syncing.ErrOffline)
	}
	return nil
}

func (c *Client) do(ctx context.Context, method, path, token string, in any) (*http.Response, error) {
	var body io.Reader
	if raw, ok := in.([]byte); ok {
		body = bytes.NewReader(raw)
	} else if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(b)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, body)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Content-Type", "application/json")
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		return nil, fmt.Errorf("%w (%s)", syncing.ErrOffline, plain(err))
	}
	if resp.StatusCode == http.StatusOK || resp.StatusCode == http.StatusNoContent {
		return resp, nil
	}
	defer resp.Body.Close()
	var e wire.Error
	_ = json.NewDecoder(io.LimitReader(resp.Body, 1<<16)).Decode(&e) // a proxy's page has no code
	switch e.Code {
	case wire.CodeConflict:
		return nil, syncing.ErrConflict
	case wire.CodeSignIn:
		return nil, syncing.ErrSignIn
	case wire.CodeToken:
		return nil, syncing.ErrToken
	case wire.CodeTaken:
		return nil, syncing.ErrTaken
	case wire.CodeTooMany:
		return nil, syncing.ErrTooMany
	case wire.CodeNoChunk:
		return nil, syncing.ErrNoChunk
	case wire.CodeFull:
		return nil, syncing.ErrCloudFull
	case wire.CodeNotReady:
		return nil, syncing.ErrNotReady
	case wire.CodeNotFound:
		return nil, syncing.ErrOver
	case wire.CodeBadRequest:
		return nil, errors.New(e.Message)
	}
	return nil, fmt.Errorf("%w: it answered %d", syncing.ErrCloudSick, resp.StatusCode)
}

// plain says what went wrong on the line without addresses or ports.
func plain(err error) string {
	var op *net.OpError
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		return "no answer in time"
	case errors.As(err, &op) && op.Op == "dial":
		return "nobody answers there"
	}
	return "the line broke"
}

// Params asks how to stretch the master password.
func (c *Client) Params(ctx context.Context, email string) (p keys.Params, err error) {
	if err = c.call(ctx, "POST", "/v1/params", "", wire.ParamsRequest{Email: email}, &p); err == nil {
		err = p.Check()
	}
	return p, err
}

// CreateAccount makes an account and signs this device in.
func (c *Client) CreateAccount(ctx context.Context, in wire.NewAccount) (s wire.Session, err error) {
	return s, c.call(ctx, "POST", "/v1/accounts", "", in, &s)
}

// SignIn signs a device in.
func (c *Client) SignIn(ctx context.Context, in wire.SignIn) (s wire.Session, err error) {
	return s, c.call(ctx, "POST", "/v1/sessions", "", in, &s)
}

// SetCredentials replaces what opens the account.
func (c *Client) SetCredentials(ctx context.Context, token string, in wire.Credentials) error {
	return c.call(ctx, "PUT", "/v1/credentials", token, in, nil)
}

// Changes reads what came after a head.
func (c *Client) Changes(ctx context.Context, token string, since uint64) (out wire.Changes, err error) {
	return out, c.call(ctx, "GET", "/v1/changes?since="+strconv.FormatUint(since, 10), token, nil, &out)
}

// Commit brings a commit.
func (c *Client) Commit(ctx context.Context, token string, in wire.Commit) error {
	return c.call(ctx, "POST", "/v1/commits", token, in, nil)
}

func chunkPath(file string, n int) string {
	return "/v1/files/" + url.PathEscape(file) + "/" + strconv.Itoa(n)
}

// PutChunk brings one sealed chunk of a file.
func (c *Client) PutChunk(ctx context.Context, token, file string, n int, sealed []byte) error {
	return c.call(ctx, "PUT", chunkPath(file, n), token, sealed, nil)
}

// Chunk reads one sealed chunk of a file.
func (c *Client) Chunk(ctx context.Context, token, file string, n int) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	resp, err := c.do(ctx, "GET", chunkPath(file, n), token, nil)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, wire.MaxChunk+1))
	if err != nil || len(b) > wire.MaxChunk {
		return nil, fmt.Errorf("%w: its answer was cut short", syncing.ErrOffline)
	}
	return b, nil
}

// RemoveFile drops a file's chunks.
func (c *Client) RemoveFile(ctx context.Context, token, file string) error {
	return c.call(ctx, "DELETE", "/v1/files/"+url.PathEscape(file), token, nil, nil)
}

// Devices lists the account's sessions.
func (c *Client) Devices(ctx context.Context, token string) (out []wire.Device, err error) {
	return out, c.call(ctx, "GET", "/v1/devices", token, nil, &out)
}

// EndDevice ends a device's session.
func (c *Client) EndDevice(ctx context.Context, token, device string) error {
	return c.call(ctx, "DELETE", "/v1/devices/"+url.PathEscape(device), token, nil, nil)
}

// NewIntroduction leaves a new device's key.
func (c *Client) NewIntroduction(ctx context.Context, in wire.NewIntroduction) (out wire.Introduction, err error) {
	return out, c.call(ctx, "POST", "/v1/introductions", "", in, &out)
}

// IntroductionAnswer asks for the answer to an introduction.
func (c *Client) IntroductionAnswer(ctx context.Context, id, secret string) ([]byte, error) {
	var out wire.Introduction
	err := c.call(
		ctx,
		"POST",
		"/v1/introductions/"+url.PathEscape(id)+"/answer",
		"",
		wire.Introduction{Secret: secret},
		&out,
	)
	return out.Sealed, err
}

// Introductions lists those that wait.
func (c *Client) Introductions(ctx context.Context, token string) (out []wire.Introduction, err error) {
	return out, c.call(ctx, "GET", "/v1/introductions", token, nil, &out)
}

// AnswerIntroduction leaves the answer to one.
func (c *Client) AnswerIntroduction(ctx context.Context, token, id string, sealed []byte) error {
	return c.call(ctx, "PUT", "/v1/introductions/"+url.PathEscape(id), token, wire.Introduction{Sealed: sealed}, nil)
}

// Events reads the cloud's event stream (WHATWG HTML, section 9.2) and calls fn
// with 0 once the line is up, and for every head, until the line breaks or says
// nothing for too long.
func (c *Client) Events(ctx context.Context, token string, fn func(uint64)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	resp, err := c.do(ctx, "GET", "/v1/events", token, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	fn(0)
	alive := time.AfterFunc(silenceTime, cancel)
	defer alive.Stop()
	lines := bufio.NewScanner(resp.Body)
	for lines.Scan() {
		alive.Reset(silenceTime)
		if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
			if n, err := strconv.ParseUint(data, 10, 64); err == nil {
				fn(n)
			}
		}
	}
	return syncing.ErrOffline
}
