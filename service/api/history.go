package api

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/ledger"
	"oakenlatch/core/markup"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/service/access"
	"oakenlatch/service/archive"
	"oakenlatch/service/audit"
	"oakenlatch/service/desk"
	"oakenlatch/service/history"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/wire"
	"oakenlatch/wire/bundle"
)

// historyRoutes are those about what was.
func (a *API) historyRoutes() []route {
	return []route{
		{"GET", "/devices/:name/revisions", "A device's revisions, newest first; line is running or startup", access.Viewer, 200, nil, []wire.Revision{}, []string{"line"}, a.revisions},
		{"GET", "/devices/:name/timeline", "What happened to a device, newest first", access.Viewer, 200, nil, []wire.Moment{}, nil, a.timeline},
		{"GET", "/devices/:name/blame", "Who last set each line, at a path and below it", access.Viewer, 200, nil, wire.Blame{}, []string{"path"}, a.blame},
		{"GET", "/devices/:name/history", "What happened at a path and below it, oldest first", access.Viewer, 200, nil, wire.Life{}, []string{"path"}, a.life},
		{"GET", "/snapshots", "The snapshots, newest first; of a device; retired=true has those too", access.Viewer, 200, nil, []wire.Snapshot{}, []string{"device", "retired"}, a.snapshots},
		{"POST", "/snapshots", "Name the state that devices are in now", access.Operator, 201, wire.NewSnapshot{}, wire.Snapshot{}, nil, a.takeSnapshot},
		{"GET", "/snapshots/:ref", "One snapshot, by its number or name", access.Viewer, 200, nil, wire.Snapshot{}, nil, a.snapshot},
		{"PATCH", "/snapshots/:ref", "Give a snapshot another name or note, protect it, retire it", access.Operator, 200, wire.Relabel{}, wire.Snapshot{}, nil, a.relabel},
		{"GET", "/compare", "Any two configurations; a and b are DEVICE@PLACE, with a place as for config; context, path, and as another form (unified, edit-config, yang-patch, yang-patch-json)", access.Viewer, 200, nil, wire.Comparison{}, []string{"a", "b", "path", "context", "as"}, a.compare},
		{"GET", "/compare/fleet", "Many devices between two moments, in sum; from and to are snapshot:NAME, at:TIME or running; of a site, or of devices", access.Viewer, 200, nil, wire.FleetComparison{}, []string{"from", "to", "site", "device"}, a.compareFleet},
		{"POST", "/restore", "Stage a configuration, or parts of it, as it was", access.Operator, 201, wire.NewRestore{}, wire.BroughtBack{}, nil, a.restore},
		{"GET", "/export", "Configurations as a bundle (tar, docs/bundles.md): of a place or a snapshot; of devices, a site, or all; format is xml or json", access.Viewer, 200, nil, nil, []string{"from", "device", "site", "format"}, a.export},
		{"POST", "/import", "Stage a configuration from a file, whole or in parts", access.Operator, 201, wire.NewImport{}, wire.BroughtBack{}, nil, a.importFile},
		{"POST", "/carry", "Stage one device's configuration on another; what is its own stays", access.Operator, 201, wire.NewCarry{}, wire.Carried{}, nil, a.carry},
		{"POST", "/undo", "Stage that a kept change, or all of a person's, is taken back", access.Operator, 201, wire.NewUndo{}, wire.BroughtBack{}, nil, a.undo},
	}
}

// told gives revisions as documents, with what is known of their changes.
type told struct {
	a       *API
	c       *call
	changes map[int64]store.Change
}

func (a *API) telling(c *call) *told { return &told{a, c, map[int64]store.Change{}} }

func (t *told) change(n int64) (store.Change, error) {
	if have, ok := t.changes[n]; ok || n == 0 {
		return have, nil
	}
	ch, err := t.a.Store.Change(t.c.ctx, n)
	t.changes[n] = ch
	return ch, err
}

