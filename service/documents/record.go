package documents

import (
	"time"

	"oakenlatch/core/diff"
	"oakenlatch/core/ledger"
	"oakenlatch/service/report"
	"oakenlatch/wire"
)

// CommitRecords tells commits, with who had a hand in each.
func (p *Page) CommitRecords(list []report.Commit) ([]wire.CommitRecord, error) {
	numbers := make([]int64, len(list))
	for i, r := range list {
		numbers[i] = r.Change.Number
	}
	notes, err := p.Store.NotesOfChanges(p.ctx, numbers)
	out := make([]wire.CommitRecord, 0, len(list))
	for _, r := range list {
		doc := wire.CommitRecord{
			Number: r.ID, Change: r.Change.Number, Title: r.Change.Title, Ticket: r.Change.Ticket,
			Author: r.Change.Author, Staged: append([]string{}, r.Staged...), Committed: r.Actor,
			Confirmed: r.Confirmed, Started: r.Started, Ended: r.Ended, Seconds: r.Took().Seconds(),
			Hold: int64(r.Hold / time.Second), Outcome: r.State.Outcome, Reason: r.State.Reason, Newest: r.Newest,
			Devices: []string{},
		}
		for _, d := range r.Devices {
			doc.Devices = append(doc.Devices, d.Name)
		}
		for _, n := range notes[r.Change.Number] {
			doc.Notes = append(doc.Notes, wire.Note{Actor: n.Actor, At: n.At, Text: n.Text})
		}
		out = append(out, doc)
	}
	return out, err
}

// WholeCommit tells besides what it made of each device, its steps, and who staged what.
func (p *Page) WholeCommit(
	r report.Commit, made map[string]*diff.Difference, steps []ledger.Entry, look Look,
) (wire.CommitRecord, error) {
	list, err := p.CommitRecords([]report.Commit{r})
	if err != nil {
		return wire.CommitRecord{}, err
	}
	out := list[0]
	focus := focus{path: look.Path}
	for _, d := range r.Devices {
		df := p.Redactor(d).Difference(made[d.Name])
		if df == nil {
			continue
		}
		s, err := p.Fleet.Schema(p.ctx, d)
		if err != nil {
			return out, err
		}
		path, there := focus.on(s, d.Name)
		if df = narrowed(df, path, there); df.Empty() && look.Path != "" {
			continue
		}
		out.Parts = append(
			out.Parts,
			wire.CommitPart{Device: d.Name, Count: df.Count(), Lines: Lines(df, look.Context), Items: Items(df)},
		)
	}
	if err := focus.nowhere(); err != nil {
		return out, err
	}
	out.Steps = steps
	edits, err := p.Store.Edits(p.ctx, r.Change.Number)
	if err != nil {
		return out, err
	}
	names := map[int64]string{}
	for _, d := range r.Devices {
		names[d.ID] = d.Name
	}
	for _, e := range edits {
		if !e.At.After(r.Started) {
			out.Edits = append(out.Edits, p.Edit(names[e.Device], e))
		}
	}
	return out, nil
}
