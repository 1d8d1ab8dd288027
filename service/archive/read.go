package archive

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"oakenlatch/core/advice"
	"oakenlatch/core/codec"
	"oakenlatch/core/ledger"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/service/audit"
	"oakenlatch/service/fleet"
	"oakenlatch/service/history"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Read gives a copy's text, as the archive has it now, compared with the
// digest it was written with.
func (a *Archives) Read(ctx context.Context, id int64) (c store.Copy, text []byte, err error) {
	c, err = a.store.Copy(ctx, id)
	if errors.Is(err, store.ErrNotFound) || err == nil && !c.Gone.IsZero() {
		return c, nil, refusal.New(refusal.NotFound, "list them", "there is no copy %d", id).Do(advice.ListCopies)
	}
	if err != nil {
		return c, nil, err
	}
	at, err := a.store.ArchiveByID(ctx, c.Archive)
	if err != nil {
		return c, nil, err
	}
	if at.Kind == "git" { // its clones are not for two at once
		a.mu.Lock()
		defer a.mu.Unlock()
	}
	p, err := a.open(ctx, at)
	if err != nil {
		return c, nil, refusal.New(refusal.Conflict, "", "archive %s: %v", at.Name, err)
	}
	defer func() { err = errors.Join(err, p.close()) }()
	if text, err = p.get(ctx, c.Name); err != nil {
		return c, nil, refusal.New(
			refusal.Conflict, "check the whole archive", "archive %s: %s: %v",
			at.Name, c.Name, err,
		).Do(advice.VerifyArchive, at.Name)
	}
	if got := sum(text); got != c.SHA256 {
		return c, text, refusal.New(
			refusal.Conflict, "check the whole archive",
			"archive %s: %s is damaged: its SHA-256 is %s, it was written as %s", at.Name, c.Name, got, c.SHA256,
		).Do(advice.VerifyArchive, at.Name)
	}
	return c, text, nil
}

// Tree reads a copy's configuration by a device's schema.
func (a *Archives) Tree(ctx context.Context, id int64, s *schema.Schema) (*tree.Node, error) {
	c, text, err := a.Read(ctx, id)
	if err != nil {
		return nil, err
	}
	doc, err := codec.Decoder{Schema: s}.Read(text)
	if err != nil {
		return nil, fmt.Errorf("copy %d, %s: %w", id, c.Name, err)
	}
	return doc.Content, nil
}

// Verified tells what reading an archive back came to.
type Verified struct {
	Archive string
	Copies  int
	Whole   int
	Wrong   []string
}

// Verify reads every copy of an archive back and compares it.
func (a *Archives) Verify(ctx context.Context, by string, at store.Archive, progress Progress) (v Verified, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	v.Archive = at.Name
	list, err := a.store.Copies(ctx, at.ID, 0)
	if err != nil {
		return v, err
	}
	v.Copies = len(list)
	p, err := a.open(ctx, at)
	if err != nil {
		return v, errors.Join(refusal.New(refusal.Conflict, "", "archive %s: %v", at.Name, err), a.failed(ctx, at, err))
	}
	defer func() { err = errors.Join(err, p.close()) }()
	if r, ok := p.(*repository); ok {
		if err := r.afresh(ctx); err != nil {
			return v, err
		}
	}
	for i, c := range list {
		if err := ctx.Err(); err != nil {
			return v, err
		}
		if progress != nil {
			progress(i, len(list), c.Name)
		}
		why := a.wrong(ctx, p, c)
		if ctx.Err() != nil {
			return v, ctx.Err()
		}
		if why == "" {
			v.Whole++
		} else {
			v.Wrong = append(v.Wrong, fmt.Sprintf("copy %d, %s: %s", c.ID, c.Name, why))
		}
		if why == c.Trouble && why != "" {
			continue
		}
		if err := a.store.Write(
			ctx, func(tx *store.Tx) error { return tx.SetCopyRead(c.ID, a.log.Now(), why) },
		); err != nil {
			return v, err
		}
	}
	note := fmt.Sprintf("%d of %d copies read back whole", v.Whole, v.Copies)
	if len(v.Wrong) > 0 {
		note += "; first " + v.Wrong[0]
		a.tell(severityError, "archive %s: %s", at.Name, note)
	} else {
		a.tell(severityNotice, "archive %s: %s", at.Name, note)
	}
	return v, a.log.Write(ctx, func(tx *audit.Tx) error {
		return tx.Record(ledger.Entry{Actor: by, Action: "archive.verify", Path: "archive:" + at.Name, Note: note})
	})
}