func (t *told) revision(r store.Revision) (wire.Revision, error) {
	ch, err := t.change(r.Change)
	return wire.Revision{Number: r.Number, At: r.At, Source: r.Source, Change: r.Change, Title: ch.Title, Ticket: ch.Ticket, Author: ch.Author, Actor: r.Actor, Note: r.Note, Digest: r.Digest}, err
}

func (t *told) revisions(list []store.Revision) ([]wire.Revision, error) {
	out := make([]wire.Revision, 0, len(list))
	for _, r := range list {
		doc, err := t.revision(r)
		if err != nil {
			return nil, err
		}
		out = append(out, doc)
	}
	return out, nil
}

func (a *API) revisions(c *call) (any, error) {
	d, err := a.deviceParam(c)
	if err != nil {
		return nil, err
	}
	var list []store.Revision
	switch line := c.QueryParamOr("line", "running"); line {
	case "running":
		list, err = a.Store.Revisions(c.ctx, d.ID)
	case "startup":
		list, err = a.Store.Startups(c.ctx, d.ID)
	default:
		return nil, refusal.New(refusal.Invalid, "give running or startup", "%q is no line of revisions", line)
	}
	if err != nil {
		return nil, err
	}
	return a.telling(c).revisions(list)
}

var causeText = map[string]string{
	"first": "seen for the first time", "outside": "changed, not by this service", "replaced": "another box was put in its place", "rebuilt": "rebuilt from an archive",
}

func (a *API) timeline(c *call) (any, error) {
	d, err := a.deviceParam(c)
	if err != nil {
		return nil, err
	}
	t := a.telling(c)
	out := []wire.Moment{}
	revs, err := a.Store.Revisions(c.ctx, d.ID)
	if err != nil {
		return nil, err
	}
	for _, r := range revs {
		ch, err := t.change(r.Change)
		if err != nil {
			return nil, err
		}
		m := wire.Moment{At: r.At, Kind: r.Source, Text: causeText[r.Source], Actor: r.Actor, Revision: r.Number, Change: r.Change}
		if r.Change != 0 {
			m.Text = ch.Title
		}
		out = append(out, m)
	}
	saves, err := a.Store.Startups(c.ctx, d.ID)
	if err != nil {
		return nil, err
	}
	for _, r := range saves {
		m := wire.Moment{At: r.At, Kind: "saved", Text: "saved to startup", Actor: r.Actor, Startup: r.Number, Change: r.Change}
		switch r.Source {
		case "first":
			continue // nothing happened: it was seen
		case "outside":
			m.Kind, m.Text = "saved-outside", "saved to startup, not by this service"
		}
		out = append(out, m)
	}
	snaps, err := a.Store.Snapshots(c.ctx, d.ID)
	if err != nil {
		return nil, err
	}
	for _, s := range snaps {
		if s.Retired.IsZero() && s.Change == 0 {
			out = append(out, wire.Moment{At: s.At, Kind: "snapshot", Text: s.Name, Actor: s.Actor, Snapshot: s.Number})
		}
	}
	commits, err := a.Store.CommitsOn(c.ctx, d.ID)
	if err != nil {
		return nil, err
	}
	for _, k := range commits {
		m := wire.Moment{At: k.Started, Text: k.Title, Actor: k.Actor, Change: k.Change}
		switch {
		case !k.Ended.IsZero() && k.State == "kept" && k.Newest:
			continue // its revision tells
		case !k.Newest, k.State == "reverted", k.State == "failed":
			m.Kind, m.At = "reverted", k.Ended
			if k.Newest {
				m.Kind, m.Text = k.State, k.Title+": "+k.Reason
			}
		default:
			m.Kind = "holding"
		}
		out = append(out, m)
	}
	slices.SortStableFunc(out, func(x, y wire.Moment) int { return y.At.Compare(x.At) })
	return out, nil
}

