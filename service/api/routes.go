package api

import (
	"slices"

	"oakenlatch/core/codec"
	"oakenlatch/core/markup"
	"oakenlatch/netconf"
	"oakenlatch/service/desk"
	"oakenlatch/service/fleet"
	"oakenlatch/service/hostkey"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// routes is the API, operation by operation.
func (a *API) routes() []route {
	return append(slices.Concat(
		a.historyRoutes(), a.archiveRoutes(), a.auditRoutes(), a.outsideRoutes(), a.recordRoutes(), a.receiverRoutes(),
		a.trafficRoutes(), a.accessRoutes(), a.factorRoutes(), a.approvalRoutes(), a.proposalRoutes(),
	), []route{
		{
			id: "streamEvents", method: "GET", path: "/events", needs: toRead,
			summary: "What happens, as it is written (server-sent events): entries of the ledger for those who may " +
				"audit, and for those who may read that something they see has moved; resumes after Last-Event-ID",
			query: []string{"pulse"}, streams: []string{"text/event-stream"}, lasts: true, handle: a.events,
		},
		{
			id: "metrics", method: "GET", path: metricsPath, needs: toReadAll,
			summary: "How it goes, for a collector (Prometheus text format); it names all devices",
			streams: []string{"text/plain"}, handle: a.metricsText,
		},
		{
			id: "describe", method: "GET", path: "/openapi.json", needs: everybody,
			summary: "This description (OpenAPI 3.1)",
			out:     map[string]any{}, handle: func(*call) (any, error) { return a.OpenAPI(), nil },
		},
		{
			id: "attention", method: "GET", path: "/attention", needs: toRead,
			summary: "What needs a decision now",
			out:     wire.Attention{}, handle: a.attention,
		},
		{
			id: "listDevices", method: "GET", path: "/devices", needs: toRead,
			summary: "All devices",
			out:     []wire.Device{}, handle: a.devices,
		},
		{
			id: "addDevice", method: "POST", path: "/devices", needs: toAdministerAll,
			summary: "Add a device",
			status:  201, in: wire.NewDevice{}, out: wire.Device{}, handle: a.addDevice,
		},
		{
			id: "getDevice", method: "GET", path: "/devices/:name", about: aDevice, needs: toRead,
			summary: "One device",
			out:     wire.Device{}, handle: a.device,
		},
		{
			id: "deviceHostKey", method: "GET", path: "/devices/:name/host-key", about: aDevice, needs: toAdminister,
			summary: "The host key the device shows now",
			out:     wire.HostKey{}, handle: a.hostKey,
		},
		{
			id: "trustDevice", method: "POST", path: "/devices/:name/trust", about: aDevice, needs: toAdminister,
			summary: "Accept the device's host key",
			in:      wire.Trust{}, out: wire.HostKey{}, handle: a.trust,
		},
		{
			id: "deviceConfig", method: "GET", path: "/devices/:name/config", about: aDevice, needs: toRead,
			summary: "A device's configuration; from is " + desk.Places,
			out:     wire.Config{}, query: []string{"from", "path"}, handle: a.config,
		},
		{
			id: "deviceDifference", method: "GET", path: "/devices/:name/difference", about: aDevice, needs: toRead,
			summary: "Two of a device's configurations compared, by default what its startup lacks of running; from " +
				"and to are as for config",
			out: wire.Difference{}, query: []string{"from", "to", "context"}, handle: a.difference,
		},
		{
			id: "setDevice", method: "PATCH", path: "/devices/:name", about: aDevice, needs: toAdminister,
			summary: "Change a device's settings",
			in:      wire.Settings{}, out: wire.Device{}, waits: wire.Device{}, handle: a.settings,
		},
		{
			id: "saveDevice", method: "POST", path: "/devices/:name/save", about: aDevice, needs: toCommit,
			summary: "Copy running to startup and read that back",
			out:     wire.Device{}, handle: a.save,
		},
		{
			id: "restartDevice", method: "POST", path: "/devices/:name/restart", about: aDevice, needs: toAdminister,
			summary: "Restart the device; what its startup does not hold is lost",
			status:  204, handle: a.restart,
		},
		{
			id: "scheduleRestart", method: "POST", path: "/devices/:name/schedule", about: aDevice, needs: toAdminister,
			summary: "Restart the device at a time",
			status:  201, in: wire.NewSchedule{}, out: wire.Scheduled{}, handle: a.scheduleRestart,
		},
		{
			id: "listSessions", method: "GET", path: "/devices/:name/sessions", about: aDevice, needs: toRead,
			summary: "Who is on the device, where it tells",
			out:     []wire.Visitor{}, handle: a.visitors,
		},
		{
			id: "endSession", method: "DELETE", path: "/devices/:name/sessions/:id", about: aDevice,
			needs: toAdminister, summary: "End a session on the device", status: 204, handle: a.endVisit,
		},
		{
			id: "clearCandidate", method: "DELETE", path: "/devices/:name/candidate", about: aDevice,
			needs:   toAdminister,
			summary: "Discard what somebody left in the device's candidate; it goes on record first", status: 204,
			handle: a.clearCandidate,
		},
		{
			id: "deviceClock", method: "GET", path: "/devices/:name/clock", about: aDevice, needs: toRead,
			summary: "The device's clock against the service's, read now",
			out:     wire.Clock{}, handle: a.clock,
		},
		{
			id: "readText", method: "POST", path: "/devices/:name/text", about: aDevice, needs: toRead,
			summary: "Read a configuration by the device's modules, judge it, and write it as outline, xml or json; " +
				"nothing is staged",
			in: wire.NewText{}, out: wire.TextRead{}, handle: a.textRead,
		},
		{
			id: "deviceModules", method: "GET", path: "/devices/:name/modules", about: aDevice, needs: toRead,
			summary: "The YANG modules the device handed out",
			out:     wire.Modules{}, handle: a.modules,
		},
		{
			id: "listChanges", method: "GET", path: "/changes", needs: toRead,
			summary: "The changes one may see, newest first, at most limit (200 unless said, 500 at most); before is " +
				"the number of the last one that was given; in one of the states (with commas between), by their " +
				"author, with a text in title or ticket, whose number begins with digits; count=true tells in " +
				"the header " + wire.CountHeader + " how many there are",
			out: []wire.Change{}, query: []string{"before", "limit", "state", "author", "text", "number", "count"},
			handle: a.changes,
		},
		{
			id: "openChange", method: "POST", path: "/changes", needs: toStage,
			summary: "Open a change",
			status:  201, in: wire.NewChange{}, out: wire.Change{}, handle: a.open,
		},
		{
			id: "getChange", method: "GET", path: "/changes/:number", about: aChange, needs: toRead,
			summary: "One change and how its commit stands",
			out:     wire.Change{}, handle: a.change,
		},
		{
			id: "stageEdit", method: "POST", path: "/changes/:number/edits", about: aChange, needs: toStage,
			summary: "Stage an edit on one device or several; on all of them, or on none",
			status:  201, tagged: true, in: wire.NewEdit{}, out: []wire.Staged{}, handle: a.stage,
		},
		{
			id: "renameChange", method: "PATCH", path: "/changes/:number", about: aChange, needs: toStage,
			summary: "Give the change another title and ticket",
			in:      wire.NewChange{}, out: wire.Change{}, handle: a.rename,
		},
		{
			id: "loadConfiguration", method: "POST", path: "/changes/:number/load", about: aChange, needs: toStage,
			summary: "Stage a piece of configuration on one device or several; on all of them, or on none",
			status:  201, tagged: true, in: wire.NewLoad{}, out: []wire.Loaded{}, handle: a.load,
		},
		{
			id: "getPart", method: "GET", path: "/changes/:number/parts/:name", about: aChange, needs: toRead,
			summary: "What is staged on a device so far, as an outline to be edited; path is the part of it " +
				"that is wanted",
			out: wire.Part{}, query: []string{"path"}, handle: a.part,
		},
		{
			id: "listEdits", method: "GET", path: "/changes/:number/edits", about: aChange, needs: toRead,
			summary: "The staged edits, in the order they were staged",
			out:     []wire.Edit{}, handle: a.edits,
		},
		{
			id: "unstageEdits", method: "DELETE", path: "/changes/:number/edits", about: aChange, needs: toStage,
			summary: "Take staged edits back: by device, by person, by line (path, with device), or all",
			out:     []wire.Edit{}, query: []string{"device", "by", "path"}, handle: a.unstageMany,
		},
		{
			id: "unstageEdit", method: "DELETE", path: "/changes/:number/edits/:id", about: aChange, needs: toStage,
			summary: "Take a staged edit back",
			status:  204, handle: a.unstage,
		},
		{
			id: "previewChange", method: "GET", path: "/changes/:number/preview", about: aChange, needs: toRead,
			summary: "What the change would do; context is the number of unchanged neighbours shown, as another form " +
				"of the difference (unified, edit-config, yang-patch, yang-patch-json, outline or xml for the whole " +
				"result), by one person's edits, only what lies at or below a path, validate=true has the " +
				"devices judge the result",
			out: wire.Preview{}, query: []string{"context", "device", "by", "as", "path", "validate"},
			handle: a.preview,
		},
		{
			id: "shareChange", method: "POST", path: "/changes/:number/coworkers", about: aChange, needs: toStage,
			summary: "Add somebody to the change",
			in:      wire.Share{}, out: wire.Change{}, handle: a.share,
		},
		{
			id: "unshareChange", method: "DELETE", path: "/changes/:number/coworkers/:account", about: aChange,
			needs: toStage, summary: "Take somebody off the change", out: wire.Change{}, handle: a.unshare,
		},
		{
			id: "addNote", method: "POST", path: "/changes/:number/notes", about: aChange, needs: toStage,
			summary: "Write a note down with the change",
			status:  201, in: wire.NewNote{}, out: wire.Change{}, handle: a.note,
		},
		{
			id: "decideConflict", method: "POST", path: "/changes/:number/decide", about: aChange, needs: toStage,
			summary: "Keep one side where the change and its device both changed the same",
			in:      wire.Decide{}, out: wire.Conflict{}, handle: a.decide,
		},
		{
			id: "rebaseChange", method: "POST", path: "/changes/:number/rebase", about: aChange, needs: toStage,
			summary: "Put parts on what their devices hold now",
			in:      wire.Rebase{}, out: []wire.Rebased{}, handle: a.rebase,
		},
		{
			id: "readdress", method: "POST", path: "/changes/:number/readdress", about: aChange, needs: toStage,
			summary: "Say where a part moves its device's management to",
			in:      wire.Readdress{}, out: wire.Change{}, handle: a.readdress,
		},
		{
			id: "completePath", method: "GET", path: "/devices/:name/paths", about: aDevice, needs: toRead,
			summary: "How a path goes on by the device's schema: names, keys, types, values",
			out:     []wire.Hint{}, query: []string{"path", "change"}, handle: a.paths,
		},
		{
			id: "listReservations", method: "GET", path: "/reservations", needs: toRead,
			summary: "The devices that are reserved",
			out:     []wire.Reservation{}, handle: a.reservations,
		},
		{
			id: "reserveDevice", method: "POST", path: "/devices/:name/reservation", about: aDevice, needs: toStage,
			summary: "Reserve the device for oneself, or for longer",
			in:      wire.NewReservation{}, out: wire.Reservation{}, handle: a.reserve,
		},
		{
			id: "releaseDevice", method: "DELETE", path: "/devices/:name/reservation", about: aDevice, needs: toStage,
			summary: "End the reservation",
			status:  204, handle: a.release,
		},
		{
			id: "askForDevice", method: "POST", path: "/devices/:name/reservation/asks", about: aDevice, needs: toStage,
			summary: "Ask whoever reserved the device",
			in:      wire.NewNote{}, out: wire.Reservation{}, handle: a.ask,
		},
		{
			id: "listStencils", method: "GET", path: "/stencils", needs: toRead,
			summary: "All stencils",
			out:     []wire.Stencil{}, handle: a.stencils,
		},
		{
			id: "getStencil", method: "GET", path: "/stencils/:name", needs: toRead,
			summary: "One stencil, its versions and the devices that use it; the blanks by a device's schema",
			out:     wire.Stencil{}, query: []string{"device"}, handle: a.stencil,
		},
		{
			id: "saveStencil", method: "PUT", path: "/stencils/:name", needs: toStage,
			summary: "Save a new version; opens a change for the devices that use it",
			tagged:  true, in: wire.NewStencil{}, out: wire.Saved{}, handle: a.saveStencil,
		},
		{
			id: "bindStencil", method: "POST", path: "/stencils/:name/bind", needs: toStage,
			summary: "Stage what the stencil sets on devices",
			status:  201, in: wire.Bind{}, out: []wire.Loaded{}, handle: a.bind,
		},
		{
			id: "listSharedValues", method: "GET", path: "/shared", needs: toRead,
			summary: "All shared values",
			out:     []wire.Shared{}, handle: a.shared,
		},
		{
			id: "saveSharedValue", method: "PUT", path: "/shared/:name", needs: toStage,
			summary: "Give a shared value other items; opens a change for the devices on which a stencil uses it",
			in:      wire.NewShared{}, out: wire.Saved{}, handle: a.saveShared,
		},
		{
			id: "commitChange", method: "POST", path: "/changes/:number/commit", about: aChange, needs: toCommit,
			summary: "Commit on hold",
			status:  202, in: wire.NewCommit{}, out: wire.Change{}, handle: a.commit,
		},
		{
			id: "beginCommit", method: "POST", path: "/changes/:number/begin", about: aChange, needs: toCommit,
			summary: "Commit what is prepared",
			status:  202, out: wire.Change{}, handle: a.begin,
		},
		{
			id: "extendHold", method: "POST", path: "/changes/:number/hold", about: aChange, needs: toCommit,
			summary: "Move the end of a hold",
			in:      wire.NewHold{}, out: wire.Change{}, handle: a.hold,
		},
		{
			id: "acceptDevice", method: "POST", path: "/changes/:number/accept-device", about: aChange, needs: toCommit,
			summary: "Accept a device as it is that holds neither the former nor the new configuration",
			in:      wire.Accept{}, out: wire.Change{}, handle: a.accept,
		},
		{
			id: "scheduleCommit", method: "POST", path: "/changes/:number/schedule", about: aChange, needs: toCommit,
			summary: "Commit at a time",
			status:  201, in: wire.NewSchedule{}, out: wire.Scheduled{}, handle: a.schedule,
		},
		{
			id: "listSchedule", method: "GET", path: "/schedule", needs: toRead,
			summary: "What is on the schedule, and what was",
			out:     []wire.Scheduled{}, handle: a.scheduled,
		},
		{
			id: "unschedule", method: "DELETE", path: "/schedule/:id", needs: toCommit,
			summary: "Take something off the schedule",
			status:  204, handle: a.unschedule,
		},
		{
			id: "confirmChange", method: "POST", path: "/changes/:number/confirm", about: aChange, needs: toCommit,
			summary: "Confirm a commit on hold; answers when it is decided",
			in:      wire.Confirm{}, out: wire.Change{}, handle: a.confirm,
		},
		{
			id: "listUnsettled", method: "GET", path: "/changes/:number/unsettled", about: aChange, needs: toCommit,
			summary: "What the devices hold of a change that was under way when the backup was taken that the " +
				"records come from; they are read",
			out: []wire.Unsettled{}, handle: a.unsettled,
		},
		{
			id: "settleChange", method: "POST", path: "/changes/:number/settle", about: aChange, needs: toCommit,
			summary: "Record devices as they are found to be; once all are, the change has its end",
			in:      wire.Settle{}, out: wire.Change{}, handle: a.settle,
		},
		{
			id: "dropLostHold", method: "DELETE", path: "/lost-holds/:change", needs: toAdministerAll,
			summary: "Take a hold that the records know nothing of off the list, once its devices were looked at",
			status:  204, handle: a.lookedAfter,
		},
		{
			id: "revertChange", method: "POST", path: "/changes/:number/revert", about: aChange, needs: toCommit,
			summary: "Revert now; answers when every device is seen to have reverted, or after a minute",
			out:     wire.Change{}, handle: a.revert,
		},
		{
			id: "dropChange", method: "POST", path: "/changes/:number/drop", about: aChange, needs: toStage,
			summary: "Abandon a change that is on no device",
			status:  204, handle: a.drop,
		},
	}...)
}

func (a *API) devices(c *call) (any, error) { return a.Documents.Devices(c.ctx, c.person) }

func (a *API) device(c *call) (any, error) {
	d, err := a.deviceParam(c)
	if err != nil {
		return nil, err
	}
	return a.Documents.Device(c.ctx, d)
}

func (a *API) addDevice(c *call) (any, error) {
	var in wire.NewDevice
	if err := c.read(&in); err != nil {
		return nil, err
	}
	if err := a.seen(c, store.Device{SeenAs: in.SeenAs}); err != nil {
		return nil, err
	}
	err := a.Fleet.Add(c.ctx, c.person.Name, fleet.NewDevice{
		SeenAs: in.SeenAs, Name: in.Name, Address: in.Address, Account: in.Account, Password: in.Password,
		PrivateKey: in.PrivateKey, Site: in.Site, Role: in.Role,
	})
	if err != nil {
		return nil, err
	}
	d, err := a.Store.Device(c.ctx, c.person.Reach(), in.Name)
	if err != nil {
		return nil, err
	}
	return a.Documents.Device(c.ctx, d)
}

func hostKeyDoc(device string, k hostkey.Shown) wire.HostKey {
	return wire.HostKey{Device: device, Type: k.Type, Fingerprint: k.Fingerprint, Accepted: k.Accepted}
}

func (a *API) modules(c *call) (any, error) {
	d, err := a.deviceParam(c)
	if err != nil {
		return nil, err
	}
	set, err := a.Fleet.Modules(c.ctx, d)
	if err != nil {
		return nil, err
	}
	out := wire.Modules{
		Device: d.Name, Features: map[string][]string{}, Missing: set.Missing, Modules: []wire.Module{},
	}
	for module, list := range set.Features { // a module that has none is told with none
		out.Features[module] = append([]string{}, list...)
	}
	for _, m := range set.Sources {
		out.Modules = append(out.Modules, wire.Module{Name: m.Name, Revision: m.Revision, Text: m.Text})
	}
	for name := range set.ImportOnly {
		out.ImportOnly = append(out.ImportOnly, name)
	}
	slices.Sort(out.ImportOnly)
	return out, nil
}

func (a *API) hostKey(c *call) (any, error) {
	d, err := a.deviceParam(c)
	if err != nil {
		return nil, err
	}
	k, err := a.Fleet.ScanHostKey(c.ctx, c.person.Reach(), d.Name)
	return hostKeyDoc(d.Name, k), err
}

func (a *API) trust(c *call) (any, error) {
	d, err := a.deviceParam(c)
	if err != nil {
		return nil, err
	}
	var in wire.Trust
	if err := c.read(&in); err != nil {
		return nil, err
	}
	k, err := a.Fleet.Trust(c.ctx, c.person.Reach(), c.person.Name, d.Name, in.Fingerprint)
	if err != nil {
		return nil, err
	}
	// Read it at once: its modules and first revision, and whether the login works.
	if _, err := a.History.Read(c.ctx, c.person.Reach(), d.Name, c.person.Name); err != nil {
		return nil, err
	}
	return hostKeyDoc(d.Name, k), nil
}

func (a *API) config(c *call) (any, error) {
	d, err := a.deviceParam(c)
	if err != nil {
		return nil, err
	}
	from := c.QueryParamOr("from", "running")
	out := wire.Config{Device: d.Name, From: from, Read: a.Log.Now()}
	r, err := a.Desk.From(c.ctx, c.person, d, from)
	if err != nil {
		return nil, err
	}
	if out.Revision = r.Revision.Number; from != "running" && !r.Revision.At.IsZero() {
		out.Read = r.Revision.At
	}
	path, err := pathParam(c, r.Schema, d.Name)
	if err != nil {
		return nil, err
	}
	if len(path) > 0 && r.Running.At(path) == nil {
		return nil, refusal.New(refusal.NotFound, "", "%s: there is nothing at %s in %s", d.Name, path, from)
	}
	part := a.page(c).Redactor(d).Tree(r.Running.Cut(path))
	out.Path = path.Full()
	out.Outline = codec.OutlineText(part)
	out.XML = string(codec.XML(r.Schema, part, markup.Name{Space: netconf.BaseNS, Local: "config"}))
	return out, nil
}

func (a *API) attention(c *call) (any, error) { return a.Documents.Attention(c.ctx, c.person) }
