package documents

import (
	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/service/desk"
	"oakenlatch/service/restore"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// Staged tells what staging one value or entry did, device by device.
func (p *Page) Staged(list []desk.Staged) []wire.Staged {
	out := make([]wire.Staged, 0, len(list))
	for _, st := range list {
		doc := wire.Staged{
			Edit: p.Edit(st.Device, st.Edit), Before: st.Before, After: st.After, Notes: st.Notes, Tag: st.Tag,
		}
		doc.Edit.Path = st.Path.String()
		out = append(out, doc)
	}
	return out
}

// Loaded tells what loading a text did, device by device.
func (p *Page) Loaded(list []desk.Loaded) []wire.Loaded {
	out := make([]wire.Loaded, 0, len(list))
	for _, l := range list {
		l.Difference = p.RedactorOf(l.Device).Difference(l.Difference)
		doc := wire.Loaded{
			Device: l.Device, Edit: p.Edit(l.Device, l.Edit), Format: string(l.Format),
			Count: l.Difference.Count(), Lines: Lines(l.Difference, 0), Notes: l.Notes, Tag: l.Tag,
		}
		if doc.Count > manyChanges {
			doc.Groups = l.Difference.Groups()
		}
		if len(doc.Lines) > shownLines {
			doc.Lines = doc.Lines[:shownLines]
		}
		out = append(out, doc)
	}
	return out
}

// Rebased tells what putting a change on what its devices hold now did.
func (p *Page) Rebased(list []desk.Rebased) []wire.Rebased {
	out := make([]wire.Rebased, 0, len(list))
	for _, r := range list {
		doc := wire.Rebased{
			Device: r.Device, From: r.From, To: r.To, Moved: Lines(p.RedactorOf(r.Device).Difference(r.Moved), 0),
			Mended: r.Mended,
		}
		for _, e := range r.Dropped {
			doc.Dropped = append(doc.Dropped, p.Edit(r.Device, e))
		}
		out = append(out, doc)
	}
	return out
}

// Brought tells what bringing something back staged, device by device.
func (p *Page) Brought(ch store.Change, list []restore.Brought) wire.BroughtBack {
	out := wire.BroughtBack{Change: ch.Number, Title: ch.Title, Parts: []wire.Brought{}}
	for _, b := range list {
		v := p.RedactorOf(b.Device)
		b.Difference = v.Difference(b.Difference)
		part := wire.Brought{
			Device: b.Device, Edits: []wire.Edit{}, Lines: []diff.Line{}, Takes: []wire.Later{}, Left: []wire.Left{},
			Notes: b.Notes,
		}
		for _, e := range b.Edits {
			part.Edits = append(part.Edits, p.Edit(b.Device, e))
		}
		if b.Difference != nil {
			part.Count, part.Lines = b.Difference.Count(), Lines(b.Difference, 0)
			part.Lines = part.Lines[:min(len(part.Lines), shownLines)]
		}
		for _, l := range b.Takes {
			part.Takes = append(
				part.Takes,
				wire.Later{
					Revision: l.Revision.Number, Source: l.Revision.Source, Change: l.Change.Number,
					Title: l.Change.Title, Author: l.Change.Author, At: l.Revision.At, Places: l.Places,
				},
			)
		}
		for _, l := range b.Left {
			part.Left = append(
				part.Left,
				wire.Left{
					Path: l.Path.String(), Change: l.Change, Before: codec.Text(v.Tree(l.Mine)),
					Made: codec.Text(v.Tree(l.Base)), Now: codec.Text(v.Tree(l.Theirs)), Why: l.Why,
				},
			)
		}
		out.Parts = append(out.Parts, part)
	}
	return out
}