// pathParam reads the path that a request is about.
func pathParam(c *call, s *schema.Schema, device string) (tree.Path, error) {
	path, err := tree.ParsePath(s, c.QueryParamOr("path", "/"))
	if err != nil {
		return nil, refusal.New(refusal.Invalid, "", "%s: %v", device, err)
	}
	return path, nil
}

// follow hands out a device's trail with the path that is asked about.
func (a *API) follow(c *call, use func(d store.Device, t *history.Trail, path tree.Path) error) error {
	d, err := a.deviceParam(c)
	if err != nil {
		return err
	}
	err = a.History.Follow(c.ctx, d, func(t *history.Trail) error {
		path, err := pathParam(c, t.Schema, d.Name)
		if err != nil {
			return err
		}
		return use(d, t, path)
	})
	if errors.Is(err, store.ErrNotFound) {
		return refusal.New(refusal.NotFound, "read it first: latch config "+d.Name, "%s was never read", d.Name)
	}
	return err
}

// named gathers the revisions that a document names, newest first.
func (a *API) named(c *call, t *history.Trail, steps map[int64]bool) ([]wire.Revision, error) {
	var list []store.Revision
	for n := range steps {
		list = append(list, t.By(n))
	}
	slices.SortFunc(list, func(x, y store.Revision) int { return cmp.Compare(y.Number, x.Number) })
	return a.telling(c).revisions(list)
}

func (a *API) blame(c *call) (any, error) {
	out := wire.Blame{Lines: []wire.BlameLine{}, Gone: []wire.GoneLine{}}
	return out, a.follow(c, func(d store.Device, t *history.Trail, path tree.Path) error {
		out.Device, out.Path, out.Revision = d.Name, path.String(), t.Last.Number
		named := map[int64]bool{}
		for _, l := range t.Lines(t.Now.Cut(path), nil) {
			line := wire.BlameLine{Depth: l.Depth, Text: l.Text, Path: l.Path.String()}
			if !l.Leads {
				line.Revision = t.By(l.Step).Number
				named[l.Step] = true
			}
			out.Lines = append(out.Lines, line)
		}
		for _, e := range t.Gone(t.Now, path) {
			out.Gone = append(out.Gone, wire.GoneLine{Path: e.Path.String(), Was: codec.Text(e.Old), Revision: e.Step})
			named[e.Step] = true
		}
		if len(out.Lines) == 0 && len(out.Gone) == 0 {
			return refusal.New(refusal.NotFound, "", "%s has nothing at %s, and never had", d.Name, path)
		}
		var err error
		out.Revisions, err = a.named(c, t, named)
		return err
	})
}

func (a *API) life(c *call) (any, error) {
	out := wire.Life{Events: []wire.LifeStep{}}
	return out, a.follow(c, func(d store.Device, t *history.Trail, path tree.Path) error {
		out.Device, out.Path, out.Now = d.Name, path.String(), codec.Text(t.Now.At(path))
		if len(path) == 0 {
			return refusal.New(refusal.Invalid, "name a path; for the whole: latch revisions "+d.Name, "the life of the whole configuration is its revisions")
		}
		named := map[int64]bool{}
		events := t.Life(path)
		first := t.Now.At(path)
		if len(events) > 0 {
			first = nil
			if e := events[0]; e.Path.Full() == path.Full() {
				first = e.Old
			}
		}
		if first != nil { // as it was when the device was first seen
			out.Events = append(out.Events, wire.LifeStep{Revision: t.First.Number, Kind: diff.Added, Path: path.String(), New: codec.Text(first)})
			named[0] = true
		}
		for _, e := range events {
			out.Events = append(out.Events, wire.LifeStep{Revision: e.Step, Kind: e.Kind, Path: e.Path.String(), Old: codec.Text(e.Old), New: codec.Text(e.New)})
			named[e.Step] = true
		}
		if len(out.Events) == 0 {
			return refusal.New(refusal.NotFound, "", "%s has nothing at %s, and never had", d.Name, path)
		}
		var err error
		out.Revisions, err = a.named(c, t, named)
		return err
	})
}

