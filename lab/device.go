// Package lab simulates network devices: real NETCONF servers over SSH on
// loopback, each with its own datastores, timers and YANG modules. What is
// configured has effect: a device whose running configuration cuts its own
// management path stops answering until that is taken back.
package lab

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/subtle"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"oakenlatch/core/codec"
	"oakenlatch/core/markup"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
)

// Spec describes a device.
type Spec struct {
	Name           string
	Listen         string   // address to listen on, e.g. 127.64.1.1:2830 or 127.0.0.1:0
	Modules        []string // beyond those every device has
	Factory        []byte   // first startup configuration, XML
	User, Password string   // the account on the device
	Management     Management
	Defaults       tree.DefaultsMode // basic mode (RFC 6243); explicit if empty
	OnlyDefaults   bool              // it knows no other mode than that
	Kind           Kind              // full if empty
	OldFraming     bool              // it speaks base:1.0 only
	Slow           time.Duration     // what each operation takes longer
	Silent         bool              // it tells of no events
	TellsLate      time.Duration     // how late it tells of them
	ClockAhead     time.Duration     // how wrong its clock is
	Model, Serial  string            // what it tells of the box; "" is made up from its name
	Dir            string            // where startup and host key are kept; "" keeps them in memory
}

// effectDelay is how long a device takes from a commit to its effect on the
// network: long enough for the reply to leave.
const effectDelay = 150 * time.Millisecond

// Device is a simulated device.
type Device struct {
	Spec    Spec
	HostKey ssh.PublicKey
	Address string // where it listens

	set    *moduleSet
	server *netconf.Server
	sshCfg *ssh.ServerConfig
	doors  []*door // the first is its own
	conns  sync.WaitGroup

	opening sync.Mutex // taken before mu

	mu        sync.Mutex
	booted    time.Time
	running   *tree.Node
	effective *tree.Node // what of running is in effect

	startedWith *tree.Node // when it was put up, and its cables were
	behind      []*Device  // those that this one passes packets on to
	candidate   *tree.Node
	startup     *tree.Node
	dirty       bool // the candidate was edited since it last equalled running
	locks       map[netconf.Datastore]heldLock
	pending     *pendingCommit
	effects     uint64 // counts changes of running; a delayed effect checks it is still the newest
	live        map[net.Conn]bool
	closed      bool
	faults      func(op *markup.Element) Fault
	down        bool // it is restarting
	cut         bool // its link is cut
	unplugged   map[string]bool
}

// heldLock is a session's lock on a datastore.
type heldLock struct {
	session uint32
	since   time.Time
}

// pendingCommit is a confirmed commit that waits to be confirmed.
type pendingCommit struct {
	before  *tree.Node
	persist string
	session uint32
	timer   *time.Timer
}

// Start boots a device and begins to listen.
func Start(spec Spec) (*Device, error) {
	set, err := modules(spec.Modules...)
	if err != nil {
		return nil, err
	}
	d := &Device{
		Spec: spec, set: set, locks: map[netconf.Datastore]heldLock{}, live: map[net.Conn]bool{},
		unplugged: map[string]bool{},
	}
	d.booted = d.now()
	signer, err := d.hostKey()
	if err != nil {
		return nil, fmt.Errorf("%s: host key: %w", spec.Name, err)
	}
	d.HostKey = signer.PublicKey()
	if d.startup, err = d.boot(); err != nil {
		return nil, fmt.Errorf("%s: startup: %w", spec.Name, err)
	}
	d.running, d.candidate, d.effective = d.startup, d.startup, d.startup
	d.server = &netconf.Server{Capabilities: d.capabilities(), Handler: d}
	d.sshCfg = &ssh.ServerConfig{PasswordCallback: d.password}
	d.sshCfg.AddHostKey(signer)
	if err := d.openDoors(); err != nil {
		return nil, fmt.Errorf("%s: %w", spec.Name, err)
	}
	if mid := d.Spec.Management.Behind; mid != nil {
		mid.mu.Lock()
		mid.behind = append(mid.behind, d)
		mid.mu.Unlock()
	}
	d.openOrShut()
	for _, dr := range d.doors {
		go d.accept(dr)
	}
	return d, nil
}

// door is an address of the device and where it listens for it.
type door struct {
	net.Listener
	gate    *gate
	address netip.Addr
}

