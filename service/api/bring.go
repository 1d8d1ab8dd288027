package api

import (
	"bytes"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"oakenlatch/core/ledger"
	"oakenlatch/service/archive"
	"oakenlatch/service/audit"
	"oakenlatch/service/refusal"
	"oakenlatch/service/restore"
	"oakenlatch/service/store"
	"oakenlatch/wire"
	"oakenlatch/wire/bundle"
)

func (a *API) restore(c *call) (any, error) {
	var in wire.NewRestore
	if err := c.read(&in); err != nil {
		return nil, err
	}
	ch, list, err := a.Restorer.Restore(
		c.ctx, c.person,
		restore.Bring{
			Change: in.Change, Title: in.Title, Ticket: in.Ticket, From: in.From, Devices: in.Devices, Paths: in.Paths,
		},
	)
	if err != nil {
		return nil, err
	}
	return a.page(c).Brought(ch, list), nil
}

func (a *API) undo(c *call) (any, error) {
	var in wire.NewUndo
	if err := c.read(&in); err != nil {
		return nil, err
	}
	if in.By != "" && in.Since.IsZero() {
		return nil, refusal.New(
			refusal.Invalid, "say since when", "undoing all that %s ever did is not meant", strconv.Quote(in.By),
		)
	}
	if !in.Until.IsZero() && in.Until.Before(in.Since) {
		return nil, refusal.New(
			refusal.Invalid, "", "the period ends %s, before it begins", in.Until.Format(time.RFC3339),
		)
	}
	ch, list, err := a.Restorer.Undo(
		c.ctx, c.person,
		restore.Undo{
			Change: in.Change, By: in.By, Since: in.Since, Until: in.Until, Devices: in.Devices, Paths: in.Paths,
			Title: in.Title, Ticket: in.Ticket,
		},
	)
	if err != nil {
		return nil, err
	}
	return a.page(c).Brought(ch, list), nil
}

func (a *API) importFile(c *call) (any, error) {
	var in wire.NewImport
	if err := c.read(&in); err != nil {
		return nil, err
	}
	if in.Name == "" || utf8.RuneCountInString(in.Name) > 200 {
		return nil, refusal.New(refusal.Invalid, "", "the file's name has 1 to 200 characters")
	}
	b := restore.Bring{
		Change: in.Change, Title: in.Title, Ticket: in.Ticket, Devices: []string{in.Device}, Paths: in.Paths,
	}
	ch, list, err := a.Restorer.Import(c.ctx, c.person, b, in.Name, []byte(in.Text), originFrom(in.From))
	if err != nil {
		return nil, err
	}
	return a.page(c).Brought(ch, list), nil
}

// originFrom is what a bundle tells of a configuration; nil tells nothing.
func originFrom(o *wire.Origin) (from restore.Origin) {
	if o == nil {
		return from
	}
	from = restore.Origin{Device: o.Device, Model: o.Model, Serial: o.Serial}
	if !o.At.IsZero() {
		from.Time = o.At.UTC().Format(time.RFC3339)
	}
	return from
}

func (a *API) carry(c *call) (any, error) {
	var in wire.NewCarry
	if err := c.read(&in); err != nil {
		return nil, err
	}
	if in.Place == "" {
		in.Place = "running"
	}
	ch, k, err := a.Restorer.Carry(
		c.ctx,
		c.person,
		restore.Bring{Change: in.Change, Title: in.Title, Ticket: in.Ticket},
		in.From,
		in.Place,
		in.Onto,
	)
	if err != nil {
		return nil, err
	}
	out := wire.Carried{BroughtBack: a.page(c).Brought(ch, []restore.Brought{k.Brought}), Own: []wire.Own{}}
	for _, o := range k.Own {
		out.Own = append(out.Own, wire.Own{Path: o.Path.String(), From: o.From, Kept: o.Kept, Why: o.Why})
	}
	return out, nil
}

// export writes configurations as a bundle, device by device: however many
// they are, one is in memory at a time.
func (a *API) export(c *call) (any, error) {
	from, form := c.QueryParamOr("from", "running"), c.QueryParamOr("format", "xml")
	if form != "xml" && form != "json" {
		return nil, refusal.New(refusal.Invalid, "give xml or json", "%q is no format of an instance data file", form)
	}
	devices, err := a.exported(c, from)
	if err != nil {
		return nil, err
	}
	err = a.Log.Write(c.ctx, func(tx *audit.Tx) error {
		return tx.Record(
			ledger.Entry{
				Actor: c.person.Name, Action: "config.export",
				Note: fmt.Sprintf("%s of %d devices as %s", from, len(devices), form),
			},
		)
	})
	if err != nil {
		return nil, err
	}
	return stream(func(w http.ResponseWriter) error {
		w.Header().Set("Content-Type", "application/x-tar")
		w.Header().Set("Content-Disposition", `attachment; filename="oaken-latch-export.tar"`)
		out, err := bundle.NewWriter(
			w, "export", c.person.Name, a.Log.Now(), map[string]string{"from": from, "format": form},
		)
		if err != nil {
			return err
		}
		for _, d := range devices {
			if err = a.exportOne(c, out, d, from, form); err != nil {
				break
			}
		}
		if err == nil {
			err = out.Close()
		}
		if err != nil { // half of it is out, and must not look whole
			a.Logger.Error("an export broke off", "error", err)
			return out.BreakOff(err)
		}
		return nil
	}), nil
}

// exported gives the devices that an export is of.
func (a *API) exported(c *call, from string) ([]store.Device, error) {
	var names []string
	if text := c.QueryParam("device"); text != "" {
		names = strings.Split(text, ",")
	}
	ref, ofSnapshot := strings.CutPrefix(from, "snapshot:")
	if !ofSnapshot || len(names) > 0 || c.QueryParam("site") != "" {
		return a.some(c, names, c.QueryParam("site"), len(names) == 0 && c.QueryParam("site") == "")
	}
	s, err := a.History.FindSnapshot(c.ctx, ref)
	if err != nil {
		return nil, err
	}
	t, err := a.History.TakenOf(c.ctx, c.person.Reach(), s.Number)
	var out []store.Device
	for _, i := range t.Items {
		out = append(out, i.Device)
	}
	return out, err
}

func (a *API) exportOne(c *call, out *bundle.Writer, d store.Device, from, form string) error {
	r, err := a.Desk.From(c.ctx, c.person, d, from)
	if err != nil {
		return err
	}
	at := r.Revision.At
	if at.IsZero() || from == "running" || from == "startup" || from == "candidate" {
		at = a.Log.Now()
	}
	text := archive.InstanceOf(
		r.Schema, d, a.page(c).Redactor(d).Tree(r.Running), at, r.Revision.Number, from, form == "json",
	)
	about := wire.Origin{
		Device: d.Name, Site: d.Site, Model: d.Model, Serial: d.Serial, Revision: r.Revision.Number, At: at,
		Cause: r.Revision.Source, Change: r.Revision.Change,
	}
	return out.Add(
		archive.Folder(d)+"/"+archive.FileName(d.Name)+"."+form, int64(len(text)), bytes.NewReader(text), about,
	)
}
