package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Device is a device of the inventory and what was last known of it.
type Device struct {
	ID         int64
	Name       string
	Address    string // host:port
	Account    string // on the device
	Auth       string // password or key
	Secret     []byte // sealed
	HostKey    string // accepted by a person, authorized_keys form; "" is none
	Site, Role string
	Tags       []string
	Added      time.Time
	AddedBy    string

	ModuleList   string // what the device announced when its modules were fetched
	ModuleSet    string // digest of the module set
	Capabilities []string
	Seen         time.Time // last successful contact
	Trouble      string    // what went wrong at the last contact
	Unsaved      bool      // startup does not hold what running holds
	NoSave       bool      // what is kept is not saved to startup unless asked for
	Clock        *Clock    // nil where it was never read

	// How its management is seen from the network, for the lockout forecast: its
	// address and ours as packets have them, "" where they are what we connect
	// with, and the devices on the way, "" where that is to be learned.
	SeenAs, SeenFrom, Via string
	ToldFrom              string // our address as the device told it last
	MovingTo              string // where a commit on hold moves its management to

	Model, Serial string // as it told, "" where it does not
	Replaced      bool   // another box stands in its place, and was not read yet
}

// Clock is what a device's clock was seen to be.
type Clock struct {
	Ahead time.Duration // of ours; negative where it is behind
	Read  time.Time
}

const deviceColumns = `id, name, address, account, auth, secret, host_key, site, role, added_at, added_by,
	module_list, coalesce(module_set, ''), capabilities, seen_at, trouble, unsaved, NOT save, clock_ahead_ms, clock_read_at,
	seen_as, seen_from, via, told_from, moving_to, model, serial, replaced, tags`

func scanDevice(r scanner) (Device, error) {
	var d Device
	var added, caps, seen, clockRead, tags string
	var ahead sql.NullInt64
	err := r.Scan(
		&d.ID, &d.Name, &d.Address, &d.Account, &d.Auth, &d.Secret, &d.HostKey, &d.Site, &d.Role, &added, &d.AddedBy,
		&d.ModuleList, &d.ModuleSet, &caps, &seen, &d.Trouble, &d.Unsaved, &d.NoSave, &ahead, &clockRead, &d.SeenAs,
		&d.SeenFrom, &d.Via, &d.ToldFrom, &d.MovingTo, &d.Model, &d.Serial, &d.Replaced, &tags,
	)
	if err != nil {
		return d, err
	}
	d.Tags = strings.Fields(tags)
	var aerr, serr error
	d.Added, aerr = parseTime(added)
	d.Seen, serr = parseTime(seen)
	if ahead.Valid {
		d.Clock = &Clock{Ahead: time.Duration(ahead.Int64) * time.Millisecond}
		var cerr error
		d.Clock.Read, cerr = parseTime(clockRead)
		serr = errors.Join(serr, cerr)
	}
	return d, errors.Join(aerr, serr, json.Unmarshal([]byte(caps), &d.Capabilities))
}

func inserted(res sql.Result, err error) error {
	if err = affected(res, err); errors.Is(err, ErrNotFound) {
		return ErrExists
	}
	return err
}

// AddDevice adds a device; ErrExists where the name is taken.
func (tx *Tx) AddDevice(d Device) error {
	res, err := tx.exec(`INSERT INTO devices (name, address, account, auth, secret, host_key, site, role, added_at, added_by, seen_as)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING`,
		d.Name, d.Address, d.Account, d.Auth, d.Secret, d.HostKey, d.Site, d.Role, timeText(d.Added), d.AddedBy,
		d.SeenAs)
	return inserted(res, err)
}

// Device gives a device by name, within reach.
func (s *Store) Device(ctx context.Context, r Reach, name string) (Device, error) {
	d, err := one(s.ask(ctx, "SELECT "+deviceColumns+" FROM devices WHERE name = ?", name), scanDevice)
	return r.reached(d, err)
}

// DeviceByID gives a device by its id, within reach.
func (s *Store) DeviceByID(ctx context.Context, r Reach, id int64) (Device, error) {
	d, err := one(s.ask(ctx, "SELECT "+deviceColumns+" FROM devices WHERE id = ?", id), scanDevice)
	return r.reached(d, err)
}

// DeviceByID gives a device by its id, as this transaction sees it.
func (tx *Tx) DeviceByID(id int64) (Device, error) {
	return one(tx.ask("SELECT "+deviceColumns+" FROM devices WHERE id = ?", id), scanDevice)
}