// openDoors begins to listen for every address the network carries here.
func (d *Device) openDoors() error {
	m := &d.Spec.Management
	d.startedWith = d.startup
	m.putUp(d.startup)
	listens := map[netip.Addr]string{m.Address: d.Spec.Listen}
	for a, at := range m.Others {
		if strings.HasSuffix(d.Spec.Listen, ":0") {
			at = d.Spec.Listen // any port will do for these too
		}
		listens[a] = at
	}
	for _, a := range slices.SortedFunc(maps.Keys(listens), netip.Addr.Compare) {
		l, err := net.Listen("tcp", listens[a])
		if err != nil {
			return err
		}
		dr := &door{l, newGate(), a}
		if a == m.Address {
			d.Address = l.Addr().String()
			d.doors = slices.Insert(d.doors, 0, dr)
			continue
		}
		d.doors = append(d.doors, dr)
	}
	return nil
}

// At gives where the device listens for one of its addresses, "" where it is
// none that the network carries to it.
func (d *Device) At(a netip.Addr) string {
	for _, dr := range d.doors {
		if dr.address == a {
			return dr.Addr().String()
		}
	}
	return ""
}

// now is the device's own time.
func (d *Device) now() time.Time { return time.Now().UTC().Add(d.Spec.ClockAhead) }

func (d *Device) password(c ssh.ConnMetadata, given []byte) (*ssh.Permissions, error) {
	d.mu.Lock()
	known := admitsAccount(d.running, d.Spec.User, d.Spec.Password)
	d.mu.Unlock()
	if known && c.User() == d.Spec.User && subtle.ConstantTimeCompare(given, []byte(d.Spec.Password)) == 1 {
		return nil, nil
	}
	return nil, fmt.Errorf("wrong account or password")
}

func (d *Device) file(name string) string { return filepath.Join(d.Spec.Dir, d.Spec.Name+"."+name) }

func (d *Device) hostKey() (ssh.Signer, error) {
	if d.Spec.Dir != "" {
		if pem, err := os.ReadFile(d.file("hostkey")); err == nil {
			return ssh.ParsePrivateKey(pem)
		}
	}
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	if d.Spec.Dir != "" {
		if err := keepKey(d.file("hostkey"), key); err != nil {
			return nil, err
		}
	}
	return ssh.NewSignerFromKey(key)
}

// boot reads the startup configuration, or on first start the factory's.
func (d *Device) boot() (*tree.Node, error) {
	text := d.Spec.Factory
	if d.Spec.Dir != "" {
		if kept, err := os.ReadFile(d.file("startup.xml")); err == nil {
			text = kept
		}
	}
	el, err := markup.Parse(text, markup.Limits{})
	if err != nil {
		return nil, err
	}
	return codec.Decoder{Schema: d.set.schema, Strict: true}.Tree(el)
}

// saveStartup keeps the startup configuration; d.mu is held.
func (d *Device) saveStartup(n *tree.Node) error {
	if d.Spec.Dir != "" {
		text := codec.XML(d.set.schema, n, markup.Name{Space: netconf.BaseNS, Local: "config"})
		tmp := d.file("startup.tmp")
		if err := os.WriteFile(tmp, text, 0o600); err != nil {
			return err
		}
		if err := os.Rename(tmp, d.file("startup.xml")); err != nil {
			return err
		}
	}
	d.startup = n
	return nil
}

func (d *Device) accept(dr *door) {
	for {
		conn, err := dr.Accept()
		if err != nil {
			return
		}
		g := &gated{Conn: conn, gate: dr.gate}
		d.mu.Lock()
		if d.closed {
			d.mu.Unlock()
			_ = g.Close()
			return
		}
		d.live[g] = true
		d.mu.Unlock()
		d.conns.Go(func() {
			_ = d.server.ServeSSH(g, d.sshCfg)
			_ = g.Close()
			d.mu.Lock()
			delete(d.live, g)
			d.mu.Unlock()
		})
	}
}

// drop ends every connection.
func (d *Device) drop() {
	d.mu.Lock()
	conns := make([]net.Conn, 0, len(d.live))
	for c := range d.live {
		conns = append(conns, c)
	}
	d.mu.Unlock()
	for _, c := range conns {
		_ = c.Close()
	}
}

// DropSessions ends every session from the device's side; it goes on otherwise.
func (d *Device) DropSessions() { d.drop() }

