// Package cloudclient is the line from a device to its cloud, over HTTP.
package cloudclient

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"redlocket/app"
	"redlocket/app/outside"
	"redlocket/app/syncing"
	"redlocket/core/keys"
	"redlocket/core/wire"
)

// Client calls one cloud.
type Client struct {
	base      string
	authority string // of base, as signatures name it
	http      *http.Client
	behind    atomic.Int64 // of our clock behind the cloud's, nanoseconds
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
	u, err := url.Parse(base)
	if err != nil {
		return nil, syncing.ErrCloudURL
	}
	return &Client{base: base, authority: wire.Authority(u.Scheme, u.Host), http: client}, nil
}

// credential is what a device signs its requests with, as it is kept on it: the account, the device and its key.
type credential struct {
	account, device string
	key             keys.Key
}

func (c credential) String() string {
	return strings.Join([]string{c.account, c.device, base64.RawURLEncoding.EncodeToString(c.key[:])}, ".")
}

func parseCredential(s string) (c credential, err error) {
	parts := strings.Split(s, ".")
	if len(parts) != 3 {
		return c, syncing.ErrSignedOut
	}
	b, err := base64.RawURLEncoding.DecodeString(parts[2])
	if err != nil || len(b) != keys.KeySize {
		return c, syncing.ErrSignedOut
	}
	return credential{parts[0], parts[1], keys.Key(b)}, nil
}

// proof is what makes the proof of a request, where one is needed.
type proof struct {
	key     keys.Key
	purpose string
}

// proofBy is the one that an account's sign-in key makes, or its recovery sign-in key.
func proofBy(key keys.Key, recovery bool) proof {
	if recovery {
		return proof{key, wire.ProofRecovery}
	}
	return proof{key, wire.ProofSignIn}
}

func (c *Client) call(ctx context.Context, method, path, credential string, in, out any) error {
	return c.prove(ctx, method, path, credential, nil, in, out)
}

