package desk

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"oakenlatch/core/advice"
	"oakenlatch/core/check"
	"oakenlatch/core/diff"
	"oakenlatch/core/flow"
	"oakenlatch/core/redact"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/service/access"
	"oakenlatch/service/approval"
	"oakenlatch/service/fleet"
	"oakenlatch/service/history"
	"oakenlatch/service/order"
	"oakenlatch/service/refusal"
	"oakenlatch/service/reservation"
	"oakenlatch/service/store"
)

// Verdict is the preview of one part.
type Verdict struct {
	Change     int64
	Device     string
	Schema     *schema.Schema
	Base       store.Revision
	Edits      []store.Edit
	Unfit      []Unfit
	Tag        string
	Difference *diff.Difference // against running as just read, or as last known
	Read       bool             // running was read just now
	Took       time.Duration    // to read it
	Trouble    string           // why it was not
	Behind     bool             // the device moved on since the base
	Moved      *diff.Difference // how, where Behind
	Since      []store.Revision // and by which revisions, oldest first
	Conflicts  []diff.Conflict  // to be decided by a person
	Decided    []Decided
	Check      check.Result
	Guard      fleet.Guard
	Unsaved    bool
	Reserved   *store.Reservation // by somebody else
	HeldBy     int64              // the change whose commit is under way on it
	Forecasts  []Forecast         // its own first
	Effects    []flow.Change      // what becomes of traffic, filter by filter and where they work
	Tried      bool               // the device validated the result
	Said       string             // what it said against it
	MovesTo    string

	// Idle is set where the result means what is there already: nothing
	// differs, or only values that are set to their defaults.
	Idle bool

	work    Work
	fallen  []check.Finding  // what the device deletes by itself
	staged  map[string]int64 // the edit that last touched a line, by the line's path; nil where there is only one
	passed  map[int64]bool   // edits whose lines later edits all touched again
	from    string           // our address as the device tells it, "" where it does not
	running *tree.Node
	result  *tree.Node
}

// Redacted gives the verdict as it is shown to somebody who may not see secrets: the
// same places differ, and what is said does not tell values.
func (v Verdict) Redacted(by *redact.Redactor) Verdict {
	if by == nil || v.Schema == nil || !v.Schema.HasSecrets() {
		return v
	}
	v.Difference, v.Moved = by.Difference(v.Difference), by.Difference(v.Moved)
	v.Conflicts, v.Decided = slices.Clone(v.Conflicts), slices.Clone(v.Decided)
	for i := range v.Conflicts {
		v.Conflicts[i] = by.Conflict(v.Conflicts[i])
	}
	for i := range v.Decided {
		v.Decided[i].Conflict = by.Conflict(v.Decided[i].Conflict)
	}
	v.Check.Findings = slices.Clone(v.Check.Findings)
	for i := range v.Check.Findings {
		f := &v.Check.Findings[i]
		f.Message, f.Path = by.Text(f.Message, v.running, v.result), by.Text(f.Path, v.running, v.result)
		if f.Fix != nil {
			fix := *f.Fix
			fix.Path, fix.Value = by.Text(fix.Path, v.running, v.result), by.Text(fix.Value, v.running, v.result)
			f.Fix = &fix
		}
	}
	v.Said, v.Trouble = by.Text(v.Said, v.running, v.result), by.Text(v.Trouble, v.running, v.result)
	return v
}

// StagedBy gives the edit that last touched a line of the difference, 0 where
// none did.
func (v Verdict) StagedBy(path string) int64 {
	switch {
	case path == "":
		return 0
	case len(v.Edits) == 1:
		return v.Edits[0].ID
	}
	return v.staged[path]
}

// Superseded tells whether later edits touched all the lines of an edit again.
func (v Verdict) Superseded(edit int64) bool { return v.passed[edit] }

// Options are how a preview is wanted.
type Options struct {
	Device string // this part only
	By     string // this person's edits only
	TryOut bool   // have the devices validate the result, without committing
}

// Seen is what a preview showed: a name for it all, to commit that and nothing
// else.
type Seen struct {
	Digest  string
	At      time.Time
	Traffic Traffic // what was expected, and what of that is so

	Approval approval.Approval // who else has to agree, and who has
}

// atOnce is how many devices a preview reads at a time.
const atOnce = 16

