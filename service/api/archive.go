package api

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"oakenlatch/core/advice"
	"oakenlatch/service/archive"
	"oakenlatch/service/fleet"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// archiveRoutes are those about copies off the machine.
func (a *API) archiveRoutes() []route {
	return []route{
		{
			id: "listArchives", method: "GET", path: "/archives", needs: toRead,
			summary: "Where copies go, in the order in which archives are tried",
			out:     []wire.Archive{}, handle: a.archives,
		},
		{
			id: "addArchive", method: "POST", path: "/archives", needs: toAdministerAll,
			summary: "Add an archive",
			status:  201, in: wire.NewArchive{}, out: wire.Archive{}, handle: a.addArchive,
		},
		{
			id: "setArchive", method: "PATCH", path: "/archives/:name", needs: toAdministerAll,
			summary: "Change how an archive is used, or retire it",
			in:      wire.ArchiveSettings{}, out: wire.Archive{}, handle: a.setArchive,
		},
		{
			id: "archiveHostKey", method: "GET", path: "/archives/:name/host-key", needs: toAdministerAll,
			summary: "The host key the archive's server shows now",
			out:     wire.HostKey{}, handle: a.archiveKey,
		},
		{
			id: "trustArchive", method: "POST", path: "/archives/:name/trust", needs: toAdministerAll,
			summary: "Accept the host key of the archive's server",
			in:      wire.Trust{}, out: wire.HostKey{}, handle: a.trustArchive,
		},
		{
			id: "verifyArchive", method: "POST", path: "/archives/:name/verify", needs: toAudit,
			summary: "Read every copy back and compare it; a job",
			status:  202, out: wire.Job{}, comesTo: wire.VerifiedArchive{}, handle: a.verifyArchive,
		},
		{
			id: "rebuildFromArchive", method: "POST", path: "/archives/:name/rebuild", needs: toAdministerAll,
			summary: "Make devices and revisions again from nothing but the archive; a job",
			status:  202, out: wire.Job{}, comesTo: wire.Rebuilt{}, handle: a.rebuild,
		},
		{
			id: "listCopies", method: "GET", path: "/copies", needs: toRead,
			summary: "The copies there are, of an archive, of a device",
			out:     []wire.Copy{}, query: []string{"archive", "device"}, handle: a.copies,
		},
		{
			id: "copyNow", method: "POST", path: "/copies", needs: toCommit,
			summary: "Copy now; a job",
			status:  202, in: wire.NewCopy{}, out: wire.Job{}, comesTo: wire.Copied{}, handle: a.copyNow,
		},
		{
			id: "readCopy", method: "GET", path: "/copies/:id", needs: toRead,
			summary: "A copy as the archive has it, compared with the digest it was written with",
			out:     wire.CopyText{}, handle: a.readCopy,
		},
		{
			id: "mendFromCopy", method: "POST", path: "/copies/:id/mend", needs: toAdministerAll,
			summary: "Repair a damaged stored configuration with its copy",
			status:  204, handle: a.mendFromCopy,
		},
		{
			id: "replaceDevice", method: "POST", path: "/devices/:name/replace", about: aDevice, needs: toAdminister,
			summary: "Put another box in the device's place; its history goes on, its host key is to be accepted again",
			in:      wire.NewDevice{}, out: wire.Device{}, handle: a.replace,
		},
		{
			id: "listStandings", method: "GET", path: "/standing", needs: toRead,
			summary: "How what is saved stands: changed, saved to startup, copied",
			out:     []wire.Standing{}, handle: a.standing,
		},
		{
			id: "getJob", method: "GET", path: "/jobs/:id", needs: anyone,
			summary: "How long work of one's own stands, or for an administrator anybody's; wait is for how many " +
				"seconds to wait for its end",
			out: wire.Job{}, query: []string{"wait"}, handle: a.job,
		},
		{
			id: "stopJob", method: "DELETE", path: "/jobs/:id", needs: anyone,
			summary: "Stop long work of one's own, or for an administrator anybody's",
			status:  204, handle: a.stopJob,
		},
	}
}

func (a *API) archives(c *call) (any, error) { return a.Documents.Archives(c.ctx, c.person) }

func (a *API) addArchive(c *call) (any, error) {
	var in wire.NewArchive
	if err := c.read(&in); err != nil {
		return nil, err
	}
	err := a.Archives.Add(c.ctx, c.person.Name, archive.NewArchive{
		Name: in.Name, Kind: in.Kind, Place: in.Place, Account: in.Account, Password: in.Password,
		PrivateKey: in.PrivateKey, AfterChange: in.AfterChange, Every: time.Duration(in.EverySeconds) * time.Second,
		KeepLast: in.KeepLast, KeepDays: in.KeepDays,
	})
	if err != nil {
		return nil, err
	}
	return a.Documents.Archive(c.ctx, c.person, in.Name)
}

