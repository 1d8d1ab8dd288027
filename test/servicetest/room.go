// Package servicetest puts the service's rooms together in one process, with
// devices of the lab, for the tests of those rooms.
package servicetest

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"oakenlatch/core/guard"
	"oakenlatch/core/ledger"
	"oakenlatch/core/search"
	"oakenlatch/lab"
	"oakenlatch/service/access"
	"oakenlatch/service/approval"
	"oakenlatch/service/archive"
	"oakenlatch/service/audit"
	"oakenlatch/service/commit"
	"oakenlatch/service/desk"
	"oakenlatch/service/documents"
	"oakenlatch/service/engine"
	"oakenlatch/service/fleet"
	"oakenlatch/service/folder"
	"oakenlatch/service/history"
	"oakenlatch/service/order"
	"oakenlatch/service/outside"
	"oakenlatch/service/reservation"
	"oakenlatch/service/restore"
	"oakenlatch/service/stencils"
	"oakenlatch/service/store"
	"oakenlatch/service/underway"
	"oakenlatch/test/records"
)

// Room is the service's rooms around their records.
type Room struct {
	Store   *store.Store
	Log     *audit.Log
	Fleet   *fleet.Fleet
	History *history.History
	Desk    *desk.Desk
	Engine  *engine.Engine
	Commits *commit.Commits
	Watch   *outside.Watch
	Devices map[string]*lab.Device

	Accounts     *access.Accounts
	Archives     *archive.Archives
	Documents    *documents.Documents
	Approvals    *approval.Approvals
	Reservations *reservation.Reservations
	Stencils     *stencils.Stencils
	Restorer     *restore.Restorer
	Notes        *folder.Notes

	// From the next Open on.
	Timing   engine.Timing   // the engine's: that of quick devices, if not set otherwise
	Programs string          // folder of the programs that may be run as probes
	Archive  archive.Options // how archives work

	// Opened, unless nil, is called by Open once the records are there, and nothing of what they tell was taken up.
	Opened func(*store.Store)

	// Looking is how often Look has devices looked at.
	Looking outside.Timing

	stop  context.CancelFunc
	clock atomic.Int64 // what the service's is ahead, ns
	t     testing.TB
	dir   string
}

// Found gives the newest entries of the ledger that a line finds, up to a limit;
// 0 is all.
func (r *Room) Found(limit int, line string, args ...any) []ledger.Entry {
	r.t.Helper()
	q, err := search.Parse(fmt.Sprintf(line, args...), time.Now())
	require.NoError(r.t, err)
	list, err := r.Log.Entries(r.t.Context(), store.LedgerQuery{Query: q, Limit: limit})
	require.NoError(r.t, err)
	return list
}

// SetClock sets the service's clock that far off.
func (r *Room) SetClock(ahead time.Duration) { r.clock.Store(int64(ahead)) }

// What the people of a room may do.
var (
	Operator = access.Everywhere(access.Read, access.Stage, access.Commit, access.Approve, access.Audit)
	Admin    = access.Everywhere(access.Roles...)
	Viewer   = access.Everywhere(access.Read, access.Audit)
)

// The people of a room.
var (
	Mara = access.Person{Name: "mara", Grants: Operator}
	Joss = access.Person{Name: "joss", Grants: Operator}
)

// New makes a room with the named devices of Tidewell Ferries, trusted.
func New(t testing.TB, names ...string) *Room {
	t.Helper()
	return NewWith(t, func(*lab.Spec) {}, names...)
}

// NewWith is New with devices that are made otherwise.
func NewWith(t testing.TB, alter func(*lab.Spec), names ...string) *Room {
	t.Helper()
	return NewAt(t, t.TempDir(), alter, names...)
}

// NewAt is NewWith with its records in a folder.
func NewAt(t testing.TB, dir string, alter func(*lab.Spec), names ...string) *Room {
	t.Helper()
	r := &Room{t: t, dir: dir, Devices: map[string]*lab.Device{}, Timing: quick}
	r.Open()
	t.Cleanup(r.Close)
	require.NoError(t, r.Store.Write(t.Context(), func(tx *store.Tx) error {
		require.NoError(t, tx.AddAccount(store.Account{Name: "mara", Grants: Operator.Texts(), Created: time.Now()}))
		return tx.AddAccount(store.Account{Name: "joss", Grants: Operator.Texts(), Created: time.Now()})
	}))
	sites, err := lab.Tidewell("")
	require.NoError(t, err)
	for _, s := range sites {
		for _, name := range names {
			if spec := s.Spec; spec.Name == strings.TrimSuffix(name, "-2") { // a second one of its kind
				spec.Name = name
				alter(&spec)
				r.adopt(spec)
			}
		}
	}
	return r
}

