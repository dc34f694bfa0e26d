package gateway

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"syscall"
	"time"
)

// A Client asks the control API of one gateway. It is safe for use by several goroutines.
type Client struct {
	Gateway  string
	Former   string // what it may be called in what it runs; else empty
	Endpoint Endpoint
	base     string
	token    string
	http     *http.Client
	heeded   time.Duration
	Waiting  func(what string, since time.Duration) // is told now and then what the gateway works at; nil is nobody
}

// NewClient returns a client of a gateway.
func NewClient(gateway string, e Endpoint) (*Client, error) {
	tokens, err := e.ReadTokens()
	if err != nil {
		return nil, fmt.Errorf("%s: %w", gateway, err)
	}
	token := ""
	if len(tokens) > 0 {
		token = tokens[0].Word
	}
	t, err := e.transport()
	if err != nil {
		return nil, fmt.Errorf("%s: %w", gateway, err)
	}
	c := &Client{Gateway: gateway, Endpoint: e, base: "https://" + e.Address, token: token, http: &http.Client{Transport: t}, heeded: heeded}
	if e.Socket != "" {
		c.base = "http://gateway"
	}
	return c, nil
}

func dialSocket(d *net.Dialer, path string) func(context.Context, string, string) (net.Conn, error) {
	return func(ctx context.Context, _, _ string) (net.Conn, error) { return d.DialContext(ctx, "unix", path) }
}

// An Absent gateway does not answer.
type Absent struct{ err error }

func (a Absent) Error() string { return a.err.Error() }

// A Refusal is what a gateway said instead of doing what it was asked.
type Refusal struct {
	Gateway  string
	Status   int
	Message  string
	Revision *Revision // in force, where that is why
}

func (r *Refusal) Error() string { return r.Gateway + ": " + r.Message }

// mostAnswer is how long an answer may be.
const mostAnswer = 1 << 30

// call sends a request and reads its answer into result, where that is not nil.
func (c *Client) call(ctx context.Context, method, path string, query url.Values, body, result any) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	response, err := c.send(ctx, cancel, method, path, query, body)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if result == nil {
		return nil
	}
	err = json.NewDecoder(io.LimitReader(c.keptUp(response.Body, cancel), mostAnswer)).Decode(result)
	switch {
	case errors.Is(context.Cause(ctx), errSlow):
		return c.absent(errSlow)
	case err != nil:
		return fmt.Errorf("%s: its answer can't be read: %w", c.Gateway, err)
	}
	return nil
}

// errSlow is why a gateway is not waited for any longer.
var errSlow = fmt.Errorf("next to nothing came from it for %d seconds", heeded/time.Second)

const (
	heeded    = 10 * time.Second // until an answer begins, and between two looks at how much of it has come
	leastPace = 64 << 10         // bytes between two such looks
)

// takesWork are the calls that a gateway may work on for long before it answers: it is asked meanwhile whether it does.
var takesWork = map[string]bool{"/v1/prepare": true, "/v1/commit": true, "/v1/undo": true, backupCall: true, restoreCall: true}

// keptUp reads an answer, and gives up on one that trickles.
func (c *Client) keptUp(body io.Reader, giveUp context.CancelCauseFunc) io.Reader {
	return &pacedReader{Reader: body, every: c.heeded, timer: time.AfterFunc(c.heeded, func() { giveUp(errSlow) })}
}

type pacedReader struct {
	io.Reader
	every time.Duration
	since int // bytes
	timer *time.Timer
}

func (p *pacedReader) Read(b []byte) (n int, err error) {
	n, err = p.Reader.Read(b)
	if p.since += n; p.since >= leastPace || err != nil {
		p.timer.Stop()
		if err == nil {
			p.since = 0
			p.timer.Reset(p.every)
		}
	}
	return n, err
}

// send sends a request and returns its answer where it is a good one.
func (c *Client) send(ctx context.Context, giveUp context.CancelCauseFunc, method, path string, query url.Values, body any) (*http.Response, error) {
	data, isFile := body.(io.Reader)
	if body != nil && !isFile {
		text, err := json.Marshal(body)
		if err != nil {
			return nil, err
		}
		data = bytes.NewReader(text)
	}
	target := c.base + path
	if len(query) > 0 {
		target += "?" + query.Encode()
	}
	request, err := http.NewRequestWithContext(ctx, method, target, data)
	if err != nil {
		return nil, err
	}
	if body != nil && !isFile {
		request.Header.Set("Content-Type", "application/json")
	}
	if c.token != "" {
		request.Header.Set("Authorization", "Bearer "+c.token)
	}
	answered := c.await(ctx, path, giveUp)
	response, err := c.http.Do(request)
	answered()
	if errors.Is(context.Cause(ctx), errSlow) {
		err = errSlow
	}
	if err != nil {
		return nil, c.absent(err)
	}
	if response.StatusCode/100 == 2 {
		return response, nil
	}
	defer response.Body.Close()
	var said Conflict
	text, _ := io.ReadAll(io.LimitReader(c.keptUp(response.Body, giveUp), 1<<20))
	if json.Unmarshal(text, &said) != nil || said.Error == "" {
		said.Error = "it answers " + response.Status
	}
	return nil, &Refusal{c.Gateway, response.StatusCode, said.Error, said.Revision}
}