func (a *Archives) wrong(ctx context.Context, p place, c store.Copy) string {
	text, err := p.get(ctx, c.Name)
	switch {
	case err != nil:
		return err.Error()
	case sum(text) != c.SHA256:
		return fmt.Sprintf("its SHA-256 is %s, it was written as %s", sum(text), c.SHA256)
	}
	return ""
}

// Rebuilt tells what rebuilding from an archive came to.
type Rebuilt struct {
	Devices   []string // that were not known
	Revisions int
	Skipped   []string // what was left, and why
}

// Rebuild makes devices and revisions again from nothing but what an archive
// holds. What the records have already is left as it is. A device comes back
// without its password or key: give it one with latch device replace.
func (a *Archives) Rebuild(
	ctx context.Context, by string, at store.Archive, progress Progress,
) (out Rebuilt, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	p, err := a.open(ctx, at)
	if err != nil {
		return out, refusal.New(refusal.Conflict, "", "archive %s: %v", at.Name, err)
	}
	defer func() { err = errors.Join(err, p.close()) }()
	names, err := p.list(ctx)
	if err != nil {
		return out, err
	}
	r := &rebuilding{Archives: a, at: at, place: p, by: by, out: &out}
	var metas []found
	for _, name := range names {
		if !strings.HasSuffix(name, ".json") || strings.Contains(name, "modules/") {
			continue
		}
		m, err := r.meta(ctx, name)
		if err != nil {
			out.Skipped = append(out.Skipped, fmt.Sprintf("%s: %v", name, err))
			continue
		}
		metas = append(metas, m)
	}
	slices.SortStableFunc(metas, func(x, y found) int {
		if c := strings.Compare(x.Device, y.Device); c != 0 {
			return c
		}
		return int(x.Revision - y.Revision)
	})
	for i, m := range metas {
		if err := ctx.Err(); err != nil {
			return out, err
		}
		if progress != nil {
			progress(i, len(metas), m.Device)
		}
		if err := r.one(ctx, m); err != nil {
			out.Skipped = append(out.Skipped, fmt.Sprintf("%s revision %d: %v", m.Device, m.Revision, err))
		}
	}
	return out, a.log.Write(ctx, func(tx *audit.Tx) error {
		return tx.Record(
			ledger.Entry{
				Actor: by, Action: "archive.rebuild", Path: "archive:" + at.Name,
				Note: fmt.Sprintf(
					"%d devices and %d revisions made again, %d things left", len(out.Devices), out.Revisions,
					len(out.Skipped),
				),
			},
		)
	})
}

type rebuilding struct {
	*Archives
	at    store.Archive
	place place
	by    string
	out   *Rebuilt
}

// found is what stands beside a copy, and what leads to the files it names.
type found struct {
	Meta
	prefix string // COMMIT: in a repository
}

func (r *rebuilding) meta(ctx context.Context, name string) (m found, err error) {
	text, err := r.place.get(ctx, name)
	if err != nil {
		return m, err
	}
	if err := json.Unmarshal(text, &m.Meta); err != nil {
		return m, err
	}
	if m.Format != MetaFormat || m.Version != MetaVersion || m.Revision < 1 || m.Device == "" {
		return m, errors.New("it does not tell of a copy as this release knows it")
	}
	if commit, _, ok := strings.Cut(name, ":"); ok && r.at.Kind == "git" {
		m.prefix = commit + ":"
	}
	return m, nil
}