// Preview says what a change would do, part by part. Devices are read; they
// are written to only where they are asked to validate, and then nothing stays.
func (d *Desk) Preview(ctx context.Context, p access.Person, number int64, opt Options) ([]Verdict, Seen, error) {
	c, err := d.Get(ctx, p, number)
	if err != nil {
		return nil, Seen{}, err
	}
	works, err := d.Parts(ctx, p.Reach(), number)
	if err != nil {
		return nil, Seen{}, err
	}
	if opt.Device != "" {
		works = slices.DeleteFunc(works, func(w Work) bool { return w.Device.Name != opt.Device })
		if len(works) == 0 {
			return nil, Seen{}, refusal.New(refusal.NotFound, "", "change %d has no part on %q", number, opt.Device)
		}
	}
	out, err := d.verdicts(ctx, c, works, p.Name, opt)
	if err != nil || opt.Device != "" || opt.By != "" || len(out) == 0 {
		return out, Seen{}, err // of a part of it there is nothing to commit
	}
	seen := Seen{Digest: digestOf(out), At: d.log.Now()}
	if seen.Traffic, err = d.traffic(ctx, p.Reach(), number, out); err != nil {
		return out, seen, err
	}
	if seen.Approval, err = d.approvals.Of(ctx, c, touched(out), seen.Digest); err != nil {
		return out, seen, err
	}
	parts, err := json.Marshal(shownOf(out))
	if err != nil {
		return out, seen, err
	}
	return out, seen, d.store.Write(ctx, func(tx *store.Tx) error {
		return tx.KeepPreview(
			store.Previewed{Change: number, Actor: p.Name, Digest: seen.Digest, At: seen.At, Parts: string(parts)},
		)
	})
}

// touched gives what the parts do, for who has to agree to it.
func touched(list []Verdict) []approval.Part {
	out := make([]approval.Part, len(list))
	for i, v := range list {
		out[i] = approval.Part{Device: v.work.Device, Schema: v.Schema, Running: v.running, Result: v.result}
	}
	return out
}

// verdicts judges parts, several at a time.
func (d *Desk) verdicts(
	ctx context.Context, c store.Change, works []Work, actor string, opt Options,
) ([]Verdict, error) {
	reservations, err := d.reservations.List(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]Verdict, len(works))
	errs := make([]error, len(works))
	turns := make(chan struct{}, atOnce)
	var wg sync.WaitGroup
	for i, w := range works {
		wg.Go(func() {
			turns <- struct{}{}
			defer func() { <-turns }()
			out[i], errs[i] = d.verdict(ctx, c.Number, w, actor, opt)
			if v := reservation.Of(reservations, w.Device.ID); v != nil && v.Holder != actor {
				out[i].Reserved = v
			}
		})
	}
	wg.Wait()
	if err := errors.Join(errs...); err != nil {
		return nil, err
	}
	return out, d.forecast(ctx, out)
}

func (d *Desk) verdict(ctx context.Context, number int64, w Work, actor string, opt Options) (Verdict, error) {
	v := Verdict{
		Change: number, Device: w.Device.Name, Schema: w.Schema, Base: w.Base, Edits: w.Edits, Unfit: w.Unfit,
		Tag: w.Tag(), Read: true, MovesTo: w.MovesTo, work: w,
	}
	begun := time.Now()
	now, err := d.history.Read(ctx, store.Everything, w.Device.Name, actor)
	var trouble *fleet.Error
	if errors.As(err, &trouble) {
		v.Read, v.Trouble = false, trouble.Error()
		now, err = d.history.Known(ctx, store.Everything, w.Device.Name)
	}
	if err != nil {
		return v, err
	}
	v.Took = time.Since(begun)
	if now.Schema != w.Schema { // it handed out other modules just now
		if w, err = d.again(ctx, w, number); err != nil {
			return v, err
		}
		v.Schema, v.Edits, v.Unfit, v.work = w.Schema, w.Edits, w.Unfit, w
	}
	if opt.By != "" {
		if w.Mine, err = d.by(ctx, w, opt.By); err != nil {
			return v, err
		}
		v.Edits = slices.DeleteFunc(slices.Clone(w.Edits), func(e store.Edit) bool { return e.Actor != opt.By })
	}
	if err := d.meet(ctx, &v, number, w, now); err != nil {
		return v, err
	}
	v.find(now)
	if v.Read && !v.Idle && w.Device.SeenFrom == "" {
		v.from = d.askFrom(ctx, w.Device)
	}
	if opt.TryOut && v.Read {
		v.tryOut(ctx, d, now)
	}
	dev, err := d.store.Device(ctx, store.Everything, w.Device.Name) // the reading noted what it found
	v.Unsaved = dev.Unsaved
	v.HeldBy = d.devices.Holder(dev.ID)
	return v, err
}

