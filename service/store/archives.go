package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"
)

// Archive is a place that copies go to.
type Archive struct {
	ID            int64
	Name, Kind    string // Kind is folder, sftp or git
	Place         string
	Account, Auth string
	Secret        []byte // sealed
	HostKey       string
	Position      int64
	AfterChange   bool
	Every         time.Duration // 0: not by itself
	KeepLast      int           // copies a device; 0: all
	KeepDays      int           // those younger are kept beyond that
	Added         time.Time
	AddedBy       string
	Retired       time.Time
	Copied        time.Time // it was brought up to date last
	Trouble       string
	TroubleAt     time.Time
}

// Copy is one configuration in an archive.
type Copy struct {
	ID, Archive, Device, Revision int64
	Name                          string
	Bytes                         int64
	SHA256                        string
	At                            time.Time
	Why                           string // change, interval or hand
	Read                          time.Time
	Trouble                       string
	Gone                          time.Time
}

const archiveColumns = `id, name, kind, place, account, auth, secret, host_key, position, after_change, every, keep_last, keep_days,
	added_at, added_by, retired_at, copied_at, trouble, trouble_at`

func scanArchive(r scanner) (a Archive, err error) {
	var added, retired, copied, trouble string
	var every int64
	err = r.Scan(
		&a.ID, &a.Name, &a.Kind, &a.Place, &a.Account, &a.Auth, &a.Secret, &a.HostKey, &a.Position, &a.AfterChange,
		&every, &a.KeepLast, &a.KeepDays, &added, &a.AddedBy, &retired, &copied, &a.Trouble, &trouble,
	)
	if err != nil {
		return a, err
	}
	a.Every = time.Duration(every) * time.Second
	var errs [4]error
	a.Added, errs[0] = parseTime(added)
	a.Retired, errs[1] = parseTime(retired)
	a.Copied, errs[2] = parseTime(copied)
	a.TroubleAt, errs[3] = parseTime(trouble)
	return a, errors.Join(errs[:]...)
}

// AddArchive adds an archive behind the others; ErrExists where the name is
// taken.
func (tx *Tx) AddArchive(a Archive) error {
	res, err := tx.exec(`INSERT INTO archives (name, kind, place, account, auth, secret, host_key, position, after_change, every, keep_last, keep_days, added_at, added_by)
		VALUES (?, ?, ?, ?, ?, ?, ?, (SELECT coalesce(max(position), 0) + 1 FROM archives), ?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING`,
		a.Name, a.Kind, a.Place, a.Account, a.Auth, a.Secret, a.HostKey, a.AfterChange, int64(a.Every/time.Second),
		a.KeepLast, a.KeepDays, timeText(a.Added), a.AddedBy)
	return inserted(res, err)
}

// SetArchive keeps how an archive is used from now on.
func (tx *Tx) SetArchive(a Archive) error {
	return affected(tx.exec(
		`UPDATE archives SET host_key = ?, position = ?, after_change = ?, every = ?, keep_last = ?, keep_days = ?, retired_at = ? WHERE id = ?`,
		a.HostKey, a.Position, a.AfterChange, int64(a.Every/time.Second), a.KeepLast, a.KeepDays, timeText(a.Retired),
		a.ID,
	))
}

// SetArchived notes how copying to an archive went: trouble is "" where it is
// up to date.
func (tx *Tx) SetArchived(id int64, at time.Time, trouble string) error {
	if trouble != "" {
		return affected(
			tx.exec("UPDATE archives SET trouble = ?, trouble_at = ? WHERE id = ?", trouble, timeText(at), id),
		)
	}
	return affected(
		tx.exec("UPDATE archives SET trouble = '', trouble_at = '', copied_at = ? WHERE id = ?", timeText(at), id),
	)
}

// Archives lists the archives in the order in which they are tried, without
// those that are retired.
func (s *Store) Archives(ctx context.Context) ([]Archive, error) {
	return many(
		s.ask(ctx, "SELECT "+archiveColumns+" FROM archives WHERE retired_at = '' ORDER BY position, id"), scanArchive,
	)
}

// Archive gives an archive by its name.
func (s *Store) Archive(ctx context.Context, name string) (Archive, error) {
	return one(s.ask(ctx, "SELECT "+archiveColumns+" FROM archives WHERE name = ?", name), scanArchive)
}

// ArchiveByID gives an archive by its id.
func (s *Store) ArchiveByID(ctx context.Context, id int64) (Archive, error) {
	return one(s.ask(ctx, "SELECT "+archiveColumns+" FROM archives WHERE id = ?", id), scanArchive)
}

const copyColumns = "id, archive, device, revision, name, bytes, sha256, at, why, read_at, trouble, gone_at"

func scanCopy(r scanner) (c Copy, err error) {
	var at, read, gone string
	if err = r.Scan(
		&c.ID, &c.Archive, &c.Device, &c.Revision, &c.Name, &c.Bytes, &c.SHA256, &at, &c.Why, &read, &c.Trouble, &gone,
	); err != nil {
		return c, err
	}
	var errs [3]error
	c.At, errs[0] = parseTime(at)
	c.Read, errs[1] = parseTime(read)
	c.Gone, errs[2] = parseTime(gone)
	return c, errors.Join(errs[:]...)
}

