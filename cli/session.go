package cli

import (
	"bufio"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"

	"golang.org/x/term"

	"oakenlatch/client"
	"oakenlatch/wire"
)

// secretFrom reads a secret from a file ("-" is standard input), or asks for
// it without showing it.
func (a *app) secretFrom(file, what string) (string, error) {
	switch {
	case file == "-":
		b, err := io.ReadAll(io.LimitReader(a.in, 1<<20))
		return strings.TrimRight(string(b), "\r\n"), err
	case file != "":
		b, err := os.ReadFile(file)
		if err != nil {
			return "", wrongUse("%s: %v", what, err)
		}
		return strings.TrimRight(string(b), "\r\n"), nil
	case a.ask:
		_, _ = fmt.Fprintf(a.err, "%s: ", what)
		b, err := term.ReadPassword(int(os.Stdin.Fd()))
		_, _ = fmt.Fprintln(a.err)
		return string(b), err
	}
	return "", wrongUse("%s is missing; give it in a file with --password-file", what)
}

// agree asks a yes-or-no question; without a terminal the answer is no.
func (a *app) agree(question string) bool {
	if !a.ask {
		return false
	}
	_, _ = fmt.Fprintf(a.err, "%s (yes/no) ", question)
	line, err := bufio.NewReader(a.in).ReadString('\n')
	return err == nil && strings.TrimSpace(strings.ToLower(line)) == "yes"
}

func login(a *app, fs *flag.FlagSet) func([]string) error {
	user := fs.String("user", "", "account")
	file := fs.String("password-file", "", "file with the password, - for standard input (default: asks)")
	code := fs.String(
		"code", "",
		"of the second factor: the code that the app shows now, or a recovery code (default: asks, where the "+
			"account has one)",
	)
	pin := fs.String(
		"pin", "",
		"the key that the server is to show, as oaken-latchd prints it when it starts; asked about if nobody "+
			"vouches for it",
	)
	name := fs.String("name", "", "call this server so, for latch use")
	return func([]string) error {
		if *pin != "" {
			a.pin = *pin
		}
		if *user == "" {
			return wrongUse("latch login needs --user NAME")
		}
		if err := a.mayName(*name); err != nil {
			return err
		}
		password, err := a.secretFrom(*file, "password of "+*user)
		if err != nil {
			return err
		}
		a.token = ""
		var s wire.Session
		enter := func() (err error) {
			s, err = a.api().Login(a.ctx, wire.Login{Account: *user, Password: password})
			var p *wire.Problem
			if !errors.As(err, &p) || p.Second == nil {
				return err
			}
			return a.second(p.Second, *code, func(shown wire.Shown) (err error) {
				s, err = a.api().LoginSecond(a.ctx, shown)
				return err
			})
		}
		if err := a.acquainted(enter); err != nil {
			return err
		}
		if err := a.remember(remembered{Name: *name, Server: a.server, Token: s.Token, Pin: a.pin}); err != nil {
			return &exit{Refused, fmt.Errorf("signed in, but the session cannot be stored: %w", err)}
		}
		return a.show(s, func() {
			a.printf(
				"Signed in to %s as %s, until %s.\nMay: %s\n", a.server, s.Account, when(s.Expires),
				strings.Join(s.May, " "),
			)
			if s.Lacks {
				a.printf("This account has to have a second factor, and may do nothing before: latch factor add NAME\n")
			}
			for _, t := range s.Others {
				a.printf(
					"Also signed in: since %s, from %s, last used %s. If that is not you: latch token end %s, and "+
						"latch account password\n",
					when(t.Created), t.Source, when(t.Used), t.ID,
				)
			}
		})
	}
}

// acquainted does something with a server whose key, if nobody vouches for it, a
// person is asked about.
func (a *app) acquainted(do func() error) error {
	err := do()
	var strange *client.UntrustedKey
	if !errors.As(err, &strange) || strange.Accepted != "" || !a.ask {
		return err
	}
	if !a.agree(
		fmt.Sprintf(
			"%s shows a key that nobody vouches for:\n  %s\noaken-latchd printed its own when it started. Is "+
				"it this one?",
			a.server, strange.Shown,
		),
	) {
		return err
	}
	a.pin = strange.Shown
	return do()
}

func logout(a *app, _ *flag.FlagSet) func([]string) error {
	return func([]string) error {
		if err := a.api().Logout(a.ctx); err != nil {
			return err
		}
		if err := a.remember(remembered{Server: a.server, Pin: a.pin}); err != nil {
			return err
		}
		return a.show(struct{}{}, func() { a.printf("Signed out of %s.\n", a.server) })
	}
}

func whoami(a *app, _ *flag.FlagSet) func([]string) error {
	return func([]string) error {
		s, err := a.api().WhoAmI(a.ctx)
		if err != nil {
			return err
		}
		return a.show(s, func() { a.printf("%s at %s; may: %s\n", s.Account, a.server, strings.Join(s.May, " ")) })
	}
}