// again reads a part anew.
func (d *Desk) again(ctx context.Context, w Work, number int64) (Work, error) {
	parts, err := d.store.Parts(ctx, number)
	if err != nil {
		return w, err
	}
	for _, p := range parts {
		if p.Device == w.Device.ID {
			return d.part(ctx, p, w.Device)
		}
	}
	return w, refusal.New(refusal.Moved, "", "the part on %s was taken away just now", w.Device.Name)
}

// meet puts the part on what its device holds now.
func (d *Desk) meet(ctx context.Context, v *Verdict, number int64, w Work, now history.Reading) error {
	m, err := d.merge(ctx, number, w, now.Running)
	if err != nil {
		return err
	}
	v.running, v.result, v.Conflicts, v.Decided, v.fallen = now.Running, m.result, m.open, m.agreed, m.fallen
	v.Difference = diff.Compare(now.Running, m.result)
	v.trace(w)
	if tree.Same(now.Running, w.Former) {
		return nil
	}
	v.Behind, v.Moved = true, diff.Compare(w.Former, now.Running)
	all, err := d.store.Revisions(ctx, w.Device.ID)
	for _, r := range slices.Backward(all) {
		if r.Number > w.Base.Number {
			v.Since = append(v.Since, r)
		}
	}
	return err
}

// trace tells which edit staged each line, and which edits were superseded.
func (v *Verdict) trace(w Work) {
	if len(w.Edits) < 2 {
		return
	}
	v.staged, v.passed = map[string]int64{}, map[int64]bool{}
	traced := diff.Trace(w.Steps)
	for path, step := range traced.Last {
		v.staged[path] = w.Edits[step].ID
	}
	for _, step := range traced.Superseded {
		v.passed[w.Edits[step].ID] = true
	}
}

// find gathers the findings on the result.
func (v *Verdict) find(now history.Reading) {
	v.Check = check.Change(now.Schema, v.running, v.result)
	v.Check.Findings = append(v.Check.Findings, v.fallen...)
	for _, u := range v.Unfit {
		v.Check.Findings = append(v.Check.Findings, check.Finding{
			Severity: check.Error, Path: u.Edit.Path,
			Message: fmt.Sprintf(
				"edit %d, %s by %s, can no longer be carried out: %s; nothing of it is lost: stage it again as the "+
					"device is now, or take it back",
				u.Edit.ID, u.Edit.Op, u.Edit.Actor, u.Why,
			),
		})
	}
	for _, e := range v.work.Idle() {
		v.Check.Findings = append(v.Check.Findings, check.Finding{
			Severity: check.Hint, Path: e.Path,
			Message: fmt.Sprintf("edit %d sets what it was already; it can be removed", e.ID),
		})
	}
	v.Idle = diff.Compare(v.running.WithoutDefaults(), v.result.WithoutDefaults()).Empty()
	if v.Idle && !v.Difference.Empty() {
		v.Check.Findings = append(v.Check.Findings, check.Finding{
			Severity: check.Warning, Path: v.Difference.Items()[0].Path,
			Message: "sets what is the default already: it means nothing new, and there is nothing to commit here",
		})
	}
	v.Guard = fleet.GuardOf(now.Device.Capabilities)
	v.Effects = touches(v.running, v.result)
}

// tryOut has the device validate the result.
func (v *Verdict) tryOut(ctx context.Context, d *Desk, now history.Reading) {
	switch {
	case v.Idle, len(v.Conflicts) > 0:
		return
	}
	said, err := d.devices.TryOut(ctx, now.Device, v.running, v.result)
	switch {
	case err != nil:
		v.Said = "could not be asked: " + err.Error()
	default:
		v.Tried, v.Said = true, said
	}
}