func (r *Room) adopt(spec lab.Spec) {
	spec.Listen = "127.0.0.1:0"
	d, err := lab.Start(spec)
	require.NoError(r.t, err)
	r.t.Cleanup(d.Stop)
	r.Devices[spec.Name] = d
	ctx := r.t.Context()
	require.NoError(
		r.t,
		r.Fleet.Add(
			ctx, "mara",
			fleet.NewDevice{Name: spec.Name, Address: d.Address, Account: lab.User, Password: lab.Password},
		),
	)
	require.NoError(r.t, r.Trust(spec.Name))
}

// Place says where a device stands and what it is.
func (r *Room) Place(device, site, role string) {
	r.t.Helper()
	d, err := r.Store.Device(r.t.Context(), store.Everything, device)
	require.NoError(r.t, err)
	require.NoError(r.t, r.Log.Write(r.t.Context(), func(tx *audit.Tx) error { return tx.SetPlace(d.ID, site, role) }))
}

// Trust accepts the host key that a device shows now.
func (r *Room) Trust(name string) error {
	key, err := r.Fleet.ScanHostKey(r.t.Context(), store.Everything, name)
	if err == nil {
		_, err = r.Fleet.Trust(r.t.Context(), store.Everything, "mara", name, key.Fingerprint)
	}
	return err
}

// Open puts the rooms together over the records, as a start of the service does.
func (r *Room) Open() {
	records.Fresh(r.t, r.dir)
	var err error
	r.Store, err = store.Open(r.dir)
	require.NoError(r.t, err)
	require.NoError(r.t, r.Store.Watch(r.dir, 0))
	if r.Opened != nil {
		r.Opened(r.Store)
	}
	r.Log = audit.New(
		r.Store, audit.Options{Now: func() time.Time { return time.Now().Add(time.Duration(r.clock.Load())).Round(0) }},
	)
	sealer, err := access.OpenSealer(filepath.Join(r.dir, access.KeyFile))
	require.NoError(r.t, err)
	r.Accounts, err = access.NewAccounts(r.Store, r.Log, access.Options{Sealer: sealer, Hashing: records.Hashing})
	require.NoError(r.t, err)
	r.Notes, err = folder.OpenNotes(r.dir)
	require.NoError(r.t, err)
	logger, board := slog.New(slog.DiscardHandler), underway.New()
	r.Fleet = fleet.New(r.Store, r.Log, sealer)
	r.History = history.New(r.Store, r.Log, r.Fleet, board)
	r.Engine = engine.New(
		r.Store, r.Log, r.Fleet, r.History, board,
		engine.Options{Programs: r.Programs, Notes: r.Notes, Timing: r.Timing, Logger: logger},
	)
	r.Archive.Dir, r.Archive.Logger = cmp.Or(r.Archive.Dir, r.dir), logger
	r.Archives = archive.New(r.Store, r.Log, r.Fleet, r.History, sealer, r.Archive)
	r.Approvals, r.Reservations = approval.New(r.Store, r.Log), reservation.New(r.Store, r.Log)
	r.Desk = desk.New(r.Store, r.Log, desk.Rooms{
		History: r.History, Fleet: r.Fleet, Devices: r.Engine, Copies: r.Archives,
		Approvals: r.Approvals, Reservations: r.Reservations,
	})
	r.Stencils = stencils.New(r.Store, r.Log, r.History, r.Fleet, r.Desk)
	r.Restorer = restore.New(r.Store, r.Log, r.History, r.Desk)
	r.Commits = commit.New(r.Store, r.Log, r.Accounts, r.Desk, r.Engine, logger)
	r.Documents = &documents.Documents{
		Store: r.Store, Log: r.Log, Accounts: r.Accounts, Fleet: r.Fleet, History: r.History, Desk: r.Desk,
		Engine: r.Engine, Approvals: r.Approvals, Reservations: r.Reservations,
	}
	require.NoError(r.t, r.Engine.Recover(r.t.Context()))
	r.Commits.Run()
}

