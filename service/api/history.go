package api

import (
	"errors"

	"oakenlatch/core/advice"
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
			summary: "Stage the undoing of a confirmed change, or of all of a person's",
			status:  201, in: wire.NewUndo{}, out: wire.BroughtBack{}, handle: a.undo,
		},
	}
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
	return a.page(c).Revisions(list)
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

func (a *API) timeline(c *call) (any, error) {
	d, err := a.deviceParam(c)
	if err != nil {
		return nil, err
	}
	return a.page(c).Timeline(d)
}

func (a *API) blame(c *call) (out any, err error) {
	return out, a.follow(c, func(d store.Device, t *history.Trail, path tree.Path) (err error) {
		out, err = a.page(c).Blame(d, t, path)
		return err
	})
}

func (a *API) life(c *call) (out any, err error) {
	return out, a.follow(c, func(d store.Device, t *history.Trail, path tree.Path) (err error) {
		out, err = a.page(c).Life(d, t, path)
		return err
	})
}
