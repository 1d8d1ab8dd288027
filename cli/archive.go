package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"strings"
	"time"

	"oakenlatch/client"
	"oakenlatch/core/clip"
	"oakenlatch/wire"
)

func archiveList(a *app, _ *flag.FlagSet) func([]string) error {
	return func([]string) error {
		list, err := a.api().ListArchives(a.ctx)
		if err != nil {
			return err
		}
		return a.show(list, func() {
			var rows [][]string
			for _, x := range list {
				rows = append(
					rows, []string{x.Name, x.Kind, x.Place, archiveWhen(x), fmt.Sprint(x.Copies), when(x.Copied)},
				)
			}
			a.table([]string{"ARCHIVE", "KIND", "PLACE", "COPIES", "HOLDS", "UP TO DATE"}, rows)
			for _, x := range list {
				a.archiveNotes(x)
			}
			if len(list) == 0 {
				a.printf(
					"There is no archive: nothing is copied off this machine.\nAdd one: latch archive add away " +
						"--sftp 198.51.100.20:22/archive --user copies --key-file key\n",
				)
			}
		})
	}
}

func archiveWhen(x wire.Archive) string {
	var out []string
	if x.AfterChange {
		out = append(out, "after each change")
	}
	if x.EverySeconds > 0 {
		out = append(out, "every "+spell(time.Duration(x.EverySeconds)*time.Second))
	}
	if x.KeepLast > 0 {
		text := fmt.Sprintf("keeps %d", x.KeepLast)
		if x.KeepDays > 0 {
			text += fmt.Sprintf(" and %dd", x.KeepDays)
		}
		out = append(out, text)
	}
	if len(out) == 0 {
		return "by hand"
	}
	return strings.Join(out, ", ")
}

// archiveNotes tells what is to be known of an archive.
func (a *app) archiveNotes(x wire.Archive) {
	if !x.Trusted {
		a.printf(
			"  %s %s: nobody accepted its host key yet: latch archive trust %s\n", a.paint(alarm, "!"), x.Name, x.Name,
		)
	}
	if x.Trouble != "" {
		a.printf(
			"  %s %s does not take copies since %s: %s\n", a.paint(alarm, "!"), x.Name, when(x.TroubleAt), x.Trouble,
		)
	}
	if x.Stale {
		a.printf(
			"  %s %s is stale: it was to be brought up to date every %s\n", a.paint(alarm, "!"), x.Name,
			spell(time.Duration(x.EverySeconds)*time.Second),
		)
	}
	if x.Damaged > 0 {
		a.printf(
			"  %s %s: %s not read back whole: latch archive verify %s\n", a.paint(alarm, "!"), x.Name,
			count(x.Damaged, "copy did", "copies did"), x.Name,
		)
	}
	if x.Caveat != "" {
		a.printf("  %s %s: %s\n", a.paint(alarm, "!"), x.Name, x.Caveat)
	}
}

func archiveAdd(a *app, fs *flag.FlagSet) func([]string) error {
	kinds := map[string]*string{
		"folder": fs.String("folder", "", "a folder of the service's machine, such as a mounted share"),
		"sftp":   fs.String("sftp", "", "a folder on an SFTP server: HOST:PORT/FOLDER"),
		"git":    fs.String("git", "", "a git repository, as git takes it; branch main"),
	}
	user := fs.String("user", "", "with --sftp: the account there")
	password := fs.String("password-file", "", "with --sftp: file with its password")
	key := fs.String("key-file", "", "with --sftp and --git: file with its private key")
	byHand := fs.Bool("by-hand", false, "do not copy after each change")
	var every span
	fs.Var(&every, "every", "also bring it up to date so often, e.g. 24h")
	last := fs.Int("keep-last", 0, "keep so many copies of a device; 0 keeps all")
	days := fs.Int("keep-days", 0, "with --keep-last: keep those younger too")
	return func(args []string) error {
		in := wire.NewArchive{
			Name: args[0], Account: *user, AfterChange: !*byHand, EverySeconds: every.seconds(), KeepLast: *last,
			KeepDays: *days,
		}
		for kind, place := range kinds {
			if *place == "" {
				continue
			}
			if in.Kind != "" {
				return wrongUse("give one of --folder, --sftp, --git")
			}
			in.Kind, in.Place = kind, *place
		}
		if in.Kind == "" {
			return wrongUse("where? Give --folder, --sftp or --git")
		}
		if in.Kind == "sftp" || *key != "" {
			var err error
			if in.Password, in.PrivateKey, err = a.secrets(
				*password, *key, "password of "+in.Account+" on "+in.Place,
			); err != nil {
				return err
			}
		}
		x, err := a.api().AddArchive(a.ctx, in)
		if err != nil {
			return err
		}
		return a.show(x, func() {
			a.printf("Archive %s: %s %s, %s.\n", x.Name, x.Kind, x.Place, archiveWhen(x))
			a.archiveNotes(x)
			if x.Trusted {
				a.printf("Copy now: latch archive copy --to %s\n", x.Name)
			}
		})
	}
}