func (a *API) archiveParam(c *call) (store.Archive, error) {
	return a.Archives.Find(c.ctx, c.Param("name"))
}

func (a *API) setArchive(c *call) (any, error) {
	at, err := a.archiveParam(c)
	if err != nil {
		return nil, err
	}
	var in wire.ArchiveSettings
	if err := c.read(&in); err != nil {
		return nil, err
	}
	var what []string
	set := func(name string, given bool, value any) {
		if given {
			what = append(what, fmt.Sprintf("%s %v", name, value))
		}
	}
	if in.Position != nil {
		at.Position = *in.Position
	}
	if in.AfterChange != nil {
		at.AfterChange = *in.AfterChange
	}
	if in.EverySeconds != nil {
		at.Every = time.Duration(*in.EverySeconds) * time.Second
	}
	if in.KeepLast != nil {
		at.KeepLast = *in.KeepLast
	}
	if in.KeepDays != nil {
		at.KeepDays = *in.KeepDays
	}
	if in.Retired != nil && *in.Retired {
		at.Retired = a.Log.Now()
	}
	set("position", in.Position != nil, at.Position)
	set("after change", in.AfterChange != nil, at.AfterChange)
	set("every", in.EverySeconds != nil, at.Every)
	set("keep last", in.KeepLast != nil, at.KeepLast)
	set("keep days", in.KeepDays != nil, at.KeepDays)
	set("retired", in.Retired != nil, !at.Retired.IsZero())
	if err := a.Archives.Set(c.ctx, c.person.Name, at, strings.Join(what, ", ")); err != nil {
		return nil, err
	}
	return a.Documents.Archive(c.ctx, c.person, at.Name)
}

func (a *API) archiveKey(c *call) (any, error) {
	at, err := a.archiveParam(c)
	if err != nil {
		return nil, err
	}
	k, err := a.Archives.HostKey(c.ctx, at)
	return hostKeyDoc(at.Name, k), err
}

func (a *API) trustArchive(c *call) (any, error) {
	at, err := a.archiveParam(c)
	if err != nil {
		return nil, err
	}
	var in wire.Trust
	if err := c.read(&in); err != nil {
		return nil, err
	}
	k, err := a.Archives.Trust(c.ctx, c.person.Name, at, in.Fingerprint)
	return hostKeyDoc(at.Name, k), err
}

func (a *API) verifyArchive(c *call) (any, error) {
	at, err := a.archiveParam(c)
	if err != nil {
		return nil, err
	}
	by := c.person.Name
	return a.startJob(c, "archive verify", func(ctx context.Context, progress func(int, int, string)) (any, error) {
		v, err := a.Archives.Verify(ctx, by, at, progress)
		return wire.VerifiedArchive{
			Archive: v.Archive, Copies: v.Copies, Whole: v.Whole, Wrong: append([]string{}, v.Wrong...),
		}, err
	})
}

func (a *API) rebuild(c *call) (any, error) {
	at, err := a.archiveParam(c)
	if err != nil {
		return nil, err
	}
	by := c.person.Name
	return a.startJob(c, "archive rebuild", func(ctx context.Context, progress func(int, int, string)) (any, error) {
		r, err := a.Archives.Rebuild(ctx, by, at, progress)
		return wire.Rebuilt{
			Devices: append([]string{}, r.Devices...), Revisions: r.Revisions,
			Skipped: append([]string{}, r.Skipped...),
		}, err
	})
}

func copyDoc(k store.Copy, archive, device string) wire.Copy {
	return wire.Copy{
		ID: k.ID, Archive: archive, Device: device, Revision: k.Revision, Name: k.Name, Bytes: k.Bytes,
		SHA256: k.SHA256, At: k.At, Why: k.Why, Read: k.Read, Trouble: k.Trouble,
	}
}

// names gives the names of archives and of the devices within reach by their ids.
func (a *API) names(c *call) (devices, archives map[int64]string, err error) {
	devices, archives = map[int64]string{}, map[int64]string{}
	list, err := a.Store.Devices(c.ctx, c.person.Reach())
	for _, d := range list {
		devices[d.ID] = d.Name
	}
	if err != nil {
		return devices, archives, err
	}
	places, err := a.Store.Archives(c.ctx)
	for _, at := range places {
		archives[at.ID] = at.Name
	}
	return devices, archives, err
}

