package cli

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"

	"oakenlatch/client"
)

// api is the service, asked as who is signed in. Where it is not said which service, every call says so.
func (a *app) api() *client.Client {
	o := client.Options{
		Server: a.server, Token: a.token, Pin: a.pin,
		Stale: func(why string) {
			if !a.stale {
				a.stale = true
				_, _ = fmt.Fprintln(
					a.err, "latch: the records of the service cannot be read; what follows is what was read last:", why,
				)
			}
		},
	}
	if a.ask {
		o.Anew = a.showAnew
	}
	asked := [3]string{a.server, a.token, a.pin}
	if a.asked != nil && a.askedAs == asked {
		return a.asked
	}
	c, err := client.New(o)
	if err != nil {
		no := wrongUse("%v", err)
		if a.server == "" {
			no = wrongUse("no server is set; sign in with: latch login --server URL --user NAME --password-file F")
		}
		o.Server, o.HTTP = "http://unset.invalid", &http.Client{Transport: failing{no}}
		c, _ = client.New(o) // that is an address
	}
	a.asked, a.askedAs = c, asked
	return c
}

// failing sends nothing.
type failing struct{ err error }

func (f failing) RoundTrip(*http.Request) (*http.Response, error) { return nil, f.err }

// plainly gives an error of the client in this command's words.
func plainly(err error) error {
	var of *exit
	var no *client.Unreachable
	var key *client.UntrustedKey
	switch {
	case errors.As(err, &key):
		return &exit{Refused, strangeKey{key}}
	case errors.As(err, &no) && errors.As(no.Err, &of):
		return of
	}
	return err
}

// strangeKey is a key that nobody vouches for, and what can be done.
type strangeKey struct{ *client.UntrustedKey }

func (e strangeKey) Error() string {
	if e.Accepted != "" {
		return fmt.Sprintf(
			"%v. Nothing was sent to it. Either the service was given another key, which whoever runs it can say, or "+
				"this is not the service. If it is: latch login --pin %s",
			e.UntrustedKey,
			e.Shown,
		)
	}
	return fmt.Sprintf(
		"%v. Nothing was sent to it. Compare that with what oaken-latchd printed when it started, and if it is the "+
			"same: latch login --pin %s",
		e.UntrustedKey, e.Shown,
	)
}

// numbered reads the argument that gives the number of something; list is the command that lists those there are.
func numbered(what, text, list string) (int64, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 1 {
		return 0, wrongUse("%q is not %s number; list them with: %s", text, what, list)
	}
	return n, nil
}