// await gives a call up whose answer does not begin in time, until the function that it returns is called. A call that the gateway has to work
// for takes as long as it says that it works.
func (c *Client) await(ctx context.Context, path string, giveUp context.CancelCauseFunc) (answered func()) {
	if !takesWork[path] {
		timer := time.AfterFunc(c.heeded, func() { giveUp(errSlow) })
		return func() { timer.Stop() }
	}
	ctx, cancel := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		began, idle := time.Now(), 0
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(c.heeded / 10):
			}
			status, err := c.Status(ctx)
			switch {
			case ctx.Err() != nil:
				return
			case err != nil:
				giveUp(errSlow)
				return
			case status.Working == "":
				if idle++; idle >= 10 { // it has the call, or will never have it
					giveUp(errSlow)
					return
				}
			default:
				if idle = 0; c.Waiting != nil {
					c.Waiting(status.Working, time.Since(began))
				}
			}
		}
	}()
	return func() { cancel(); <-done }
}

// absent says why a gateway does not answer, and what to do.
func (c *Client) absent(err error) error {
	var outer *url.Error
	if errors.As(err, &outer) {
		err = outer.Err
	}
	what := fmt.Sprintf("%s does not answer at %s: %v", c.Gateway, c.Endpoint, err)
	switch {
	case errors.Is(err, context.Canceled):
		return err
	case errors.Is(err, os.ErrNotExist), errors.Is(err, syscall.ECONNREFUSED):
		what = fmt.Sprintf("%s is not running: nobody answers at %s; start it with hollowbridge gateway %s -state FOLDER", c.Gateway, c.Endpoint, c.Gateway)
	case errors.Is(err, os.ErrPermission):
		what = fmt.Sprintf("%s: you may not use %s; only the user that runs the gateway may", c.Gateway, c.Endpoint)
	}
	return Absent{errors.New(what)}
}

// Status asks what the gateway says of itself.
func (c *Client) Status(ctx context.Context) (s Status, err error) {
	return s, c.call(ctx, http.MethodGet, "/v1/status", nil, nil, &s)
}

// Revisions asks for all revisions, the latest first.
func (c *Client) Revisions(ctx context.Context) (list []Revision, err error) {
	return list, c.call(ctx, http.MethodGet, "/v1/revisions", nil, nil, &list)
}

// Revision asks for a revision with its text; 0 is the one in force.
func (c *Client) Revision(ctx context.Context, number int) (r Revision, err error) {
	return r, c.call(ctx, http.MethodGet, "/v1/revisions/"+strconv.Itoa(number), nil, nil, &r)
}

// Prepare asks the gateway to get ready for a network.
func (c *Client) Prepare(ctx context.Context, p Proposal) (made Prepared, err error) {
	return made, c.call(ctx, http.MethodPost, "/v1/prepare", nil, p, &made)
}

// Commit puts what was prepared into force.
func (c *Client) Commit(ctx context.Context, what Commit) (made Committed, err error) {
	return made, c.call(ctx, http.MethodPost, "/v1/commit", nil, what, &made)
}

// Keep makes the revision in force stay.
func (c *Client) Keep(ctx context.Context) error {
	return c.call(ctx, http.MethodPost, "/v1/keep", nil, nil, nil)
}

// Forget takes a proposal back, whatever has become of it, unless the apply that it is of was confirmed.
func (c *Client) Forget(ctx context.Context, token, note string) error {
	return c.call(ctx, http.MethodPost, "/v1/undo", nil, Undo{Token: token, Note: note}, nil)
}

// Backup writes a backup of the gateway's state.
func (c *Client) Backup(ctx context.Context, w io.Writer) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	response, err := c.send(ctx, cancel, http.MethodPost, backupCall, nil, nothing{})
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if n, err := io.Copy(w, c.keptUp(response.Body, cancel)); err != nil || n != response.ContentLength {
		return fmt.Errorf("%s: the backup breaks off after %d bytes of %d: %w", c.Gateway, n, response.ContentLength, cmp.Or(context.Cause(ctx), err, io.ErrUnexpectedEOF))
	}
	return nil
}

