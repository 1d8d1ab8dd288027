package api

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/guard"
	"oakenlatch/core/markup"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
	"oakenlatch/service/desk"
	"oakenlatch/service/documents"
	"oakenlatch/service/fleet"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// forms are the renderings of a part beside the readable one.
var forms = []string{"", "lines", "unified", "edit-config", "yang-patch", "yang-patch-json", "outline", "xml", "json"}

func (a *API) preview(c *call) (any, error) {
	ch, err := a.visible(c)
	if err != nil {
		return nil, err
	}
	context, err := contextParam(c)
	if err != nil {
		return nil, err
	}
	as := c.QueryParam("as")
	if !slices.Contains(forms, as) {
		return nil, refusal.New(
			refusal.Invalid, "give one of"+strings.Join(forms, " "), "%q is no form of a preview", as,
		)
	}
	switch ch.State {
	case "draft", "failed", "reverted", "scheduled":
		return a.previewAhead(c, ch, context, as)
	}
	return a.previewDone(c, ch, context)
}

// previewAhead is what a commit would do now.
func (a *API) previewAhead(c *call, ch store.Change, context int, as string) (any, error) {
	opt := desk.Options{
		Device: c.QueryParam("device"), By: c.QueryParam("by"), TryOut: c.QueryParam("validate") == "true",
	}
	verdicts, seen, err := a.Desk.Preview(c.ctx, c.person, ch.Number, opt)
	if err != nil {
		return nil, err
	}
	out := wire.Preview{
		Parts: []wire.PartPreview{}, Empty: true, Ready: true, Against: "running", Digest: seen.Digest, At: seen.At,
	}
	if out.Change, err = a.Documents.Change(c.ctx, c.person, ch.Number); err != nil {
		return nil, err
	}
	for _, v := range verdicts {
		v = v.Redacted(a.redactorOf(c, v.Device))
		p, err := a.partPreview(c, v, context)
		if err != nil {
			return nil, err
		}
		p.Rendered = rendered(v, as, context)
		out.Ready = out.Ready && p.Hindrance == ""
		out.Empty = out.Empty && v.Idle && len(v.Conflicts) == 0
		out.Parts = append(out.Parts, p)
	}
	a.traffic(&out, seen.Traffic)
	out.Approval = approvalDoc(seen.Approval)
	out.Ready = out.Ready && seen.Approval.Missing() == 0
	out.Ready = out.Ready && !out.Empty
	if !out.Empty {
		out.Steps, out.EstimateSeconds = steps(verdicts)
	}
	return out, nil
}

// rendered gives a part in another form: the difference, or the whole result.
func rendered(v desk.Verdict, as string, context int) string {
	switch d, s := v.Difference, v.Schema; as {
	case "outline":
		return codec.OutlineText(d.New)
	case "xml":
		return string(codec.XML(s, d.New, markup.Name{Space: netconf.BaseNS, Local: "config"}))
	case "json":
		return string(codec.JSON(s, d.New))
	default:
		return renderedAs(d, s, as, v.Device+" running", v.Device+" result", context)
	}
}

// renderedAs gives a difference in another form; "" for one there is not.
func renderedAs(d *diff.Difference, s *schema.Schema, as, old, now string, context int) string {
	switch as {
	case "unified":
		return d.Unified(old, now, context)
	case "edit-config":
		w := &markup.Writer{Indent: "  "}
		w.Start(markup.Name{Space: codec.NetconfNS, Local: "config"})
		codec.EncodeEdit(w, s, d.Edits())
		w.End()
		return string(w.Bytes()) + "\n"
	case "yang-patch":
		return string(d.YangPatchXML(s, "difference"))
	case "yang-patch-json":
		return string(d.YangPatchJSON(s, "difference"))
	}
	return ""
}

// manyChanges is from where on like changes are also told together.
const manyChanges = 50

