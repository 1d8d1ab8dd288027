package archive

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"oakenlatch/core/advice"
	"oakenlatch/core/codec"
	"oakenlatch/core/ledger"
	"oakenlatch/core/lifecycle"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/service/audit"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Meta is what stands beside each copy, as JSON: all it takes to make a
// revision of it again.
type Meta struct {
	Format   string          `json:"format"` // oaken-latch-copy
	Version  int             `json:"version"`
	Device   string          `json:"device"`
	Site     string          `json:"site,omitempty"`
	Role     string          `json:"role,omitempty"`
	Address  string          `json:"address,omitempty"`
	Account  string          `json:"account,omitempty"`
	Model    string          `json:"model,omitempty"`
	Serial   string          `json:"serial,omitempty"`
	Revision int64           `json:"revision"`
	At       time.Time       `json:"at"`
	Cause    lifecycle.Cause `json:"cause"`
	Change   int64           `json:"change,omitempty"`
	Title    string          `json:"title,omitempty"`
	Ticket   string          `json:"ticket,omitempty"`
	Author   string          `json:"author,omitempty"`
	Actor    string          `json:"actor,omitempty"`
	Note     string          `json:"note,omitempty"`
	Config   string          `json:"config"`  // the file that holds it
	SHA256   string          `json:"sha256"`  // of that file
	Digest   string          `json:"digest"`  // of the configuration, as the service names it
	Modules  string          `json:"modules"` // the file that holds the YANG modules it is read by
}

func sum(b []byte) string {
	h := sha256.Sum256(b)
	return hex.EncodeToString(h[:])
}

// FileName makes a part of a file's name of a text.
func FileName(text string) string {
	out := strings.Map(func(r rune) rune {
		switch {
		case r == '/' || r == '\\' || r == 0 || r < ' ' || r == ':':
			return '-'
		case r == ' ':
			return '_'
		}
		return r
	}, text)
	if out = strings.Trim(out, "."); out == "" {
		return "-"
	}
	return out
}

// Folder is the folder that files of a device's site go to.
func Folder(d store.Device) string {
	if d.Site == "" {
		return "no-site"
	}
	return FileName(strings.ToLower(d.Site))
}

// fileBase names a copy so that names sort by place, device, UTC time and
// revision.
func fileBase(d store.Device, rev store.Revision) string {
	return fmt.Sprintf(
		"%s/%s/%s-r%06d", Folder(d), FileName(d.Name), rev.At.UTC().Format("20060102T150405Z"), rev.Number,
	)
}

func modulesFile(set string) string { return "modules/" + set + ".json" }

// Instance gives a revision as an instance data file.
func (a *Archives) Instance(ctx context.Context, d store.Device, rev store.Revision) ([]byte, error) {
	otherwise, err := a.fleet.Schema(ctx, d)
	if err != nil && rev.Digest == "" {
		return nil, err
	}
	s, n, err := a.history.Configuration(ctx, rev.Digest, otherwise)
	if err != nil {
		return nil, err
	}
	return InstanceOf(s, d, n, rev.At, rev.Number, "running", false), nil
}

// InstanceOf gives a device's configuration as an instance data file (RFC 9195)
// in XML or JSON.
func InstanceOf(
	s *schema.Schema, d store.Device, n *tree.Node, at time.Time, revision int64, from string, asJSON bool,
) []byte {
	in := &codec.Instance{
		Name: d.Name, Timestamp: at.UTC().Format(time.RFC3339), Content: n,
		Description: "Configuration of " + d.Name + ", " + from + ".",
	}
	if from == "running" || from == "startup" || from == "candidate" {
		in.Datastore = "ietf-datastores:" + from
	}
	if revision != 0 {
		in.Description = fmt.Sprintf("Configuration of %s, revision %d.", d.Name, revision)
	}
	in.Description = strings.TrimSpace(in.Description + " " + box(d))
	for _, m := range n.Modules() {
		in.Modules = append(in.Modules, strings.TrimSuffix(m.Name+"@"+m.Revision, "@"))
	}
	dec := codec.Decoder{Schema: s}
	if asJSON {
		return dec.InstanceJSON(in)
	}
	return dec.InstanceXML(in)
}

func box(d store.Device) string {
	if d.Model+d.Serial == "" {
		return ""
	}
	return "Model " + d.Model + ", serial number " + d.Serial + "."
}

