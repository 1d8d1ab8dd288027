package cli

import (
	"bufio"
	"context"
	"errors"
	"flag"
	"fmt"
	"slices"
	"strings"

	"rsc.io/qr"

	"oakenlatch/client"
	"oakenlatch/wire"
)

// showAnew has a person show their second factor again.
func (a *app) showAnew(ctx context.Context, c *client.Client, s *wire.Second) error {
	_, _ = fmt.Fprintln(a.err, "This is a sensitive action: show your second factor again.")
	return a.second(s, "", func(shown wire.Shown) error { return c.ProveFactor(ctx, shown) })
}

// second asks for a second factor, where no code was given, and gives it to show. A wrong one may be
// tried again.
func (a *app) second(s *wire.Second, code string, show func(wire.Shown) error) error {
	if !slices.ContainsFunc(s.Ways, func(w string) bool { return w != "passkey" }) {
		return &exit{
			Refused,
			errors.New(
				"the account's second factor is a passkey, and works in the console alone; set up an app too, there " +
					"or with: latch factor add NAME",
			),
		}
	}
	if code != "" {
		return show(wire.Shown{Ticket: s.Ticket, Code: code})
	}
	if !a.ask {
		return &exit{
			Refused,
			errors.New(
				"this account signs in with a second factor, too; give the app's code, or a recovery code, with --code",
			),
		}
	}
	for in, tries := bufio.NewReader(a.in), 0; ; tries++ {
		_, _ = fmt.Fprintf(a.err, "Code of your app (6 digits), or a recovery code: ")
		line, err := in.ReadString('\n')
		if line = strings.TrimSpace(line); line == "" {
			return &exit{Refused, errors.Join(errors.New("no code was given; nothing was done"), err)}
		}
		err = show(wire.Shown{Ticket: s.Ticket, Code: line})
		var p *wire.Problem
		if !errors.As(err, &p) || p.Type != wire.ProblemPrefix+"wrong-factor" || tries >= 2 {
			return err
		}
		_, _ = fmt.Fprintln(a.err, "latch:", p.Detail)
	}
}

func factorKind(kind string) string {
	if kind == "code" {
		return "app"
	}
	return kind
}

func factorList(a *app, _ *flag.FlagSet) func([]string) error {
	return func([]string) error {
		own, err := a.api().ListFactors(a.ctx)
		if err != nil {
			return err
		}
		return a.show(own, func() {
			rows := make([][]string, len(own.List))
			for i, f := range own.List {
				used := "never"
				if !f.Used.IsZero() {
					used = when(f.Used)
				}
				rows[i] = []string{f.ID, factorKind(f.Kind), f.Name, when(f.Created), used}
			}
			if len(rows) > 0 {
				a.table([]string{"ID", "KIND", "NAME", "SINCE", "USED LAST"}, rows)
				a.printf("Recovery codes left: %d\n", own.Recovery)
				return
			}
			need := "It need not have one."
			if own.Required {
				need = "It has to have one."
			}
			a.printf("This account has no second factor. %s Set up an app with: latch factor add NAME\n", need)
		})
	}
}

