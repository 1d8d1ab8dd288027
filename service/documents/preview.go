package documents

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/guard"
	"oakenlatch/core/markup"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
	"oakenlatch/service/desk"
	"oakenlatch/service/fleet"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// Look is how a preview is looked at.
type Look struct {
	Context int    // unchanged neighbours that are shown
	As      string // another form besides, "" for none
	Path    string // only what differs there or below, "" for all
}

// Preview tells what a commit would do now: what was worked out of each part, as a person may see it.
func (p *Page) Preview(
	number int64, verdicts []desk.Verdict, seen desk.Seen, look Look,
) (out wire.Preview, err error) {
	out = wire.Preview{
		Parts: []wire.PartPreview{}, Empty: true, Ready: true, Against: "running", Digest: seen.Digest, At: seen.At,
	}
	if out.Change, err = p.Change(p.ctx, p.person, number); err != nil {
		return out, err
	}
	focus := focus{path: look.Path}
	shown := make([]desk.Verdict, len(verdicts))
	for i, v := range verdicts {
		v = v.Redacted(p.RedactorOf(v.Device))
		shown[i] = v
		all := v.Difference
		path, there := focus.on(v.Schema, v.Device)
		v.Difference = narrowed(all, path, there)
		part, err := p.part(v, look.Context)
		if err != nil {
			return out, err
		}
		part.Elsewhere = all.Count() - part.Count
		if there {
			part.Rendered = rendered(v, path, look.As, look.Context)
		}
		out.Ready = out.Ready && part.Blocker == ""
		out.Empty = out.Empty && v.Idle && len(v.Conflicts) == 0
		out.Parts = append(out.Parts, part)
	}
	if err := focus.nowhere(); err != nil {
		return out, err
	}
	out.Path = look.Path
	sum := desk.Sum(shown, seen)
	out.Level, out.Verdict = string(sum.Level), sum.Text
	for _, t := range sum.Trouble {
		out.Trouble = append(out.Trouble, wire.Trouble(t))
	}
	traffic(&out, seen.Traffic)
	out.Approval = Approval(seen.Approval)
	out.Ready = out.Ready && seen.Approval.Missing() == 0
	out.Ready = out.Ready && !out.Empty
	if !out.Empty {
		out.Steps, out.EstimateSeconds = steps(verdicts)
	}
	return out, nil
}

// rendered gives a part in another form: the difference, or the whole result.
func rendered(v desk.Verdict, path tree.Path, as string, context int) string {
	switch d, s := v.Difference, v.Schema; as {
	case "outline":
		return codec.OutlineText(d.New.Cut(path))
	case "xml":
		return string(codec.XML(s, d.New.Cut(path), markup.Name{Space: netconf.BaseNS, Local: "config"}))
	case "json":
		return string(codec.JSON(s, d.New.Cut(path)))
	default:
		return Rendered(d, path, s, as, v.Device+" running", v.Device+" result", context)
	}
}

func (p *Page) part(v desk.Verdict, context int) (wire.PartPreview, error) {
	out := wire.PartPreview{
		Device: v.Device, Base: v.Base.Number, Tag: v.Tag, Edits: []wire.Edit{}, Count: v.Difference.Count(),
		Lines: Lines(v.Difference, context), Items: Items(v.Difference), Read: v.Read, Trouble: v.Trouble,
		Behind: v.Behind, Findings: v.Check.Findings, Unchecked: v.Check.Unchecked, Reasons: v.Check.Reasons,
		Guard: Guard(v.Guard), Unsaved: v.Unsaved, HeldBy: v.HeldBy, Tried: v.Tried, Said: v.Said,
		MovesTo: v.MovesTo, Blocker: v.Blocker(), Helpless: v.Helpless(),
	}
	for i := range out.Lines {
		out.Lines[i].Edit = v.StagedBy(out.Lines[i].Path)
	}
	if out.Blocker == "" && out.HeldBy != 0 {
		out.Blocker = fmt.Sprintf(
			"%s is held by the commit of change %d, which is not decided yet", out.Device, out.HeldBy,
		)
	}
	if out.Count > manyChanges {
		out.Groups = v.Difference.Groups()
	}
	for _, e := range v.Edits {
		doc := p.Edit(v.Device, e)
		doc.Superseded = v.Superseded(e.ID)
		out.Edits = append(out.Edits, doc)
	}
	if v.Reserved != nil {
		r := Reservation(v.Device, *v.Reserved)
		out.Reserved = &r
	}
	for _, f := range v.Forecasts {
		out.Forecasts = append(
			out.Forecasts, wire.Forecast{Device: f.Device, Answer: f.Answer, Path: f.Path, Because: f.Because},
		)
	}
	out.Effects = v.Effects
	for _, x := range v.Conflicts {
		out.Conflicts = append(out.Conflicts, Conflict(x))
	}
	for _, x := range v.Decided {
		doc := Conflict(x.Conflict)
		doc.Keep, doc.Actor, doc.At = x.Keep, x.Actor, x.At
		out.Decided = append(out.Decided, doc)
	}
	if v.Behind {
		out.Moved = Lines(v.Moved, context)
	}
	for _, r := range v.Since {
		doc, err := p.Revision(r)
		if err != nil {
			return out, err
		}
		out.Since = append(out.Since, doc)
	}
	return out, nil
}

