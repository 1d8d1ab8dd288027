package api

import (
	"cmp"
	"errors"
	"slices"

	"oakenlatch/core/advice"

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
		{
			id: "listRevisions", method: "GET", path: "/devices/:name/revisions", about: aDevice, needs: toRead,
			summary: "A device's revisions, newest first; line is running or startup",
			out:     []wire.Revision{}, query: []string{"line"}, handle: a.revisions,
		},
		{
			id: "deviceTimeline", method: "GET", path: "/devices/:name/timeline", about: aDevice, needs: toRead,
			summary: "What happened to a device, newest first",
			out:     []wire.Moment{}, handle: a.timeline,
		},
		{
			id: "blame", method: "GET", path: "/devices/:name/blame", about: aDevice, needs: toRead,
			summary: "Who last set each line, at a path and below it",
			out:     wire.Blame{}, query: []string{"path"}, handle: a.blame,
		},
		{
			id: "pathHistory", method: "GET", path: "/devices/:name/history", about: aDevice, needs: toRead,
			summary: "What happened at a path and below it, oldest first",
			out:     wire.Life{}, query: []string{"path"}, handle: a.life,
		},
		{
			id: "listSnapshots", method: "GET", path: "/snapshots", needs: toRead,
			summary: "The snapshots, newest first; of a device; retired=true has those too",
			out:     []wire.Snapshot{}, query: []string{"device", "retired"}, handle: a.snapshots,
		},
		{
			id: "takeSnapshot", method: "POST", path: "/snapshots", needs: toStage,
			summary: "Name the state that devices are in now",
			status:  201, in: wire.NewSnapshot{}, out: wire.Snapshot{}, handle: a.takeSnapshot,
		},
		{
			id: "getSnapshot", method: "GET", path: "/snapshots/:ref", needs: toRead,
			summary: "One snapshot, by its number or name",
			out:     wire.Snapshot{}, handle: a.snapshot,
		},
		{
			id: "relabelSnapshot", method: "PATCH", path: "/snapshots/:ref", needs: toStage,
			summary: "Give a snapshot another name or note, protect it, retire it",
			in:      wire.Relabel{}, out: wire.Snapshot{}, handle: a.relabel,
		},
		{
			id: "compareConfigurations", method: "GET", path: "/compare", needs: toRead,
			summary: "Any two configurations; a and b are DEVICE@PLACE, with a place as for config; context, path, " +
				"and as another form (unified, edit-config, yang-patch, yang-patch-json)",
			out: wire.Comparison{}, query: []string{"a", "b", "path", "context", "as"}, handle: a.compare,
		},
		{
			id: "compareFleet", method: "GET", path: "/compare/fleet", needs: toRead,
			summary: "Many devices between two moments, in sum; from and to are snapshot:NAME, at:TIME or running; " +
				"of a site, or of devices",
			out: wire.FleetComparison{}, query: []string{"from", "to", "site", "device"}, handle: a.compareFleet,
		},
		{
			id: "restoreConfiguration", method: "POST", path: "/restore", needs: toStage,
			summary: "Stage a configuration, or parts of it, as it was",
			status:  201, in: wire.NewRestore{}, out: wire.BroughtBack{}, handle: a.restore,
		},
		{
			id: "exportConfigurations", method: "GET", path: "/export", needs: toRead,
			summary: "Configurations as a bundle (tar, docs/bundles.md): of a place or a snapshot; of devices, a " +
				"site, or all; format is xml or json",
			streams: []string{
				"application/x-tar",
			}, query: []string{"from", "device", "site", "format"}, handle: a.export,
		},
		{
			id: "importConfiguration", method: "POST", path: "/import", needs: toStage,
			summary: "Stage a configuration from a file, whole or in parts",
			status:  201, in: wire.NewImport{}, out: wire.BroughtBack{}, handle: a.importFile,
		},
		{
			id: "importBundle", method: "POST", path: "/import/bundle", needs: toStage,
			summary: "Stage what a bundle holds (the body, a tar, docs/bundles.md) in one change, each configuration " +
				"onto the device that it is from; device picks, onto sends the one that is picked elsewhere",
			status: 201, takes: "application/x-tar", out: wire.ImportedBundle{}, query: []string{"device", "onto"},
			handle: a.importBundle,
		},
		{
			id: "carryConfiguration", method: "POST", path: "/carry", needs: toStage,
			summary: "Stage one device's configuration on another; what is its own stays",
			status:  201, in: wire.NewCarry{}, out: wire.Carried{}, handle: a.carry,
		},
		{
			id: "undo", method: "POST", path: "/undo", needs: toStage,
			summary: "Stage that a kept change, or all of a person's, is taken back",
			status:  201, in: wire.NewUndo{}, out: wire.BroughtBack{}, handle: a.undo,
		},
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
	return wire.Revision{
		Number: r.Number, At: r.At, Source: r.Source, Change: r.Change, Title: ch.Title, Ticket: ch.Ticket,
		Author: ch.Author, Actor: r.Actor, Note: r.Note, Digest: r.Digest,
	}, err
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
	"first": "seen for the first time", "outside": "changed, not by this service",
	"replaced": "another box was put in its place", "rebuilt": "rebuilt from an archive",
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
		m := wire.Moment{
			At: r.At, Kind: r.Source, Text: causeText[r.Source], Actor: r.Actor, Revision: r.Number, Change: r.Change,
		}
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
		m := wire.Moment{
			At: r.At, Kind: "saved", Text: "saved to startup", Actor: r.Actor, Startup: r.Number, Change: r.Change,
		}
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
		return refusal.New(refusal.NotFound, "read it first", "%s was never read", d.Name).Do(advice.ReadConfig, d.Name)
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
			out.Gone = append(
				out.Gone, wire.GoneLine{Path: e.Path.String(), Was: codec.Text(v.Tree(e.Old)), Revision: e.Step},
			)
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
			return refusal.New(
				refusal.Invalid, "name a path, or see its revisions",
				"the life of the whole configuration is its revisions",
			).Do(advice.ListRevisions, d.Name)
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
			out.Events = append(
				out.Events,
				wire.LifeStep{
					Revision: t.First.Number, Kind: diff.Added, Path: path.String(), New: codec.Text(v.Tree(first)),
				},
			)
			named[0] = true
		}
		for _, e := range events {
			out.Events = append(
				out.Events,
				wire.LifeStep{
					Revision: e.Step, Kind: e.Kind, Path: e.Path.String(), Old: codec.Text(v.Tree(e.Old)),
					New: codec.Text(v.Tree(e.New)),
				},
			)
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