// DeviceNamed gives a device by name, as this transaction sees it.
func (tx *Tx) DeviceNamed(name string) (Device, error) {
	return one(tx.ask("SELECT "+deviceColumns+" FROM devices WHERE name = ?", name), scanDevice)
}

// AddModules keeps a module set, and gives it to a device that has none.
func (tx *Tx) AddModules(device int64, digest string, sources []byte) error {
	if _, err := tx.exec(
		"INSERT INTO module_sets (digest, sources) VALUES (?, ?) ON CONFLICT DO NOTHING", digest,
		tx.s.compress(sources),
	); err != nil {
		return err
	}
	_, err := tx.exec("UPDATE devices SET module_set = ? WHERE id = ? AND module_set IS NULL", digest, device)
	return err
}

// Devices lists the devices within reach by name.
func (s *Store) Devices(ctx context.Context, r Reach) ([]Device, error) {
	list, err := many(s.ask(ctx, "SELECT "+deviceColumns+" FROM devices ORDER BY name"), scanDevice)
	return slices.DeleteFunc(list, func(d Device) bool { return r.Check(d) != nil }), err
}

// placeColumns, of devices d, are what tells a device apart and says who may see it.
const placeColumns = "d.id, d.name, d.site, d.role, d.tags"

// scanPlace reads a device of which nothing else is asked for.
func scanPlace(r scanner) (d Device, err error) {
	var tags string
	err = r.Scan(&d.ID, &d.Name, &d.Site, &d.Role, &tags)
	d.Tags = strings.Fields(tags)
	return d, err
}

// DevicePlaces lists the devices within reach, by name: of each what tells it apart and says who may see it.
func (s *Store) DevicePlaces(ctx context.Context, r Reach) ([]Device, error) {
	list, err := many(s.ask(ctx, "SELECT "+placeColumns+" FROM devices d ORDER BY name"), scanPlace)
	return slices.DeleteFunc(list, func(d Device) bool { return r.Check(d) != nil }), err
}

// DevicesInNeed lists the devices within reach, by name, that need somebody: which could not be reached or
// read, whose host key nobody accepted, or whose startup does not hold what runs.
func (s *Store) DevicesInNeed(ctx context.Context, r Reach) ([]Device, error) {
	list, err := many(
		s.ask(
			ctx, "SELECT "+deviceColumns+" FROM devices WHERE trouble <> '' OR host_key = '' OR unsaved ORDER BY +name",
		),
		scanDevice,
	)
	return slices.DeleteFunc(list, func(d Device) bool { return r.Check(d) != nil }), err
}

// DevicesByModules gives one device for each set of modules that devices have.
func (s *Store) DevicesByModules(ctx context.Context) ([]Device, error) {
	return many(
		s.ask(
			ctx,
			"SELECT "+deviceColumns+" FROM devices WHERE id IN (SELECT min(id) FROM devices WHERE module_set IS NOT "+
				"NULL GROUP BY module_set)",
		),
		scanDevice,
	)
}

// DevicesWith lists the devices within reach that have a set of modules, by name.
func (s *Store) DevicesWith(ctx context.Context, r Reach, modules string) ([]Device, error) {
	list, err := many(
		s.ask(ctx, "SELECT "+deviceColumns+" FROM devices WHERE module_set = ? ORDER BY name", modules), scanDevice,
	)
	return slices.DeleteFunc(list, func(d Device) bool { return r.Check(d) != nil }), err
}

// SetTags keeps a device's tags.
func (tx *Tx) SetTags(id int64, tags []string) error {
	return affected(tx.exec("UPDATE devices SET tags = ? WHERE id = ?", strings.Join(tags, " "), id))
}

// SetPlace keeps where a device stands and what it is in the network.
func (tx *Tx) SetPlace(id int64, site, role string) error {
	return affected(tx.exec("UPDATE devices SET site = ?, role = ? WHERE id = ?", site, role, id))
}

// SetHostKey keeps the host key a person accepted.
func (tx *Tx) SetHostKey(id int64, key string) error {
	return affected(tx.exec("UPDATE devices SET host_key = ? WHERE id = ?", key, id))
}

// SetContact notes how the last contact with a device went.
func (tx *Tx) SetContact(id int64, at time.Time, trouble string) error {
	if trouble != "" {
		return affected(tx.exec("UPDATE devices SET trouble = ? WHERE id = ?", trouble, id))
	}
	return affected(tx.exec("UPDATE devices SET seen_at = ?, trouble = '' WHERE id = ?", timeText(at), id))
}

