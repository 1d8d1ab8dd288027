package cli

import (
	"flag"
	"fmt"
	"strings"

	"oakenlatch/client"
	"oakenlatch/wire"
)

func standing(d wire.Device) string {
	switch {
	case !d.Trusted:
		return "host key not accepted"
	case d.HeldBy != 0:
		return fmt.Sprintf("held by change %d", d.HeldBy)
	case d.Trouble != "":
		return "trouble"
	case d.Reserved != nil:
		return "reserved by " + d.Reserved.Holder
	case d.Unsaved:
		return "running not saved"
	case d.Seen.IsZero():
		return "never reached"
	}
	return "OK"
}

func devices(a *app, _ *flag.FlagSet) func([]string) error {
	return func([]string) error {
		list, err := a.api().ListDevices(a.ctx)
		if err != nil {
			return err
		}
		return a.show(list, func() {
			rows := make([][]string, len(list))
			for i, d := range list {
				rows[i] = []string{
					d.Name, d.Site, d.Role, d.Address, standing(d), fmt.Sprintf("rev %d", d.Revision), d.Guard.Guard,
					when(d.Seen),
				}
			}
			a.table([]string{"DEVICE", "SITE", "ROLE", "ADDRESS", "STATE", "CONFIG", "GUARD", "SEEN"}, rows)
			if len(list) == 0 {
				a.printf(
					"There are no devices yet. Add one: latch device add NAME --address HOST:PORT --user U " +
						"--password-file F\n",
				)
			}
		})
	}
}

func deviceShow(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		d, err := a.api().GetDevice(a.ctx, args[0])
		if err != nil {
			return err
		}
		return a.show(d, func() {
			a.printf(
				"%s  %s\n", a.paint(strong, d.Name), strings.TrimSpace(d.Role+" "+d.Site+" "+strings.Join(d.Tags, " ")),
			)
			a.printf("  address   %s as %s (by %s)\n  state     %s\n", d.Address, d.Account, d.Auth, standing(d))
			if d.Trouble != "" {
				a.printf("  trouble   %s\n", d.Trouble)
			}
			if !d.Trusted {
				a.printf("  Compare its host key and accept it: latch device trust %s\n", d.Name)
			}
			if d.Model+d.Serial != "" {
				a.printf("  box       %s, serial number %s\n", d.Model, d.Serial)
			}
			a.printf("  seen      %s\n  config    revision %d\n", when(d.Seen), d.Revision)
			a.printf("  guard     %s\n", guardText(d.Guard))
			a.printf("  startup   %s\n", saveText(d))
			if d.Unsaved {
				a.printf(
					"            %s; see and save it: latch device save %s\n",
					a.paint(alarm, "it does not hold what runs now"), d.Name,
				)
			}
			for _, line := range seenText(d) {
				a.printf("  way       %s\n", line)
			}
			if r := d.Reserved; r != nil {
				a.printf("  reserved  by %s until %s: %s\n", r.Holder, when(r.Until), r.Reason)
			}
			if d.Clock != nil {
				a.printf("  clock     %s, read %s\n", clockText(*d.Clock), when(d.Clock.Read))
			}
			a.printf("  modules   %d understood\n", d.Modules)
			for _, u := range d.Unread {
				a.printf("            not understood, carried unread: %s\n", u)
			}
		})
	}
}

func guardText(g wire.Guard) string {
	switch {
	case g.Guard == "device":
		return "device: it reverts by itself if nobody confirms, even if this service is dead"
	case g.Risk != "":
		return g.Guard + ": " + g.GuardWhy + "; " + g.Risk
	}
	return g.Guard + ": " + g.GuardWhy
}

// wayFlags are those of how a device is reached; what they give reads them.
func (a *app) wayFlags(fs *flag.FlagSet) func(name string) (wire.NewDevice, error) {
	in := wire.NewDevice{}
	fs.StringVar(&in.Address, "address", "", "HOST:PORT of its NETCONF over SSH")
	fs.StringVar(&in.Account, "user", "", "account on the device")
	password := fs.String("password-file", "", "file with the account's password, - for standard input")
	key := fs.String("key-file", "", "file with a private key for the account")
	return func(name string) (wire.NewDevice, error) {
		in.Name = name
		if in.Address == "" || in.Account == "" {
			return in, wrongUse("%s needs --address HOST:PORT and --user U", fs.Name())
		}
		var err error
		in.Password, in.PrivateKey, err = a.secrets(*password, *key, "password of "+in.Account+" on "+in.Name)
		return in, err
	}
}

// secrets reads a password, or a private key, from a file or the terminal.
func (a *app) secrets(passwordFile, keyFile, prompt string) (password, key string, err error) {
	if passwordFile != "" && keyFile != "" {
		return "", "", wrongUse("give --password-file or --key-file, not both")
	}
	if keyFile != "" {
		key, err = a.secretFrom(keyFile, prompt)
		return "", key + "\n", err
	}
	password, err = a.secretFrom(passwordFile, prompt)
	return password, "", err
}