// Look begins to watch the devices for what is changed on them, and waits until
// a session to each stands.
func (r *Room) Look() {
	r.Watch = outside.New(
		r.Store, r.Log, r.Fleet, r.History,
		outside.Options{Timing: r.Looking, Clocks: r.Engine, Logger: slog.New(slog.DiscardHandler)},
	)
	var ctx context.Context
	ctx, r.stop = context.WithCancel(context.Background())
	r.Watch.Run(ctx)
	require.NoError(r.t, r.Fleet.Watch(r.t.Context()))
	require.Eventually(
		r.t, func() bool { return r.Fleet.Standing() == len(r.Devices) }, 20*time.Second, 10*time.Millisecond,
	)
}

// Close stops them, as a stop of the service does.
func (r *Room) Close() {
	if r.stop != nil {
		r.stop()
		r.Watch.Stop()
		r.Fleet.Stop()
		r.stop = nil
	}
	r.Commits.Stop()
	r.Engine.Stop()
	_ = r.Store.Close()
}

// Value reads a leaf of a device's running, by the device itself.
func (r *Room) Value(device, path string) string {
	r.t.Helper()
	v, err := r.Devices[device].Value(path)
	require.NoError(r.t, err)
	return v
}

// Put stages a value as someone.
func (r *Room) Put(p access.Person, change int64, device, path, value string) (desk.Staged, error) {
	return r.Stage(p, change, device, desk.Act{Op: "put", Path: path, Value: &value})
}

// Stage stages an edit on one device as someone.
func (r *Room) Stage(p access.Person, change int64, device string, a desk.Act) (desk.Staged, error) {
	list, err := r.Desk.Stage(r.t.Context(), p, change, []string{device}, a)
	if err != nil {
		return desk.Staged{}, err
	}
	return list[0], nil
}

// Ready gives the work of a change that could be committed now, as someone.
func (r *Room) Ready(actor string, change int64) []order.Work {
	r.t.Helper()
	ready, err := r.Desk.Ready(r.t.Context(), store.Everything, change, actor, order.Order{})
	require.NoError(r.t, err)
	return ready.Works
}

// Works gives a change's parts as they were staged, without asking whether they could be committed.
func Works(parts []desk.Work) (works []order.Work) {
	for _, w := range parts {
		works = append(works, w.Work)
	}
	return works
}

// Begin begins a commit as someone.
func (r *Room) Begin(actor string, change int64, o order.Order, works []order.Work) error {
	return r.Engine.Begin(r.t.Context(), order.Start{Actor: actor, Change: change, Order: o, Works: works})
}

// quick is for devices that put a commit into effect at once, as the lab's do.
var quick = engine.Timing{
	Effect: 200 * time.Millisecond, Pause: engine.DefaultTiming.Pause, Watch: engine.DefaultTiming.Watch,
	AtOnce: engine.DefaultTiming.AtOnce,
}

// Keep has a change committed, and confirms it.
func (r *Room) Keep(p access.Person, change int64) {
	r.t.Helper()
	works := r.Ready(p.Name, change)
	require.NoError(r.t, r.Begin(p.Name, change, order.Order{Hold: time.Minute}, works))
	r.Until(change, guard.Awaiting)
	require.NoError(r.t, r.Engine.Say(r.t.Context(), change, guard.Event{Kind: guard.SayConfirm, By: p.Name}))
	r.Until(change, guard.Done)
}

// Until waits until a change's commit is in a phase, or done.
func (r *Room) Until(change int64, phase guard.Phase) {
	r.t.Helper()
	require.Eventually(r.t, func() bool {
		s, _, err := r.Engine.Last(r.t.Context(), change)
		return err == nil && (s.Phase == phase || s.Phase == guard.Done)
	}, 90*time.Second, 20*time.Millisecond)
}

// Login is how somebody else signs in on a lab device.
func Login(d *lab.Device) ssh.ClientConfig {
	return ssh.ClientConfig{
		User: lab.User, Auth: []ssh.AuthMethod{ssh.Password(lab.Password)},
		HostKeyCallback: ssh.FixedHostKey(d.HostKey),
	}
}