// Blocker says why a part cannot be committed as it is, "" where it can.
func (v Verdict) Blocker() string {
	switch {
	case !v.Read:
		return v.Trouble
	case v.Guard.Keeper == "":
		return v.Device + " cannot be changed: " + v.Guard.Why
	case v.Reserved != nil:
		return reservation.Taken(v.Device, *v.Reserved).Error()
	case len(v.Conflicts) > 0:
		return fmt.Sprintf(
			"%s moved on since this was staged, and both changed the same: %s; decide which is to be",
			v.Device, v.Conflicts[0].Path,
		)
	case v.Tried && v.Said != "":
		return v.Device + " finds the result invalid: " + v.Said
	}
	for _, f := range v.Check.Findings {
		if f.Severity == check.Error {
			return fmt.Sprintf("%s: not valid at %s: %s", v.Device, f.Path, f.Message)
		}
	}
	return ""
}

// shown is what a preview showed of a part.
type shown struct {
	Device   string `json:"device"`
	Revision int64  `json:"revision"`
	Running  string `json:"running"`
	Result   string `json:"result"`
	MovesTo  string `json:"movesTo,omitempty"`
}

func shownOf(list []Verdict) []shown {
	out := make([]shown, 0, len(list))
	for _, v := range list {
		s := shown{
			Device: v.Device, Running: history.Digest(v.running), Result: history.Digest(v.result), MovesTo: v.MovesTo,
			Revision: v.Base.Number,
		}
		if n := len(v.Since); n > 0 {
			s.Revision = v.Since[n-1].Number
		}
		out = append(out, s)
	}
	slices.SortFunc(out, func(a, b shown) int { return strings.Compare(a.Device, b.Device) })
	return out
}

// digestOf names what a preview shows: what each device holds, and what it is
// to hold.
func digestOf(list []Verdict) string {
	h := sha256.New()
	for _, s := range shownOf(list) {
		_, _ = fmt.Fprintf(h, "%s\x00%s\x00%s\x00%s\n", s.Device, s.Running, s.Result, s.MovesTo)
	}
	return fmt.Sprintf("%x", h.Sum(nil)[:6])
}

// Ready is a change that could be committed now.
type Ready struct {
	Works      []order.Work // what each device holds, and is to hold
	Digest     string       // of the preview of that
	Unapproved bool         // it would go without the approval that it needs
}

// Ready gives the work of a change that could be committed now as it was previewed, or says why it could
// not. Devices are read for that. Of the order it minds on what preview it rests, whose lockout is
// accepted, and whether it is an emergency.
func (d *Desk) Ready(ctx context.Context, reach store.Reach, number int64, actor string, o order.Order) (Ready, error) {
	var out Ready
	c, err := d.store.Change(ctx, number)
	if err != nil {
		return out, err
	}
	stamp, err := d.store.Stamp(ctx, number) // before what it names is read
	if err != nil {
		return out, err
	}
	works, err := d.Parts(ctx, reach, number)
	if err != nil {
		return out, err
	}
	if len(works) == 0 {
		return out, refusal.New(
			refusal.Invalid, "stage something",
			"change %d is empty", number,
		).Do(advice.Stage, number)
	}
	list, err := d.verdicts(ctx, c, works, actor, Options{})
	if err != nil {
		return out, err
	}
	for _, v := range list {
		if v.Reserved != nil {
			return out, reservation.Taken(v.Device, *v.Reserved)
		}
	}
	out.Digest = digestOf(list)
	exact, err := d.asPreviewed(ctx, number, actor, o.Preview, out.Digest, list)
	if err != nil {
		return out, err
	}
	agreed, err := d.approvals.Of(ctx, c, touched(list), out.Digest)
	if err != nil {
		return out, err
	}
	if err := agreed.Lacking(number, o.Emergency); err != nil {
		return out, err
	}
	exact = exact || agreed.Needed > 0 // what was agreed to is what is committed
	out.Unapproved = agreed.Missing() > 0
	idle := true
	for _, v := range list {
		if why := v.Blocker(); why != "" {
			return out, refusal.New(
				refusal.Conflict, "see it",
				"change %d cannot be committed: %s", number, why,
			).Do(advice.PreviewChange, number)
		}
		if err := v.inWords(number, o.CutOff); err != nil {
			return out, err
		}
		idle = idle && v.Idle
		w := v.work.Work
		w.Exact, w.Stamp = exact || v.work.Exactly(), stamp
		w.Former, w.Mine = v.running, v.result
		out.Works = append(out.Works, w)
	}
	traffic, err := d.traffic(ctx, reach, number, list)
	if err != nil {
		return out, err
	}
	if why, next := traffic.blocker(number); why != "" {
		return out, refusal.New(refusal.Conflict, "", "change %d cannot be committed: %s", number, why).With(next)
	}
	if idle {
		return out, refusal.New(refusal.Conflict, "", "change %d has nothing to commit: it is so already", number)
	}
	return out, nil
}