func snapshotDoc(s store.Snapshot) wire.Snapshot {
	return wire.Snapshot{Number: s.Number, Name: s.Name, Note: s.Note, Actor: s.Actor, At: s.At, Change: s.Change, Protected: s.Protected, Retired: s.Retired, RetiredBy: s.RetiredBy, Devices: s.Devices}
}

func takenDoc(t history.Taken) wire.Snapshot {
	out := snapshotDoc(t.Snapshot)
	for _, i := range t.Items {
		out.Items = append(out.Items, wire.SnapshotItem{Device: i.Device.Name, Revision: i.Revision, At: i.At, Unclean: i.Unclean})
		out.Unclean = out.Unclean || len(i.Unclean) > 0
	}
	return out
}

func (a *API) snapshots(c *call) (any, error) {
	var device int64
	if name := c.QueryParam("device"); name != "" {
		d, err := a.Store.Device(c.ctx, name)
		if errors.Is(err, store.ErrNotFound) {
			return nil, noDevice(name)
		}
		if err != nil {
			return nil, err
		}
		device = d.ID
	}
	list, err := a.Store.Snapshots(c.ctx, device)
	out := make([]wire.Snapshot, 0, len(list))
	for _, s := range list {
		if s.Retired.IsZero() || c.QueryParam("retired") == "true" {
			out = append(out, snapshotDoc(s))
		}
	}
	return out, err
}

// some gives the devices that a request means: those named, of a site, or all.
func (a *API) some(c *call, names []string, site string, all bool) ([]store.Device, error) {
	if n := min(len(names), 1) + min(len(site), 1); n > 1 || n == 1 && all {
		return nil, refusal.New(refusal.Invalid, "", "name devices, or a site, or say all: one of these")
	}
	list, err := a.Store.Devices(c.ctx)
	if err != nil {
		return nil, err
	}
	switch {
	case len(names) > 0:
		var out []store.Device
		for _, name := range names {
			i := slices.IndexFunc(list, func(d store.Device) bool { return d.Name == name })
			if i < 0 {
				return nil, noDevice(name)
			}
			if !slices.ContainsFunc(out, func(d store.Device) bool { return d.Name == name }) {
				out = append(out, list[i])
			}
		}
		return out, nil
	case site != "":
		list = slices.DeleteFunc(list, func(d store.Device) bool { return !strings.EqualFold(d.Site, site) })
		if len(list) == 0 {
			return nil, refusal.New(refusal.NotFound, "see the sites with: latch devices", "there is no device at site %q", site)
		}
	case !all:
		return nil, refusal.New(refusal.Invalid, "name devices, a site, or say all", "no device is named")
	}
	return list, nil
}

func (a *API) takeSnapshot(c *call) (any, error) {
	var in wire.NewSnapshot
	if err := c.read(&in); err != nil {
		return nil, err
	}
	devices, err := a.some(c, in.Devices, in.Site, in.All)
	if err != nil {
		return nil, err
	}
	t, err := a.History.Snapshot(c.ctx, c.person.Name, in.Name, in.Note, devices)
	return takenDoc(t), err
}

func (a *API) snapshotParam(c *call) (store.Snapshot, error) {
	return a.History.FindSnapshot(c.ctx, c.Param("ref"))
}

func (a *API) snapshot(c *call) (any, error) {
	s, err := a.snapshotParam(c)
	if err != nil {
		return nil, err
	}
	t, err := a.History.TakenOf(c.ctx, s.Number)
	return takenDoc(t), err
}

func (a *API) relabel(c *call) (any, error) {
	s, err := a.snapshotParam(c)
	if err != nil {
		return nil, err
	}
	var in wire.Relabel
	if err := c.read(&in); err != nil {
		return nil, err
	}
	t, err := a.History.Relabel(c.ctx, c.person.Name, s.Number, history.Relabel{Name: in.Name, Note: in.Note, Protected: in.Protected, Retired: in.Retired})
	return takenDoc(t), err
}

