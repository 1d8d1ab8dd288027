package cli

import (
	"flag"
	"fmt"
	"strings"
	"time"

	"oakenlatch/core/clip"
	"oakenlatch/wire"
)

func receiverList(a *app, _ *flag.FlagSet) func([]string) error {
	return func([]string) error {
		list, err := a.api().ListReceivers(a.ctx)
		if err != nil {
			return err
		}
		return a.show(list, func() {
			rows := make([][]string, len(list))
			for i, r := range list {
				state := "OK"
				if r.Trouble != "" {
					state = fmt.Sprintf(
						"since %s: %s; %s behind", when(r.Since), clip.Line(r.Trouble, 80),
						count(int(r.Behind), "entry", "entries"),
					)
				}
				line := r.Line
				if line == "" {
					line = "everything"
				}
				rows[i] = []string{r.Name, r.Kind, r.Place, line, fmt.Sprint(r.Told), state}
			}
			a.table([]string{"RECEIVER", "KIND", "PLACE", "IS TOLD OF", "TOLD", "STATE"}, rows)
			if len(list) == 0 {
				a.printf("Nobody is told of anything. Add somebody: latch receiver add NAME PLACE LINE\n")
			}
		})
	}
}

func receiverAdd(a *app, fs *flag.FlagSet) func([]string) error {
	secret := fs.String("secret-file", "", "file with what signs a webhook, or the password of mail")
	authority := fs.String(
		"authority", "", "file (PEM) with the certificate that vouches for the receiver's; the system's if left out",
	)
	from := fs.String("from", "", "of mail: the address it comes from")
	to := fs.String("to", "", "of mail: the addresses it goes to, with commas")
	user := fs.String("user", "", "of mail: the account on the mail server")
	gather := fs.Duration("gather", 0, "of mail: entries are gathered for so long; 1m if left out")
	return func(args []string) error {
		in := wire.NewReceiver{
			Name: args[0], Place: args[1], Line: strings.Join(args[2:], " "), From: *from, Account: *user,
			Gather: int64(*gather / time.Second),
		}
		scheme, _, _ := strings.Cut(args[1], "://")
		switch scheme {
		case "udp", "tcp", "tls", "unix":
			in.Kind = "syslog"
		case "http", "https":
			in.Kind = "webhook"
		case "smtp", "smtps":
			in.Kind = "mail"
		default:
			return wrongUse(
				"%q is no place: write udp://, tcp:// or tls://HOST:PORT for syslog, https://… for a webhook, "+
					"smtp:// or smtps://HOST:PORT for mail",
				args[1],
			)
		}
		if *to != "" {
			in.To = strings.Split(*to, ",")
		}
		for _, f := range []struct {
			name string
			into *string
		}{{*secret, &in.Secret}, {*authority, &in.Authority}} {
			if f.name == "" {
				continue
			}
			text, err := a.read(f.name)
			if err != nil {
				return err
			}
			*f.into = strings.TrimRight(string(text), "\r\n")
		}
		r, err := a.api().AddReceiver(a.ctx, in)
		if err != nil {
			return a.pointed(in.Line, err)
		}
		return a.show(r, func() {
			a.printf("%s is told from now on (%s). Try it: latch receiver try %s\n", r.Name, r.Kind, r.Name)
		})
	}
}

func receiverSet(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		line := strings.Join(args[1:], " ")
		r, err := a.api().SetReceiver(a.ctx, args[0], wire.ReceiverLine{Line: line})
		if err != nil {
			return a.pointed(line, err)
		}
		return a.show(r, func() { a.printf("%s is told of that from now on.\n", r.Name) })
	}
}

func receiverTry(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		if err := a.api().TryReceiver(a.ctx, args[0]); err != nil {
			return err
		}
		a.printf("%s took it.\n", args[0])
		return nil
	}
}

func receiverRetire(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		if err := a.api().RetireReceiver(a.ctx, args[0]); err != nil {
			return err
		}
		a.printf("%s is told nothing any more.\n", args[0])
		return nil
	}
}
