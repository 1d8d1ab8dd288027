// Package desk is where changes are made: opened, staged and previewed. It
// touches no device but to read it.
package desk

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"oakenlatch/core/codec"
	"oakenlatch/core/ledger"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/history"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Desk makes changes.
type Desk struct {
	store   *store.Store
	log     *audit.Log
	history *history.History
}

// New gives a desk over a store.
func New(s *store.Store, log *audit.Log, h *history.History) *Desk {
	return &Desk{store: s, log: log, history: h}
}

// Open starts a change.
func (d *Desk) Open(ctx context.Context, p access.Person, title, ticket string) (store.Change, error) {
	title, ticket = strings.TrimSpace(title), strings.TrimSpace(ticket)
	if title == "" || len(title) > 200 || len(ticket) > 100 {
		return store.Change{}, refusal.New(refusal.Invalid, "say in a few words what it is for", "a change needs a title of 1 to 200 characters and a ticket of at most 100")
	}
	c := store.Change{Title: title, Ticket: ticket, Author: p.Name, State: "draft", Opened: d.log.Now()}
	err := d.log.Write(ctx, func(tx *audit.Tx) error {
		var err error
		if c, err = tx.AddChange(c); err != nil {
			return err
		}
		note := title
		if ticket != "" {
			note += " (" + ticket + ")"
		}
		return tx.Record(ledger.Entry{Actor: p.Name, Action: "change.open", Change: c.Number, Note: note})
	})
	return c, err
}

// Visible reports whether a person may see a change: a draft is its author's
// alone, what is or was on devices is everybody's.
func Visible(c store.Change, p access.Person) bool {
	return c.Author == p.Name || c.State != "draft" && c.State != "dropped"
}

// Get gives a change that a person may see.
func (d *Desk) Get(ctx context.Context, p access.Person, number int64) (store.Change, error) {
	c, err := d.store.Change(ctx, number)
	if errors.Is(err, store.ErrNotFound) {
		return c, refusal.New(refusal.NotFound, "list yours with: latch changes", "there is no change %d", number)
	}
	if err != nil {
		return c, err
	}
	if !Visible(c, p) {
		return c, refusal.New(refusal.Forbidden, "", "change %d is a draft of %s and private to them", number, c.Author)
	}
	return c, nil
}

// List gives the changes a person may see, newest first.
func (d *Desk) List(ctx context.Context, p access.Person) ([]store.Change, error) {
	list, err := d.store.Changes(ctx)
	if err != nil {
		return nil, err
	}
	var out []store.Change
	for _, c := range list {
		if Visible(c, p) {
			out = append(out, c)
		}
	}
	return out, nil
}

// Own gives a change that a person may still edit.
func (d *Desk) Own(ctx context.Context, p access.Person, number int64) (store.Change, error) {
	c, err := d.Get(ctx, p, number)
	if err != nil {
		return c, err
	}
	return c, editable(c, p)
}

func editable(c store.Change, p access.Person) error {
	if c.Author != p.Name {
		return refusal.New(refusal.Forbidden, "open one of your own with: latch open TITLE", "change %d belongs to %s", c.Number, c.Author)
	}
	switch c.State {
	case "draft", "failed", "reverted":
		return nil
	case "scheduled":
		return refusal.New(refusal.Conflict, fmt.Sprintf("take it off first: latch unschedule %d", c.Number), "change %d is on the schedule and cannot be edited or committed meanwhile", c.Number)
	}
	return refusal.New(refusal.Conflict, "open a new one with: latch open TITLE", "change %d is %s and can no longer be edited", c.Number, c.State)
}

// stillEditable looks again within the transaction that writes: the change may
// have been committed meanwhile.
func stillEditable(tx *audit.Tx, p access.Person, number int64) error {
	c, err := tx.Change(number)
	if err != nil {
		return err
	}
	return editable(c, p)
}

// Staged tells what an edit did to the change.
type Staged struct {
	Edit   store.Edit
	Path   tree.Path
	Before string // the value there in what the change made so far, "" if none
	After  string
	Notes  []string
}

