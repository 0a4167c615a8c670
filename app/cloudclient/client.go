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

// silenceTime is how long a line may carry nothing, in either direction: then it is dead. A slow one may take its time.
const silenceTime = 50 * time.Second

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
	return c.answer(ctx, method, path, credential, p, in, func(r io.Reader) error {
		if out == nil {
			return nil
		}
		return json.NewDecoder(io.LimitReader(r, wire.MaxPart)).Decode(out)
	})
}

// answer calls, and hands the answer to read. It breaks off where the line carries nothing for too long.
func (c *Client) answer(
	ctx context.Context, method, path, credential string, p *proof, in any, read func(io.Reader) error,
) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	silent := time.AfterFunc(silenceTime, cancel)
	defer silent.Stop()
	resp, err := c.do(context.WithValue(ctx, silentKey{}, silent), method, path, credential, p, in)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if err := read(heard{resp.Body, silent}); err != nil {
		return fmt.Errorf("%w: its answer was cut short", syncing.ErrOffline)
	}
	return nil
}

type silentKey struct{}

// heard is a reader that notes that the line carried something.
type heard struct {
	from   io.Reader
	silent *time.Timer
}

func (h heard) Read(b []byte) (int, error) {
	n, err := h.from.Read(b)
	if n > 0 {
		h.silent.Reset(silenceTime)
	}
	return n, err
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
	if silent, ok := ctx.Value(silentKey{}).(*time.Timer); ok && len(body) > 0 {
		req.Body = io.NopCloser(heard{bytes.NewReader(body), silent})
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
	case wire.CodeInvitation:
		return nil, syncing.ErrInvitation
	case wire.CodeNoMail:
		return nil, syncing.ErrNoMail
	case wire.CodeProof:
		return nil, syncing.ErrCode
	case wire.CodeTooMany:
		return nil, syncing.ErrTooMany
	case wire.CodeNoChunk:
		return nil, syncing.ErrNoChunk
	case wire.CodeManyLetters:
		return nil, syncing.ErrManyLetters
	case wire.CodeNoRoom:
		return nil, syncing.ErrNoRoom
	case wire.CodeManySets:
		return nil, syncing.ErrManySets
	case wire.CodeFull:
		return nil, syncing.ErrCloudFull
	case wire.CodeNotReady:
		return nil, syncing.ErrNotReady
	case wire.CodeEarly:
		return nil, syncing.ErrEarly
	case wire.CodeWaits:
		return nil, syncing.ErrWaits
	case wire.CodeNotFound:
		return nil, syncing.ErrOver
	case wire.CodeBadRequest: // its own words are nobody's on this device
		return nil, errRefused
	}
	return nil, fmt.Errorf("%w: it answered %d", syncing.ErrCloudSick, resp.StatusCode)
}

var errRefused = fmt.Errorf("%w: it doesn’t take what this device sent, and may be of another version",
	syncing.ErrCloudSick)

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

// AskCode has a code mailed to the account's address. The answer doesn't say whether one was.
func (c *Client) AskCode(ctx context.Context, in wire.CodeRequest) error {
	return c.call(ctx, "POST", "/v1/codes", "", in, nil)
}