func (a *API) partPreview(c *call, v desk.Verdict, context int) (wire.PartPreview, error) {
	p := wire.PartPreview{
		Device: v.Device, Base: v.Base.Number, Tag: v.Tag, Edits: []wire.Edit{}, Count: v.Difference.Count(),
		Lines: lines(v.Difference, context), Items: items(v.Difference), Read: v.Read, Trouble: v.Trouble,
		Behind: v.Behind, Findings: v.Check.Findings, Unchecked: v.Check.Unchecked, Reasons: v.Check.Reasons,
		Guard: documents.Guard(v.Guard), Unsaved: v.Unsaved, HeldBy: v.HeldBy, Tried: v.Tried, Said: v.Said,
		MovesTo: v.MovesTo, Hindrance: v.Blocker(), Helpless: v.Helpless(),
	}
	for i := range p.Lines {
		p.Lines[i].Edit = v.StagedBy(p.Lines[i].Path)
	}
	if p.Hindrance == "" && p.HeldBy != 0 {
		p.Hindrance = fmt.Sprintf("%s is held by the commit of change %d, which is not decided yet", p.Device, p.HeldBy)
	}
	if p.Count > manyChanges {
		p.Groups = v.Difference.Groups()
	}
	for _, e := range v.Edits {
		p.Edits = append(p.Edits, a.editDoc(c, v.Device, e))
	}
	if v.Reserved != nil {
		r := documents.Reservation(v.Device, *v.Reserved)
		p.Reserved = &r
	}
	for _, f := range v.Forecasts {
		p.Forecasts = append(
			p.Forecasts, wire.Forecast{Device: f.Device, Answer: f.Answer, Path: f.Path, Because: f.Because},
		)
	}
	p.Effects = v.Effects
	for _, x := range v.Conflicts {
		p.Conflicts = append(p.Conflicts, conflictDoc(x))
	}
	for _, x := range v.Decided {
		doc := conflictDoc(x.Conflict)
		doc.Keep, doc.Actor, doc.At = x.Keep, x.Actor, x.At
		p.Decided = append(p.Decided, doc)
	}
	if v.Behind {
		p.Moved = lines(v.Moved, context)
	}
	for _, r := range v.Since {
		doc, err := a.revisionDocs(c).revision(r)
		if err != nil {
			return p, err
		}
		p.Since = append(p.Since, doc)
	}
	return p, nil
}

func conflictDoc(x diff.Conflict) wire.Conflict {
	doc := wire.Conflict{Path: x.Path.String(), Why: x.Why}
	doc.Base, doc.Mine, doc.Theirs = x.Texts(side)
	return doc
}

func side(n *tree.Node) string {
	if n == nil {
		return "(absent)"
	}
	return codec.Text(n)
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
		prepare += "; try the way back in the candidate of " + few(tried)
	}
	out := []string{prepare}
	if len(own) > 0 {
		out = append(out, "hold: commit with the device's own timer, which takes it back by itself: "+few(own))
	}
	if len(session) > 0 {
		out = append(out, "hold: commit with a timer that ends with the session: "+few(session))
	}
	if len(service) > 0 {
		out = append(out, "hold: commit, with only this service to take it back: "+few(service))
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
	if out.Change, err = a.Documents.Change(c.ctx, c.person, ch.Number); err != nil {
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
		d, err := a.Store.DeviceByID(c.ctx, c.person.Reach(), cp.Device)
		if err != nil {
			return nil, err
		}
		p := wire.PartPreview{
			Device: d.Name, Edits: []wire.Edit{}, Lines: []diff.Line{}, Items: []diff.Item{}, Read: true,
			Guard: documents.Guard(fleet.GuardOf(d.Capabilities)),
		}
		for _, e := range edits {
			if e.Device == d.ID {
				p.Edits = append(p.Edits, a.editDoc(c, d.Name, e))
			}
		}
		if cp.Base != "" {
			df, err := a.recorded(c.ctx, d, cp)
			if err != nil {
				return nil, err
			}
			df = a.redactor(c, d).Difference(df)
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