func archiveTrust(a *app, fs *flag.FlagSet) func([]string) error {
	accept := a.trustFlags(fs)
	return func(args []string) error {
		return accept(hostKeyOf{
			shown: func() (wire.HostKey, error) { return a.api().ArchiveHostKey(a.ctx, args[0]) },
			trust: func(t wire.Trust) (wire.HostKey, error) { return a.api().TrustArchive(a.ctx, args[0], t) },
		}, "what the server itself shows", func(k wire.HostKey) {
			a.printf("Accepted. Copy now: latch archive copy --to %s\n", k.Device)
		})
	}
}

func archiveSet(a *app, fs *flag.FlagSet) func([]string) error {
	first := fs.Int64("position", 0, "its place in the order in which archives are tried, from 1")
	after := fs.String("after-change", "", "yes or no: copy after each change")
	every := fs.String("every", "", "bring it up to date so often; 0s: not by itself")
	last := fs.Int("keep-last", -1, "keep so many copies of a device; 0 keeps all")
	days := fs.Int("keep-days", -1, "keep those younger too")
	retire := fs.Bool("retire", false, "use it no more; what it holds stays there")
	return func(args []string) error {
		var in wire.ArchiveSettings
		if *first > 0 {
			in.Position = first
		}
		switch *after {
		case "":
		case "yes", "no":
			on := *after == "yes"
			in.AfterChange = &on
		default:
			return wrongUse("--after-change is yes or no, not %q", *after)
		}
		if *every != "" {
			d, err := parseSpan(*every)
			if err != nil {
				return wrongUse("%v", err)
			}
			seconds := int64(d / time.Second)
			in.EverySeconds = &seconds
		}
		if *last >= 0 {
			in.KeepLast = last
		}
		if *days >= 0 {
			in.KeepDays = days
		}
		if *retire {
			in.Retired = retire
		}
		x, err := a.api().SetArchive(a.ctx, args[0], in)
		if err != nil {
			return err
		}
		return a.show(x, func() {
			if *retire {
				a.printf("Archive %s is used no more. What it holds stays there.\n", x.Name)
				return
			}
			a.printf("Archive %s: place %d, %s.\n", x.Name, x.Position, archiveWhen(x))
		})
	}
}

// await follows long work until it is over; an interrupt stops it.
func (a *app) await(j wire.Job, result any) error {
	ctx, stop := signal.NotifyContext(a.ctx, os.Interrupt)
	defer stop()
	shown := ""
	progress := func(j wire.Job) {
		if a.tty && !a.asJSON && j.Total > 0 {
			shown = fmt.Sprintf("%d of %d  %s", j.Done, j.Total, clip.Line(j.Doing, 60))
			_, _ = fmt.Fprintf(a.err, toStart+"%s", shown)
		}
	}
	id := j.ID
	j, err := a.api().Await(ctx, j, result, progress)
	if err != nil && ctx.Err() != nil {
		a.ctx = context.WithoutCancel(a.ctx)
		if err := a.api().StopJob(a.ctx, id); err != nil {
			return err
		}
		j, err = a.api().Await(a.ctx, wire.Job{ID: id, State: wire.JobRunning}, result, progress)
	}
	if err != nil {
		return err
	}
	if shown != "" {
		_, _ = fmt.Fprint(a.err, toStart)
	}
	switch j.State {
	case wire.JobStopped:
		return &exit{Refused, fmt.Errorf("stopped at %d of %d; what was done stays done", j.Done, j.Total)}
	case wire.JobFailed:
		return &exit{Refused, errors.New(told(&wire.Problem{Detail: j.Trouble, Next: j.Next}))}
	}
	return nil
}

func archiveCopy(a *app, fs *flag.FlagSet) func([]string) error {
	to := fs.String("to", "", "the archive; the first that takes it if left out")
	return func(args []string) error {
		j, err := a.api().CopyNow(a.ctx, wire.NewCopy{Archive: *to, Devices: args})
		if err != nil {
			return err
		}
		var k wire.Copied
		if err := a.await(j, &k); err != nil {
			return err
		}
		return a.show(k, func() {
			for _, f := range k.Failed {
				a.printf("  %s %s\n", a.paint(alarm, "not taken by"), f)
			}
			a.printf("%s: %s made, each read back and compared.\n", k.Archive, count(k.Copies, "copy", "copies"))
			if k.Gone > 0 {
				a.printf("%s dropped by the rules of retention.\n", count(k.Gone, "copy was", "copies were"))
			}
		})
	}
}

