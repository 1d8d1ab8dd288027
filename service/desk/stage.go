package desk

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"oakenlatch/core/advice"
	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/ledger"
	"oakenlatch/core/redact"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Add and Only say what a value means where a device keeps several: one more,
// or the only one.
const (
	Add  = "add"
	Only = "only"
)

// Act is an edit that a person wants staged.
type Act struct {
	Op    string // put, delete or move
	Path  string
	Value *string // of a put; of a move: first, last, before KEY or after KEY
	Mode  string  // of a put: Add, Only or ""
	IfTag string  // the part as the person saw it; "" does not matter
}

// Staged tells what an edit did to the change.
type Staged struct {
	Device string
	Edit   store.Edit
	Path   tree.Path
	Before string // the value there in what the change made so far, "" if none
	After  string
	Notes  []string
	Tag    string // of the part as it is now
}

// Stage adds an edit to a change, on as many devices as are named: on all of
// them or, where one does not take it, on none. Nothing reaches the devices.
func (d *Desk) Stage(ctx context.Context, p access.Person, number int64, devices []string, a Act) ([]Staged, error) {
	c, err := d.Own(ctx, p, number)
	if err != nil {
		return nil, err
	}
	var out []Staged
	var parts []*Work
	err = Each(devices, func(device string) error {
		w, st, err := d.stage(ctx, p, c, device, a)
		if err == nil {
			out, parts = append(out, st), append(parts, w)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	err = d.Edit(ctx, p, number, func(tx *audit.Tx) error {
		for i, w := range parts {
			st := &out[i]
			if err := d.AddEdit(tx, w, &st.Edit, a.IfTag); err != nil {
				return err
			}
			if err := tx.Record(
				ledger.Entry{
					Actor: p.Name, Action: "edit." + a.Op, Change: number, Device: w.Device.Name, Path: st.Edit.Path,
					Before: st.Before, After: st.After, Note: st.Edit.Mode,
				},
			); err != nil {
				return err
			}
			st.Tag = tagOf(w.Base.Number, append(w.Edits, st.Edit))
		}
		return nil
	})
	return out, err
}

// Each does something for every device named; what is wrong with some of them
// is told together.
func Each(devices []string, f func(device string) error) error {
	if len(devices) == 0 {
		return refusal.New(refusal.Invalid, "list them", "no device is named").Do(advice.ListDevices)
	}
	var all []string
	var first error
	seen := map[string]bool{}
	for _, device := range devices {
		if seen[device] {
			continue
		}
		seen[device] = true
		if err := f(device); err != nil {
			all = append(all, err.Error())
			if first == nil {
				first = err
			}
		}
	}
	if len(all) < 2 {
		return first
	}
	kind := refusal.Conflict // a device's trouble
	var no *refusal.Error
	if errors.As(first, &no) {
		kind = no.Kind
	}
	return refusal.New(
		kind, "nothing was staged, on no device", "%d of %d devices do not take it:\n%s", len(all), len(seen),
		strings.Join(all, "\n"),
	)
}

// stage works out what an edit would do to one part.
func (d *Desk) stage(
	ctx context.Context, p access.Person, c store.Change, device string, a Act,
) (*Work, Staged, error) {
	w, err := d.work(ctx, p.Reach(), c, device, p.Name)
	if err != nil {
		return nil, Staged{}, err
	}
	if err := w.fits(); err != nil {
		return nil, Staged{}, err
	}
	if err := w.unmoved(a.IfTag); err != nil {
		return nil, Staged{}, err
	}
	path, canon, err := d.aimed(w, a)
	if err != nil {
		return nil, Staged{}, refusal.New(refusal.Invalid, "", "%s: %v", device, err)
	}
	st := Staged{Device: device, Path: path, Before: valueAt(d.log.Redactor.Tree(w.Mine), path)}
	st.Edit = store.Edit{
		Change: c.Number, Device: w.Device.ID, Op: a.Op, Path: path.Full(), Value: canon, Mode: a.Mode, Actor: p.Name,
		At: d.log.Now(),
	}
	if err := several(w, path, &st.Edit); err != nil {
		return nil, Staged{}, err
	}
	next, err := perform(w.Schema, w.Mine, st.Edit, nil)
	if err != nil {
		return nil, Staged{}, refusal.New(
			refusal.Invalid, "look at what is there", "%s: %v", device,
			err,
		).Do(advice.ReadConfig, device, parentText(path))
	}
	st.After = valueAt(d.log.Redactor.Tree(next), path)
	st.Notes = notes(w.Mine, next, path, st.Edit)
	return &w, st, nil
}

// aimed reads the path and value of an edit by the device's schema. Where a secret
// is given by its name, it is the one that stands in the part.
func (d *Desk) aimed(w Work, a Act) (tree.Path, string, error) {
	if a.Value != nil && strings.HasPrefix(*a.Value, redact.Prefix) {
		path, err := tree.ParsePath(w.Schema, a.Path)
		if n := path.Last(); err == nil && n != nil && n.Secret() {
			value, err := d.Lift(w)(*a.Value)
			if err != nil {
				return nil, "", fmt.Errorf("%s: %w", path, err)
			}
			a.Value = &value
		}
	}
	return Target(w.Schema, a.Op, a.Path, a.Value)
}

// Lift gives the secrets for which names stand in what is put into a part: those
// that it holds, before the change or with it.
func (d *Desk) Lift(w Work) func(string) (string, error) {
	return func(text string) (string, error) { return d.log.Redactor.Lift(text, w.Mine, w.Former) }
}

// several makes a person say what a value means where there are others.
func several(w Work, path tree.Path, e *store.Edit) error {
	n := path.Last()
	switch many := n.Kind == schema.LeafList || n.Kind == schema.List; {
	case e.Mode != "" && e.Mode != Add && e.Mode != Only, e.Mode != "" && e.Op != "put":
		return refusal.New(
			refusal.Invalid, "", "mode %q does not go with %s; %s and %s go with put", e.Mode, e.Op, Add, Only,
		)
	case e.Op != "put":
		return nil
	case !many && e.Mode != "":
		return refusal.New(refusal.Invalid, "leave "+e.Mode+" out", "%s: %s holds one value only", w.Device.Name, path)
	case n.Kind != schema.LeafList || e.Mode != "" || w.Mine.At(path) != nil:
		return nil
	}
	if others := others(w.Mine, path); len(others) > 0 {
		at, value := parentText(path)+"/"+n.Name, path[len(path)-1].Keys[0]
		return refusal.New(
			refusal.Conflict, "add it beside them", "%s: %s keeps several values and holds %s already",
			w.Device.Name, n.Name, join(others),
		).Do(advice.StageAlso, e.Change, w.Device.Name, at, value).
			Or("or have it alone", advice.StageOnly, e.Change, w.Device.Name, at, value)
	}
	return nil
}

// others gives the entries beside the one a path leads to.
func others(root *tree.Node, path tree.Path) []*tree.Node {
	parent := root.At(path[:len(path)-1])
	if len(path) == 1 {
		parent = root
	}
	if parent == nil {
		return nil
	}
	var out []*tree.Node
	for _, n := range parent.All(path.Last()) {
		if !slices.Equal(n.Keys(), path[len(path)-1].Keys) {
			out = append(out, n)
		}
	}
	return out
}

// join names entries, the first few of many.
func join(list []*tree.Node) string {
	const most = 8
	if len(list) > 0 && list[0].Schema().Secret() {
		return fmt.Sprintf("%d that are not shown", len(list))
	}
	var all []string
	for i, n := range list {
		if i == most {
			all = append(all, fmt.Sprintf("and %d more", len(list)-most))
			break
		}
		all = append(all, strings.Join(n.Keys(), ","))
	}
	return strings.Join(all, ", ")
}

func parentText(p tree.Path) string { return p[:len(p)-1].String() }

// Target reads the path and value of an edit by the device's schema.
func Target(s *schema.Schema, op, pathText string, value *string) (tree.Path, string, error) {
	path, err := tree.ParsePath(s, pathText)
	if err != nil {
		return nil, "", err
	}
	n := path.Last()
	switch {
	case n == nil:
		return nil, "", errors.New("path / is the whole configuration; name what is meant")
	case !n.Config:
		return nil, "", fmt.Errorf("%s is state that the device reports, not configuration", path)
	}
	for _, step := range path[:len(path)-1] {
		if step.Node.Kind == schema.List && step.Keys == nil {
			return nil, "", fmt.Errorf(
				"path %s: which %s? name it by its key: %s=%s", path, step.Node.Name, step.Node.Name,
				strings.ToUpper(strings.Join(step.Node.Keys, ",")),
			)
		}
	}
	if op == "move" {
		return moveTarget(s, path, value)
	}
	if op == "delete" {
		if n.KeyIndex() >= 0 {
			return nil, "", fmt.Errorf(
				"%s is the key of its entry and cannot be deleted by itself; delete the entry", path,
			)
		}
		return path, "", nil
	}
	if op != "put" {
		return nil, "", fmt.Errorf("operation %q is none of put, delete, move", op)
	}
	return putTarget(s, path, value)
}

func putTarget(s *schema.Schema, path tree.Path, value *string) (tree.Path, string, error) {
	n := path.Last()
	last := &path[len(path)-1]
	switch {
	case n.KeyIndex() >= 0:
		return nil, "", fmt.Errorf("%s is the key of its entry; to make another entry, put to its path", path)
	case n.Kind == schema.Leaf && value == nil && n.Type.Base != schema.Empty:
		return nil, "", fmt.Errorf("%s needs a value (%s)", path, n.Type.Name)
	case n.Kind == schema.Leaf:
		text := ""
		if value != nil {
			text = *value
		}
		canon, err := codec.Decoder{Schema: s}.Canonical(n, text, s.NameResolver(n.Module))
		if err != nil {
			return nil, "", fmt.Errorf("%s: %w", path, err)
		}
		return path, canon, nil
	case n.Kind == schema.LeafList && value != nil && last.Keys == nil:
		canon, err := s.Canonical(n.Type, *value, s.NameResolver(n.Module))
		if err != nil {
			return nil, "", fmt.Errorf("%s: %w", path, err)
		}
		last.Keys = []string{canon}
		return path, canon, nil
	case n.Kind == schema.LeafList && value == nil && last.Keys == nil:
		return nil, "", fmt.Errorf("%s needs a value (%s)", path, n.Type.Name)
	case n.Kind == schema.AnyData || n.Kind == schema.AnyXML:
		return nil, "", fmt.Errorf("%s holds free content and cannot be set by a value", path)
	case value != nil && *value != "" && (last.Keys == nil || n.Kind == schema.List || last.Keys[0] != *value):
		return nil, "", fmt.Errorf("%s is a %s and takes no value", path, n.Kind)
	case n.Kind == schema.List && last.Keys == nil:
		return nil, "", fmt.Errorf(
			"path %s: name the entry by its key: %s=%s", path, n.Name, strings.ToUpper(strings.Join(n.Keys, ",")),
		)
	}
	return path, "", nil
}

// moveTarget reads where an entry is to go.
func moveTarget(s *schema.Schema, path tree.Path, value *string) (tree.Path, string, error) {
	n, last := path.Last(), path[len(path)-1]
	switch {
	case !n.UserOrdered || n.Kind != schema.List && n.Kind != schema.LeafList:
		return nil, "", fmt.Errorf("the order of %s means nothing, so it cannot be moved", path)
	case last.Keys == nil:
		return nil, "", fmt.Errorf("path %s: which %s? name the one to move by its key", path, n.Name)
	case value == nil:
		return nil, "", errors.New("where to? Say first, last, before KEY or after KEY")
	}
	insert, key, _ := strings.Cut(strings.TrimSpace(*value), " ")
	switch insert {
	case "first", "last":
		if key != "" {
			return nil, "", fmt.Errorf("%q: %s goes without a key", *value, insert)
		}
		return path, insert, nil
	case "before", "after":
		keys, err := neighbour(s, path, key)
		if err != nil {
			return nil, "", err
		}
		if slices.Equal(keys, last.Keys) {
			return nil, "", fmt.Errorf("%s cannot stand %s itself", path, insert)
		}
		for i := range keys {
			keys[i] = url.PathEscape(keys[i])
		}
		return path, insert + " " + strings.Join(keys, ","), nil
	}
	return nil, "", fmt.Errorf("%q is no place: say first, last, before KEY or after KEY", *value)
}

// neighbour reads the keys of another entry of the same list.
func neighbour(s *schema.Schema, path tree.Path, key string) ([]string, error) {
	at := path[:len(path)-1].String()
	if at == "/" {
		at = ""
	}
	n := path.Last()
	p, err := tree.ParsePath(s, at+"/"+n.Module.Name+":"+n.Name+"="+key)
	if err == nil && p[len(p)-1].Keys == nil {
		err = errors.New("its keys are missing")
	}
	if err != nil {
		return nil, fmt.Errorf("%q names no %s: %w", key, n.Name, err)
	}
	return p[len(p)-1].Keys, nil
}

// perform carries out one staged edit. body is a load's.
func perform(s *schema.Schema, base *tree.Node, e store.Edit, body *tree.Edit) (*tree.Node, error) {
	if e.Op == "load" {
		return tree.Apply(base, tree.Fitted(base, body), tree.None)
	}
	path, err := tree.ParsePath(s, e.Path)
	if err != nil {
		return nil, err
	}
	switch e.Op {
	case "delete":
		return tree.Apply(base, tree.DeleteAt(path), tree.None)
	case "move":
		if base.At(path) == nil {
			return nil, fmt.Errorf("%s is not there, so it cannot be moved", path)
		}
		insert, key, _ := strings.Cut(e.Value, " ")
		var keys []string
		if key != "" {
			if keys, err = neighbour(s, path, key); err != nil {
				return nil, err
			}
		}
		return tree.Apply(base, tree.MoveTo(path, insert, keys), tree.None)
	}
	if e.Mode == Only {
		var keep []*tree.Node
		if here := base.At(path); here != nil {
			keep = append(keep, here)
		}
		if base, err = tree.Apply(base, diff.PlaceAll(path, keep), tree.None); err != nil {
			return nil, err
		}
	}
	if path.Last().Kind == schema.LeafList && len(path[len(path)-1].Keys) == 1 && base.At(path) != nil {
		return base, nil // the value is there, and its place is not what was asked for
	}
	return tree.Apply(base, tree.Put(path, e.Value), tree.None)
}

// valueAt gives what is at a path as text: a value, or an outline.
func valueAt(n *tree.Node, p tree.Path) string {
	at := n.At(p)
	switch {
	case at == nil:
		return ""
	case p.Last().IsLeaf() && p[len(p)-1].Keys == nil && p.Last().Kind == schema.LeafList:
		var all []string
		for _, v := range n.At(p[:len(p)-1]).All(p.Last()) {
			all = append(all, v.Value())
		}
		return strings.Join(all, ", ")
	}
	return codec.Text(at)
}

// notes tells what a person might not expect of an edit.
func notes(before, after *tree.Node, p tree.Path, e store.Edit) []string {
	var out []string
	if before.Digest() == after.Digest() {
		out = append(out, "this changes nothing: it is so already")
	}
	n := p.Last()
	if e.Op == "delete" || n.Kind != schema.LeafList && n.Kind != schema.List {
		return out
	}
	at := after.At(p[:len(p)-1])
	if len(p) == 1 {
		at = after
	}
	list := at.All(n)
	switch {
	case e.Op == "move":
		out = append(out, fmt.Sprintf("the order is now: %s", join(list)))
	case e.Mode == Only:
		gone := "no other is there"
		switch others := others(before, p); len(others) {
		case 0:
		case 1:
			gone = "1 other goes: " + join(others)
		default:
			gone = fmt.Sprintf("%d others go: %s", len(others), join(others))
		}
		out = append(out, fmt.Sprintf("%s keeps several values; this makes it the only one, %s", n.Name, gone))
	case len(list) > 1 && before.Digest() != after.Digest() && before.At(p) == nil:
		out = append(out, fmt.Sprintf("%s keeps several values; this adds one, they are now: %s", n.Name, join(list)))
	}
	return out
}

// AddEdit stages an edit within a transaction, if its part is still as it was.
func (d *Desk) AddEdit(tx *audit.Tx, w *Work, e *store.Edit, tag string) error {
	now, err := tx.EditsOf(e.Change, e.Device)
	if err != nil {
		return err
	}
	if tag != "" && tagOf(w.Base.Number, now) != tag {
		return w.moved(now)
	}
	if w.fresh && len(now) == 0 {
		if err := tx.SetPart(store.Part{Change: e.Change, Device: e.Device, Base: w.Base.Number}); err != nil {
			return err
		}
	}
	*e, err = tx.AddEdit(*e)
	return err
}