// AddCopy notes a copy that was read back. One of that name before it is gone:
// this stands in its place.
func (tx *Tx) AddCopy(c Copy) error {
	if _, err := tx.exec(
		"UPDATE copies SET gone_at = ? WHERE archive = ? AND name = ? AND gone_at = ''", timeText(c.At), c.Archive,
		c.Name,
	); err != nil {
		return err
	}
	_, err := tx.exec(
		"INSERT INTO copies (archive, device, revision, name, bytes, sha256, at, why, read_at) VALUES (?, ?, ?, ?, "+
			"?, ?, ?, ?, ?)",
		c.Archive, c.Device, c.Revision, c.Name, c.Bytes, c.SHA256, timeText(c.At), c.Why, timeText(c.At),
	)
	return err
}

// SetCopyRead notes that a copy was read again, and what was wrong with it.
func (tx *Tx) SetCopyRead(id int64, at time.Time, trouble string) error {
	return affected(
		tx.exec(
			"UPDATE copies SET read_at = iif(?2 = '', ?1, read_at), trouble = ?2 WHERE id = ?3", timeText(at), trouble,
			id,
		),
	)
}

// SetCopyGone notes that a copy was dropped.
func (tx *Tx) SetCopyGone(id int64, at time.Time) error {
	return affected(tx.exec("UPDATE copies SET gone_at = ? WHERE id = ?", timeText(at), id))
}

// Copy gives a copy by its id.
func (s *Store) Copy(ctx context.Context, id int64) (Copy, error) {
	return one(s.ask(ctx, "SELECT "+copyColumns+" FROM copies WHERE id = ?", id), scanCopy)
}

// Copies lists the copies that are there: of an archive, of a device, or all
// for 0; by device and revision, the newest first.
func (s *Store) Copies(ctx context.Context, archive, device int64) ([]Copy, error) {
	return many(s.ask(ctx, "SELECT "+copyColumns+
		` FROM copies WHERE gone_at = '' AND (?1 = 0 OR archive = ?1) AND (?2 = 0 OR device = ?2)
		ORDER BY device, revision DESC, id DESC`, archive, device), scanCopy)
}

// LastCopies gives for each device the newest revision of which a copy is in
// an archive that is in use, and when that was made.
func (s *Store) LastCopies(ctx context.Context) (map[int64]Copy, error) {
	list, err := many(s.ask(ctx, "SELECT "+copyColumns+
		` FROM copies c WHERE gone_at = '' AND trouble = '' AND archive IN (SELECT id FROM archives WHERE retired_at = '')
		AND NOT EXISTS (SELECT 1 FROM copies n WHERE n.device = c.device AND n.gone_at = '' AND n.trouble = '' AND n.archive IN (SELECT id FROM archives WHERE retired_at = '')
			AND (n.revision > c.revision OR n.revision = c.revision AND n.id > c.id))`), scanCopy)
	out := map[int64]Copy{}
	for _, c := range list {
		out[c.Device] = c
	}
	return out, err
}

// CopyCount is how many copies an archive has.
type CopyCount struct{ All, Damaged int }

// CountCopies counts the copies that each archive has.
func (s *Store) CountCopies(ctx context.Context) (map[int64]CopyCount, error) {
	type row struct {
		archive int64
		count   CopyCount
	}
	list, err := many(s.ask(
		ctx, "SELECT archive, count(*), sum(trouble <> '') FROM copies WHERE gone_at = '' GROUP BY archive",
	), func(r scanner) (x row, err error) {
		err = r.Scan(&x.archive, &x.count.All, &x.count.Damaged)
		return x, err
	})
	out := map[int64]CopyCount{}
	for _, x := range list {
		out[x.archive] = x.count
	}
	return out, err
}

// LastStartups gives each device's newest startup.
func (s *Store) LastStartups(ctx context.Context) (map[int64]Revision, error) {
	list, err := many(
		s.ask(
			ctx,
			"SELECT "+startupColumns+" FROM startup_revisions r WHERE number = (SELECT max(number) FROM "+
				"startup_revisions n WHERE n.device = r.device)",
		),
		scanRevision,
	)
	return byDevice(list), err
}

// RevisionNumbers gives the number of the newest revision of each of some devices that has one.
func (s *Store) RevisionNumbers(ctx context.Context, devices []int64) (map[int64]int64, error) {
	ids, err := json.Marshal(devices)
	if err != nil {
		return nil, err
	}
	list, err := many(s.ask(
		ctx, "SELECT value, coalesce((SELECT max(number) FROM revisions WHERE device = value), 0) FROM json_each(?)",
		string(ids),
	), func(r scanner) (x [2]int64, err error) {
		err = r.Scan(&x[0], &x[1])
		return x, err
	})
	out := map[int64]int64{}
	for _, x := range list {
		out[x[0]] = x[1]
	}
	return out, err
}

// LastRevisions gives each device's newest revision.
func (s *Store) LastRevisions(ctx context.Context) (map[int64]Revision, error) {
	list, err := many(
		s.ask(
			ctx,
			"SELECT "+revisionColumns+" FROM revisions r WHERE number = (SELECT max(number) FROM revisions n WHERE "+
				"n.device = r.device)",
		),
		scanRevision,
	)
	return byDevice(list), err
}

func byDevice(list []Revision) map[int64]Revision {
	out := map[int64]Revision{}
	for _, r := range list {
		out[r.Device] = r
	}
	return out
}
