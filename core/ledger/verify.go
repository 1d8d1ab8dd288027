package ledger

import (
	"cmp"
	"fmt"
	"slices"
	"time"
)

// Finding is a place where a chain does not hold.
type Finding struct {
	Seq int64  `json:"seq"` // the entry that shows it
	Msg string `json:"msg"`
}

func (f Finding) String() string {
	if f.Seq == 0 {
		return f.Msg
	}
	return fmt.Sprintf("entry %d: %s", f.Seq, f.Msg)
}

// mostFindings is how many findings are told one by one.
const mostFindings = 100

// Verifier checks a chain entry by entry, and against checkpoints that were
// signed when they were so.
type Verifier struct {
	Entries  int64     // that were checked
	Findings []Finding // at most a hundred; Wrong counts all
	Wrong    int64
	Notes    []string // what limits what was checked
	Back     []int64  // entries before which the clock had gone back, at most a hundred

	last        Entry
	signed      []Checkpoint // still ahead, by place
	checkpoints int
	held        Checkpoint // the newest that held
}

// NewVerifier gives a verifier that also checks checkpoints, whose signatures
// the caller has checked.
func NewVerifier(signed []Checkpoint) *Verifier {
	v := &Verifier{signed: slices.Clone(signed), checkpoints: len(signed)}
	slices.SortStableFunc(v.signed, func(a, b Checkpoint) int { return cmp.Compare(a.Seq, b.Seq) })
	return v
}

// Find notes something that is wrong with an entry; 0 is none in particular.
func (v *Verifier) Find(seq int64, format string, args ...any) {
	v.Wrong++
	if len(v.Findings) < mostFindings {
		v.Findings = append(v.Findings, Finding{seq, fmt.Sprintf(format, args...)})
	}
}

// Next checks the next entry.
func (v *Verifier) Next(e Entry) { v.next(e, hash(e)) }

// Hash computes what an entry's hash must be.
func Hash(e Entry) string { return hash(e) }

// NextHashed is Next for an entry whose hash was computed already.
func (v *Verifier) NextHashed(e Entry, computed string) { v.next(e, computed) }

func (v *Verifier) next(e Entry, computed string) {
	v.Entries++
	if e.Hash != computed {
		v.Find(e.Seq, "its content does not match its hash: it was altered")
	}
	switch last := v.last.Seq; {
	case e.Seq <= last:
		v.Find(e.Seq, "stands behind entry %d: it was put there, or the order was changed", last)
	case e.Seq == last+2:
		v.Find(e.Seq, "entry %d before it is missing", last+1)
	case e.Seq > last+1:
		v.Find(e.Seq, "entries %d to %d before it are missing", last+1, e.Seq-1)
	case e.Prev != v.last.Hash && last == 0:
		v.Find(e.Seq, "it follows another entry, but is the first: what was before it is missing")
	case e.Prev != v.last.Hash:
		v.Find(e.Seq, "does not follow entry %d as it is: one of the two was altered and sealed again, or put there", last)
	}
	if e.At.Before(v.last.At) && len(v.Back) < mostFindings {
		v.Back = append(v.Back, e.Seq)
	}
	v.reach(e)
	v.last = e
}

// reach checks the checkpoints that name this entry, or one that is not there.
func (v *Verifier) reach(e Entry) {
	for len(v.signed) > 0 && v.signed[0].Seq <= e.Seq {
		c := v.signed[0]
		v.signed = v.signed[1:]
		if c.Seq == e.Seq && c.Hash == e.Hash {
			v.held = c
			continue
		}
		from := "the first on"
		if v.held.Seq > 0 {
			from = fmt.Sprintf("entry %d on", v.held.Seq+1)
		}
		v.Find(c.Seq, "it is not what the checkpoint signed at %s says: entries from %s were rewritten, and the chain sealed anew", c.At.UTC().Format(time.RFC3339), from)
	}
}

// End says that there are no more entries, and gives whether all of it holds.
func (v *Verifier) End() bool {
	for _, c := range v.signed {
		v.Find(c.Seq, "it is missing at the end: the checkpoint signed at %s names it, and the last entry is %d", c.At.UTC().Format(time.RFC3339), v.last.Seq)
	}
	v.signed = nil
	return v.Wrong == 0
}

// Last is the last entry that was checked.
func (v *Verifier) Last() Entry { return v.last }

// Held is the newest checkpoint that was found to hold; its place is 0 for none.
func (v *Verifier) Held() Checkpoint { return v.held }
