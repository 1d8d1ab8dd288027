package api

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"oakenlatch/service/refusal"
	"oakenlatch/service/restore"
	"oakenlatch/service/store"
	"oakenlatch/wire"
	"oakenlatch/wire/bundle"
)

// importBundle stages what a bundle holds in one change: all of it, or what is
// of some devices, each configuration onto the device that it is from.
func (a *API) importBundle(c *call) (any, error) {
	text, err := io.ReadAll(c.Request().Body)
	if err != nil {
		return nil, err
	}
	m, err := bundle.Check(bytes.NewReader(text), nil)
	if err != nil {
		return nil, refusal.New(refusal.Invalid, "nothing was staged", "%v", err)
	}
	if m.Kind != "export" {
		return nil, refusal.New(
			refusal.Invalid, "a backup of the service is put back with: oaken-latchd restore",
			"this is a bundle of kind %q; nothing was staged", m.Kind,
		)
	}
	origins, have := map[string]wire.Origin{}, []string{}
	for _, f := range m.Files {
		var o wire.Origin
		if json.Unmarshal(f.About, &o) != nil || o.Device == "" {
			o.Device = f.Name // nobody's: what is refused names the file
		}
		origins[f.Name] = o
		have = append(have, o.Device)
	}
	var only []string
	if q := c.QueryParam("device"); q != "" {
		only = strings.Split(q, ",")
	}
	for _, name := range only {
		if !slices.Contains(have, name) {
			return nil, refusal.New(
				refusal.NotFound, "", "the bundle holds nothing of %s; it holds %s", name,
				strings.Join(have[:min(len(have), 20)], ", "),
			)
		}
	}
	onto := c.QueryParam("onto")
	if onto != "" && len(only) != 1 && len(have) != 1 {
		return nil, refusal.New(
			refusal.Invalid, "say which one with device", "the bundle holds %d configurations, and one goes onto %s",
			len(have), onto,
		)
	}
	in := &bundleImport{
		a: a, c: c, title: fmt.Sprintf("Import a bundle of %s", m.Made.UTC().Format("2006-01-02 15:04 UTC")),
	}
	err = bundle.Each(bytes.NewReader(text), func(name string, _ int64, r io.Reader) error {
		o, ok := origins[name]
		if !ok || len(only) > 0 && !slices.Contains(only, o.Device) {
			return nil
		}
		return in.one(name, o, onto, r)
	})
	if err != nil {
		return nil, err
	}
	if in.staged == 0 && len(in.refused) > 0 {
		return nil, refusal.New(refusal.Invalid, "nothing was staged", "%s", strings.Join(in.refused, "; "))
	}
	return wire.ImportedBundle{BroughtBack: a.page(c).Brought(in.change, in.parts), Refused: in.refused}, nil
}

// bundleImport is a bundle's import as it goes on.
type bundleImport struct {
	a       *API
	c       *call
	title   string
	change  store.Change
	parts   []restore.Brought
	staged  int
	refused []string
}

// one stages one configuration. What is refused of it does not keep the others
// from being staged.
func (in *bundleImport) one(name string, o wire.Origin, onto string, r io.Reader) error {
	text, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	if onto == "" {
		onto = o.Device
	}
	b := restore.Bring{Change: in.change.Number, Title: in.title, Devices: []string{onto}}
	ch, parts, err := in.a.Restorer.Import(in.c.ctx, in.c.person, b, name, text, originFrom(&o))
	var no *refusal.Error
	switch {
	case errors.As(err, &no):
		in.refused = append(in.refused, fmt.Sprintf("%s: %s", name, no.Error()))
	case err != nil:
		return err
	default:
		in.staged++
		in.parts = append(in.parts, parts...)
		if ch.Number != 0 {
			in.change = ch
		}
	}
	return nil
}
