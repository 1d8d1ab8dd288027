package cli

import (
	"flag"
	"fmt"
	"strings"
	"time"

	"oakenlatch/wire"
)

// mayFlag is for what somebody may do: it may be given several times.
func mayFlag(fs *flag.FlagSet, name, what string) *list {
	may := &list{}
	fs.Var(
		may, name,
		what+": roles (read, stage, commit, approve, audit, administer, reveal) with commas, on all devices or "+
			"ROLES@site=NAME (role=, tag=, device=); may be given several times",
	)
	return may
}

func accountAdd(a *app, fs *flag.FlagSet) func([]string) error {
	may := mayFlag(fs, "may", "what it may do")
	file := fs.String("password-file", "", "file with the password, - for standard input (default: asks)")
	return func(args []string) error {
		password, err := a.secretFrom(*file, "password of "+args[0])
		if err != nil {
			return err
		}
		acc, err := a.api().AddAccount(a.ctx, wire.NewAccount{Name: args[0], Password: password, May: *may})
		if err != nil {
			return err
		}
		return a.show(acc, func() {
			a.printf("Account %s is made; it may: %s\n", acc.Name, mayText(acc.May))
			a.waits(acc.Proposal)
		})
	}
}

func accountList(a *app, _ *flag.FlagSet) func([]string) error {
	return func([]string) error {
		list, err := a.api().ListAccounts(a.ctx)
		if err != nil {
			return err
		}
		return a.show(list, func() {
			rows := make([][]string, len(list))
			for i, acc := range list {
				state := acc.Issuer
				if !acc.Closed.IsZero() {
					state = "closed " + when(acc.Closed)
				}
				second := "-"
				switch {
				case acc.Factors > 0:
					second = fmt.Sprintf("%d", acc.Factors)
				case acc.Lacks:
					second = "missing"
				}
				rows[i] = []string{acc.Name, strings.Join(acc.May, " "), when(acc.Created), second, state}
			}
			a.table([]string{"ACCOUNT", "MAY", "SINCE", "2ND FACTORS", ""}, rows)
		})
	}
}

func accountMay(a *app, fs *flag.FlagSet) func([]string) error {
	add, drop, set := mayFlag(fs, "add", "what it may do as well"), mayFlag(
		fs, "drop", "what it may not do any more",
	), mayFlag(fs, "set", "all that it may do")
	return func(args []string) error {
		accounts, err := a.api().ListAccounts(a.ctx)
		if err != nil {
			return err
		}
		var may []string
		for _, acc := range accounts {
			if acc.Name == args[0] {
				may = acc.May
			}
		}
		switch {
		case len(*set) > 0 && len(*add)+len(*drop) > 0, len(*set)+len(*add)+len(*drop) == 0:
			return wrongUse("say --add and --drop, or --set")
		case len(*set) > 0:
			may = *set
		default:
			gone := map[string]bool{}
			for _, g := range splitGrants(*drop) {
				gone[g] = true
			}
			left := []string{} // none is something else than nothing said
			for _, g := range may {
				if !gone[g] {
					left = append(left, g)
				}
				delete(gone, g)
			}
			for g := range gone {
				return wrongUse("%s has not %s; it may: %s", args[0], g, strings.Join(may, " "))
			}
			may = append(left, *add...)
		}
		acc, err := a.api().SetAccount(a.ctx, args[0], wire.AccountSettings{May: &may})
		if err != nil {
			return err
		}
		return a.show(acc, func() {
			a.printf("Account %s may: %s\n", acc.Name, mayText(acc.May))
			a.waits(acc.Proposal)
		})
	}
}

func mayText(may []string) string {
	if len(may) == 0 {
		return "nothing"
	}
	return strings.Join(may, " ")
}

// splitGrants writes ROLE,ROLE@WHERE as one role each.
func splitGrants(grants []string) (out []string) {
	for _, g := range grants {
		roles, where, scoped := strings.Cut(g, "@")
		for _, r := range strings.Split(roles, ",") {
			if scoped {
				r += "@" + where
			}
			out = append(out, r)
		}
	}
	return out
}

