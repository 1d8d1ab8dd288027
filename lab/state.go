package lab

import (
	"cmp"
	"fmt"
	"hash/crc32"
	"net"
	"strconv"
	"strings"
	"time"

	"oakenlatch/core/markup"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
)

const systemNS = "urn:ietf:params:xml:ns:yang:ietf-system"

func (d *Device) get(_ *netconf.Session, op *markup.Element) ([]byte, error) {
	withState, err := d.withInterfaceState()
	if err != nil {
		return nil, err
	}
	return d.data(op, withState, d.writeState)
}

// withInterfaceState gives running with each interface's oper-status.
func (d *Device) withInterfaceState() (*tree.Node, error) {
	next := d.running
	for _, i := range list(d.running.Known("interfaces"), "interface") {
		admin, status := "up", "up"
		if leaf(i, "enabled", "true") != "true" {
			admin, status = "down", "down"
		} else if d.unplugged[leaf(i, "name", "")] {
			status = "lower-layer-down"
		}
		p := tree.Path{{Node: d.running.Known("interfaces").Schema()}, {Node: i.Schema(), Keys: i.Keys()}}
		for name, status := range map[string]string{"admin-status": admin, "oper-status": status} {
			p := append(p[:2:2], tree.Step{Node: i.Schema().Child(i.Schema().Module, name)})
			var err error
			if next, err = tree.Apply(next, tree.Put(p, status), tree.None); err != nil {
				return nil, err
			}
		}
	}
	return next, nil
}

func (d *Device) writeState(w *markup.Writer) {
	sys := func(local string) markup.Name { return markup.Name{Space: systemNS, Local: local} }
	w.Start(sys("system-state"))
	w.Start(sys("clock"))
	w.Leaf(sys("current-datetime"), d.now().Format(time.RFC3339))
	w.Leaf(sys("boot-datetime"), d.booted.Format(time.RFC3339))
	w.End()
	w.End()
	d.writeBox(w)
	w.Start(ncm("netconf-state"))
	d.writeLocks(w)
	w.Start(ncm("schemas"))
	for _, m := range d.set.schema.Modules {
		w.Start(ncm("schema"))
		w.Leaf(ncm("identifier"), m.Name)
		w.Leaf(ncm("version"), m.Revision)
		w.Leaf(ncm("format"), "yang")
		w.Leaf(ncm("namespace"), m.Namespace)
		w.Leaf(ncm("location"), "NETCONF")
		w.End()
	}
	w.End()
	w.Start(ncm("sessions"))
	for _, s := range d.server.Sessions() {
		w.Start(ncm("session"))
		w.Leaf(ncm("session-id"), strconv.FormatUint(uint64(s.ID), 10))
		w.Leaf(ncm("transport"), "netconf-ssh")
		w.Leaf(ncm("username"), s.User)
		if from := d.Spec.Management.Operator; from.IsValid() {
			w.Leaf(ncm("source-host"), from.String()) // as the simulated network has it
		} else if host, _, err := net.SplitHostPort(s.Remote); err == nil {
			w.Leaf(ncm("source-host"), host)
		}
		w.Leaf(ncm("login-time"), s.Started.Add(d.Spec.ClockAhead).Format(time.RFC3339))
		w.End()
	}
	w.End()
	w.End()
}

// writeBox tells what the box is (RFC 8348 section 3).
func (d *Device) writeBox(w *markup.Writer) {
	model, serial := d.Spec.Model, d.Spec.Serial
	if model == "" {
		model = "Lab box, " + cmp.Or(string(d.Spec.Kind), "full")
	}
	if serial == "" {
		serial = fmt.Sprintf("OL-%08X", crc32.ChecksumIEEE([]byte(d.Spec.Name)))
	}
	const ns = "urn:ietf:params:xml:ns:yang:ietf-hardware"
	hw := func(local string) markup.Name { return markup.Name{Space: ns, Local: local} }
	w.Start(hw("hardware"))
	w.Start(hw("component"))
	w.Leaf(hw("name"), "box")
	w.Leaf(hw("class"), "hw:chassis", "xmlns:hw", ns)
	w.Leaf(hw("serial-num"), serial)
	w.Leaf(hw("model-name"), model)
	w.End()
	w.End()
}

func (d *Device) getSchema(op *markup.Element) ([]byte, error) {
	child := func(name string) string { return op.Child(netconf.MonitoringNS, name).Value() }
	if f := child("format"); f != "" && f != "yang" && !strings.HasSuffix(f, ":yang") {
		return nil, refuse("invalid-value", "modules are handed out as yang, not as %s", f)
	}
	text, ok := d.set.text(child("identifier"), child("version"))
	if !ok {
		return nil, refuse("invalid-value", "there is no module %s %s here", child("identifier"), child("version"))
	}
	w := &markup.Writer{}
	w.Leaf(markup.Name{Space: netconf.MonitoringNS, Local: "data"}, text)
	return w.Bytes(), nil
}

func ncm(local string) markup.Name { return markup.Name{Space: netconf.MonitoringNS, Local: local} }

// writeLocks tells who has what locked (RFC 6022 section 2.1.2).
func (d *Device) writeLocks(w *markup.Writer) {
	w.Start(ncm("datastores"))
	for _, ds := range []netconf.Datastore{netconf.Running, netconf.Candidate, netconf.Startup} {
		if ds == netconf.Candidate && !d.Spec.Kind.candidate() {
			continue
		}
		w.Start(ncm("datastore"))
		w.Leaf(ncm("name"), string(ds))
		if l, ok := d.locks[ds]; ok {
			w.Start(ncm("locks"))
			w.Start(ncm("global-lock"))
			w.Leaf(ncm("locked-by-session"), strconv.FormatUint(uint64(l.session), 10))
			w.Leaf(ncm("locked-time"), l.since.Format(time.RFC3339))
			w.End()
			w.End()
		}
		w.End()
	}
	w.End()
}

// restart is RFC 7317's system-restart: an answer, then a while of nothing,
// then startup.
func (d *Device) restart() error {
	time.AfterFunc(100*time.Millisecond, func() {
		d.setDown(true)
		d.PowerCycle()
		time.Sleep(bootTime)
		d.setDown(false)
	})
	return nil
}

func (d *Device) setDown(down bool) {
	d.mu.Lock()
	d.down = down
	d.mu.Unlock()
	d.openOrShut()
}

// bootTime is how long a device takes to restart.
const bootTime = 700 * time.Millisecond

// Unplug takes the cable out of an interface, or puts it back in: its
// oper-status follows.
func (d *Device) Unplug(name string, out bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.unplugged[name] = out
}