func (a *API) copies(c *call) (any, error) {
	var archiveID, deviceID int64
	if name := c.QueryParam("archive"); name != "" {
		at, err := a.Archives.Find(c.ctx, name)
		if err != nil {
			return nil, err
		}
		archiveID = at.ID
	}
	if name := c.QueryParam("device"); name != "" {
		d, err := a.deviceNamed(c, name)
		if err != nil {
			return nil, err
		}
		deviceID = d.ID
	}
	list, err := a.Store.Copies(c.ctx, archiveID, deviceID)
	if err != nil {
		return nil, err
	}
	devices, archives, err := a.names(c)
	out := make([]wire.Copy, 0, len(list))
	for _, k := range list {
		if archives[k.Archive] != "" && devices[k.Device] != "" {
			out = append(out, copyDoc(k, archives[k.Archive], devices[k.Device]))
		}
	}
	return out, err
}

func (a *API) copyNow(c *call) (any, error) {
	var in wire.NewCopy
	if err := c.read(&in); err != nil {
		return nil, err
	}
	devices, err := a.some(c, in.Devices, "", len(in.Devices) == 0)
	if err != nil {
		return nil, err
	}
	if in.Archive != "" {
		if _, err := a.Archives.Find(c.ctx, in.Archive); err != nil {
			return nil, err
		}
	}
	by := c.person.Name
	return a.startJob(c, "copy", func(ctx context.Context, progress func(int, int, string)) (any, error) {
		k, err := a.Archives.Copy(ctx, by, "hand", in.Archive, devices, progress)
		return wire.Copied{Archive: k.Archive, Copies: k.Copies, Gone: k.Gone, Failed: k.Failed}, err
	})
}

func (a *API) readCopy(c *call) (any, error) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return nil, refusal.New(refusal.Invalid, "", "%q is not the number of a copy", c.Param("id"))
	}
	k, text, err := a.Archives.Read(c.ctx, id)
	if err != nil {
		return nil, err
	}
	devices, archives, err := a.names(c)
	if err == nil && devices[k.Device] != "" && a.page(c).RedactorOf(devices[k.Device]) != nil {
		err = refusal.New(
			refusal.Forbidden,
			"compare its revision instead",
			"a copy holds all as it is, secrets too: account %s may not see those of %s", c.person.Name,
			devices[k.Device],
		).Do(advice.Compare, devices[k.Device]+"@rev:"+strconv.FormatInt(k.Revision, 10), devices[k.Device])
	}
	if err == nil && devices[k.Device] == "" {
		err = refusal.New(refusal.NotFound, "list them", "there is no copy %d", id).Do(advice.ListCopies)
	}
	if err != nil {
		return nil, err
	}
	return wire.CopyText{Copy: copyDoc(k, archives[k.Archive], devices[k.Device]), Text: string(text)}, err
}

func (a *API) mendFromCopy(c *call) (any, error) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return nil, refusal.New(refusal.Invalid, "", "%q is not the number of a copy", c.Param("id"))
	}
	k, err := a.Store.Copy(c.ctx, id)
	if err != nil {
		return nil, err
	}
	d, err := a.Store.DeviceByID(c.ctx, c.person.Reach(), k.Device)
	if err != nil {
		return nil, err
	}
	rev, err := a.Store.Revision(c.ctx, k.Device, k.Revision)
	if err != nil {
		return nil, err
	}
	s, err := a.Fleet.Schema(c.ctx, d)
	if err != nil {
		return nil, err
	}
	n, err := a.Archives.Tree(c.ctx, id, s)
	if err != nil {
		return nil, err
	}
	return nil, a.History.Mend(c.ctx, c.person.Name, d, rev, n, fmt.Sprintf("copy %d", id))
}

func (a *API) standing(c *call) (any, error) { return a.Documents.Standing(c.ctx, c.person) }

// replace puts another box in a device's place.
func (a *API) replace(c *call) (any, error) {
	d, err := a.deviceParam(c)
	if err != nil {
		return nil, err
	}
	var in wire.NewDevice
	if err := c.read(&in); err != nil {
		return nil, err
	}
	if n := a.Engine.Holder(d.ID); n != 0 {
		return nil, refusal.New(
			refusal.Conflict, fmt.Sprintf("wait until change %d is decided", n),
			"%s cannot be replaced: the commit of change %d is under way on it", d.Name, n,
		)
	}
	if in.Name != "" && in.Name != d.Name {
		return nil, refusal.New(
			refusal.Invalid, "leave the name out", "the box that takes the place of %s is not called %s", d.Name,
			in.Name,
		)
	}
	if err := a.Fleet.Replace(
		c.ctx, c.person.Name, d,
		fleet.NewDevice{Address: in.Address, Account: in.Account, Password: in.Password, PrivateKey: in.PrivateKey},
	); err != nil {
		return nil, err
	}
	return a.redevice(c, d)
}
