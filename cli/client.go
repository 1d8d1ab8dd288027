package cli

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"oakenlatch/wire"
)

// remembered is what a login leaves for the next commands.
type remembered struct {
	Server string `json:"server"`
	Token  string `json:"token"`
	Pin    string `json:"pin,omitempty"` // of the server's key, where a person accepted it
}

func (a *app) sessionFile() string {
	dir := a.getenv("XDG_CONFIG_HOME")
	if dir == "" {
		dir = filepath.Join(a.getenv("HOME"), ".config")
	}
	return filepath.Join(dir, "oaken-latch", "session.json")
}

// settings fills in server and token: flag, then environment, then login.
func (a *app) settings() {
	var r remembered
	if b, err := os.ReadFile(a.sessionFile()); err == nil {
		_ = json.Unmarshal(b, &r) // a broken file is as good as none
	}
	if a.server == "" {
		a.server = a.getenv("OAKEN_LATCH_SERVER")
	}
	if a.server == "" {
		a.server = r.Server
	}
	a.server = strings.TrimRight(a.server, "/")
	a.token = a.getenv("OAKEN_LATCH_TOKEN")
	if a.token == "" && (r.Server == a.server) {
		a.token = r.Token // a token goes only to the server it came from
	}
	a.pin = a.getenv("OAKEN_LATCH_PIN")
	if a.pin == "" && r.Server == a.server {
		a.pin = r.Pin
	}
}

func (a *app) remember(r remembered) error {
	file := a.sessionFile()
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	b, err := json.Marshal(r)
	if err != nil {
		return err
	}
	tmp := file + ".new"
	if err := os.WriteFile(tmp, b, 0o600); err != nil {
		return err
	}
	return os.Rename(tmp, file)
}

// call makes an API request. in and out may be nil.
func (a *app) call(method, path string, in, out any) error {
	return a.callIf("", method, path, in, out)
}

// callIf is call for what rests on a part as it was seen: it is refused if the
// part has another tag by now. "" does not matter.
func (a *app) callIf(tag, method, path string, in, out any) error {
	err := a.callOnce(tag, method, path, in, out)
	if second := anewOf(err); second != nil && a.ask {
		if perr := a.showAnew(second); perr != nil {
			return perr
		}
		err = a.callOnce(tag, method, path, in, out)
	}
	return err
}

func (a *app) callOnce(tag, method, path string, in, out any) error {
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(b)
	}
	req, err := a.request(method, path, body)
	if err != nil {
		return err
	}
	if in != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if tag != "" {
		req.Header.Set("If-Match", `"`+tag+`"`)
	}
	return a.receive(req, out)
}

// receive sends a request and reads its answer into out; nil is not read.
func (a *app) receive(req *http.Request, out any) error {
	res, err := a.send(req)
	if err != nil {
		return err
	}
	defer func() { _ = res.Body.Close() }()
	if why := res.Header.Get(wire.StaleHeader); why != "" && !a.stale {
		a.stale = true
		_, _ = fmt.Fprintln(
			a.err, "latch: the records of the service cannot be read; what follows is what was read last:", why,
		)
	}
	if out == nil || res.StatusCode == http.StatusNoContent {
		return nil
	}
	if err := json.NewDecoder(res.Body).Decode(out); err != nil {
		return &exit{Unreachable, fmt.Errorf("the answer of %s cannot be read: %w", a.server, err)}
	}
	return nil
}

// request makes a request to the service, signed in.
func (a *app) request(method, path string, body io.Reader) (*http.Request, error) {
	if a.server == "" {
		return nil, wrongUse("no server is set; sign in with: latch login --server URL --user NAME --password-file F")
	}
	if u, err := url.Parse(a.server); err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, wrongUse("server %q is no address; write it like http://127.0.0.1:8640", a.server)
	}
	req, err := http.NewRequestWithContext(a.ctx, method, a.server+"/api/v1"+path, body)
	if err != nil {
		return nil, wrongUse("%v", err)
	}
	if a.token != "" {
		req.Header.Set("Authorization", "Bearer "+a.token)
	}
	return req, nil
}

// send sends a request; an answer that says no is the error. The body of any
// other is the caller's to close.
func (a *app) send(req *http.Request) (*http.Response, error) {
	res, err := a.client().Do(req)
	if err != nil {
		var strange *strangeKey
		if errors.As(err, &strange) {
			return nil, &exit{Refused, strange}
		}
		var ue *url.Error
		if errors.As(err, &ue) {
			err = ue.Err
		}
		return nil, &exit{
			Unreachable,
			fmt.Errorf(
				"the service at %s cannot be reached: %w; check that it runs and that --server is right", a.server, err,
			),
		}
	}
	if res.StatusCode >= 400 {
		defer func() { _ = res.Body.Close() }()
		return nil, problemFrom(res)
	}
	return res, nil
}

func problemFrom(res *http.Response) error {
	b, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	var p wire.Problem
	if err != nil || json.Unmarshal(b, &p) != nil || p.Type == "" {
		return &exit{
			Unreachable, fmt.Errorf("something at this address that is not Oaken Latch answered %s", res.Status),
		}
	}
	return &p
}
