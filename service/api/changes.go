package api

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"oakenlatch/core/check"
	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/guard"
	"oakenlatch/core/tree"
	"oakenlatch/service/access"
	"oakenlatch/service/desk"
	"oakenlatch/service/engine"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// changeDoc tells a change and its last commit. The commit is read first: they
// move together, so the change's state is then never older than the phase.
func (a *API) changeDoc(c *call, ch store.Change) (wire.Change, error) {
	cm, err := a.Store.LastCommit(c.ctx, ch.Number)
	committed := err == nil
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return wire.Change{}, err
	}
	if ch, err = a.Store.Change(c.ctx, ch.Number); err != nil {
		return wire.Change{}, err
	}
	out := wire.Change{
		Number: ch.Number, Title: ch.Title, Ticket: ch.Ticket, Author: ch.Author, State: ch.State, Reason: ch.Reason,
		Opened: ch.Opened, Updated: ch.Updated, Devices: []string{},
	}
	parts, err := a.Store.Parts(c.ctx, ch.Number)
	if err != nil {
		return out, err
	}
	for _, p := range parts {
		d, err := a.Store.DeviceByID(c.ctx, p.Device)
		if err != nil {
			return out, err
		}
		out.Devices = append(out.Devices, d.Name)
	}
	edits, err := a.Store.Edits(c.ctx, ch.Number)
	if err != nil {
		return out, err
	}
	out.Edits = len(edits)
	if !committed {
		return out, nil
	}
	s := cm.State
	out.Commit = &wire.Commit{
		Actor: cm.Actor, Started: cm.Started, Ended: cm.Ended, Phase: s.Phase, Outcome: s.Outcome, HoldSeconds: int64(cm.Hold / time.Second),
		Deadline: s.Deadline, Reason: s.Reason, By: s.By, Devices: s.Devices,
	}
	if s.Outcome == guard.Undecided && !s.Deadline.IsZero() {
		out.Commit.SecondsLeft = max(0, int64(s.Deadline.Sub(a.Log.Now()).Round(time.Second)/time.Second))
	}
	return out, nil
}

// visible gives the change in the path, if the person may see it.
func (a *API) visible(c *call) (store.Change, error) {
	n, err := numberParam(c)
	if err != nil {
		return store.Change{}, err
	}
	return a.Desk.Get(c.ctx, c.person, n)
}

// decidable gives the change in the path, if the person may decide its commit:
// its author, or an administrator.
func (a *API) decidable(c *call) (store.Change, error) {
	ch, err := a.visible(c)
	if err == nil && ch.Author != c.person.Name && c.person.Role != access.Admin {
		err = refusal.New(refusal.Forbidden, "ask them, or an administrator", "change %d belongs to %s, who alone can decide it", ch.Number, ch.Author)
	}
	return ch, err
}

func (a *API) changes(c *call) (any, error) {
	list, err := a.Desk.List(c.ctx, c.person)
	if err != nil {
		return nil, err
	}
	out := make([]wire.Change, 0, len(list))
	for _, ch := range list {
		doc, err := a.changeDoc(c, ch)
		if err != nil {
			return nil, err
		}
		out = append(out, doc)
	}
	return out, nil
}

func (a *API) open(c *call) (any, error) {
	var in wire.NewChange
	if err := c.read(&in); err != nil {
		return nil, err
	}
	ch, err := a.Desk.Open(c.ctx, c.person, in.Title, in.Ticket)
	if err != nil {
		return nil, err
	}
	return a.changeDoc(c, ch)
}

func (a *API) change(c *call) (any, error) {
	ch, err := a.visible(c)
	if err != nil {
		return nil, err
	}
	return a.changeDoc(c, ch)
}

func editDoc(device string, e store.Edit) wire.Edit {
	return wire.Edit{ID: e.ID, Device: device, Op: e.Op, Path: e.Path, Value: e.Value, Actor: e.Actor, At: e.At}
}

func (a *API) stage(c *call) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	var in wire.NewEdit
	if err := c.read(&in); err != nil {
		return nil, err
	}
	st, err := a.Desk.Stage(c.ctx, c.person, n, in.Device, in.Op, in.Path, in.Value)
	if err != nil {
		return nil, err
	}
	doc := editDoc(in.Device, st.Edit)
	doc.Path = st.Path.String()
	return wire.Staged{Edit: doc, Before: st.Before, After: st.After, Notes: st.Notes}, nil
}