// placed reads what DEVICE@PLACE means.
func (a *API) placed(c *call, text string) (history.Reading, error) {
	name, from, ok := strings.Cut(text, "@")
	if !ok {
		from = "running"
	}
	d, err := a.Store.Device(c.ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return history.Reading{}, noDevice(name)
	}
	if err != nil {
		return history.Reading{}, err
	}
	return a.Desk.From(c.ctx, c.person, d, from)
}

func (a *API) compare(c *call) (any, error) {
	context, err := contextParam(c)
	if err != nil {
		return nil, err
	}
	out := wire.Comparison{A: c.QueryParam("a"), B: c.QueryParam("b")}
	x, err := a.placed(c, out.A)
	if err != nil {
		return nil, err
	}
	y, err := a.placed(c, out.B)
	if err != nil {
		return nil, err
	}
	if x.Schema != y.Schema { // by the modules of the first; what they do not know is carried
		text := codec.XML(y.Schema, y.Running, markup.Name{Space: codec.NetconfNS, Local: "config"})
		if y.Running, err = (codec.Decoder{Schema: x.Schema}).ParseTree(text); err != nil {
			return nil, refusal.New(refusal.Conflict, "", "%s cannot be read by the modules of %s: %v", out.B, x.Device.Name, err)
		}
	}
	path, err := pathParam(c, x.Schema, x.Device.Name)
	if err != nil {
		return nil, err
	}
	left, right := x.Running.WithoutDefaults(), y.Running.WithoutDefaults()
	if len(path) > 0 {
		out.Path, left, right = path.String(), left.Cut(path), right.Cut(path)
	}
	df := diff.Compare(left, right)
	out.Count, out.Lines, out.Items = df.Count(), lines(df, context), items(df)
	out.Rendered = renderedAs(df, x.Schema, c.QueryParam("as"), out.A, out.B, context)
	return out, nil
}

// compareFleet compares many devices between two moments.
func (a *API) compareFleet(c *call) (any, error) {
	out := wire.FleetComparison{From: c.QueryParam("from"), To: c.QueryParamOr("to", "running"), Devices: []wire.DeviceMoved{}}
	for _, m := range []string{out.From, out.To} {
		if m != "running" && !strings.HasPrefix(m, "snapshot:") && !strings.HasPrefix(m, "at:") {
			return nil, refusal.New(refusal.Invalid, "give snapshot:NAME, at:TIME or running", "%q is no moment", m)
		}
	}
	var names []string
	if text := c.QueryParam("device"); text != "" {
		names = strings.Split(text, ",")
	}
	devices, err := a.some(c, names, c.QueryParam("site"), len(names) == 0 && c.QueryParam("site") == "")
	if err != nil {
		return nil, err
	}
	for _, m := range []string{out.From, out.To} {
		if ref, ok := strings.CutPrefix(m, "snapshot:"); ok {
			s, err := a.History.FindSnapshot(c.ctx, ref)
			if err != nil {
				return nil, err
			}
			items, err := a.Store.SnapshotItems(c.ctx, s.Number)
			if err != nil {
				return nil, err
			}
			if len(names) == 0 { // what it does not hold was never meant
				devices = slices.DeleteFunc(devices, func(d store.Device) bool {
					return !slices.ContainsFunc(items, func(i store.SnapshotItem) bool { return i.Device == d.ID })
				})
			}
		}
	}
	list, err := parallel(devices, func(d store.Device) (wire.DeviceMoved, error) { return a.moved(c, d, out.From, out.To) })
	if err != nil {
		return nil, err
	}
	for _, m := range list {
		if m.Trouble == "" && m.Added+m.Removed+m.Changed+m.Moved == 0 {
			out.Same++
			continue
		}
		out.Devices = append(out.Devices, m)
	}
	return out, nil
}