// item is a revision to be copied.
type item struct {
	device store.Device
	rev    store.Revision
	change store.Change
}

// missing lists a device's revisions that an archive does not hold and its
// retention would keep, oldest first.
func (a *Archives) missing(ctx context.Context, at store.Archive, d store.Device) ([]item, error) {
	revs, err := a.store.Revisions(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	have, err := a.store.Copies(ctx, at.ID, d.ID)
	if err != nil {
		return nil, err
	}
	there := map[int64]bool{}
	for _, c := range have {
		there[c.Revision] = c.Trouble == ""
	}
	var out []item
	for i, rev := range revs { // newest first
		if at.Kind != "git" && at.KeepLast > 0 && i >= at.KeepLast && a.log.Now().Sub(rev.At) > days(at.KeepDays) {
			break
		}
		if there[rev.Number] {
			continue
		}
		it := item{device: d, rev: rev}
		if rev.Change != 0 {
			if it.change, err = a.store.Change(ctx, rev.Change); err != nil {
				return nil, err
			}
		}
		out = append(out, it)
	}
	slices.Reverse(out)
	return out, nil
}

func days(n int) time.Duration { return time.Duration(n) * 24 * time.Hour }

// groups puts together what one change made, in the order of time.
func groups(items []item) [][]item {
	slices.SortStableFunc(items, func(x, y item) int { return x.rev.At.Compare(y.rev.At) })
	var out [][]item
	of := map[int64]int{}
	for _, it := range items {
		if i, ok := of[it.rev.Change]; ok && it.rev.Change != 0 {
			out[i] = append(out[i], it)
			continue
		}
		of[it.rev.Change] = len(out)
		out = append(out, []item{it})
	}
	return out
}

// Copied tells what copying came to.
type Copied struct {
	Archive string
	Copies  int
	Gone    int      // dropped by the rules of retention
	Failed  []string // the archives that were tried before, and why not
}

// Progress is told how far long work has come.
type Progress func(done, total int, what string)

// Copy brings copies of devices up to date: in the first archive that takes
// them. only names one archive; "" is whichever is the first.
func (a *Archives) Copy(
	ctx context.Context, by, why, only string, devices []store.Device, progress Progress,
) (Copied, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	var list []store.Archive
	if only != "" {
		at, err := a.Find(ctx, only)
		if err != nil {
			return Copied{}, err
		}
		list = append(list, at)
	} else {
		all, err := a.store.Archives(ctx)
		if err != nil {
			return Copied{}, err
		}
		list = slices.DeleteFunc(all, func(x store.Archive) bool { return why == "change" && !x.AfterChange })
	}
	if len(list) == 0 {
		return Copied{}, refusal.New(
			refusal.Conflict, "add one", "there is no archive to copy to",
		).Do(advice.AddArchive)
	}
	out := Copied{}
	for _, at := range list {
		n, gone, err := a.copyTo(ctx, at, by, why, devices, progress)
		out.Copies += n
		if err == nil {
			out.Archive, out.Gone = at.Name, gone
			return out, nil
		}
		if ctx.Err() != nil {
			return out, ctx.Err()
		}
		out.Failed = append(out.Failed, fmt.Sprintf("%s: %v", at.Name, err))
		if nerr := a.failed(ctx, at, err); nerr != nil {
			return out, nerr
		}
	}
	return out, refusal.New(
		refusal.Conflict, "see them", "no archive took the copies: %s",
		strings.Join(out.Failed, "; "),
	).Do(advice.ListArchives)
}

// failed notes that an archive did not take copies; the ledger hears of each
// trouble once.
func (a *Archives) failed(ctx context.Context, at store.Archive, err error) error {
	a.slog.Warn("an archive does not take copies", "archive", at.Name, "error", err)
	a.tell(severityError, "archive %s does not take copies: %v", at.Name, err)
	return a.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.SetArchived(at.ID, a.log.Now(), err.Error()); err != nil {
			return err
		}
		if at.Trouble == err.Error() {
			return nil
		}
		return tx.Record(
			ledger.Entry{Actor: audit.Service, Action: "archive.failed", Path: "archive:" + at.Name, Note: err.Error()},
		)
	})
}

