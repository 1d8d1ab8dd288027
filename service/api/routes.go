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
	return append(slices.Concat(a.historyRoutes(), a.archiveRoutes(), a.auditRoutes(), a.outsideRoutes(), a.recordRoutes(), a.receiverRoutes(), a.trafficRoutes(), a.accessRoutes(), a.factorRoutes(), a.approvalRoutes(), a.proposalRoutes()), []route{
		{"GET", eventsPath, "What happens, as it is written (server-sent events): entries of the ledger for those who may audit, and for those who may read that something they see has moved; resumes after Last-Event-ID", toRead, 200, nil, nil, nil, a.events},
		{"GET", metricsPath, "How it goes, for a collector (Prometheus text format); it names all devices", toReadAll, 200, nil, nil, nil, a.metricsText},
		{"GET", "/attention", "What needs a decision now", toRead, 200, nil, wire.Attention{}, nil, a.attention},
		{"GET", "/devices", "All devices", toRead, 200, nil, []wire.Device{}, nil, a.devices},
		{"POST", "/devices", "Add a device", toAdministerAll, 201, wire.NewDevice{}, wire.Device{}, nil, a.addDevice},
		{"GET", "/devices/:name", "One device", toRead, 200, nil, wire.Device{}, nil, a.device},
		{"GET", "/devices/:name/host-key", "The host key the device shows now", toAdminister, 200, nil, wire.HostKey{}, nil, a.hostKey},
		{"POST", "/devices/:name/trust", "Accept the device's host key", toAdminister, 200, wire.Trust{}, wire.HostKey{}, nil, a.trust},
		{"GET", "/devices/:name/config", "A device's configuration; from is " + desk.Places, toRead, 200, nil, wire.Config{}, []string{"from", "path"}, a.config},
		{"GET", "/devices/:name/difference", "Two of a device's configurations compared, by default what its startup lacks of running; from and to are as for config", toRead, 200, nil, wire.Difference{}, []string{"from", "to", "context"}, a.difference},
		{"PATCH", "/devices/:name", "Change a device's settings", toAdminister, 200, wire.Settings{}, wire.Device{}, nil, a.settings},
		{"POST", "/devices/:name/save", "Copy running to startup and read that back", toCommit, 200, nil, wire.Device{}, nil, a.save},
		{"POST", "/devices/:name/restart", "Restart the device; what its startup does not hold is lost", toAdminister, 204, nil, nil, nil, a.restart},
		{"POST", "/devices/:name/schedule", "Restart the device at a time", toAdminister, 201, wire.NewDue{}, wire.Due{}, nil, a.scheduleRestart},
		{"GET", "/devices/:name/sessions", "Who is on the device, where it tells", toRead, 200, nil, []wire.Visitor{}, nil, a.visitors},
		{"DELETE", "/devices/:name/sessions/:id", "End a session on the device", toAdminister, 204, nil, nil, nil, a.endVisit},
		{"DELETE", "/devices/:name/candidate", "Discard what somebody left in the device's candidate; it goes on record first", toAdminister, 204, nil, nil, nil, a.clearCandidate},
		{"GET", "/devices/:name/clock", "The device's clock against the service's, read now", toRead, 200, nil, wire.Clock{}, nil, a.clock},
		{"GET", "/devices/:name/modules", "The YANG modules the device handed out", toRead, 200, nil, wire.Modules{}, nil, a.modules},
		{"GET", "/changes", "The changes one may see, newest first, at most limit (200 unless said, 500 at most); before is the number of the last one that was given; in one of the states (with commas between), by their author, with a text in title or ticket, whose number begins with digits; count=true tells in the header " + wire.CountHeader + " how many there are", toRead, 200, nil, []wire.Change{}, []string{"before", "limit", "state", "author", "text", "number", "count"}, a.changes},
		{"POST", "/changes", "Open a change", toStage, 201, wire.NewChange{}, wire.Change{}, nil, a.open},
		{"GET", "/changes/:number", "One change and how its commit stands", toRead, 200, nil, wire.Change{}, nil, a.change},
		{"POST", "/changes/:number/edits", "Stage an edit on one device or several; on all of them, or on none", toStage, 201, wire.NewEdit{}, []wire.Staged{}, nil, a.stage},
		{"PATCH", "/changes/:number", "Give the change another title and ticket", toStage, 200, wire.NewChange{}, wire.Change{}, nil, a.rename},
		{"POST", "/changes/:number/load", "Stage a piece of configuration on one device or several; on all of them, or on none", toStage, 201, wire.NewLoad{}, []wire.Loaded{}, nil, a.load},
		{"GET", "/changes/:number/parts/:name", "What is staged on a device so far, as an outline to be edited; path is the part of it that is wanted", toRead, 200, nil, wire.Part{}, []string{"path"}, a.part},
		{"GET", "/changes/:number/edits", "The staged edits, in the order they were staged", toRead, 200, nil, []wire.Edit{}, nil, a.edits},
		{"DELETE", "/changes/:number/edits", "Take staged edits back: by device, by person, by line (path, with device), or all", toStage, 200, nil, []wire.Edit{}, []string{"device", "by", "path"}, a.unstageMany},
		{"DELETE", "/changes/:number/edits/:id", "Take a staged edit back", toStage, 204, nil, nil, nil, a.unstage},
		{"GET", "/changes/:number/preview", "What the change would do; context is the number of unchanged neighbours shown, as another form of the difference (unified, edit-config, yang-patch, yang-patch-json, outline or xml for the whole result), by one person's edits, validate=true has the devices judge the result", toRead, 200, nil, wire.Preview{}, []string{"context", "device", "by", "as", "validate"}, a.preview},
		{"POST", "/changes/:number/company", "Add somebody to the change", toStage, 200, wire.Share{}, wire.Change{}, nil, a.share},
		{"DELETE", "/changes/:number/company/:account", "Take somebody off the change", toStage, 200, nil, wire.Change{}, nil, a.unshare},
		{"POST", "/changes/:number/notes", "Write a note down with the change", toStage, 201, wire.NewNote{}, wire.Change{}, nil, a.note},
		{"POST", "/changes/:number/decide", "Keep one side where the change and its device both changed the same", toStage, 200, wire.Decide{}, wire.Conflict{}, nil, a.decide},
		{"POST", "/changes/:number/rebase", "Put parts on what their devices hold now", toStage, 200, wire.Rebase{}, []wire.Rebased{}, nil, a.rebase},
		{"POST", "/changes/:number/readdress", "Say where a part moves its device's management to", toStage, 200, wire.Readdress{}, wire.Change{}, nil, a.readdress},
		{"GET", "/devices/:name/paths", "How a path goes on by the device's schema: names, keys, types, values", toRead, 200, nil, []wire.Hint{}, []string{"path", "change"}, a.paths},
		{"GET", "/reservations", "The devices that are reserved", toRead, 200, nil, []wire.Reservation{}, nil, a.reservations},
		{"POST", "/devices/:name/reservation", "Reserve the device for oneself, or for longer", toStage, 200, wire.NewReservation{}, wire.Reservation{}, nil, a.reserve},
		{"DELETE", "/devices/:name/reservation", "End the reservation", toStage, 204, nil, nil, nil, a.release},
		{"POST", "/devices/:name/reservation/asks", "Ask whoever reserved the device", toStage, 200, wire.NewNote{}, wire.Reservation{}, nil, a.ask},
		{"GET", "/stencils", "All stencils", toRead, 200, nil, []wire.Stencil{}, nil, a.stencils},
		{"GET", "/stencils/:name", "One stencil, its versions and the devices that use it; the blanks by a device's schema", toRead, 200, nil, wire.Stencil{}, []string{"device"}, a.stencil},
		{"PUT", "/stencils/:name", "Save a new version; opens a change for the devices that use it", toStage, 200, wire.NewStencil{}, wire.Saved{}, nil, a.saveStencil},
		{"POST", "/stencils/:name/bind", "Stage what the stencil sets on devices", toStage, 201, wire.Bind{}, []wire.Loaded{}, nil, a.bind},
		{"GET", "/shared", "All shared values", toRead, 200, nil, []wire.Shared{}, nil, a.shared},
		{"PUT", "/shared/:name", "Give a shared value other items; opens a change for the devices on which a stencil uses it", toStage, 200, wire.NewShared{}, wire.Saved{}, nil, a.saveShared},
		{"POST", "/changes/:number/commit", "Commit on hold", toCommit, 202, wire.NewCommit{}, wire.Change{}, nil, a.commit},
		{"POST", "/changes/:number/begin", "Commit what is prepared", toCommit, 202, nil, wire.Change{}, nil, a.begin},
		{"POST", "/changes/:number/hold", "Move the end of a hold", toCommit, 200, wire.NewHold{}, wire.Change{}, nil, a.hold},
		{"POST", "/changes/:number/leave", "Leave a device as it is that holds neither the former nor the new configuration", toCommit, 200, wire.Leave{}, wire.Change{}, nil, a.leave},
		{"POST", "/changes/:number/schedule", "Commit at a time", toCommit, 201, wire.NewDue{}, wire.Due{}, nil, a.schedule},
		{"GET", "/schedule", "What is on the schedule, and what was", toRead, 200, nil, []wire.Due{}, nil, a.scheduled},
		{"DELETE", "/schedule/:id", "Take something off the schedule", toCommit, 204, nil, nil, nil, a.unschedule},
		{"POST", "/changes/:number/confirm", "Keep what is on hold; answers when it is decided", toCommit, 200, wire.Confirm{}, wire.Change{}, nil, a.confirm},
		{"GET", "/changes/:number/unsettled", "What the devices hold of a change that was under way when the backup was taken that the records come from; they are read", toCommit, 200, nil, []wire.Unsettled{}, nil, a.unsettled},
		{"POST", "/changes/:number/settle", "Record devices as they are found to be; once all are, the change has its end", toCommit, 200, wire.Settle{}, wire.Change{}, nil, a.settle},
		{"DELETE", "/lost-holds/:change", "Take a hold that the records know nothing of off the list, once its devices were looked at", toAdministerAll, 204, nil, nil, nil, a.lookedAfter},
		{"POST", "/changes/:number/revert", "Go back now; answers when every device is seen to have gone back, or after a minute", toCommit, 200, nil, wire.Change{}, nil, a.revert},
		{"POST", "/changes/:number/drop", "Abandon a change that is on no device", toStage, 204, nil, nil, nil, a.drop},
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
		SeenAs: in.SeenAs, Name: in.Name, Address: in.Address, Account: in.Account, Password: in.Password, PrivateKey: in.PrivateKey, Site: in.Site, Role: in.Role,
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
	out := wire.Modules{Device: d.Name, Features: set.Features, Missing: set.Missing, Modules: []wire.Module{}}
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
	part := a.redactor(c, d).Tree(r.Running.Cut(path))
	out.Path = path.Full()
	out.Outline = codec.OutlineText(part)
	out.XML = string(codec.XML(r.Schema, part, markup.Name{Space: netconf.BaseNS, Local: "config"}))
	return out, nil
}

func (a *API) attention(c *call) (any, error) { return a.Documents.Attention(c.ctx, c.person) }