// Stage adds an edit to a change. Nothing reaches the device.
func (d *Desk) Stage(ctx context.Context, p access.Person, number int64, device, op, pathText string, value *string) (Staged, error) {
	c, err := d.Own(ctx, p, number)
	if err != nil {
		return Staged{}, err
	}
	w, err := d.work(ctx, c, device, p.Name)
	if err != nil {
		return Staged{}, err
	}
	path, canon, err := Target(w.Schema, op, pathText, value)
	if err != nil {
		return Staged{}, refusal.New(refusal.Invalid, "", "%s: %v", device, err)
	}
	st := Staged{Path: path, Before: valueAt(w.Mine, path)}
	st.Edit = store.Edit{Change: number, Device: w.Device.ID, Op: op, Path: path.Full(), Value: canon, Actor: p.Name, At: d.log.Now()}
	next, err := tree.Apply(w.Mine, document(op, path, canon), tree.None)
	if err != nil {
		return Staged{}, refusal.New(refusal.Invalid, "look at what is there with: latch config "+device+" "+parentText(path), "%s: %v", device, err)
	}
	st.After = valueAt(next, path)
	st.Notes = notes(w.Mine, next, path, op)
	err = d.log.Write(ctx, func(tx *audit.Tx) error {
		if err := stillEditable(tx, p, number); err != nil {
			return err
		}
		if w.fresh {
			if err := tx.SetPart(store.Part{Change: number, Device: w.Device.ID, Base: w.Base.Number}); err != nil {
				return err
			}
		}
		if err := tx.SetState(number, "draft", "", d.log.Now()); err != nil {
			return err
		}
		if st.Edit, err = tx.AddEdit(st.Edit); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: p.Name, Action: "edit." + op, Change: number, Device: device, Path: st.Edit.Path, Before: st.Before, After: st.After})
	})
	return st, err
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
			return nil, "", fmt.Errorf("path %s: which %s? name it by its key: %s=%s", path, step.Node.Name, step.Node.Name, strings.ToUpper(strings.Join(step.Node.Keys, ",")))
		}
	}
	if op == "delete" {
		if n.KeyIndex() >= 0 {
			return nil, "", fmt.Errorf("%s is the key of its entry and cannot be deleted by itself; delete the entry", path)
		}
		return path, "", nil
	}
	if op != "put" {
		return nil, "", fmt.Errorf("operation %q is neither put nor delete", op)
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
		canon, err := s.Canonical(n.Type, text, s.NameResolver(n.Module))
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
		return nil, "", fmt.Errorf("path %s: name the entry by its key: %s=%s", path, n.Name, strings.ToUpper(strings.Join(n.Keys, ",")))
	}
	return path, "", nil
}

func document(op string, p tree.Path, value string) *tree.Edit {
	if op == "delete" {
		return tree.DeleteAt(p)
	}
	return tree.Put(p, value)
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
func notes(before, after *tree.Node, p tree.Path, op string) []string {
	var out []string
	if before.Digest() == after.Digest() {
		out = append(out, "this changes nothing: it is so already")
	}
	if n := p.Last(); op == "put" && n.Kind == schema.LeafList {
		list := after.At(p[:len(p)-1]).All(n)
		var all []string
		for _, v := range list {
			all = append(all, v.Value())
		}
		if len(all) > 1 {
			out = append(out, fmt.Sprintf("%s keeps several values; this adds one, they are now: %s", n.Name, strings.Join(all, ", ")))
		}
	}
	return out
}

// Drop takes a staged edit back.
func (d *Desk) Drop(ctx context.Context, p access.Person, number, id int64) error {
	if _, err := d.Own(ctx, p, number); err != nil {
		return err
	}
	list, err := d.store.Edits(ctx, number)
	if err != nil {
		return err
	}
	for _, e := range list {
		if e.ID != id {
			continue
		}
		dev, err := d.store.DeviceByID(ctx, e.Device)
		if err != nil {
			return err
		}
		return d.log.Write(ctx, func(tx *audit.Tx) error {
			if err := stillEditable(tx, p, number); err != nil {
				return err
			}
			if err := tx.DropEdit(number, id); err != nil {
				return err
			}
			if err := tx.SetState(number, "draft", "", d.log.Now()); err != nil {
				return err
			}
			return tx.Record(ledger.Entry{Actor: p.Name, Action: "edit.drop", Change: number, Device: dev.Name, Path: e.Path, Note: e.Op + " " + e.Value})
		})
	}
	return refusal.New(refusal.NotFound, fmt.Sprintf("see them with: latch preview %d", number), "change %d has no edit %d", number, id)
}

// Abandon drops a whole change.
func (d *Desk) Abandon(ctx context.Context, p access.Person, number int64) error {
	if _, err := d.Own(ctx, p, number); err != nil {
		return err
	}
	return d.log.Write(ctx, func(tx *audit.Tx) error {
		if err := stillEditable(tx, p, number); err != nil {
			return err
		}
		if err := tx.SetState(number, "dropped", "", d.log.Now()); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: p.Name, Action: "change.drop", Change: number})
	})
}
