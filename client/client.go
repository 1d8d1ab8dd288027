package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"strings"

	"oakenlatch/wire"
)

// Options say which service is asked, and as whom.
type Options struct {
	Server string // http://HOST:PORT or https://HOST:PORT
	Token  string // of a session or of a machine; "" is nobody
	Pin    string // of the service's key, where a person accepted it; "" trusts what this machine trusts

	// HTTP speaks to the service instead of one that this package makes; Pin is not looked at then.
	HTTP *http.Client

	// Anew is asked where the service wants the second factor shown once more (wire.Second.Anew) before it does
	// something grave. It shows it by a call of the client it is given; the request is then made again. nil: the
	// *wire.Problem is the error.
	Anew func(context.Context, *Client, *wire.Second) error

	// Stale is told where the service's records cannot be read and what it answers is what it read last. nil: not.
	Stale func(why string)
}

// Client asks one service. Its methods may be called from several goroutines.
type Client struct {
	options Options
	http    *http.Client
	tag     string
}

// New gives a client; it asks nothing yet.
func New(o Options) (*Client, error) {
	o.Server = strings.TrimRight(o.Server, "/")
	u, err := url.Parse(o.Server)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.RawQuery != "" || u.Fragment != "" {
		return nil, fmt.Errorf("server %q is no address; write it like http://127.0.0.1:8640", o.Server)
	}
	c := &Client{options: o, http: o.HTTP}
	if c.http == nil {
		c.http = speaking(o)
	}
	return c, nil
}

// As gives a client of the same service with another token.
func (c *Client) As(token string) *Client {
	as := *c
	as.options.Token = token
	return &as
}

// IfTag gives a client whose requests are refused (wire's problem moved) where the part, or the version, is another
// by now than the one that had this tag (If-Match, RFC 9110 section 13.1.1). "" does not matter.
func (c *Client) IfTag(tag string) *Client {
	with := *c
	with.tag = tag
	return &with
}

// Unreachable is the error where the service did not answer, or something else did.
type Unreachable struct {
	Server string
	Err    error
}

func (e *Unreachable) Error() string {
	return fmt.Sprintf(
		"the service at %s cannot be reached: %v; check that it runs and that the address is right", e.Server, e.Err,
	)
}

func (e *Unreachable) Unwrap() error { return e.Err }

// Is reports whether an error is a refusal of a kind, by the last word of its type (wire.ProblemPrefix): "moved",
// "conflict", "not-found" and so on.
func Is(err error, kind string) bool {
	var p *wire.Problem
	return errors.As(err, &p) && p.Type == wire.ProblemPrefix+kind
}

// Download is an answer that is no document. Body is the caller's to close.
type Download struct {
	Type string // media type
	Name string // that the service gives it as a file; "" where it gives none
	Body io.ReadCloser
}

// request is one that is made of the service.
type request struct {
	method, path string
	query        url.Values
	in           any       // a document; nil is none
	body         io.Reader // instead of one
	takes        string    // media type of body
	last         string    // of a stream: the event to go on behind
}

// ask makes a request and reads the document it is answered with into out; nil is not read.
func (c *Client) ask(ctx context.Context, r request, out any) error {
	res, err := c.answer(ctx, r)
	if err != nil {
		return err
	}
	defer func() { _ = res.Body.Close() }()
	if out == nil || res.StatusCode == http.StatusNoContent {
		return nil
	}
	if err := json.NewDecoder(res.Body).Decode(out); err != nil {
		return &Unreachable{c.options.Server, fmt.Errorf("its answer cannot be read: %w", err)}
	}
	return nil
}

// download makes a request whose answer is no document.
func (c *Client) download(ctx context.Context, r request) (*Download, error) {
	res, err := c.answer(ctx, r)
	if err != nil {
		return nil, err
	}
	d := &Download{Type: res.Header.Get("Content-Type"), Body: res.Body}
	if _, params, err := mime.ParseMediaType(res.Header.Get("Content-Disposition")); err == nil {
		d.Name = params["filename"]
	}
	return d, nil
}

// answer makes a request, and again where a second factor was shown in between. What says no is the error.
func (c *Client) answer(ctx context.Context, r request) (*http.Response, error) {
	body := r.body
	if r.in != nil {
		text, err := json.Marshal(r.in)
		if err != nil {
			return nil, err
		}
		r.takes, body = "application/json", bytes.NewReader(text)
	}
	res, err := c.once(ctx, r, body)
	var p *wire.Problem
	again, whole := body.(io.Seeker)
	if c.options.Anew == nil || body != nil && !whole || !errors.As(err, &p) || p.Second == nil || !p.Second.Anew {
		return res, err
	}
	plain := *c
	plain.options.Anew = nil
	if err := c.options.Anew(ctx, &plain, p.Second); err != nil {
		return nil, err
	}
	if body != nil {
		if _, err := again.Seek(0, io.SeekStart); err != nil {
			return nil, err
		}
	}
	return c.once(ctx, r, body)
}

func (c *Client) once(ctx context.Context, r request, body io.Reader) (*http.Response, error) {
	at := c.options.Server + r.path
	if len(r.query) > 0 {
		at += "?" + r.query.Encode()
	}
	req, err := http.NewRequestWithContext(ctx, r.method, at, body)
	if err != nil {
		return nil, err
	}
	if c.options.Token != "" {
		req.Header.Set("Authorization", "Bearer "+c.options.Token)
	}
	if r.takes != "" {
		req.Header.Set("Content-Type", r.takes)
	}
	if r.last != "" {
		req.Header.Set("Last-Event-ID", r.last)
	}
	if c.tag != "" {
		req.Header.Set("If-Match", `"`+c.tag+`"`)
	}
	res, err := c.http.Do(req)
	if err != nil {
		var ue *url.Error // which tells the address once more
		if errors.As(err, &ue) {
			err = ue.Err
		}
		return nil, &Unreachable{c.options.Server, err}
	}
	if res.StatusCode >= 400 {
		defer func() { _ = res.Body.Close() }()
		return nil, c.refusal(res)
	}
	if why := res.Header.Get(wire.StaleHeader); why != "" && c.options.Stale != nil {
		c.options.Stale(why)
	}
	return res, nil
}

// refusal reads the problem document that says no (RFC 9457).
func (c *Client) refusal(res *http.Response) error {
	text, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	var p wire.Problem
	if err != nil || json.Unmarshal(text, &p) != nil || p.Type == "" {
		return &Unreachable{
			c.options.Server, fmt.Errorf("something that is not Oaken Latch answered there: %s", res.Status),
		}
	}
	return &p
}