// copyTo brings one archive up to date.
func (a *Archives) copyTo(
	ctx context.Context, at store.Archive, by, why string, devices []store.Device, progress Progress,
) (copies, gone int, err error) {
	var items []item
	for _, d := range devices {
		some, err := a.missing(ctx, at, d)
		if err != nil {
			return 0, 0, err
		}
		items = append(items, some...)
	}
	p, err := a.open(ctx, at)
	if err != nil {
		return 0, 0, err
	}
	defer func() { err = errors.Join(err, p.close()) }()
	w := &writing{Archives: a, at: at, place: p, sets: map[string]bool{}}
	for _, g := range groups(items) {
		if err := ctx.Err(); err != nil {
			return copies, 0, err
		}
		if progress != nil {
			progress(copies, len(items), at.Name+": "+g[0].device.Name)
		}
		if err := w.write(ctx, g, by, why); err != nil {
			return copies, 0, err
		}
		copies += len(g)
	}
	if copies > 0 {
		if err := w.checkpoint(ctx); err != nil {
			return copies, 0, err
		}
	}
	if gone, err = w.retain(ctx, devices); err != nil {
		return copies, gone, err
	}
	return copies, gone, a.store.Write(ctx, func(tx *store.Tx) error { return tx.SetArchived(at.ID, a.log.Now(), "") })
}

// writing is one archive being brought up to date.
type writing struct {
	*Archives
	at    store.Archive
	place place
	sets  map[string]bool // module sets that are there
}

// write puts a group into the archive, reads it back, and only then counts it.
func (w *writing) write(ctx context.Context, items []item, by, why string) error {
	g, metas, err := w.render(ctx, items)
	if err != nil {
		return err
	}
	names, err := w.place.put(ctx, g)
	if err != nil {
		return err
	}
	for i, name := range names {
		back, err := w.place.get(ctx, name)
		if err != nil {
			return fmt.Errorf("%s cannot be read back: %w", name, err)
		}
		if sum(back) != sum(g.files[i].content) {
			return fmt.Errorf(
				"%s does not read back as it was written: SHA-256 %s, not %s", name, sum(back), sum(g.files[i].content),
			)
		}
	}
	return w.log.Write(ctx, func(tx *audit.Tx) error {
		for i, it := range items {
			at := slices.IndexFunc(g.files, func(f file) bool { return f.name == metas[i].Config })
			c := store.Copy{
				Archive: w.at.ID, Device: it.device.ID, Revision: it.rev.Number, Name: names[at],
				Bytes: int64(len(g.files[at].content)), SHA256: metas[i].SHA256, At: w.log.Now(), Why: why,
			}
			if err := tx.AddCopy(c); err != nil {
				return err
			}
			if err := tx.Record(
				ledger.Entry{
					Actor: by, Action: "archive.copy", Device: it.device.Name, Change: it.rev.Change,
					Path: "archive:" + w.at.Name,
					Note: fmt.Sprintf("revision %d as %s, SHA-256 %s", it.rev.Number, c.Name, c.SHA256),
				},
			); err != nil {
				return err
			}
			w.tell(
				severityNotice, "revision %d of %s copied to archive %s as %s, SHA-256 %s, read back", it.rev.Number,
				it.device.Name, w.at.Name, c.Name, c.SHA256,
			)
		}
		return nil
	})
}

// checkpointFile is what the record was when copies were made last: kept elsewhere, it shows whether
// anything of before was altered since.
const checkpointFile = "record-checkpoint.txt"

// checkpoint puts the newest checkpoint of the record beside the copies.
func (w *writing) checkpoint(ctx context.Context) error {
	c, err := w.log.Newest(ctx)
	if errors.Is(err, store.ErrNotFound) || errors.Is(err, audit.ErrUnsigned) {
		return nil
	}
	if err != nil {
		return err
	}
	size := fmt.Sprint(c.Size)
	_, err = w.place.put(ctx, group{
		files: []file{{checkpointFile, []byte(c.Note)}}, who: audit.Service, when: c.At,
		subject: "Checkpoint of the record: " + size + " entries",
		trailer: []string{"Record: " + c.Origin + " " + size},
	})
	return err
}

