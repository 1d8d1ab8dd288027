package desk

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/ledger"
	"oakenlatch/core/markup"
	"oakenlatch/core/redact"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// How a piece of configuration is loaded.
const (
	Merge     = "merge"      // what it holds is set, everything else stays
	Replace   = "replace"    // it is the whole configuration: what it does not hold goes
	ReplaceAt = "replace-at" // what is at one path is what it holds there, and nothing else changes
	Patch     = "patch"      // it is a YANG Patch (RFC 8072), which names its edits itself
)

// Load is a piece of configuration to be staged.
type Load struct {
	Mode  string
	Path  string // of ReplaceAt; of a copy also of Merge: just that part
	Text  []byte // XML, JSON or outline, format detected automatically
	Name  string // where the text is from, for the record
	IfTag string // the part as the person saw it; "" does not matter

	// Instead of a text: a copy of what is on a device, see [Desk.From].
	FromDevice, From string
}

// Loaded tells what a load did to one part.
type Loaded struct {
	Device     string
	Edit       store.Edit // its ID is 0 where it changes nothing
	Format     codec.Format
	Difference *diff.Difference // against the part as it was
	Notes      []string
	Tag        string
}

// Load stages a piece of configuration on as many devices as are named: on
// all, or on none.
func (d *Desk) Load(ctx context.Context, p access.Person, number int64, devices []string, l Load) ([]Loaded, error) {
	c, err := d.Own(ctx, p, number)
	if err != nil {
		return nil, err
	}
	if err := l.sensible(); err != nil {
		return nil, err
	}
	read, err := d.reader(ctx, p, l)
	if err != nil {
		return nil, err
	}
	var out []Loaded
	var parts []*Work
	err = Each(devices, func(device string) error {
		w, err := d.Workable(ctx, p, c, device, l.IfTag)
		if err != nil {
			return err
		}
		next, format, err := l.onto(w, read)
		if err != nil {
			return Unfitting(device, err)
		}
		one := d.ToLoad(&w, p, number, l, next)
		one.Format = format
		out, parts = append(out, one), append(parts, &w)
		return nil
	})
	if err != nil {
		return nil, err
	}
	err = d.Edit(ctx, p, number, func(tx *audit.Tx) error {
		for i, w := range parts {
			if err := d.StageLoad(tx, w, &out[i], l.IfTag); err != nil {
				return err
			}
		}
		return nil
	})
	return out, err
}

// StageLoad stages what a load came to within a transaction.
func (d *Desk) StageLoad(tx *audit.Tx, w *Work, one *Loaded, tag string) error {
	one.Tag = w.Tag()
	if one.Difference.Empty() {
		return nil
	}
	one.Edit.Body = codec.EditXML(w.Schema, one.Difference.Edits())
	if err := d.AddEdit(tx, w, &one.Edit, tag); err != nil {
		return err
	}
	one.Tag = tagOf(w.Base.Number, append(w.Edits, one.Edit))
	e := one.Edit
	note := fmt.Sprintf("%s of %s: %s", e.Mode, e.Source, tally(one.Difference))
	return tx.Record(
		ledger.Entry{
			Actor: e.Actor, Action: "edit.load", Change: e.Change, Device: w.Device.Name, Path: e.Path, Note: note,
		},
	)
}

func (d *Desk) ToLoad(w *Work, p access.Person, number int64, l Load, next *tree.Node) Loaded {
	one := Loaded{Device: w.Device.Name, Difference: diff.Compare(w.Mine, next)}
	one.Edit = store.Edit{
		Change: number, Device: w.Device.ID, Op: "load", Path: "/", Mode: l.Mode, Source: l.source(),
		Lines: one.Difference.Count(), Actor: p.Name, At: d.log.Now(),
	}
	if l.Path != "" {
		one.Edit.Path = l.Path
	}
	switch {
	case one.Difference.Empty():
		one.Notes = append(one.Notes, "this changes nothing: it is so already; nothing was staged")
	case l.Mode == Merge:
		one.Notes = append(one.Notes, "merge: what it holds is set, everything else stays; "+tally(one.Difference))
	case l.Mode == Replace:
		one.Notes = append(
			one.Notes, "replace: it is the whole configuration, and what it does not hold goes; "+tally(one.Difference),
		)
	case l.Mode == ReplaceAt:
		one.Notes = append(
			one.Notes, fmt.Sprintf("replace-at: only what is at %s changes; %s", l.Path, tally(one.Difference)),
		)
	default:
		one.Notes = append(one.Notes, "patch: the edits that it names itself; "+tally(one.Difference))
	}
	return one
}