func archiveCopies(a *app, fs *flag.FlagSet) func([]string) error {
	device := fs.String("device", "", "those of this device")
	archive := fs.String("archive", "", "those in this archive")
	return func([]string) error {
		list, err := a.api().ListCopies(a.ctx, client.ListCopiesQuery{Device: *device, Archive: *archive})
		if err != nil {
			return err
		}
		return a.show(list, func() {
			var rows [][]string
			for _, k := range list {
				state := "whole, read " + when(k.Read)
				if k.Trouble != "" {
					state = a.paint(alarm, "DAMAGED: ") + k.Trouble
				}
				rows = append(
					rows,
					[]string{
						fmt.Sprintf("archive:%d", k.ID), k.Device, fmt.Sprint(k.Revision), k.Archive, k.Name, state,
					},
				)
			}
			a.table([]string{"PLACE", "DEVICE", "REVISION", "ARCHIVE", "NAME", "STATE"}, rows)
			switch len(list) {
			case 0:
				a.printf("There are no copies.\n")
			default:
				a.printf(
					"Read one: latch archive read %d. Compare it: latch compare %s@archive:%d %s\n", list[0].ID,
					list[0].Device, list[0].ID, list[0].Device,
				)
			}
		})
	}
}

func archiveRead(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		n, err := numbered("a copy", strings.TrimPrefix(args[0], "archive:"), "latch archive copies")
		if err != nil {
			return err
		}
		k, err := a.api().ReadCopy(a.ctx, n)
		if err != nil {
			return err
		}
		return a.show(k, func() { _ = a.exact(k.Text) })
	}
}

func archiveMend(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		id := strings.TrimPrefix(args[0], "archive:")
		n, err := numbered("a copy", id, "latch archive copies")
		if err != nil {
			return err
		}
		if err := a.api().MendFromCopy(a.ctx, n); err != nil {
			return err
		}
		return a.show(
			map[string]string{"repaired": id},
			func() { a.printf("Copy %s stands in its place now; the record says so.\n", id) },
		)
	}
}

func archiveVerify(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		j, err := a.api().VerifyArchive(a.ctx, args[0])
		if err != nil {
			return err
		}
		var v wire.VerifiedArchive
		if err := a.await(j, &v); err != nil {
			return err
		}
		err = a.show(v, func() {
			for _, w := range v.Wrong {
				a.printf("  %s %s\n", a.paint(alarm, "damaged:"), w)
			}
			a.printf("%s: %d of %s read back whole.\n", v.Archive, v.Whole, count(v.Copies, "copy", "copies"))
			if len(v.Wrong) > 0 {
				a.printf("Make those again: latch archive copy --to %s\n", v.Archive)
			}
		})
		if err == nil && len(v.Wrong) > 0 {
			err = &exit{status: AnswerNo}
		}
		return err
	}
}

func archiveRestore(a *app, fs *flag.FlagSet) func([]string) error {
	yes := fs.Bool("yes", false, "do not ask")
	return func(args []string) error {
		if !*yes && !a.agree(
			fmt.Sprintf(
				"Devices and revisions that archive %s holds and this service does not know are made again. What it "+
					"knows stays. Go on?",
				args[0],
			),
		) {
			return &exit{Refused, fmt.Errorf("nothing was made; without a terminal, give --yes")}
		}
		j, err := a.api().RebuildFromArchive(a.ctx, args[0])
		if err != nil {
			return err
		}
		var r wire.Rebuilt
		if err := a.await(j, &r); err != nil {
			return err
		}
		return a.show(r, func() {
			for _, s := range r.Skipped {
				a.printf("  %s %s\n", a.paint(alarm, "left:"), s)
			}
			a.printf(
				"%s made again, of %s that %s not known: %s\n", count(r.Revisions, "revision", "revisions"),
				count(len(r.Devices), "device", "devices"),
				map[bool]string{true: "was", false: "were"}[len(r.Devices) == 1], strings.Join(r.Devices, ", "),
			)
			if len(r.Devices) > 0 {
				a.printf(
					"Their passwords and keys are in no archive. Give each one: latch device replace %s --address "+
						"HOST:PORT --user U --password-file F\n",
					r.Devices[0],
				)
			}
		})
	}
}

func backups(a *app, _ *flag.FlagSet) func([]string) error {
	return func([]string) error {
		list, err := a.api().ListStandings(a.ctx)
		if err != nil {
			return err
		}
		behind, uncopied := 0, false
		err = a.show(list, func() {
			var rows [][]string
			for _, s := range list {
				state := "complete"
				if s.Copy == 0 {
					state, uncopied = "not copied", true
				}
				if len(s.Behind) > 0 {
					behind++
					var says []string
					for _, b := range s.Behind {
						says = append(says, map[string]string{
							"startup": "not saved to startup", "copy": "newest not copied",
						}[b])
					}
					state = a.paint(alarm, strings.Join(says, ", "))
				}
				copied := when(s.Copied)
				if s.Copy != 0 {
					copied += fmt.Sprintf(", revision %d in %s", s.Copy, s.Archive)
				}
				rows = append(
					rows,
					[]string{
						s.Device, fmt.Sprintf("%s, revision %d", when(s.Changed), s.Revision), when(s.Saved), copied,
						state,
					},
				)
			}
			a.table([]string{"DEVICE", "CHANGED", "SAVED", "COPIED", "BACKUP"}, rows)
			if uncopied && behind == 0 {
				a.printf("Nothing is copied off this machine: see latch archive add --help\n")
			}
		})
		if err == nil && behind > 0 {
			err = &exit{status: AnswerNo}
		}
		return err
	}
}