// render makes the files of a group.
func (w *writing) render(ctx context.Context, items []item) (group, []Meta, error) {
	first := items[0]
	g := group{who: first.rev.Actor, when: first.rev.At, subject: subject(first)}
	if first.change.Number != 0 {
		g.who = first.change.Author
		g.trailer = append(g.trailer, fmt.Sprintf("Change: %d", first.change.Number))
		if first.change.Ticket != "" {
			g.trailer = append(g.trailer, "Ticket: "+oneLine(first.change.Ticket))
		}
		if first.rev.Actor != "" && first.rev.Actor != first.change.Author {
			g.trailer = append(g.trailer, "Committed-by: "+first.rev.Actor)
		}
	}
	var metas []Meta
	for _, it := range items {
		text, err := w.Instance(ctx, it.device, it.rev)
		if err != nil {
			return g, nil, fmt.Errorf("%s: %w", it.device.Name, err)
		}
		base := fileBase(it.device, it.rev)
		if w.at.Kind == "git" { // git keeps the former ones itself
			base = path.Dir(base)
		}
		set, err := w.modules(ctx, it, &g)
		if err != nil {
			return g, nil, err
		}
		d := it.device
		m := Meta{
			Format: MetaFormat, Version: MetaVersion, Device: d.Name, Site: d.Site, Role: d.Role, Address: d.Address,
			Account: d.Account, Model: d.Model, Serial: d.Serial, Revision: it.rev.Number, At: it.rev.At,
			Cause: it.rev.Source, Change: it.rev.Change, Title: it.change.Title, Ticket: it.change.Ticket,
			Author: it.change.Author, Actor: it.rev.Actor, Note: it.rev.Note, Config: base + ".xml", SHA256: sum(text),
			Digest: it.rev.Digest, Modules: modulesFile(set),
		}
		told, err := json.MarshalIndent(m, "", "  ")
		if err != nil {
			return g, nil, err
		}
		g.files = append(g.files, file{m.Config, text}, file{base + ".json", append(told, '\n')})
		g.trailer = append(g.trailer, fmt.Sprintf("Revision: %s %d", d.Name, it.rev.Number))
		metas = append(metas, m)
	}
	return g, metas, nil
}

// modules adds the module set of a revision where the archive may lack it.
func (w *writing) modules(ctx context.Context, it item, g *group) (string, error) {
	set, err := w.history.ModulesOf(ctx, it.rev.Digest, it.device)
	if err != nil || w.sets[set] {
		return set, err
	}
	w.sets[set] = true
	body, err := w.store.ModuleSet(ctx, set)
	if err == nil {
		g.files = append(g.files, file{modulesFile(set), body})
	}
	return set, err
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

func subject(it item) string {
	switch it.rev.Source {
	case lifecycle.ByChange:
		return oneLine(it.change.Title)
	case lifecycle.ByOutside:
		return it.device.Name + " changed outside of Oaken Latch"
	case lifecycle.ByReplaced:
		return "Another box in the place of " + it.device.Name
	case lifecycle.ByRebuilt:
		return it.device.Name + ", rebuilt from an archive"
	}
	return it.device.Name + " as first seen"
}

// retain drops what the rules of retention do not keep. The newest stays.
func (w *writing) retain(ctx context.Context, devices []store.Device) (gone int, err error) {
	if w.at.Kind == "git" || w.at.KeepLast == 0 {
		return 0, nil
	}
	for _, d := range devices {
		have, err := w.store.Copies(ctx, w.at.ID, d.ID)
		if err != nil {
			return gone, err
		}
		for i, c := range have {
			if i < max(1, w.at.KeepLast) || w.log.Now().Sub(c.At) <= days(w.at.KeepDays) {
				continue
			}
			base := strings.TrimSuffix(c.Name, ".xml")
			for _, name := range []string{c.Name, base + ".json"} {
				// It may be gone since before this service, or its machine, died.
				if err := w.place.drop(ctx, name); err != nil && !errors.Is(err, fs.ErrNotExist) {
					return gone, err
				}
			}
			err := w.log.Write(ctx, func(tx *audit.Tx) error {
				if err := tx.SetCopyGone(c.ID, w.log.Now()); err != nil {
					return err
				}
				return tx.Record(
					ledger.Entry{
						Actor: audit.Service, Action: "archive.drop", Device: d.Name, Path: "archive:" + w.at.Name,
						Note: c.Name + ": beyond what is to be kept",
					},
				)
			})
			if err != nil {
				return gone, err
			}
			gone++
		}
	}
	return gone, nil
}