// prove calls with a proof.
func (c *Client) prove(ctx context.Context, method, path, credential string, p *proof, in, out any) error {
	ctx, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	resp, err := c.do(ctx, method, path, credential, p, in)
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

// do makes a request. One that the cloud refuses for its time is made again by the cloud's clock.
func (c *Client) do(
	ctx context.Context, method, path, credential string, p *proof, in any,
) (*http.Response, error) {
	resp, err := c.try(ctx, method, path, credential, p, in)
	if errors.Is(err, errClock) {
		resp, err = c.try(ctx, method, path, credential, p, in)
	}
	if errors.Is(err, errClock) {
		err = fmt.Errorf("%w: this computer’s clock is wrong", syncing.ErrCloudSick)
	}
	return resp, err
}

// errClock is returned where the cloud's clock is another one; by how much is known then.
var errClock = errors.New("the clocks differ")

func (c *Client) try(
	ctx context.Context, method, path, signed string, p *proof, in any,
) (*http.Response, error) {
	var body []byte
	if raw, ok := in.([]byte); ok {
		body = raw
	} else if in != nil {
		var err error
		if body, err = json.Marshal(in); err != nil {
			return nil, err
		}
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header.Set("Content-Type", "application/json")
	target, digest := req.URL.RequestURI(), wire.Digest(body)
	if signed != "" {
		cred, err := parseCredential(signed)
		if err != nil {
			return nil, err
		}
		wire.Signature{
			Account: cred.account, Device: cred.device, Nonce: rand.Text(),
			Time: time.Now().Add(time.Duration(c.behind.Load())).UnixMilli(),
		}.Sign(cred.key, c.authority, method, target, digest).Set(req.Header, digest)
	}
	if p != nil {
		var drawn wire.Challenge
		if err := c.call(ctx, "POST", "/v1/challenge", "", struct{}{}, &drawn); err != nil {
			return nil, err
		}
		wire.Prove(p.key, p.purpose, drawn.Challenge, c.authority, method, target, digest).Set(req.Header)
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
		return nil, syncing.ErrSignedOut
	case wire.CodeClock:
		if at, err := http.ParseTime(resp.Header.Get("Date")); err == nil {
			c.behind.Store(int64(time.Until(at)))
		}
		return nil, errClock
	case wire.CodeClosed:
		return nil, syncing.ErrClosed
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

// CreateAccount makes an account, known by a key, and signs this device in with a key of its own.
func (c *Client) CreateAccount(ctx context.Context, key keys.Key, in wire.NewAccount) (app.Session, error) {
	own := keys.NewSigning()
	in.DeviceKey = own.Public()
	return c.session(ctx, "/v1/accounts", in.Device, own, proof{key, wire.ProofSignIn}, in)
}

// SignIn signs a device in, with a key of its own from here on. key is the account's sign-in key or, for Recovery, its
// recovery sign-in key.
func (c *Client) SignIn(ctx context.Context, key keys.Key, in wire.SignIn) (app.Session, error) {
	own := keys.NewSigning()
	in.DeviceKey = own.Public()
	return c.session(ctx, "/v1/sessions", in.Device, own, proofBy(key, in.Recovery), in)
}

func (c *Client) session(
	ctx context.Context, path, device string, own keys.Key, p proof, in any,
) (out app.Session, err error) {
	var s wire.Session
	if err := c.prove(ctx, "POST", path, "", &p, in, &s); err != nil {
		return out, err
	}
	return app.Session{
		Credential: credential{s.Account, device, own}.String(), Vault: s.Vault, Params: s.Params, Wrapped: s.Wrapped,
	}, s.Params.Check()
}

// SetCredentials replaces what opens the account. key is its present sign-in key or, for Recovery, its present recovery
// sign-in key.
func (c *Client) SetCredentials(ctx context.Context, credential string, key keys.Key, in wire.NewCredentials) error {
	p := proofBy(key, in.Recovery)
	return c.prove(ctx, "PUT", "/v1/credentials", credential, &p, in, nil)
}

// Epoch returns the statement that began the newest epoch; syncing.ErrOver in the first one.
func (c *Client) Epoch(ctx context.Context, credential string) (out keys.Statement, err error) {
	return out, c.call(ctx, "GET", "/v1/epochs/latest", credential, nil, &out)
}

// BeginEpoch begins one. key is the account's present sign-in key.
func (c *Client) BeginEpoch(ctx context.Context, credential string, key keys.Key, in wire.NewEpoch) error {
	p := proofBy(key, false)
	return c.prove(ctx, "POST", "/v1/epochs", credential, &p, in, nil)
}

// DeleteAccount removes the account, with everything in it. key is its present sign-in key.
func (c *Client) DeleteAccount(ctx context.Context, credential string, key keys.Key) error {
	p := proofBy(key, false)
	return c.prove(ctx, "POST", "/v1/account/delete", credential, &p, struct{}{}, nil)
}

// Changes reads what came after a head.
func (c *Client) Changes(ctx context.Context, credential string, since uint64) (out wire.Changes, err error) {
	return out, c.call(ctx, "GET", "/v1/changes?since="+strconv.FormatUint(since, 10), credential, nil, &out)
}

// Records reads some records as they are now.
func (c *Client) Records(ctx context.Context, credential string, ids []string) (out []wire.Record, err error) {
	return out, c.call(ctx, "POST", "/v1/records/get", credential, wire.Wanted{IDs: ids}, &out)
}

// Commit brings a commit.
func (c *Client) Commit(ctx context.Context, credential string, in wire.Commit) error {
	return c.call(ctx, "POST", "/v1/commits", credential, in, nil)
}

func chunkPath(file string, n int) string {
	return "/v1/files/" + url.PathEscape(file) + "/" + strconv.Itoa(n)
}

// PutChunk brings one sealed chunk of a file.
func (c *Client) PutChunk(ctx context.Context, credential, file string, n int, sealed []byte) error {
	return c.call(ctx, "PUT", chunkPath(file, n), credential, sealed, nil)
}

// Chunk reads one sealed chunk of a file.
func (c *Client) Chunk(ctx context.Context, credential, file string, n int) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	resp, err := c.do(ctx, "GET", chunkPath(file, n), credential, nil, nil)
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
func (c *Client) RemoveFile(ctx context.Context, credential, file string) error {
	return c.call(ctx, "DELETE", "/v1/files/"+url.PathEscape(file), credential, nil, nil)
}

// Devices lists the account's sessions.
func (c *Client) Devices(ctx context.Context, credential string) (out []wire.Device, err error) {
	return out, c.call(ctx, "GET", "/v1/devices", credential, nil, &out)
}

// EndDevice ends a device's session.
func (c *Client) EndDevice(ctx context.Context, credential, device string) error {
	return c.call(ctx, "DELETE", "/v1/devices/"+url.PathEscape(device), credential, nil, nil)
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
func (c *Client) Introductions(ctx context.Context, credential string) (out []wire.Introduction, err error) {
	return out, c.call(ctx, "GET", "/v1/introductions", credential, nil, &out)
}

// AnswerIntroduction leaves the answer to one.
func (c *Client) AnswerIntroduction(ctx context.Context, credential, id string, sealed []byte) error {
	in := wire.Introduction{Sealed: sealed}
	return c.call(ctx, "PUT", "/v1/introductions/"+url.PathEscape(id), credential, in, nil)
}

// Events reads the cloud's event stream (WHATWG HTML, section 9.2) and calls fn
// with 0 once the line is up, and for every head, until the line breaks or says
// nothing for too long.
func (c *Client) Events(ctx context.Context, credential string, fn func(uint64)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	resp, err := c.do(ctx, "GET", "/v1/events", credential, nil, nil)
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