// parallel does something for many devices, several at a time, in their order.
func parallel[T any](devices []store.Device, f func(store.Device) (T, error)) ([]T, error) {
	const atOnce = 16
	out, errs := make([]T, len(devices)), make([]error, len(devices))
	turns, done := make(chan struct{}, atOnce), make(chan struct{})
	for i, d := range devices {
		go func() {
			turns <- struct{}{}
			defer func() { <-turns; done <- struct{}{} }()
			out[i], errs[i] = f(d)
		}()
	}
	for range devices {
		<-done
	}
	return out, errors.Join(errs...)
}

// moved tells in sum how one device moved between two moments.
func (a *API) moved(c *call, d store.Device, from, to string) (wire.DeviceMoved, error) {
	m := wire.DeviceMoved{Device: d.Name, Site: d.Site, Open: []string{d.Name + "@" + from, d.Name + "@" + to}}
	var sides [2]history.Reading
	for i, place := range []string{from, to} {
		var err error
		if sides[i], err = a.Desk.From(c.ctx, c.person, d, place); err != nil {
			m.Trouble = err.Error()
			return m, c.ctx.Err()
		}
	}
	df := diff.Compare(sides[0].Running.WithoutDefaults(), sides[1].Running.WithoutDefaults())
	df.Walk(func(x *diff.Change) {
		switch x.Kind {
		case diff.Added:
			m.Added++
		case diff.Removed:
			m.Removed++
		case diff.Moved:
			m.Moved++
		default:
			m.Changed++
		}
	})
	if df.Empty() {
		return m, nil
	}
	m.First, m.Revision = df.Items()[0].Path, sides[1].Revision.Number
	revs, err := a.Store.RevisionsAfter(c.ctx, d.ID, min(sides[0].Revision.Number, sides[1].Revision.Number))
	for _, r := range revs {
		switch {
		case r.Number > max(sides[0].Revision.Number, sides[1].Revision.Number):
		case r.Change != 0 && !slices.Contains(m.Changes, r.Change):
			m.Changes = append(m.Changes, r.Change)
		case r.Source == "outside":
			m.Outside++
		}
	}
	return m, err
}

func (a *API) broughtDoc(ch store.Change, list []desk.Brought) wire.BroughtBack {
	out := wire.BroughtBack{Change: ch.Number, Title: ch.Title, Parts: []wire.Brought{}}
	for _, b := range list {
		p := wire.Brought{Device: b.Device, Edits: []wire.Edit{}, Lines: []diff.Line{}, Takes: []wire.Later{}, Left: []wire.Left{}, Notes: b.Notes}
		for _, e := range b.Edits {
			p.Edits = append(p.Edits, editDoc(b.Device, e))
		}
		if b.Difference != nil {
			p.Count, p.Lines = b.Difference.Count(), lines(b.Difference, 0)
			p.Lines = p.Lines[:min(len(p.Lines), shownLines)]
		}
		for _, l := range b.Takes {
			p.Takes = append(p.Takes, wire.Later{Revision: l.Revision.Number, Source: l.Revision.Source, Change: l.Change.Number, Title: l.Change.Title, Author: l.Change.Author, At: l.Revision.At, Places: l.Places})
		}
		for _, l := range b.Left {
			p.Left = append(p.Left, wire.Left{Path: l.Path.String(), Change: l.Change, Before: codec.Text(l.Mine), Made: codec.Text(l.Base), Now: codec.Text(l.Theirs), Why: l.Why})
		}
		out.Parts = append(out.Parts, p)
	}
	return out
}

func (a *API) restore(c *call) (any, error) {
	var in wire.NewRestore
	if err := c.read(&in); err != nil {
		return nil, err
	}
	ch, list, err := a.Desk.Restore(c.ctx, c.person, desk.Bring{Change: in.Change, Title: in.Title, Ticket: in.Ticket, From: in.From, Devices: in.Devices, Paths: in.Paths})
	if err != nil {
		return nil, err
	}
	return a.broughtDoc(ch, list), nil
}

func (a *API) undo(c *call) (any, error) {
	var in wire.NewUndo
	if err := c.read(&in); err != nil {
		return nil, err
	}
	if in.By != "" && in.Since.IsZero() {
		return nil, refusal.New(refusal.Invalid, "say since when", "undoing all that %s ever did is not meant", strconv.Quote(in.By))
	}
	if !in.Until.IsZero() && in.Until.Before(in.Since) {
		return nil, refusal.New(refusal.Invalid, "", "the period ends %s, before it begins", in.Until.Format(time.RFC3339))
	}
	ch, list, err := a.Desk.Undo(c.ctx, c.person, desk.Undo{Change: in.Change, By: in.By, Since: in.Since, Until: in.Until, Devices: in.Devices, Paths: in.Paths, Title: in.Title, Ticket: in.Ticket})
	if err != nil {
		return nil, err
	}
	return a.broughtDoc(ch, list), nil
}

func (a *API) importFile(c *call) (any, error) {
	var in wire.NewImport
	if err := c.read(&in); err != nil {
		return nil, err
	}
	if in.Name == "" || len(in.Name) > 200 {
		return nil, refusal.New(refusal.Invalid, "", "the file's name has 1 to 200 bytes")
	}
	var from desk.Origin
	if in.From != nil {
		from = desk.Origin{Device: in.From.Device, Model: in.From.Model, Serial: in.From.Serial}
		if !in.From.At.IsZero() {
			from.Time = in.From.At.UTC().Format(time.RFC3339)
		}
	}
	b := desk.Bring{Change: in.Change, Title: in.Title, Ticket: in.Ticket, Devices: []string{in.Device}, Paths: in.Paths}
	ch, list, err := a.Desk.Import(c.ctx, c.person, b, in.Name, []byte(in.Text), from)
	if err != nil {
		return nil, err
	}
	return a.broughtDoc(ch, list), nil
}

func (a *API) carry(c *call) (any, error) {
	var in wire.NewCarry
	if err := c.read(&in); err != nil {
		return nil, err
	}
	if in.Place == "" {
		in.Place = "running"
	}
	ch, k, err := a.Desk.Carry(c.ctx, c.person, desk.Bring{Change: in.Change, Title: in.Title, Ticket: in.Ticket}, in.From, in.Place, in.Onto)
	if err != nil {
		return nil, err
	}
	out := wire.Carried{BroughtBack: a.broughtDoc(ch, []desk.Brought{k.Brought}), Own: []wire.Own{}}
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
		return tx.Record(ledger.Entry{Actor: c.person.Name, Action: "config.export", Note: fmt.Sprintf("%s of %d devices as %s", from, len(devices), form)})
	})
	if err != nil {
		return nil, err
	}
	return stream(func(w http.ResponseWriter) error {
		w.Header().Set("Content-Type", "application/x-tar")
		w.Header().Set("Content-Disposition", `attachment; filename="oaken-latch-export.tar"`)
		out, err := bundle.NewWriter(w, "export", c.person.Name, a.Log.Now(), map[string]string{"from": from, "format": form})
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
		if err != nil { // half of it is out: what follows must not look whole
			a.Logger.Error("an export broke off", "error", err)
			panic(http.ErrAbortHandler)
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
	t, err := a.History.TakenOf(c.ctx, s.Number)
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
	text := archive.InstanceOf(r.Schema, d, r.Running, at, r.Revision.Number, from, form == "json")
	about := wire.Origin{Device: d.Name, Site: d.Site, Model: d.Model, Serial: d.Serial, Revision: r.Revision.Number, At: at, Cause: r.Revision.Source, Change: r.Revision.Change}
	return out.Add(archive.Folder(d)+"/"+archive.FileName(d.Name)+"."+form, int64(len(text)), bytes.NewReader(text), about)
}
