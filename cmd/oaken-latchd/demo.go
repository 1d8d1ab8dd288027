package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/crypto/ssh"

	"oakenlatch/console"
	"oakenlatch/lab"
	"oakenlatch/netconf"
	"oakenlatch/service"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/desk"
	"oakenlatch/service/fleet"
	"oakenlatch/service/store"
	vouch "oakenlatch/service/witness"
	"oakenlatch/wire"
	"oakenlatch/witness"
)

// demoAccounts are the people of the demo. Their passwords are no secret.
var demoAccounts = []struct {
	name, password string
	may            access.Grants
	who            string
}{
	{"admin", "ferry-admin", access.Everywhere(access.Roles...), "may do everything"},
	{"mara", "ferry-mara", operator, "Mara, network operator at Northmole"},
	{"joss", "ferry-joss", operator, "Joss, network operator at Saltern"},
	{"wren", "ferry-wren", access.Everywhere(access.Read, access.Audit), "Wren, harbour office, looks only"},
}

// operator is what those may do who run the network.
var operator = access.Everywhere(access.Read, access.Stage, access.Commit, access.Approve, access.Audit)

func demo(ctx context.Context, args []string, out, errOut io.Writer) error {
	fs := flag.NewFlagSet("oaken-latchd demo", flag.ContinueOnError)
	data := fs.String("data", "", "folder of the records and the lab's devices (made if it is not there)")
	listen := fs.String("listen", "127.0.0.1:8640", "address to listen on")
	if err := parse(fs, args, errOut); err != nil {
		return err
	}
	if *data == "" {
		return &usageError{"demo needs --data DIR"}
	}
	labDir := filepath.Join(*data, "lab")
	if err := os.MkdirAll(labDir, 0o700); err != nil {
		return err
	}
	sites, err := lab.Tidewell(labDir)
	if err != nil {
		return err
	}
	devices := map[string]*lab.Device{}
	for _, site := range sites {
		d, err := lab.Start(site.Spec)
		if err != nil {
			return fmt.Errorf("the lab cannot start; is another demo running? %w", err)
		}
		defer d.Stop()
		devices[site.Spec.Name] = d
	}
	programs := filepath.Join(*data, "probes")
	if err := probePrograms(programs); err != nil {
		return err
	}
	log := slog.New(slog.NewTextHandler(errOut, &slog.HandlerOptions{Level: slog.LevelWarn}))
	slog.SetDefault(log)
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	watching, outside, err := demoWitnesses(ctx, *data)
	if err != nil {
		return err
	}
	told := func(key string) {
		for _, w := range watching {
			if _, err := w.Trust(key); err != nil {
				log.Error("a witness of the demo does not watch over its record", "error", err)
			}
		}
	}
	s, err := service.Open(
		ctx,
		service.Options{
			Version: wire.VersionText(), Dir: *data, Make: true, Console: console.Files(), Logger: log,
			ProbePrograms: programs, Witnesses: outside, Signs: told, Names: []string{"localhost"},
			ArchivesBelow: []string{*data, os.TempDir()},
		},
	)
	if err != nil {
		return err
	}
	fresh, err := furnish(ctx, s, sites)
	if err != nil {
		return errors.Join(err, s.Close())
	}
	if fresh {
		if err := errors.Join(behindOurBack(ctx, s, devices), intendedSlip(ctx, s)); err != nil {
			return errors.Join(err, s.Close())
		}
	}
	l, err := net.Listen("tcp", *listen)
	if err != nil {
		return errors.Join(err, s.Close())
	}
	welcome(out, l.Addr().String(), fresh, sites)
	err = s.Serve(ctx, l, nil)
	_, _ = fmt.Fprintln(out, "\nThe service and the lab have stopped. The next start goes on from here.")
	return errors.Join(err, s.Close())
}

// demoWitnesses has two of the ferry line's landings watch over the record. They stand for machines
// that are none of the service's.
func demoWitnesses(ctx context.Context, data string) (watching []*witness.Witness, outside []vouch.Outside, err error) {
	for _, name := range []string{"northmole", "saltern"} {
		w, err := witness.Open(filepath.Join(data, "witness-"+name), "tidewell/"+name)
		if err != nil {
			return nil, nil, err
		}
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, nil, err
		}
		go func() {
			_ = w.Serve(ctx, l, slog.New(slog.DiscardHandler))
			_ = w.Close()
		}()
		watching, outside = append(watching, w), append(
			outside, vouch.Outside{Key: w.Key(), URL: "http://" + l.Addr().String()},
		)
	}
	return watching, outside, nil
}

// probePrograms puts an example of a probe program in place.
func probePrograms(dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	const tide = "#!/bin/sh\n# An example: it ends well for every name of a ferry but one.\n[ \"$1\" != sunk ] && " +
		"echo \"$1 answers\"\n"
	return os.WriteFile(filepath.Join(dir, "ferry-answers"), []byte(tide), 0o755)
}