// SetUnsaved notes whether startup differs from running.
func (tx *Tx) SetUnsaved(id int64, unsaved bool) error {
	return affected(tx.exec("UPDATE devices SET unsaved = ? WHERE id = ?", unsaved, id))
}

// SetSave says whether what is kept on a device is saved to its startup.
func (tx *Tx) SetSave(id int64, save bool) error {
	return affected(tx.exec("UPDATE devices SET save = ? WHERE id = ?", save, id))
}

// SetSeen keeps how a device's management is seen from the network.
func (tx *Tx) SetSeen(id int64, as, from, via string) error {
	return affected(tx.exec("UPDATE devices SET seen_as = ?, seen_from = ?, via = ? WHERE id = ?", as, from, via, id))
}

// SetToldFrom keeps our address as the device told it.
func (tx *Tx) SetToldFrom(id int64, from string) error {
	return affected(tx.exec("UPDATE devices SET told_from = ? WHERE id = ?", from, id))
}

// SetMoving notes where a commit moves a device's management to; "" is nowhere.
func (tx *Tx) SetMoving(id int64, to string) error {
	return affected(tx.exec("UPDATE devices SET moving_to = ? WHERE id = ?", to, id))
}

// SetAddress gives a device another address to be reached at.
func (tx *Tx) SetAddress(id int64, address, seenAs string) error {
	return affected(
		tx.exec("UPDATE devices SET address = ?, seen_as = ?, moving_to = '' WHERE id = ?", address, seenAs, id),
	)
}

// SetBox keeps what a device tells of the box it is.
func (tx *Tx) SetBox(id int64, model, serial string) error {
	return affected(tx.exec("UPDATE devices SET model = ?, serial = ? WHERE id = ?", model, serial, id))
}

// Replace puts another box in a device's place: it is reached elsewhere, its host
// key is nobody's yet, and of what the old one was nothing is known any more.
func (tx *Tx) Replace(d Device) error {
	return affected(tx.exec(`UPDATE devices SET address = ?, account = ?, auth = ?, secret = ?, host_key = '', module_list = '', told_from = '',
		model = '', serial = '', trouble = '', unsaved = 0, clock_ahead_ms = NULL, clock_read_at = '', moving_to = '', replaced = 1 WHERE id = ?`,
		d.Address, d.Account, d.Auth, d.Secret, d.ID))
}

// SetRead notes that the box in a device's place was read.
func (tx *Tx) SetRead(id int64) error {
	return affected(tx.exec("UPDATE devices SET replaced = 0 WHERE id = ?", id))
}

// SetClock keeps what a device's clock was seen to be.
func (tx *Tx) SetClock(id int64, c Clock) error {
	return affected(
		tx.exec(
			"UPDATE devices SET clock_ahead_ms = ?, clock_read_at = ? WHERE id = ?", c.Ahead.Milliseconds(),
			timeText(c.Read), id,
		),
	)
}

// SetModules keeps what a device announced and the module set it handed out.
func (tx *Tx) SetModules(id int64, list, digest string, sources []byte, capabilities []string) error {
	caps, err := json.Marshal(capabilities)
	if err != nil {
		return err
	}
	if _, err := tx.exec(
		"INSERT INTO module_sets (digest, sources) VALUES (?, ?) ON CONFLICT DO NOTHING", digest,
		tx.s.compress(sources),
	); err != nil {
		return err
	}
	return affected(
		tx.exec(
			"UPDATE devices SET module_list = ?, module_set = ?, capabilities = ? WHERE id = ?", list, digest,
			string(caps), id,
		),
	)
}

// ModuleSet gives the sources of a module set.
func (s *Store) ModuleSet(ctx context.Context, digest string) ([]byte, error) {
	return s.blob(s.ask(ctx, "SELECT sources FROM module_sets WHERE digest = ?", digest), "module set "+digest)
}

// ModuleSetOf gives the digest of what a device handed out that announced a
// list of modules.
func (s *Store) ModuleSetOf(ctx context.Context, list string) (string, error) {
	return one(s.ask(
		ctx, "SELECT module_set FROM devices WHERE module_list = ? AND module_set IS NOT NULL LIMIT 1", list,
	), func(r scanner) (digest string, err error) {
		err = r.Scan(&digest)
		return digest, err
	})
}

func (s *Store) blob(q question, what string) ([]byte, error) {
	packed, err := one(q.unremembered(), func(r scanner) (b []byte, err error) { err = r.Scan(&b); return b, err })
	if err != nil {
		return nil, fmt.Errorf("%s: %w", what, err)
	}
	return s.expand(packed)
}
