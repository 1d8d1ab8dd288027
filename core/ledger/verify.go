package ledger

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"golang.org/x/mod/sumdb/tlog"
)

// Finding is a place where a ledger does not hold.
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

// Word is what somebody signed of the ledger when it had so many entries: the hash its chain ended
// in, or the root of its tree.
type Word struct {
	Size  int64
	At    time.Time // when; zero is not known
	By    string    // who signed it, as it is told
	Hash  string    // "" where the root is given
	Root  tlog.Hash
	Whose []string // who outside vouches by it; none where it is the service's own
}

// WordOf gives a checkpoint as a word; the witnesses that cosigned it are outside.
func WordOf(c Checkpoint, at time.Time) Word {
	w := Word{Size: c.Size, At: at, By: c.Key, Root: c.Root}
	for _, one := range c.Witnesses {
		w.Whose = append(w.Whose, Name(one.Key))
		if one.At.After(w.At) {
			w.At = one.At
		}
	}
	return w
}

// WordOfChained gives a checkpoint of an earlier release as a word.
func WordOfChained(c Chained) Word { return Word{Size: c.Seq, At: c.At, By: c.Key, Hash: c.Hash} }

// said names a word in a finding.
func (w Word) said() string {
	who := ""
	if len(w.Whose) > 0 {
		who = fmt.Sprintf(", vouched for by %s", w.Whose[0])
	}
	if w.At.IsZero() {
		return "the checkpoint of " + fmt.Sprint(w.Size) + " entries" + who
	}
	return "the checkpoint signed at " + w.At.UTC().Format(time.RFC3339) + who
}

// Verifier checks a ledger entry by entry, and against words that were signed when they were so.
type Verifier struct {
	Entries  int64     // that were checked
	Findings []Finding // at most a hundred; Wrong counts all
	Wrong    int64
	Notes    []string // what limits what was checked
	Back     []int64  // entries before which the clock had been set back, at most a hundred

	last    Entry
	tree    Edge
	signed  []Word // still ahead, by size
	held    Word   // the newest that held
	outside Word   // the newest that held by which somebody outside vouches
}

// NewVerifier gives a verifier that also checks words, whose signatures the caller has checked.
func NewVerifier(signed []Word) *Verifier {
	v := &Verifier{signed: slices.DeleteFunc(slices.Clone(signed), func(w Word) bool { return w.Size < 1 })}
	slices.SortStableFunc(v.signed, func(a, b Word) int { return cmp.Compare(a.Size, b.Size) })
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
func (v *Verifier) Next(e Entry) { v.NextSummed(e, Sum(e)) }

// NextSummed is Next for an entry whose sums were worked out already.
func (v *Verifier) NextSummed(e Entry, is Sums) {
	v.Entries++
	v.tree.Add(is.Leaf)
	if e.Hash != is.Hash {
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
		v.Find(
			e.Seq, "does not follow entry %d as it is: one of the two was altered and sealed again, or put there", last,
		)
	}
	if e.At.Before(v.last.At) && len(v.Back) < mostFindings {
		v.Back = append(v.Back, e.Seq)
	}
	v.reach(e)
	v.last = e
}

// reach checks the words that name this entry, or one that is not there.
func (v *Verifier) reach(e Entry) {
	for len(v.signed) > 0 && v.signed[0].Size <= e.Seq {
		w := v.signed[0]
		v.signed = v.signed[1:]
		holds := w.Size == e.Seq
		if w.Hash != "" {
			holds = holds && w.Hash == e.Hash
		} else {
			holds = holds && v.tree.Size() == w.Size && v.tree.Root() == w.Root
		}
		if holds {
			v.held = w
			if len(w.Whose) > 0 {
				v.outside = w
			}
			continue
		}
		if w.Hash == "" && v.Wrong > 0 {
			continue // the root is of all entries: what was found before is why
		}
		from := "the first on"
		if v.held.Size > 0 {
			from = fmt.Sprintf("entry %d on", v.held.Size+1)
		}
		v.Find(
			w.Size, "it is not what %s says: entries from %s were rewritten, and the chain sealed again", w.said(),
			from,
		)
	}
}

// End says that there are no more entries, and gives whether all of it holds.
func (v *Verifier) End() bool {
	for _, w := range v.signed {
		v.Find(w.Size, "it is missing at the end: %s names it, and the last entry is %d", w.said(), v.last.Seq)
	}
	v.signed = nil
	return v.Wrong == 0
}

// Last is the last entry that was checked.
func (v *Verifier) Last() Entry { return v.last }

// Root is the root of the tree of all that was checked.
func (v *Verifier) Root() tlog.Hash { return v.tree.Root() }

// Held is the newest word that was found to hold; its size is 0 for none.
func (v *Verifier) Held() Word { return v.held }

// Outside is the newest that was found to hold by which somebody outside vouches.
func (v *Verifier) Outside() Word { return v.outside }
