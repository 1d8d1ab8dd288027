package store

import (
	"context"
)

// Run is a row of configurations of one device: the first is kept whole, each
// after it as the edits that make it of the one before.
type Run struct {
	ID, Device int64
	Modules    string // digest of the module set it is read by
	Length     int    // configurations in it
	First      string // digest of the one kept whole
	Last       string // digest of the newest
	Whole      int    // bytes of the first, unpacked
	Edits      int    // bytes of all edits, unpacked
}

// ConfigPlace is where a configuration stands. Run is 0 where an earlier
// release kept it by itself: then Body is it, whole.
type ConfigPlace struct {
	Run   int64
	Place int
	Body  []byte
}

// Configs reads configurations: those of the store, or as a transaction sees
// them.
type Configs struct {
	s   *Store
	ask func(text string, args ...any) question
}

// Configs reads what is kept.
func (s *Store) Configs(ctx context.Context) Configs {
	return Configs{s, func(text string, args ...any) question { return s.ask(ctx, text, args...).unremembered() }}
}

// Configs reads what is kept as this transaction sees it.
func (tx *Tx) Configs() Configs { return Configs{tx.s, tx.ask} }

// Place tells where the configuration of a digest stands.
func (c Configs) Place(digest string) (ConfigPlace, error) {
	return one(c.ask(
		"SELECT coalesce(run, 0), place, body FROM configs WHERE digest = ?", digest,
	), func(r scanner) (p ConfigPlace, err error) {
		err = r.Scan(&p.Run, &p.Place, &p.Body)
		if err == nil && p.Run == 0 {
			p.Body, err = c.s.expand(p.Body)
		}
		return p, err
	})
}

const runColumns = "id, device, modules, length, first, last, whole, edits"

func scanRun(r scanner) (v Run, err error) {
	err = r.Scan(&v.ID, &v.Device, &v.Modules, &v.Length, &v.First, &v.Last, &v.Whole, &v.Edits)
	return v, err
}

// Run gives a run.
func (c Configs) Run(id int64) (Run, error) {
	return one(c.ask("SELECT "+runColumns+" FROM runs WHERE id = ?", id), scanRun)
}

// LastRun gives a device's newest run.
func (c Configs) LastRun(device int64) (Run, error) {
	return one(c.ask("SELECT "+runColumns+" FROM runs WHERE device = ? ORDER BY id DESC LIMIT 1", device), scanRun)
}

// Pack gives a pack of a run: number 0 is its whole configuration.
func (c Configs) Pack(run int64, number int) ([]byte, error) {
	return c.s.blob(
		c.ask("SELECT body FROM packs WHERE run = ? AND number = ?", run, number), "a pack of configurations",
	)
}

// AddRun begins a run with a configuration kept whole.
func (tx *Tx) AddRun(device int64, modules, digest string, body []byte) (Run, error) {
	r := Run{Device: device, Modules: modules, Length: 1, First: digest, Last: digest, Whole: len(body)}
	err := tx.row(
		"INSERT INTO runs (device, modules, length, first, last, whole, edits) VALUES (?1, ?2, 1, ?3, ?3, ?4, 0) "+
			"RETURNING id",
		device, modules, digest, len(body),
	).Scan(&r.ID)
	if err != nil {
		return r, err
	}
	if err := tx.setPack(r.ID, 0, body, true); err != nil {
		return r, err
	}
	return r, tx.placeConfig(r.ID, 0, digest)
}

// AddToRun appends a configuration to a run; pack, of that number, is the one
// that holds its edits now, and bytes is what these add. One that is full stays
// as it is for good.
func (tx *Tx) AddToRun(r Run, digest string, number int, pack []byte, full bool, bytes int) error {
	if err := tx.setPack(r.ID, number, pack, full); err != nil {
		return err
	}
	if err := affected(
		tx.exec(
			"UPDATE runs SET length = length + 1, last = ?, edits = edits + ? WHERE id = ? AND length = ? AND last = ?",
			digest, bytes, r.ID, r.Length, r.Last,
		),
	); err != nil {
		return err
	}
	return tx.placeConfig(r.ID, r.Length, digest)
}

func (tx *Tx) setPack(run int64, number int, body []byte, final bool) error {
	packed := tx.s.compress
	if final {
		packed = tx.s.dense
	}
	_, err := tx.exec(
		"INSERT INTO packs (run, number, body) VALUES (?, ?, ?) ON CONFLICT (run, number) DO UPDATE SET body = "+
			"excluded.body",
		run, number, packed(body),
	)
	return err
}

func (tx *Tx) placeConfig(run int64, place int, digest string) error {
	_, err := tx.exec("INSERT INTO configs (digest, body, run, place) VALUES (?, x'', ?, ?)", digest, run, place)
	return err
}
