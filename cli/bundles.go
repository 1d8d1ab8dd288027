package cli

import (
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"oakenlatch/client"
	"oakenlatch/core/clip"
	"oakenlatch/wire"
	"oakenlatch/wire/bundle"
)

func export(a *app, fs *flag.FlagSet) func([]string) error {
	from := fs.String("from", "running", "the place: running, startup, rev:N, snapshot:NAME, at:TIME")
	site := fs.String("site", "", "the devices of this site")
	all := fs.Bool("all", false, "all devices, or all that a snapshot holds")
	form := fs.String("format", "xml", "xml or json (RFC 9195)")
	alone := fs.Bool("alone", false, "one device: its instance data file by itself, not in a bundle")
	return func(args []string) error {
		devices := args[1:]
		if n := len(devices); n == 0 && *site == "" && !*all || n > 0 && (*site != "" || *all) {
			return wrongUse("which devices? Name them, or give --site or --all")
		}
		if *alone && len(devices) != 1 {
			return wrongUse("--alone is of one device")
		}
		res, err := a.api().ExportConfigurations(a.ctx, client.ExportConfigurationsQuery{
			From: *from, Site: *site, Format: *form, Device: strings.Join(devices, ","),
		})
		if err != nil {
			return err
		}
		defer func() { _ = res.Body.Close() }()
		dir := filepath.Dir(args[0])
		part, err := os.CreateTemp(dir, ".latch-export-")
		if err != nil {
			return wrongUse("%v", err)
		}
		defer func() { _ = os.Remove(part.Name()) }()
		n, err := io.Copy(part, &counting{a: a, r: res.Body})
		if err == nil {
			_, err = part.Seek(0, io.SeekStart)
		}
		if err != nil {
			return errors.Join(
				fmt.Errorf("the export broke off after %d bytes; nothing was written: %w", n, err), part.Close(),
			)
		}
		m, err := bundle.Check(part, nil)
		if err != nil {
			return errors.Join(fmt.Errorf("nothing was written: %w", err), part.Close())
		}
		if *alone {
			err = a.alone(part, args[0])
		} else if err = part.Sync(); err == nil {
			err = os.Rename(part.Name(), args[0])
		}
		if err = errors.Join(err, part.Close()); err != nil {
			return err
		}
		return a.show(m, func() {
			for _, f := range m.Files {
				a.printf("  %s\n", originText(f))
			}
			a.printf(
				"%s: %s, with a digest, checked.\n", args[0], count(len(m.Files), "configuration", "configurations"),
			)
		})
	}
}

// counting tells on the terminal how much was read.
type counting struct {
	a    *app
	r    io.Reader
	read int64
	told int64
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	if c.read += int64(n); c.a.tty && !c.a.asJSON && c.read-c.told > 1<<20 {
		c.told = c.read
		_, _ = fmt.Fprintf(c.a.err, toStart+"%d MB", c.read>>20)
	}
	if err != nil && c.told > 0 {
		_, _ = fmt.Fprint(c.a.err, toStart)
	}
	return n, err
}

// alone writes the only configuration of a bundle to a file.
func (a *app) alone(part *os.File, file string) error {
	if _, err := part.Seek(0, io.SeekStart); err != nil {
		return err
	}
	return bundle.Each(part, func(_ string, _ int64, content io.Reader) error {
		text, err := io.ReadAll(content)
		if err != nil {
			return err
		}
		return os.WriteFile(file, text, 0o600)
	})
}

func originOf(f bundle.File) (o wire.Origin) {
	_ = json.Unmarshal(f.About, &o) // one that tells nothing is of nothing known
	return o
}

func originText(f bundle.File) string {
	o := originOf(f)
	text := fmt.Sprintf("%s: %s", f.Name, o.Device)
	if o.Revision != 0 {
		text += fmt.Sprintf(", revision %d", o.Revision)
	}
	if !o.At.IsZero() {
		text += ", as of " + when(o.At)
	}
	if o.Model+o.Serial != "" {
		text += ", " + strings.TrimSpace(o.Model+" "+o.Serial)
	}
	return text
}