// BringBack puts former keys of the account into force, and signs this device in with a key of its own. key is the
// former sign-in key or, for Recovery, the former recovery sign-in key.
func (c *Client) BringBack(ctx context.Context, key keys.Key, in wire.BringBack) (app.Session, error) {
	own := keys.NewSigning()
	in.DeviceKey = own.Public()
	return c.session(ctx, "/v1/accounts/bring-back", in.Device, own, proofBy(key, in.Recovery), in)
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

// SetLateKeys tells the public late keys of this device. key is the account's present sign-in key.
func (c *Client) SetLateKeys(ctx context.Context, credential string, key keys.Key, publics [][]byte) error {
	p := proofBy(key, false)
	return c.prove(ctx, "PUT", "/v1/late/keys", credential, &p, wire.LateKeys{Keys: publics}, nil)
}

// AskLate has new credentials wait.
func (c *Client) AskLate(
	ctx context.Context, credential string, late keys.Key, in wire.LateCredentials,
) (out wire.Late, err error) {
	return out, c.prove(ctx, "POST", "/v1/late", credential, &proof{late, wire.ProofLate}, in, &out)
}

// Late tells what waits.
func (c *Client) Late(ctx context.Context, credential string) (out wire.Late, err error) {
	return out, c.call(ctx, "GET", "/v1/late", credential, nil, &out)
}

// StopLate ends what waits.
func (c *Client) StopLate(ctx context.Context, credential string) error {
	return c.call(ctx, "DELETE", "/v1/late", credential, nil, nil)
}

// TakeLate brings what has waited into force; syncing.ErrOver if nothing waits.
func (c *Client) TakeLate(ctx context.Context, credential string, late keys.Key, in wire.TakeLate) error {
	return c.prove(ctx, "POST", "/v1/late/take", credential, &proof{late, wire.ProofLate}, in, nil)
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

// Changes reads what came after a head: in parts, of which none is asked for again once it is here. Where others commit
// meanwhile, what they did is in it.
func (c *Client) Changes(ctx context.Context, credential string, since uint64) (out wire.Changes, err error) {
	return c.changes(ctx, "/v1/changes", credential, since)
}

// changes reads them from a path: of the account, or of a shared set.
func (c *Client) changes(
	ctx context.Context, base, credential string, since uint64,
) (out wire.Changes, err error) {
	at, budget, newest := since, wire.MaxPull, map[string]wire.Record{}
	const rounds = 10
	for i := range rounds {
		epoch := out.Epoch
		if err := c.round(ctx, base, credential, at, &out, newest, &budget); err != nil {
			return wire.Changes{}, err
		}
		if i > 0 && out.Epoch != epoch {
			return wire.Changes{}, syncing.ErrConflict
		}
		n := len(out.Heads)
		if n == 0 || out.Heads[n-1].Number >= out.Latest || out.Heads[n-1].Number <= at {
			break
		}
		at = out.Heads[n-1].Number
	}
	for _, r := range newest {
		out.Records = append(out.Records, r)
	}
	return out, nil
}

// round reads all parts of what came after a head.
func (c *Client) round(
	ctx context.Context, base, credential string, since uint64, out *wire.Changes, newest map[string]wire.Record,
	budget *int,
) error {
	for from, first := "", true; first || from != ""; first = false {
		part, err := c.part(ctx, base, credential, since, from)
		if err != nil {
			return err
		}
		if !first && part.Epoch != out.Epoch { // of another state
			return syncing.ErrConflict
		}
		out.Latest, out.Tip, out.Epoch = part.Latest, part.Tip, part.Epoch
		out.Heads = append(out.Heads, part.Heads...)
		for _, h := range part.Heads {
			*budget -= len(h.Blob) + 64
		}
		for _, r := range part.Records {
			*budget -= len(r.Blob) + 128
			if was, ok := newest[r.ID]; !ok || r.Rev > was.Rev {
				newest[r.ID] = r
			}
		}
		if *budget -= 1 << 10; *budget < 0 || part.More == from && !first {
			return errTooMuch
		}
		from = part.More
	}
	return nil
}

var errTooMuch = fmt.Errorf("%w: it sends more than a vault can be", syncing.ErrCloudSick)

// part reads one part. A line that breaks between two parts is taken up again.
func (c *Client) part(
	ctx context.Context, base, credential string, since uint64, from string,
) (p wire.Changes, err error) {
	path := base + "?since=" + strconv.FormatUint(since, 10)
	if from != "" {
		path += "&from=" + url.QueryEscape(from)
	}
	const tries = 5
	for i := range tries {
		p = wire.Changes{}
		err = c.answer(ctx, "GET", path, credential, nil, nil, func(r io.Reader) error { return readChanges(r, &p) })
		if from == "" || !errors.Is(err, syncing.ErrOffline) {
			break
		}
		select {
		case <-ctx.Done():
			return p, err
		case <-time.After(retryAfter << i):
		}
	}
	return p, err
}

// retryAfter is how long the first wait is before a part is asked for again.
var retryAfter = 250 * time.Millisecond

// readChanges decodes a part as it comes: of no more bytes and pieces than one may have, so that a cloud can't make a
// device hold much more than it sends.
func readChanges(r io.Reader, p *wire.Changes) error {
	d := json.NewDecoder(io.LimitReader(r, wire.MaxPart))
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return errors.Join(err, errShape)
	}
	pieces := 0
	for d.More() {
		name, err := d.Token()
		if err != nil {
			return err
		}
		switch name {
		case "latest":
			err = d.Decode(&p.Latest)
		case "tip":
			err = d.Decode(&p.Tip)
		case "epoch":
			err = d.Decode(&p.Epoch)
		case "more":
			err = d.Decode(&p.More)
		case "heads":
			err = readList(d, &p.Heads, &pieces)
		case "records":
			err = readList(d, &p.Records, &pieces)
		default:
			err = d.Decode(&json.RawMessage{})
		}
		if err != nil {
			return err
		}
	}
	_, err := d.Token()
	return err
}

var errShape = errors.New("this isn't what was asked for")

func readList[T any](d *json.Decoder, to *[]T, pieces *int) error {
	t, err := d.Token()
	if err != nil || t == nil { // null
		return err
	}
	if t != json.Delim('[') {
		return errShape
	}
	for d.More() {
		if *pieces++; *pieces > wire.MaxInPart {
			return errShape
		}
		var x T
		if err := d.Decode(&x); err != nil {
			return err
		}
		*to = append(*to, x)
	}
	_, err = d.Token()
	return err
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
func (c *Client) Chunk(ctx context.Context, credential, file string, n int) (b []byte, err error) {
	return c.chunk(ctx, credential, chunkPath(file, n))
}

func (c *Client) chunk(ctx context.Context, credential, path string) (b []byte, err error) {
	err = c.answer(ctx, "GET", path, credential, nil, nil, func(r io.Reader) (err error) {
		if b, err = io.ReadAll(io.LimitReader(r, wire.MaxChunk+1)); err == nil && len(b) > wire.MaxChunk {
			err = errShape
		}
		return err
	})
	return b, err
}

// Files lists the files of which the cloud has chunks.
func (c *Client) Files(ctx context.Context, credential string) (out []wire.StoredFile, err error) {
	return out, c.call(ctx, "GET", "/v1/files", credential, nil, &out)
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
func (c *Client) IntroductionAnswer(ctx context.Context, email, id, secret string) ([]byte, error) {
	var out wire.Introduction
	err := c.call(
		ctx,
		"POST",
		"/v1/introductions/"+url.PathEscape(id)+"/answer",
		"",
		wire.Introduction{Email: email, Secret: secret},
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

func letterPath(id string) string { return "/v1/letters/" + url.PathEscape(id) }

// PutLetter hands a letter over; syncing.ErrManyLetters if too many wait.
func (c *Client) PutLetter(ctx context.Context, credential, id string, in wire.NewLetter) error {
	return c.call(ctx, "PUT", letterPath(id), credential, in, nil)
}

// Letters lists what waits for the account, without what is in it.
func (c *Client) Letters(ctx context.Context, credential string) (out []wire.Letter, err error) {
	return out, c.call(ctx, "GET", "/v1/letters", credential, nil, &out)
}

// Letter returns one.
func (c *Client) Letter(ctx context.Context, credential, id string) (out wire.Letter, err error) {
	return out, c.call(ctx, "GET", letterPath(id), credential, nil, &out)
}

// RemoveLetter removes one that was received.
func (c *Client) RemoveLetter(ctx context.Context, credential, id string) error {
	return c.call(ctx, "DELETE", letterPath(id), credential, nil, nil)
}

// TakeLetterBack removes one that was handed over for an address, if it is still there.
func (c *Client) TakeLetterBack(ctx context.Context, credential, id, to string) error {
	return c.call(ctx, "POST", letterPath(id)+"/take-back", credential, wire.TakeBack{To: to}, nil)
}

// LetterMail says whether the cloud mails that letters wait.
func (c *Client) LetterMail(ctx context.Context, credential string) (on bool, err error) {
	var out wire.LetterMail
	return out.On, c.call(ctx, "GET", "/v1/letters/mail", credential, nil, &out)
}

// SetLetterMail says whether it may.
func (c *Client) SetLetterMail(ctx context.Context, credential string, on bool) error {
	return c.call(ctx, "PUT", "/v1/letters/mail", credential, wire.LetterMail{On: on}, nil)
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