// tally counts a difference by kind.
func tally(d *diff.Difference) string {
	n := map[diff.Kind]int{}
	d.Walk(func(c *diff.Change) { n[c.Kind]++ })
	var out []string
	for _, k := range []diff.Kind{diff.Added, diff.Changed, diff.Removed, diff.Moved} {
		if n[k] > 0 {
			out = append(out, fmt.Sprintf("%d %s", n[k], k))
		}
	}
	return strings.Join(out, ", ")
}

func (l Load) source() string {
	switch {
	case l.FromDevice != "":
		return l.FromDevice + "@" + l.From
	case l.Name != "":
		return l.Name
	}
	return "a text"
}

// sensible checks what a load says of itself.
func (l Load) sensible() error {
	how := "say how: merge (what it holds is set, everything else stays), replace (it is the whole configuration), " +
		"replace-at with a path (just that path), or patch (a YANG Patch)"
	switch {
	case !slices.Contains([]string{Merge, Replace, ReplaceAt, Patch}, l.Mode):
		return refusal.New(refusal.Invalid, how, "mode %q is none of merge, replace, replace-at, patch", l.Mode)
	case l.Mode == ReplaceAt && strings.Trim(l.Path, "/") == "":
		return refusal.New(
			refusal.Invalid, "say which path, or replace the whole with: replace", "replace-at needs a path",
		)
	case l.Path != "" && l.Mode != ReplaceAt && (l.Mode != Merge || l.FromDevice == ""):
		return refusal.New(refusal.Invalid, "leave the path out, or say replace-at", "mode %s takes no path", l.Mode)
	case l.Mode == Patch && l.FromDevice != "":
		return refusal.New(refusal.Invalid, "say merge, replace or replace-at", "a copy is no patch")
	case utf8.RuneCountInString(l.Name) > 200:
		return refusal.New(refusal.Invalid, "", "the name of the text is longer than 200 characters")
	}
	return nil
}

// reader gives a function that reads what is to be loaded by a device's schema.
type readFunc func(w Work) (*tree.Node, codec.Format, error)

func (d *Desk) reader(ctx context.Context, p access.Person, l Load) (readFunc, error) {
	if l.FromDevice == "" {
		return func(w Work) (*tree.Node, codec.Format, error) {
			doc, err := codec.Decoder{Schema: w.Schema, Strict: true, Lift: d.Lift(w)}.Read(l.Text)
			if err != nil {
				return nil, "", fmt.Errorf("%s, read as %s: %w", l.source(), codec.Recognise(l.Text), err)
			}
			return doc.Content.ConfigOnly(), doc.Format, nil
		}, nil
	}
	dev, err := d.Device(ctx, p.Reach(), l.FromDevice)
	if err != nil {
		return nil, err
	}
	from, err := d.From(ctx, p, dev, l.From)
	if err != nil {
		return nil, err
	}
	n := from.Running
	if l.Path != "" {
		path, err := tree.ParsePath(from.Schema, l.Path)
		if err != nil {
			return nil, refusal.New(refusal.Invalid, "", "%s: %v", l.FromDevice, err)
		}
		if n.At(path) == nil {
			return nil, refusal.New(refusal.NotFound, "", "%s has nothing at %s in %s", l.FromDevice, l.Path, l.From)
		}
		n = n.Cut(path)
	}
	text := WholeXML(from.Schema, n)
	return func(w Work) (*tree.Node, codec.Format, error) {
		if err := Uncovers(p, dev, w.Device, n); err != nil {
			return nil, "", err
		}
		if w.Schema == from.Schema {
			return n, codec.FormatXML, nil
		}
		other, err := codec.Decoder{Schema: w.Schema, Strict: true}.ParseTree(text)
		if err != nil {
			var bad *codec.Error
			if errors.As(err, &bad) {
				bad.Line, bad.Column = 0, 0 // of a text that nobody saw
			}
			return nil, "", fmt.Errorf("what %s holds does not fit here: %w", l.source(), err)
		}
		return other, codec.FormatXML, nil
	}, nil
}