// one makes one revision again.
func (r *rebuilding) one(ctx context.Context, m found) error {
	text, err := r.place.get(ctx, m.prefix+m.Config)
	if err != nil {
		return err
	}
	if got := sum(text); got != m.SHA256 {
		return fmt.Errorf("%s is damaged: its SHA-256 is %s, not %s", m.Config, got, m.SHA256)
	}
	set, body, s, err := r.schema(ctx, m)
	if err != nil {
		return err
	}
	doc, err := codec.Decoder{Schema: s}.Read(text)
	if err != nil {
		return err
	}
	if got := history.Digest(doc.Content); got != m.Digest {
		return fmt.Errorf("it reads as configuration %s, and was copied as %s", got, m.Digest)
	}
	return r.log.Write(ctx, func(tx *audit.Tx) error {
		d, err := tx.DeviceNamed(m.Device)
		if errors.Is(err, store.ErrNotFound) {
			if err := tx.AddDevice(
				store.Device{
					Name: m.Device, Address: m.Address, Account: m.Account, Auth: "password", Secret: []byte{},
					Site: m.Site, Role: m.Role, Added: r.log.Now(), AddedBy: r.by,
				},
			); err != nil {
				return err
			}
			if d, err = tx.DeviceNamed(m.Device); err != nil {
				return err
			}
			if err := tx.Record(
				ledger.Entry{
					Actor: r.by, Action: "device.add", Device: m.Device,
					Note: "rebuilt from archive " + r.at.Name + "; its password or key is not in there",
				},
			); err != nil {
				return err
			}
			r.out.Devices = append(r.out.Devices, m.Device)
		}
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if _, err := tx.RevisionNumbered(d.ID, m.Revision); err == nil {
			return nil // it is known
		}
		if err := tx.AddModules(d.ID, set, body); err != nil {
			return err
		}
		if _, err := r.history.Add(tx.Tx, d.ID, set, s, doc.Content); err != nil {
			return err
		}
		note, who := causeNote(m.Meta), m.Author
		if who == "" {
			who = m.Actor
		}
		if err := tx.RebuildRevision(
			store.Revision{Device: d.ID, Number: m.Revision, Digest: m.Digest, At: m.At, Actor: who, Note: note},
		); err != nil {
			return err
		}
		r.out.Revisions++
		return tx.Record(
			ledger.Entry{
				Actor: r.by, Action: "revision.rebuilt", Device: m.Device,
				Note: fmt.Sprintf("revision %d from archive %s: %s", m.Revision, r.at.Name, note),
			},
		)
	})
}

// causeNote tells what an archive knows of a revision's cause.
func causeNote(m Meta) string {
	if m.Change == 0 {
		return strings.TrimSpace(string(m.Cause) + " " + m.Note)
	}
	text := fmt.Sprintf("change %d: %s", m.Change, m.Title)
	if m.Ticket != "" {
		text += " (" + m.Ticket + ")"
	}
	return text
}

// schema gives the modules that a copy is read by, from the archive.
func (r *rebuilding) schema(ctx context.Context, m found) (set string, body []byte, s *schema.Schema, err error) {
	set = strings.TrimSuffix(strings.TrimPrefix(m.Modules, "modules/"), ".json")
	if body, err = r.store.ModuleSet(ctx, set); err != nil {
		// In a repository the commit that holds a copy holds its modules too.
		if body, err = r.place.get(ctx, m.prefix+m.Modules); err != nil {
			return set, nil, nil, err
		}
	}
	if sum(body) != set {
		return set, nil, nil, fmt.Errorf("%s is damaged: its SHA-256 is not its name", m.Modules)
	}
	var modules fleet.ModuleSet
	if err := json.Unmarshal(body, &modules); err != nil {
		return set, nil, nil, err
	}
	return set, body, r.fleet.Compiled(set, modules), nil
}