// Restore gives the gateway a backup, with which it starts again.
func (c *Client) Restore(ctx context.Context, r io.Reader) error {
	return c.call(ctx, http.MethodPost, restoreCall, nil, r, nil)
}

// Confirm says that all gateways of an apply have it or, with whole, that it stays everywhere.
func (c *Client) Confirm(ctx context.Context, id string, whole bool) error {
	return c.call(ctx, http.MethodPost, "/v1/confirm", nil, Confirm{id, whole}, nil)
}

// Sessions asks for the sessions that match.
func (c *Client) Sessions(ctx context.Context, query url.Values) (s Sessions, err error) {
	return s, c.call(ctx, http.MethodGet, "/v1/sessions", query, nil, &s)
}

// EndSessions ends the sessions that match.
func (c *Client) EndSessions(ctx context.Context, query url.Values) (done Ended, err error) {
	return done, c.call(ctx, http.MethodDelete, "/v1/sessions", query, nil, &done)
}

// Hits asks what the rules have counted.
func (c *Client) Hits(ctx context.Context) (h Hits, err error) {
	return h, c.call(ctx, http.MethodGet, "/v1/hits", nil, nil, &h)
}

// Pools returns what source-nat rules have of their ports.
func (c *Client) Pools(ctx context.Context) (p Pools, err error) {
	return p, c.call(ctx, http.MethodGet, "/v1/pools", nil, nil, &p)
}

// ResetHits makes the rules count from nothing.
func (c *Client) ResetHits(ctx context.Context) error {
	return c.call(ctx, http.MethodDelete, "/v1/hits", nil, nil, nil)
}

// Log asks for events that match.
func (c *Client) Log(ctx context.Context, query url.Values) (l Log, err error) {
	return l, c.call(ctx, http.MethodGet, "/v1/log", query, nil, &l)
}

// Follow calls a function with events that match as they come, until the context ends.
func (c *Client) Follow(ctx context.Context, query url.Values, each func(*Event) error) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	response, err := c.send(ctx, cancel, http.MethodGet, "/v1/log/follow", query, nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	lines := bufio.NewScanner(response.Body)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		if len(lines.Bytes()) == 0 {
			continue // a sign of life
		}
		var e Event
		if err := json.Unmarshal(lines.Bytes(), &e); err != nil {
			return fmt.Errorf("%s: an event can't be read: %w", c.Gateway, err)
		}
		if err := each(&e); err != nil {
			return err
		}
	}
	if ctx.Err() != nil {
		return nil
	}
	if err := lines.Err(); err != nil {
		return c.absent(err)
	}
	return Absent{fmt.Errorf("%s has stopped", c.Gateway)}
}

// Try logs one rule for a while.
func (c *Client) Try(ctx context.Context, t Trial) error {
	return c.call(ctx, http.MethodPost, "/v1/trial", nil, t, nil)
}

// Mappings asks for the mappings that programs have, and what waits.
func (c *Client) Mappings(ctx context.Context) (m Mappings, err error) {
	return m, c.call(ctx, http.MethodGet, "/v1/mappings", nil, nil, &m)
}

// RemoveMapping ends the mappings of a name.
func (c *Client) RemoveMapping(ctx context.Context, name, who string) error {
	return c.call(ctx, http.MethodDelete, "/v1/mappings", url.Values{"name": {name}, "who": {who}}, nil, nil)
}

// Settle approves or refuses a wish that waits.
func (c *Client) Settle(ctx context.Context, s Settlement) error {
	return c.call(ctx, http.MethodPost, "/v1/mappings/settle", nil, s, nil)
}

// Block blocks machines, or lets them ask again.
func (c *Client) Block(ctx context.Context, b Block) error {
	return c.call(ctx, http.MethodPost, "/v1/mappings/block", nil, b, nil)
}

// TryMapping asks what would become of a wish.
func (c *Client) TryMapping(ctx context.Context, t MappingTrial) (v MappingVerdict, err error) {
	return v, c.call(ctx, http.MethodPost, "/v1/mappings/try", nil, t, &v)
}

// Decide puts packets before a simulated gateway, one after the other.
func (c *Client) Decide(ctx context.Context, list []Arriving) (decided []Decided, err error) {
	return decided, c.call(ctx, http.MethodPost, "/v1/packets", nil, list, &decided)
}

// seconds returns a duration as the API has it.
func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }
