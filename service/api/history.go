package api

import (
	"cmp"
	"errors"
	"slices"

	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/service/history"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// historyRoutes are those about what was.
func (a *API) historyRoutes() []route {
	return []route{
		{"GET", "/devices/:name/revisions", "A device's revisions, newest first; line is running or startup", toRead, 200, nil, []wire.Revision{}, []string{"line"}, a.revisions},
		{"GET", "/devices/:name/timeline", "What happened to a device, newest first", toRead, 200, nil, []wire.Moment{}, nil, a.timeline},
		{"GET", "/devices/:name/blame", "Who last set each line, at a path and below it", toRead, 200, nil, wire.Blame{}, []string{"path"}, a.blame},
		{"GET", "/devices/:name/history", "What happened at a path and below it, oldest first", toRead, 200, nil, wire.Life{}, []string{"path"}, a.life},
		{"GET", "/snapshots", "The snapshots, newest first; of a device; retired=true has those too", toRead, 200, nil, []wire.Snapshot{}, []string{"device", "retired"}, a.snapshots},
		{"POST", "/snapshots", "Name the state that devices are in now", toStage, 201, wire.NewSnapshot{}, wire.Snapshot{}, nil, a.takeSnapshot},
		{"GET", "/snapshots/:ref", "One snapshot, by its number or name", toRead, 200, nil, wire.Snapshot{}, nil, a.snapshot},
		{"PATCH", "/snapshots/:ref", "Give a snapshot another name or note, protect it, retire it", toStage, 200, wire.Relabel{}, wire.Snapshot{}, nil, a.relabel},
		{"GET", "/compare", "Any two configurations; a and b are DEVICE@PLACE, with a place as for config; context, path, and as another form (unified, edit-config, yang-patch, yang-patch-json)", toRead, 200, nil, wire.Comparison{}, []string{"a", "b", "path", "context", "as"}, a.compare},
		{"GET", "/compare/fleet", "Many devices between two moments, in sum; from and to are snapshot:NAME, at:TIME or running; of a site, or of devices", toRead, 200, nil, wire.FleetComparison{}, []string{"from", "to", "site", "device"}, a.compareFleet},
		{"POST", "/restore", "Stage a configuration, or parts of it, as it was", toStage, 201, wire.NewRestore{}, wire.BroughtBack{}, nil, a.restore},
		{"GET", "/export", "Configurations as a bundle (tar, docs/bundles.md): of a place or a snapshot; of devices, a site, or all; format is xml or json", toRead, 200, nil, nil, []string{"from", "device", "site", "format"}, a.export},
		{"POST", "/import", "Stage a configuration from a file, whole or in parts", toStage, 201, wire.NewImport{}, wire.BroughtBack{}, nil, a.importFile},
		{"POST", "/import/bundle", "Stage what a bundle holds (the body, a tar, docs/bundles.md) in one change, each configuration onto the device that it is from; device picks, onto sends the one that is picked elsewhere", toStage, 201, nil, wire.ImportedBundle{}, []string{"device", "onto"}, a.importBundle},
		{"POST", "/carry", "Stage one device's configuration on another; what is its own stays", toStage, 201, wire.NewCarry{}, wire.Carried{}, nil, a.carry},
		{"POST", "/undo", "Stage that a kept change, or all of a person's, is taken back", toStage, 201, wire.NewUndo{}, wire.BroughtBack{}, nil, a.undo},
	}
}

// revisionDocs gives revisions as documents, with what is known of their changes.
type revisionDocs struct {
	a       *API
	c       *call
	changes map[int64]store.Change
}

func (a *API) revisionDocs(c *call) *revisionDocs {
	return &revisionDocs{a, c, map[int64]store.Change{}}
}

func (t *revisionDocs) change(n int64) (store.Change, error) {
	if have, ok := t.changes[n]; ok || n == 0 {
		return have, nil
	}
	ch, err := t.a.Store.Change(t.c.ctx, n)
	t.changes[n] = ch
	return ch, err
}

func (t *revisionDocs) revision(r store.Revision) (wire.Revision, error) {
	ch, err := t.change(r.Change)
	return wire.Revision{Number: r.Number, At: r.At, Source: r.Source, Change: r.Change, Title: ch.Title, Ticket: ch.Ticket, Author: ch.Author, Actor: r.Actor, Note: r.Note, Digest: r.Digest}, err
}

func (t *revisionDocs) revisions(list []store.Revision) ([]wire.Revision, error) {
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
	return a.revisionDocs(c).revisions(list)
}

var causeText = map[string]string{
	"first": "seen for the first time", "outside": "changed, not by this service", "replaced": "another box was put in its place", "rebuilt": "rebuilt from an archive",
}

func (a *API) timeline(c *call) (any, error) {
	d, err := a.deviceParam(c)
	if err != nil {
		return nil, err
	}
	t := a.revisionDocs(c)
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
		case !k.Newest, k.State == "reverted", k.State == "failed", k.State == "partly":
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
	return a.revisionDocs(c).revisions(list)
}

func (a *API) blame(c *call) (any, error) {
	out := wire.Blame{Lines: []wire.BlameLine{}, Gone: []wire.GoneLine{}}
	return out, a.follow(c, func(d store.Device, t *history.Trail, path tree.Path) error {
		v := a.redactor(c, d)
		out.Device, out.Path, out.Revision = d.Name, path.String(), t.Last.Number
		named := map[int64]bool{}
		for _, l := range t.Lines(v.Tree(t.Now.Cut(path)), nil) {
			line := wire.BlameLine{Depth: l.Depth, Text: l.Text, Path: l.Path.String()}
			if !l.Leads {
				line.Revision = t.By(l.Step).Number
				named[l.Step] = true
			}
			out.Lines = append(out.Lines, line)
		}
		for _, e := range t.Gone(t.Now, path) {
			out.Gone = append(out.Gone, wire.GoneLine{Path: e.Path.String(), Was: codec.Text(v.Tree(e.Old)), Revision: e.Step})
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
		v := a.redactor(c, d)
		out.Device, out.Path = d.Name, path.String()
		if len(path) == 0 {
			return refusal.New(refusal.Invalid, "name a path; for the whole: latch revisions "+d.Name, "the life of the whole configuration is its revisions")
		}
		out.Now = codec.Text(v.Tree(t.Now.At(path)))
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
			out.Events = append(out.Events, wire.LifeStep{Revision: t.First.Number, Kind: diff.Added, Path: path.String(), New: codec.Text(v.Tree(first))})
			named[0] = true
		}
		for _, e := range events {
			out.Events = append(out.Events, wire.LifeStep{Revision: e.Step, Kind: e.Kind, Path: e.Path.String(), Old: codec.Text(v.Tree(e.Old)), New: codec.Text(v.Tree(e.New))})
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