// Unfitting says that what was given does not do for a device, unless it was refused for
// another reason.
func Unfitting(device string, err error) error {
	var no *refusal.Error
	if errors.As(err, &no) {
		return err
	}
	return refusal.New(refusal.Invalid, "", "%s: %v", device, err)
}

// Uncovers refuses to copy secrets to where a person may see them from where they
// may not.
func Uncovers(p access.Person, from, onto store.Device, n *tree.Node) error {
	if p.Grants.May(access.Reveal, from) || !p.Grants.May(access.Reveal, onto) || len(redact.Secrets(n)) == 0 {
		return nil
	}
	return refusal.New(
		refusal.Forbidden, "copy a part that holds none",
		"what is copied from %s holds secrets that account %s may not see there, and would on %s", from.Name, p.Name,
		onto.Name,
	)
}

// WholeXML writes a configuration in a <config>.
func WholeXML(s *schema.Schema, n *tree.Node) []byte {
	return codec.XML(s, n, markup.Name{Space: codec.NetconfNS, Local: "config"})
}

// onto gives what a load makes of a part.
func (l Load) onto(w Work, read readFunc) (*tree.Node, codec.Format, error) {
	if l.Mode == Patch {
		if !bytes.Contains(l.Text, []byte("yang-patch")) {
			return nil, "", fmt.Errorf("%s is no YANG Patch (RFC 8072); say merge, replace or replace-at", l.source())
		}
		if bytes.Contains(l.Text, []byte(redact.Prefix)) {
			return nil, "", fmt.Errorf(
				"%s holds names of hidden values, which a YANG Patch cannot; give the values, or load it another way",
				l.source(),
			)
		}
		next, err := diff.ApplyYangPatch(w.Schema, w.Mine, l.Text)
		return next, codec.Recognise(l.Text), err
	}
	n, format, err := read(w)
	if err != nil {
		return nil, format, err
	}
	switch l.Mode {
	case Replace:
		if n.Len() == 0 {
			return nil, format, fmt.Errorf(
				"%s holds nothing: the device would be left without any configuration", l.source(),
			)
		}
		return n, format, nil
	case Merge:
		next, err := tree.Apply(w.Mine, diff.Onto(n), tree.None)
		return next, format, err
	}
	path, err := tree.ParsePath(w.Schema, l.Path)
	if err != nil {
		return nil, format, err
	}
	switch last := path[len(path)-1]; {
	case last.Node == nil || !last.Node.Config:
		return nil, format, fmt.Errorf("%s is not configuration", path)
	case last.Node.Kind == schema.List && last.Keys == nil && len(last.Node.Keys) > 0,
		last.Node.Kind == schema.LeafList && last.Keys == nil:
		return l.wholeList(w.Mine, n, path, format)
	}
	if outside := diff.Compare(n, n.Cut(path)); !outside.Empty() {
		return nil, format, fmt.Errorf(
			"%s also holds %s, which is outside of %s and would be ignored; leave it out, or load it by itself",
			l.source(), outside.Items()[0].Path, path,
		)
	}
	if n.At(path) == nil {
		return nil, format, fmt.Errorf(
			"%s holds nothing at %s; to delete what is there, stage its deletion", l.source(), path,
		)
	}
	next, err := tree.Apply(w.Mine, diff.Place(path, n.At(path)), tree.None)
	return next, format, err
}

// wholeList replaces all entries of a list.
func (l Load) wholeList(mine, n *tree.Node, path tree.Path, format codec.Format) (*tree.Node, codec.Format, error) {
	from := n.At(path[:len(path)-1])
	if len(path) == 1 {
		from = n
	}
	if from == nil || len(from.All(path.Last())) == 0 {
		return nil, format, fmt.Errorf(
			"%s holds nothing at %s; to delete what is there, stage its deletion", l.source(), path,
		)
	}
	if outside := diff.Compare(n, n.Cut(path)); !outside.Empty() {
		return nil, format, fmt.Errorf(
			"%s also holds %s, which is outside of %s", l.source(), outside.Items()[0].Path, path,
		)
	}
	next, err := tree.Apply(mine, diff.PlaceAll(path, from.All(path.Last())), tree.None)
	return next, format, err
}