func importFile(a *app, fs *flag.FlagSet) func([]string) error {
	b := a.bringFlags(fs)
	b.change = fs.Int64("change", 0, "stage it in this change instead of opening one")
	onto := fs.String("onto", "", "the device it is for; of a bundle, the one it is from if left out")
	pick := fs.String("device", "", "of a bundle: the configuration of this device")
	all := fs.Bool("all", false, "of a bundle: all of it, each onto the device that it is from")
	return func(args []string) error {
		text, err := a.read(args[0])
		if err != nil {
			return err
		}
		in := wire.NewImport{
			Device: *onto, Name: filepath.Base(args[0]), Change: *b.change, Title: *b.title, Ticket: *b.ticket,
			Paths: b.paths,
		}
		if *all {
			if *onto != "" || *pick != "" || len(b.paths) > 0 || *b.change != 0 {
				return wrongUse(
					"--all takes a bundle as it is: each configuration whole, onto its own device, in a " +
						"change of its own",
				)
			}
			return a.importAll(args[0], text)
		}
		if bundle.Is(text) {
			f, content, err := a.unpacked(args[0], text, *pick)
			if err != nil {
				return err
			}
			o := originOf(f)
			in.From, in.Text, in.Name = &o, string(content), in.Name+" "+f.Name
			if in.Device == "" {
				in.Device = o.Device
			}
		} else {
			in.Text = string(text)
		}
		if in.Device == "" {
			return wrongUse("which device is it for? Give --onto DEVICE")
		}
		out, err := a.api().ImportConfiguration(a.ctx, in)
		if err != nil {
			return err
		}
		return a.brought(out)
	}
}

// importAll stages all that a bundle holds.
func (a *app) importAll(name string, text []byte) error {
	if !bundle.Is(text) {
		return wrongUse("--all is of a bundle, and %s is none", name)
	}
	out, err := a.api().ImportBundle(a.ctx, client.ImportBundleQuery{}, bytes.NewReader(text))
	if err != nil {
		return err
	}
	for _, r := range out.Refused {
		_, _ = fmt.Fprintf(a.err, "%s %s\n", a.paint(alarm, "not staged:"), r)
	}
	if err := a.brought(out.BroughtBack); err != nil || len(out.Refused) == 0 {
		return err
	}
	return &exit{
		AnswerNo, fmt.Errorf("%s not staged", count(len(out.Refused), "configuration was", "configurations were")),
	}
}

// unpacked gives one configuration of a bundle that was found whole.
func (a *app) unpacked(name string, text []byte, pick string) (file bundle.File, content []byte, err error) {
	m, err := bundle.Check(bytes.NewReader(text), nil)
	if err != nil {
		return file, nil, &exit{WrongUse, fmt.Errorf("%s: %w; nothing was staged", name, err)}
	}
	if m.Kind != "export" {
		return file, nil, wrongUse(
			"%s is a bundle of kind %q; a backup of the service is put back with: oaken-latchd restore", name, m.Kind,
		)
	}
	var have []string
	for _, f := range m.Files {
		have = append(have, "  "+originText(f))
		if originOf(f).Device == pick || pick == "" && len(m.Files) == 1 {
			file = f
		}
	}
	if file.Name == "" {
		return file, nil, wrongUse(
			"which one? Give --device NAME, or --all. %s holds:\n%s", name, strings.Join(have, "\n"),
		)
	}
	err = bundle.Each(bytes.NewReader(text), func(n string, _ int64, r io.Reader) error {
		if n != file.Name {
			return nil
		}
		content, err = io.ReadAll(r)
		return err
	})
	return file, content, err
}

func carryOnto(a *app, fs *flag.FlagSet) func([]string) error {
	change := fs.Int64("change", 0, "stage it in this change instead of opening one")
	title := fs.String("title", "", "title of the change it opens")
	ticket := fs.String("ticket", "", "ticket of that change")
	return func(args []string) error {
		from, place, _ := strings.Cut(args[0], "@")
		out, err := a.api().CarryConfiguration(
			a.ctx,
			wire.NewCarry{From: from, Place: place, Onto: args[1], Change: *change, Title: *title, Ticket: *ticket},
		)
		if err != nil {
			return err
		}
		err = a.brought(out.BroughtBack)
		if !a.asJSON {
			a.owns(out.Own, from, args[1])
		}
		return err
	}
}

// owns tells what of a configuration is a device's own.
func (a *app) owns(list []wire.Own, from, onto string) {
	look := 0
	for _, o := range list {
		there := clip.Line(o.From, 50)
		if o.Kept != "" {
			a.printf("  kept: %s stays %s (%s has %s): %s\n", o.Path, clip.Line(o.Kept, 50), from, there, o.Why)
			continue
		}
		look++
		a.printf("  %s %s is %s, as on %s: %s\n", a.paint(alarm, "look at:"), o.Path, there, from, o.Why)
	}
	if look > 0 {
		a.printf(
			"%s carried as %s on %s, and must perhaps differ on %s.\n", count(look, "place was", "places were"),
			map[bool]string{true: "it is", false: "they are"}[look == 1], from, onto,
		)
	}
}