// inWords makes a person say so where a device is forecast to be cut off and
// only this service could revert it, which it then cannot reach.
func (v Verdict) inWords(number int64, accepted []string) error {
	if !v.Helpless() || slices.Contains(accepted, v.Device) {
		return nil
	}
	f := v.Forecasts[0]
	return refusal.New(
		refusal.Conflict,
		"fix it, or if it is meant say so with the device's name",
		"%s would be cut off (%s), and it has no guard of its own: this service, which then cannot reach it, is all "+
			"that could revert it",
		v.Device, f.Because,
	).Do(advice.CommitCutOff, number, v.Device)
}

// asPreviewed refuses what is no longer what was previewed, and tells what
// moved. seen is false where nobody was shown anything.
func (d *Desk) asPreviewed(
	ctx context.Context, number int64, actor, wanted, now string, list []Verdict,
) (seen bool, err error) {
	var p store.Previewed
	if wanted == "" {
		p, err = d.store.LastPreview(ctx, number, actor)
		if errors.Is(err, store.ErrNotFound) {
			return false, nil
		}
	} else if p, err = d.store.PreviewOf(ctx, number, wanted); errors.Is(err, store.ErrNotFound) {
		return false, refusal.New(
			refusal.Invalid, "preview it", "change %d has no preview %q",
			number, wanted,
		).Do(advice.PreviewChange, number)
	}
	if err != nil || p.Digest == now {
		return true, err
	}
	var was []shown
	if err := json.Unmarshal([]byte(p.Parts), &was); err != nil {
		return false, err
	}
	var told []string
	for _, s := range shownOf(list) {
		i := slices.IndexFunc(was, func(x shown) bool { return x.Device == s.Device })
		switch {
		case i < 0:
			told = append(told, s.Device+" was added")
		case was[i].Running != s.Running:
			told = append(told, d.whatMoved(ctx, s.Device, was[i].Revision, list))
		case was[i].Result != s.Result:
			told = append(told, "what is staged on "+s.Device+" is another")
		case was[i].MovesTo != s.MovesTo:
			told = append(told, "the new address of "+s.Device+" is another")
		}
	}
	for _, x := range was {
		if !slices.ContainsFunc(list, func(v Verdict) bool { return v.Device == x.Device }) {
			told = append(told, x.Device+" was taken out")
		}
	}
	return false, refusal.New(
		refusal.Moved, "nothing was committed; look at it again",
		"change %d is no longer what was previewed at %s: %s", number, p.At.Format(time.RFC3339),
		strings.Join(told, "; "),
	).Do(advice.PreviewChange, number)
}

// CountPlaces counts places in words.
func CountPlaces(n int) string {
	if n == 1 {
		return "1 place"
	}
	return fmt.Sprintf("%d places", n)
}

// whatMoved tells how a device moved on since a revision.
func (d *Desk) whatMoved(ctx context.Context, device string, revision int64, list []Verdict) string {
	text := device + " moved on"
	i := slices.IndexFunc(list, func(v Verdict) bool { return v.Device == device })
	rev, err := d.store.Revision(ctx, list[i].work.Device.ID, revision)
	if err != nil {
		return text
	}
	was, err := d.history.Tree(ctx, list[i].Schema, rev.Digest)
	if err != nil {
		return text
	}
	moved := diff.Compare(was, list[i].running)
	if moved.Empty() {
		return text
	}
	return fmt.Sprintf(
		"%s since revision %d, in %s, first %s", text, revision, CountPlaces(moved.Count()), moved.Items()[0].Path,
	)
}