// furnish makes the demo's accounts and devices on its first start.
func furnish(ctx context.Context, s *service.Service, sites []lab.Site) (fresh bool, err error) {
	fresh, err = s.Accounts.Empty(ctx)
	if err != nil || !fresh {
		return fresh, err
	}
	for _, site := range sites {
		err := s.Fleet.Add(ctx, audit.Service, fleet.NewDevice{
			Name: site.Spec.Name, Address: site.Spec.Listen, Account: lab.User, Password: lab.Password, Site: site.Site,
			Role:   site.Role,
			SeenAs: netip.AddrPortFrom(site.Spec.Management.Address, site.Spec.Management.Port).String(),
		})
		if err != nil && !errors.Is(err, store.ErrExists) { // an earlier first start may have been cut off
			return fresh, err
		}
		key, err := s.Fleet.ScanHostKey(ctx, store.Everything, site.Spec.Name)
		if err != nil {
			return fresh, err
		}
		if _, err := s.Fleet.Trust(ctx, store.Everything, audit.Service, site.Spec.Name, key.Fingerprint); err != nil {
			return fresh, err
		}
		if _, err := s.History.Read(ctx, store.Everything, site.Spec.Name, audit.Service); err != nil {
			return fresh, err
		}
	}
	// The accounts come last: without them this has not been done.
	for _, a := range demoAccounts {
		if err := s.Accounts.AddKnown(ctx, audit.Service, a.name, a.password, a.may); err != nil {
			return fresh, err
		}
	}
	return fresh, nil
}

// behindOurBack has somebody change two devices of the demo without the service:
// one that tells who it was, and one that tells nothing.
func behindOurBack(ctx context.Context, s *service.Service, devices map[string]*lab.Device) error {
	hall, slip := devices["gannet-hall"], devices["saltern-slip"]
	for range 100 { // until somebody listens
		if _, on := s.Fleet.Listening(hall.Spec.Name); on {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	c, err := netconf.Dial(ctx, hall.Address, netconf.DialOptions{Client: ssh.ClientConfig{
		User: lab.User, Auth: []ssh.AuthMethod{ssh.Password(lab.Password)},
		HostKeyCallback: ssh.FixedHostKey(hall.HostKey),
	}})
	if err != nil {
		return err
	}
	place := []byte(
		`<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><location>Gannet Point, booking hall, behind the ticket window</location></system>`,
	)
	if err := errors.Join(
		c.EditConfig(ctx, netconf.EditConfig{Target: netconf.Candidate, Config: place}), c.Commit(ctx), c.Close(ctx),
	); err != nil {
		return err
	}
	if err := slip.Console("/system/location", "Saltern slipway, shed 2"); err != nil {
		return err
	}
	for _, d := range []*lab.Device{hall, slip} {
		if _, err := s.History.Read(ctx, store.Everything, d.Spec.Name, audit.Service); err != nil {
			return err
		}
	}
	return nil
}

// slip permits more than it is meant to: a prefix of 16 bits, where 26 were.
const slip = `acls
  acl [hall-in]
    aces
      ace [slip-office]
        matches
          ipv4
            protocol: 6
            source-ipv4-network: 198.51.0.0/16
            destination-ipv4-network: 192.0.2.80/32
          tcp
            destination-port
              operator: eq
              port: 8443
        actions
          forwarding: accept
`

// intendedSlip has Mara prepare a change of a packet filter that opens more than
// it says: its preview catches that.
func intendedSlip(ctx context.Context, s *service.Service) error {
	mara := access.Person{Name: "mara", Grants: operator}
	c, err := s.Desk.Open(ctx, mara, "The slip office books online", "TF-251")
	if err != nil {
		return err
	}
	const hall, rule = "gannet-hall", "/acls/acl=hall-in/aces/ace=slip-office"
	if _, err := s.Desk.Load(
		ctx, mara, c.Number, []string{hall}, desk.Load{Mode: desk.Merge, Text: []byte(slip), Name: "slip-office.txt"},
	); err != nil {
		return err
	}
	first := "first"
	if _, err := s.Desk.Stage(
		ctx, mara, c.Number, []string{hall}, desk.Act{Op: "move", Path: rule, Value: &first},
	); err != nil {
		return err
	}
	_, err = s.Desk.Expect(
		ctx, mara, c.Number, "permit tcp from 198.51.100.64/26 to 192.0.2.80 port 8443", hall+"/hall-in",
	)
	return err
}

func welcome(out io.Writer, addr string, fresh bool, sites []lab.Site) {
	say := func(format string, args ...any) { _, _ = fmt.Fprintf(out, format+"\n", args...) }
	say("Oaken Latch, demo: Tidewell Ferries (made up)\n")
	if fresh {
		say("This is a first start: everything is as it left the yard.")
	} else {
		say("This goes on where the last demo stopped; make demo-reset starts afresh.")
	}
	say("\n  console   http://%s\n", addr)
	for _, a := range demoAccounts {
		say("  %-8s password %-12s %s", a.name, a.password, a.who)
	}
	say("")
	for _, s := range sites {
		say("  %-18s %-9s %-13s NETCONF on %s", s.Spec.Name, s.Role, s.Site, s.Spec.Listen)
	}
	say(`
Try, in another terminal:

  make tour                    the whole story, told by the client

or by hand:

  export OAKEN_LATCH_SERVER=http://%s
  echo ferry-mara > /tmp/mara && bin/latch login --user mara --password-file /tmp/mara
  bin/latch devices
  bin/latch open "Bigger frames to Saltern"
  bin/latch put 2 northmole-harbour /interfaces/interface=port1/ipv4/mtu 9000
  bin/latch preview 2
  bin/latch commit 2 --hold 1m

Ctrl-C stops all of it.`, addr)
}