func factorAdd(a *app, fs *flag.FlagSet) func([]string) error {
	file := fs.String(
		"password-file", "", "file with your password, which the first second factor asks for (default: asks)",
	)
	return func(args []string) error {
		if !a.ask {
			return wrongUse(
				"latch factor add shows a secret and asks for the code that the app makes of it: use it at a terminal",
			)
		}
		own, err := a.api().ListFactors(a.ctx)
		if err != nil {
			return err
		}
		n := wire.NewFactor{Kind: "code", Name: strings.Join(args, " ")}
		if len(own.List) == 0 {
			var err error
			if n.Password, err = a.secretFrom(*file, "your password"); err != nil {
				return err
			}
		}
		begun, err := a.api().BeginFactor(a.ctx, n)
		if err != nil {
			return err
		}
		_, _ = fmt.Fprintf(
			a.err,
			"%sHave your authenticator app read this picture, or type in the secret:\n  %s\nIt is not shown again.\n",
			picture(begun.URI), grouped(begun.Secret),
		)
		in := bufio.NewReader(a.in)
		for {
			_, _ = fmt.Fprintf(a.err, "Code that the app shows now: ")
			line, err := in.ReadString('\n')
			if line = strings.TrimSpace(line); line == "" {
				return &exit{Refused, errors.Join(errors.New("no code was given; nothing was set up"), err)}
			}
			added, err := a.api().FinishFactor(a.ctx, wire.Shown{Ticket: begun.Ticket, Code: line})
			var p *wire.Problem
			if errors.As(err, &p) && p.Type == wire.ProblemPrefix+"invalid" {
				_, _ = fmt.Fprintln(a.err, "latch:", told(p))
				continue
			}
			if err != nil {
				return err
			}
			return a.show(added, func() {
				a.printf(
					"Second factor %s (%s) is set up: from now on, signing in asks for it.\n", added.Factor.ID,
					added.Factor.Name,
				)
				a.recoveryCodes(added.Codes)
			})
		}
	}
}

func (a *app) recoveryCodes(codes []string) {
	if len(codes) == 0 {
		return
	}
	a.printf(
		"Recovery codes: each lets you in once where your factors are lost. They are shown only now; write " +
			"them down:\n",
	)
	for i := 0; i < len(codes); i += 2 {
		a.printf("  %s\n", strings.Join(codes[i:min(i+2, len(codes))], "   "))
	}
}

// grouped is a secret in groups of four, for typing.
func grouped(secret string) string {
	var out []string
	for len(secret) > 4 {
		out, secret = append(out, secret[:4]), secret[4:]
	}
	return strings.Join(append(out, secret), " ")
}

// picture draws a QR code (ISO/IEC 18004) of half blocks, dark on light; "" where there is too much to draw.
func picture(text string) string {
	code, err := qr.Encode(text, qr.L)
	if err != nil {
		return ""
	}
	const rim = 2
	var b strings.Builder
	for y := -rim; y < code.Size+rim; y += 2 {
		b.WriteString(own("[30;107m"))
		for x := -rim; x < code.Size+rim; x++ {
			b.WriteString(
				map[[2]bool]string{
					{false, false}: " ", {true, false}: "▀", {false, true}: "▄", {true, true}: "█",
				}[[2]bool{code.Black(x, y), code.Black(x, y+1)}],
			)
		}
		b.WriteString(own("[0m") + "\n")
	}
	return b.String()
}

func factorDrop(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		if err := a.api().DropFactor(a.ctx, args[0]); err != nil {
			return err
		}
		a.printf("Second factor %s is taken away.\n", args[0])
		return nil
	}
}

func factorCodes(a *app, _ *flag.FlagSet) func([]string) error {
	return func([]string) error {
		r, err := a.api().NewRecoveryCodes(a.ctx)
		if err != nil {
			return err
		}
		return a.show(r, func() { a.recoveryCodes(r.Codes) })
	}
}

func factorProve(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		code := ""
		if len(args) > 0 {
			code = args[0]
		}
		err := a.second(
			&wire.Second{Ways: []string{"code"}}, code,
			func(shown wire.Shown) error { return a.api().ProveFactor(a.ctx, shown) },
		)
		if err != nil {
			return err
		}
		a.printf("Accepted: sensitive actions are possible for five minutes.\n")
		return nil
	}
}

func accountResetFactors(a *app, fs *flag.FlagSet) func([]string) error {
	yes := fs.Bool("yes", false, "do not ask")
	return func(args []string) error {
		if !*yes && !a.agree(
			"Take all second factors of "+args[0]+" away? Until others are set up, its password alone lets in; its "+
				"sessions end.",
		) {
			return &exit{Refused, fmt.Errorf("nothing was taken away; --yes does it without asking")}
		}
		acc, err := a.api().SetAccount(a.ctx, args[0], wire.AccountSettings{ResetFactors: true})
		if err != nil {
			return err
		}
		return a.show(acc, func() {
			if !a.waits(acc.Proposal) {
				a.printf("Account %s has no second factor any more.\n", args[0])
			}
		})
	}
}