// Booted is when the device started last, by its own clock.
func (d *Device) Booted() time.Time {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.booted
}

// Stop switches the device off.
func (d *Device) Stop() {
	d.mu.Lock()
	d.closed = true
	d.endPending()
	d.mu.Unlock()
	for _, dr := range d.doors {
		_ = dr.Close()
	}
	d.drop()
	d.conns.Wait()
}

// PowerCycle is a loss of power: running is lost, startup comes back, nothing
// is known of sessions, locks or a pending commit.
func (d *Device) PowerCycle() {
	d.mu.Lock()
	d.endPending()
	clear(d.locks)
	d.booted = d.now()
	d.setRunning(d.startup)
	d.candidate, d.dirty = d.running, false
	d.mu.Unlock()
	d.drop()
}

// endPending forgets the pending commit; d.mu is held.
func (d *Device) endPending() {
	if d.pending != nil {
		d.pending.timer.Stop()
		d.pending = nil
	}
}

// revert takes a pending commit back; d.mu is held.
func (d *Device) revert() {
	if d.pending == nil {
		return
	}
	before := d.pending.before
	d.endPending()
	if before.Digest() != d.running.Digest() {
		d.setRunning(before)
		d.changed(nil, netconf.Running)
	}
	if !d.dirty {
		d.candidate = before
	}
}

// setRunning puts a configuration into effect; d.mu is held.
func (d *Device) setRunning(n *tree.Node) {
	d.running = n
	d.effects++
	effect := d.effects
	time.AfterFunc(effectDelay, func() {
		d.mu.Lock()
		newest := effect == d.effects
		if newest {
			d.effective = n
		}
		d.mu.Unlock()
		if newest {
			d.openOrShut()
		}
	})
}

// openOrShut sets the gates as things are, here and at the devices behind.
func (d *Device) openOrShut() {
	d.opening.Lock() // what is set last is what was true last
	defer d.opening.Unlock()
	d.mu.Lock()
	cfg, dead := d.effective, d.down || d.cut
	behind := slices.Clone(d.behind)
	d.mu.Unlock()
	for _, dr := range d.doors {
		dr.gate.set(!dead && d.Spec.Management.reaches(cfg, dr.address))
	}
	for _, b := range behind {
		b.openOrShut()
	}
}

// Cut cuts the link to the device, or mends it.
func (d *Device) Cut(cut bool) {
	d.mu.Lock()
	d.cut = cut
	d.mu.Unlock()
	d.openOrShut()
}

// Running gives the running configuration.
func (d *Device) Running() *tree.Node {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.running
}

// Startup gives the startup configuration.
func (d *Device) Startup() *tree.Node {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.startup
}

// Reachable reports whether the management path is open.
func (d *Device) Reachable() bool { return d.doors[0].gate.open() }

// Answers reports whether the device would answer at its own address if its
// configuration were this one, by the lab's own rules.
func (d *Device) Answers(cfg *tree.Node) bool {
	return d.Spec.Management.reaches(cfg, d.Spec.Management.Address) && admitsAccount(cfg, d.Spec.User, d.Spec.Password)
}

// Pending reports whether a confirmed commit waits to be confirmed.
func (d *Device) Pending() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.pending != nil
}

// Console changes running as someone at the device's own console does, without
// any NETCONF session or sign-in.
func (d *Device) Console(path, value string) error { return d.console(path, value, true) }

// Quietly is Console by someone who also clears what the device noted of it: it
// tells nobody.
func (d *Device) Quietly(path, value string) error { return d.console(path, value, false) }

func (d *Device) console(path, value string, tells bool) error {
	p, err := tree.ParsePath(d.set.schema, path)
	if err != nil {
		return err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	next, err := tree.Apply(d.running, tree.Put(p, value), tree.None)
	if err != nil {
		return err
	}
	d.setRunning(next)
	if tells {
		d.changed(nil, netconf.Running)
	}
	if !d.dirty {
		d.candidate = next
	}
	return nil
}

// Value gives the value of a leaf of running, "" where it is not set.
func (d *Device) Value(path string) (string, error) {
	p, err := tree.ParsePath(d.set.schema, path)
	if err != nil {
		return "", err
	}
	if n := d.Running().At(p); n != nil {
		return n.Value(), nil
	}
	return "", nil
}