// steps tells what a commit will do, and about how long it takes until every
// device is on hold.
func steps(list []desk.Verdict) ([]string, int64) {
	var names, own, session, service, tried []string
	var slowest time.Duration
	edits := 0
	for _, v := range list {
		names = append(names, v.Device)
		slowest = max(slowest, v.Took)
		edits += v.Difference.Count()
		switch v.Guard.Keeper {
		case guard.ByDevice:
			own = append(own, v.Device)
		case guard.BySession:
			session = append(session, v.Device)
		case guard.ByService:
			if service = append(service, v.Device); v.Guard.Untried == "" {
				tried = append(tried, v.Device)
			}
		}
	}
	prepare := fmt.Sprintf(
		"prepare: lock %s, read running afresh, write %s, validate, and read that back", few(names),
		plural(edits, "edit"),
	)
	if len(tried) > 0 {
		prepare += "; test in the candidate of " + few(tried)
	}
	out := []string{prepare}
	if len(own) > 0 {
		out = append(out, "hold: commit with the device's own timer, which reverts it by itself: "+few(own))
	}
	if len(session) > 0 {
		out = append(out, "hold: commit with a timer that ends with the session: "+few(session))
	}
	if len(service) > 0 {
		out = append(out, "hold: commit, with only this service to revert it: "+few(service))
	}
	out = append(
		out, "prove: open a new session to "+few(names), "wait for your word, or the end of the hold",
		"settle: confirm, read back, save to startup where there is one",
	)
	// Connecting, locking, reading, writing, validating and reading back each take
	// about as long as the reading did; then a second for it to take effect.
	return out, int64((6*slowest + time.Second + time.Second/2) / time.Second)
}

func few(names []string) string {
	if len(names) > 4 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:3], ", "), len(names)-3)
	}
	return strings.Join(names, ", ")
}

func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// Done tells what the last commit of a change did, from the record.
func (p *Page) Done(ch store.Change, look Look) (out wire.Preview, err error) {
	out = wire.Preview{Parts: []wire.PartPreview{}, Against: "record", Path: look.Path}
	focus := focus{path: look.Path}
	if out.Change, err = p.Change(p.ctx, p.person, ch.Number); err != nil {
		return out, err
	}
	edits, err := p.Store.Edits(p.ctx, ch.Number)
	if err != nil {
		return out, err
	}
	cm, err := p.Store.LastCommit(p.ctx, ch.Number)
	if errors.Is(err, store.ErrNotFound) {
		return out, nil // dropped before any commit
	}
	if err != nil {
		return out, err
	}
	for _, cp := range cm.Parts {
		d, err := p.Store.DeviceByID(p.ctx, p.person.Reach(), cp.Device)
		if err != nil {
			return out, err
		}
		part := wire.PartPreview{
			Device: d.Name, Edits: []wire.Edit{}, Lines: []diff.Line{}, Items: []diff.Item{}, Read: true,
			Guard: Guard(fleet.GuardOf(d.Capabilities)),
		}
		for _, e := range edits {
			if e.Device == d.ID {
				part.Edits = append(part.Edits, p.Edit(d.Name, e))
			}
		}
		if cp.Base != "" {
			df, err := p.recorded(p.ctx, d, cp)
			if err != nil {
				return out, err
			}
			s, err := p.Fleet.Schema(p.ctx, d)
			if err != nil {
				return out, err
			}
			df = p.Redactor(d).Difference(df)
			all := df.Count()
			path, there := focus.on(s, d.Name)
			df = narrowed(df, path, there)
			part.Count, part.Lines, part.Items = df.Count(), Lines(df, look.Context), Items(df)
			part.Elsewhere = all - part.Count
		}
		out.Parts = append(out.Parts, part)
	}
	return out, focus.nowhere()
}

func (d *Documents) recorded(ctx context.Context, dev store.Device, cp store.CommitPart) (*diff.Difference, error) {
	s, err := d.Fleet.Schema(ctx, dev)
	if err != nil {
		return nil, err
	}
	base, err := d.History.Tree(ctx, s, cp.Base)
	if err != nil {
		return nil, err
	}
	result, err := d.History.Tree(ctx, s, cp.Result)
	return diff.Compare(base, result), err
}

// Expectation tells what traffic a change is meant to permit or deny.
func Expectation(e desk.Expected) wire.Expectation {
	return wire.Expectation{Number: e.ID, Line: e.Line, Place: e.Place, Actor: e.Actor, At: e.At, Answer: e.Answer}
}

// traffic fills in what a preview tells of traffic.
func traffic(out *wire.Preview, t desk.Traffic) {
	for _, e := range t.Expected {
		out.Expected = append(out.Expected, Expectation(e))
		out.Ready = out.Ready && e.Delivered
	}
	for _, s := range t.Beside {
		doc := wire.SideEffect{Device: s.Device, Change: s.Change}
		if s.Accepted != nil {
			doc.AcceptedBy, doc.AcceptedAt = s.Accepted.Actor, s.Accepted.At
		}
		out.Beside = append(out.Beside, doc)
		out.Ready = out.Ready && s.Accepted != nil
	}
}