func (a *API) unstage(c *call) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return nil, refusal.New(refusal.Invalid, "", "%q is not the number of an edit", c.Param("id"))
	}
	return nil, a.Desk.Drop(c.ctx, c.person, n, id)
}

func (a *API) drop(c *call) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	return nil, a.Desk.Abandon(c.ctx, c.person, n)
}

func (a *API) preview(c *call) (any, error) {
	ch, err := a.visible(c)
	if err != nil {
		return nil, err
	}
	context := 1
	if text := c.QueryParam("context"); text != "" {
		if context, err = strconv.Atoi(text); err != nil || context < 0 || context > 10000 {
			return nil, refusal.New(refusal.Invalid, "", "context is %q, a number from 0 to 10000 is needed", text)
		}
	}
	switch ch.State {
	case "draft", "failed", "reverted":
		return a.previewAhead(c, ch, context)
	}
	return a.previewDone(c, ch, context)
}

// previewAhead is what a commit would do now.
func (a *API) previewAhead(c *call, ch store.Change, context int) (any, error) {
	_, verdicts, err := a.Desk.Preview(c.ctx, c.person, ch.Number)
	if err != nil {
		return nil, err
	}
	out := wire.Preview{Parts: []wire.PartPreview{}, Empty: true, Ready: true, Against: "running"}
	if out.Change, err = a.changeDoc(c, ch); err != nil {
		return nil, err
	}
	for _, v := range verdicts {
		p := partPreview(v, context)
		for _, f := range p.Findings {
			out.Ready = out.Ready && f.Severity != check.Error
		}
		out.Ready = out.Ready && p.Read && p.Guard == "device" && len(p.Conflicts) == 0
		out.Empty = out.Empty && v.Idle
		out.Parts = append(out.Parts, p)
	}
	out.Ready = out.Ready && !out.Empty
	return out, nil
}

// manyChanges is from where on like changes are also told together.
const manyChanges = 50

func partPreview(v desk.Verdict, context int) wire.PartPreview {
	p := wire.PartPreview{
		Device: v.Device, Base: v.Base, Edits: []wire.Edit{}, Count: v.Difference.Count(), Lines: lines(v.Difference, context), Items: items(v.Difference),
		Read: v.Read, Trouble: v.Trouble, Behind: v.Behind, Findings: v.Check.Findings, Unchecked: v.Check.Unchecked, Reasons: v.Check.Reasons,
		Guard: v.Guard, GuardWhy: v.Why, Unsaved: v.Unsaved,
	}
	if p.Count > manyChanges {
		p.Groups = v.Difference.Groups()
	}
	for _, e := range v.Edits {
		p.Edits = append(p.Edits, editDoc(v.Device, e))
	}
	if v.Behind {
		p.Moved = lines(v.Moved, context)
	}
	for _, x := range v.Conflicts {
		p.Conflicts = append(p.Conflicts, wire.Conflict{Path: x.Path.String(), Base: side(x.Base), Mine: side(x.Mine), Theirs: side(x.Theirs), Why: x.Why})
	}
	return p
}

func side(n *tree.Node) string {
	if n == nil {
		return "(absent)"
	}
	return codec.Text(n)
}

func lines(d *diff.Difference, context int) []diff.Line {
	if out := d.Lines(context); out != nil {
		return out
	}
	return []diff.Line{}
}

func items(d *diff.Difference) []diff.Item {
	if out := d.Items(); out != nil {
		return out
	}
	return []diff.Item{}
}

// previewDone is what the last commit did, from the record.
func (a *API) previewDone(c *call, ch store.Change, context int) (any, error) {
	out := wire.Preview{Parts: []wire.PartPreview{}, Against: "record"}
	var err error
	if out.Change, err = a.changeDoc(c, ch); err != nil {
		return nil, err
	}
	edits, err := a.Store.Edits(c.ctx, ch.Number)
	if err != nil {
		return nil, err
	}
	cm, err := a.Store.LastCommit(c.ctx, ch.Number)
	if errors.Is(err, store.ErrNotFound) {
		return out, nil // dropped before any commit
	}
	if err != nil {
		return nil, err
	}
	for _, cp := range cm.Parts {
		d, err := a.Store.DeviceByID(c.ctx, cp.Device)
		if err != nil {
			return nil, err
		}
		p := wire.PartPreview{Device: d.Name, Edits: []wire.Edit{}, Lines: []diff.Line{}, Items: []diff.Item{}, Read: true, Guard: "device"}
		for _, e := range edits {
			if e.Device == d.ID {
				p.Edits = append(p.Edits, editDoc(d.Name, e))
			}
		}
		if cp.Base != "" {
			df, err := a.recorded(c.ctx, d, cp)
			if err != nil {
				return nil, err
			}
			p.Count, p.Lines, p.Items = df.Count(), lines(df, context), items(df)
		}
		out.Parts = append(out.Parts, p)
	}
	return out, nil
}