func accountPassword(a *app, fs *flag.FlagSet) func([]string) error {
	oldFile := fs.String(
		"old-password-file", "", "of one's own account: file with the password as it is (default: asks)",
	)
	file := fs.String("password-file", "", "file with the new password, - for standard input (default: asks)")
	tokens := fs.Bool("end-tokens", false, "end the account's tokens, too: of those nobody knows who copied them")
	return func(args []string) error {
		me, err := a.api().WhoAmI(a.ctx)
		if err != nil {
			return err
		}
		own := len(args) == 0 || args[0] == me.Account
		old := ""
		if own {
			if old, err = a.secretFrom(*oldFile, "password of "+me.Account+" as it is"); err != nil {
				return err
			}
		}
		password, err := a.secretFrom(*file, "new password")
		if err != nil {
			return err
		}
		if own {
			err = a.api().SetOwnPassword(a.ctx, wire.NewPassword{Old: old, New: password, EndTokens: *tokens})
		} else {
			var acc wire.Account
			acc, err = a.api().SetAccount(a.ctx, args[0], wire.AccountSettings{Password: password, EndTokens: *tokens})
			if err == nil && a.waits(acc.Proposal) {
				return nil
			}
		}
		if err != nil {
			return err
		}
		ended := "Other sessions of the account have ended"
		if *tokens {
			ended += ", and its tokens"
		}
		a.printf("The password is changed. %s.\n", ended)
		return nil
	}
}

func accountClose(a *app, fs *flag.FlagSet) func([]string) error {
	yes := fs.Bool("yes", false, "do not ask")
	return func(args []string) error {
		if !*yes && !a.agree(
			"Close account "+args[0]+" permanently? Its sessions and tokens end; its name is not given again.",
		) {
			return &exit{Refused, fmt.Errorf("account %s was not closed; --yes closes it without asking", args[0])}
		}
		if err := a.api().CloseAccount(a.ctx, args[0]); err != nil {
			return err
		}
		a.printf("Account %s is closed.\n", args[0])
		return nil
	}
}

func tokenList(a *app, _ *flag.FlagSet) func([]string) error {
	return func([]string) error {
		list, err := a.api().ListTokens(a.ctx)
		if err != nil {
			return err
		}
		return a.show(list, func() {
			rows := make([][]string, len(list))
			for i, t := range list {
				may, end := "all that the account may", t.Expires
				if t.May != nil {
					may = strings.Join(*t.May, " ")
				}
				if t.Kind == "session" && t.IdleUntil.Before(end) {
					end = t.IdleUntil
				}
				name := t.Name
				if t.Own {
					name = "(this one)"
				}
				rows[i] = []string{t.ID, t.Account, t.Kind, name, may, when(t.Used), t.Source, when(end)}
			}
			a.table([]string{"ID", "ACCOUNT", "KIND", "NAME", "MAY", "USED", "FROM", "ENDS"}, rows)
		})
	}
}

func tokenAdd(a *app, fs *flag.FlagSet) func([]string) error {
	may := mayFlag(fs, "may", "what it may do; all that you may if left out")
	until := fs.String("until", "", "when it ends: 2027-03-31, or for how long: 720h")
	return func(args []string) error {
		end, err := endOf(*until, time.Now())
		if err != nil {
			return err
		}
		n := wire.NewToken{Name: args[0], Until: end}
		if len(*may) > 0 {
			n.May = (*[]string)(may)
		}
		t, err := a.api().AddToken(a.ctx, n)
		if err != nil {
			return err
		}
		return a.show(t, func() {
			a.printf(
				"%s\nThis is shown only now. It ends %s. Use it as OAKEN_LATCH_TOKEN; end it with: latch "+
					"token end %s\n",
				t.Token, when(t.Expires), t.ID,
			)
		})
	}
}

// endOf reads a day, the end of which is meant, or for how long from now.
func endOf(text string, now time.Time) (time.Time, error) {
	if d, err := time.ParseDuration(text); err == nil && d > 0 {
		return now.Add(d), nil
	}
	day, err := time.ParseInLocation("2006-01-02", text, time.Local)
	if err != nil {
		return day, wrongUse("--until says when it ends: a day like 2027-03-31, or for how long, like 720h")
	}
	return day.AddDate(0, 0, 1).Add(-time.Second), nil
}

func tokenEnd(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		if err := a.api().EndToken(a.ctx, args[0]); err != nil {
			return err
		}
		a.printf("%s has ended: it lets nobody in any more.\n", args[0])
		return nil
	}
}