func deviceAdd(a *app, fs *flag.FlagSet) func([]string) error {
	way := a.wayFlags(fs)
	site := fs.String("site", "", "where it stands")
	role := fs.String("role", "", "what it is, e.g. router")
	seenAs := fs.String(
		"seen-as", "",
		"its management address, perhaps with port, as packets have it in the network, where that is another",
	)
	return func(args []string) error {
		in, err := way(args[0])
		if err != nil {
			return err
		}
		in.Site, in.Role, in.SeenAs = *site, *role, *seenAs
		d, err := a.api().AddDevice(a.ctx, in)
		if err != nil {
			return err
		}
		return a.show(d, func() {
			a.printf("Added %s. Nothing was sent to it yet.\nNext: latch device trust %s\n", d.Name, d.Name)
		})
	}
}

func deviceTrust(a *app, fs *flag.FlagSet) func([]string) error {
	accept := a.trustFlags(fs)
	return func(args []string) error {
		return accept(hostKeyOf{
			shown: func() (wire.HostKey, error) { return a.api().DeviceHostKey(a.ctx, args[0]) },
			trust: func(t wire.Trust) (wire.HostKey, error) { return a.api().TrustDevice(a.ctx, args[0], t) },
		}, "the device's own console", func(k wire.HostKey) {
			a.printf("Accepted. %s was read: see latch device show %s\n", k.Device, k.Device)
		})
	}
}

// hostKeyOf is how a host key is asked for, and kept.
type hostKeyOf struct {
	shown func() (wire.HostKey, error)
	trust func(wire.Trust) (wire.HostKey, error)
}

// trustFlags are those of accepting a host key; what they give shows the key,
// asks, and keeps it.
func (a *app) trustFlags(fs *flag.FlagSet) func(of hostKeyOf, console string, accepted func(wire.HostKey)) error {
	yes := fs.Bool("yes", false, "do not ask")
	want := fs.String("fingerprint", "", "accept only a key of this fingerprint, without asking")
	return func(of hostKeyOf, console string, accepted func(wire.HostKey)) error {
		k, err := of.shown()
		if err != nil {
			return err
		}
		if *want != "" && *want != k.Fingerprint {
			return &exit{
				Refused, fmt.Errorf("%s shows host key %s, not %s; nothing was stored", k.Device, k.Fingerprint, *want),
			}
		}
		if !a.asJSON {
			a.printf("%s shows this host key (%s):\n  %s\n", k.Device, k.Type, k.Fingerprint)
			switch k.Accepted {
			case "":
			case k.Fingerprint:
				a.printf("It is the one accepted before.\n")
			default:
				a.printf("%s\n  %s\n", a.paint(alarm, "It is NOT the one accepted before:"), k.Accepted)
			}
		}
		if !*yes && *want == "" && !a.agree("Compare it with "+console+". Is it the same?") {
			return &exit{
				Refused,
				fmt.Errorf(
					"the host key of %s was not accepted; without a terminal, give --fingerprint or --yes", k.Device,
				),
			}
		}
		if k, err = of.trust(wire.Trust{Fingerprint: k.Fingerprint}); err != nil {
			return err
		}
		return a.show(k, func() { accepted(k) })
	}
}

func deviceReplace(a *app, fs *flag.FlagSet) func([]string) error {
	way := a.wayFlags(fs)
	yes := fs.Bool("yes", false, "do not ask")
	return func(args []string) error {
		in, err := way(args[0])
		if err != nil {
			return err
		}
		if !*yes && !a.agree(
			fmt.Sprintf(
				"Another box takes the place of %s: its history goes on, the old box is not reached any more. Go on?",
				args[0],
			),
		) {
			return &exit{Refused, fmt.Errorf("%s was not replaced; without a terminal, give --yes", args[0])}
		}
		d, err := a.api().ReplaceDevice(a.ctx, args[0], in)
		if err != nil {
			return err
		}
		return a.show(d, func() {
			a.printf(
				"%s is another box now, at %s.\nNext: latch device trust %s, then compare: latch compare %s@rev:%d "+
					"%s, and restore: latch restore %s rev:%d\n",
				d.Name, d.Address, d.Name, d.Name, d.Revision, d.Name, d.Name, d.Revision,
			)
		})
	}
}

func config(a *app, fs *flag.FlagSet) func([]string) error {
	from := fs.String(
		"from", "running",
		"the place: running, startup, candidate, rev:N, startup:N, at:TIME, snapshot:NAME, before:N, change:N "+
			"or archive:N",
	)
	asXML := fs.Bool("xml", false, "as XML instead of outline")
	return func(args []string) error {
		c, err := a.api().DeviceConfig(a.ctx, args[0], client.DeviceConfigQuery{From: *from, Path: pathArg(args)})
		if err != nil {
			return err
		}
		return a.show(c, func() {
			if *asXML {
				_ = a.exact(c.XML)
				return
			}
			_ = a.exact(c.Outline)
		})
	}
}