func (a *API) recorded(ctx context.Context, d store.Device, cp store.CommitPart) (*diff.Difference, error) {
	s, err := a.Fleet.Schema(ctx, d)
	if err != nil {
		return nil, err
	}
	base, err := a.History.Tree(ctx, s, cp.Base)
	if err != nil {
		return nil, err
	}
	result, err := a.History.Tree(ctx, s, cp.Result)
	return diff.Compare(base, result), err
}

func (a *API) commit(c *call) (any, error) {
	n, err := numberParam(c)
	if err != nil {
		return nil, err
	}
	ch, err := a.Desk.Own(c.ctx, c.person, n)
	if err != nil {
		return nil, err
	}
	var in wire.NewCommit
	if err := c.read(&in); err != nil {
		return nil, err
	}
	parts, err := a.Desk.Parts(c.ctx, ch.Number)
	if err != nil {
		return nil, err
	}
	works := make([]engine.Work, 0, len(parts))
	for _, w := range parts {
		works = append(works, engine.Work{Device: w.Device, Former: w.Former, Mine: w.Mine})
	}
	if in.HoldSeconds > int64(engine.MaxHold/time.Second) {
		in.HoldSeconds = int64(engine.MaxHold/time.Second) + 1 // refused below, without overflow
	}
	if err := a.Engine.Commit(c.ctx, c.person.Name, ch.Number, time.Duration(in.HoldSeconds)*time.Second, works); err != nil {
		return nil, err
	}
	return a.reload(c, ch.Number)
}

func (a *API) reload(c *call, n int64) (any, error) {
	ch, err := a.Store.Change(c.ctx, n)
	if err != nil {
		return nil, err
	}
	return a.changeDoc(c, ch)
}

func (a *API) confirm(c *call) (any, error) {
	return a.say(c, guard.SayConfirm, func(s guard.State) bool {
		return s.Phase != guard.Asking && s.Phase != guard.Keeping && s.Phase != guard.Settling
	})
}

func (a *API) revert(c *call) (any, error) {
	return a.say(c, guard.SayRevert, func(s guard.State) bool { return s.Phase == guard.Done })
}

// sayTimeout is how long a person's word waits for what comes of it.
const sayTimeout = time.Minute

// say gives a commit a person's word and waits until it is decided.
func (a *API) say(c *call, kind guard.EventKind, decided func(guard.State) bool) (any, error) {
	ch, err := a.decidable(c)
	if err != nil {
		return nil, err
	}
	if err := a.Engine.Say(c.ctx, ch.Number, kind, c.person.Name); err != nil {
		return nil, err
	}
	timeout := time.After(sayTimeout)
	for {
		s, changed, running := a.Engine.Status(ch.Number)
		if !running || decided(s) {
			if running && kind == guard.SayConfirm && s.Phase == guard.Awaiting {
				return nil, notAll(ch.Number, s)
			}
			return a.reload(c, ch.Number)
		}
		select {
		case <-changed:
		case <-timeout:
			return a.reload(c, ch.Number)
		case <-c.ctx.Done():
			return nil, c.ctx.Err()
		}
	}
}

// notAll says that a confirm was not carried out because a device could not be
// asked once more.
func notAll(number int64, s guard.State) error {
	var why []string
	for _, d := range s.Devices {
		if d.Unreachable {
			why = append(why, d.Name+": "+d.Said)
		}
	}
	return refusal.New(refusal.Conflict, fmt.Sprintf("mend that and confirm again before %s, or revert", s.Deadline.UTC().Format(time.RFC3339)),
		"change %d was confirmed nowhere and is still on hold: %s", number, strings.Join(why, "; "))
}
