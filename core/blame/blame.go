// Package blame tells which of a row of configurations last set each line, and
// what became of a place over time. It is fed the differences from each
// configuration to the next, in order, and keeps what they say by place: it
// grows with what was changed, not with what there is.
package blame

import (
	"cmp"
	"slices"
	"strings"

	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/tree"
)

// Event is what one step did at one place.
type Event struct {
	Step int64
	Path tree.Path
	Kind diff.Kind // added, removed, changed, moved
	Old  *tree.Node
	New  *tree.Node
}

// Trail is what a row of differences did, place by place.
type Trail struct {
	at     map[string][]Event // by full path, oldest first
	events int
}

// New gives a trail in which nothing happened yet.
func New() *Trail { return &Trail{at: map[string][]Event{}} }

// Events counts what the trail holds.
func (t *Trail) Events() int { return t.events }

// Add appends what a step did. Steps are given in order, with growing numbers.
func (t *Trail) Add(step int64, d *diff.Difference) {
	d.Walk(func(c *diff.Change) {
		path := c.Path()
		key := path.Full()
		t.at[key] = append(t.at[key], Event{step, path, c.Kind, c.Old, c.New})
		t.events++
	})
}

// sets reports whether an event put something where it is.
func sets(e Event) bool { return e.Kind != diff.Removed }

// last gives the newest event at a place that a test takes.
func (t *Trail) last(key string, takes func(Event) bool) (Event, bool) {
	list := t.at[key]
	for i := len(list) - 1; i >= 0; i-- {
		if takes(list[i]) {
			return list[i], true
		}
	}
	return Event{}, false
}

// Line is a line of an outline with the step that last set it; 0 where it is
// as it was in the first configuration. Leads is set for a line that says
// nothing itself and only leads to others, such as a container's: it has none.
type Line struct {
	codec.OutlineLine
	Step  int64
	Leads bool
}

// Lines gives the outline of what stands below a path of the newest
// configuration, each line with the step that last set it. n is what stands at
// the path: the whole for none.
func (t *Trail) Lines(n *tree.Node, at tree.Path) []Line {
	outline := codec.Outline(n, at)
	out := make([]Line, 0, len(outline))
	// whole holds for each length of path the last step that put all of it there.
	whole := []int64{t.whole(nil)}
	for i := range at {
		whole = append(whole, max(whole[i], t.whole(at[:i+1])))
	}
	for _, l := range outline {
		depth := len(l.Path)
		if depth < len(whole) {
			whole = whole[:depth]
		}
		key := l.Path.Full()
		step, leads := whole[depth-1], false
		if e, ok := t.last(key, sets); ok {
			step = max(step, e.Step)
		}
		if s := l.Node.Schema(); s != nil && !s.IsLeaf() && l.Path[depth-1].Keys == nil && !s.Presence {
			leads = true
		}
		inherited := whole[depth-1]
		if e, ok := t.last(key, func(e Event) bool { return e.Kind == diff.Added }); ok {
			inherited = max(inherited, e.Step)
		}
		whole = append(whole, inherited)
		out = append(out, Line{l, step, leads})
	}
	return out
}

// whole gives the last step that added what a path leads to as a whole.
func (t *Trail) whole(p tree.Path) int64 {
	e, _ := t.last(p.Full(), func(e Event) bool { return e.Kind == diff.Added })
	return e.Step
}

// Set gives the step that last set what a path leads to, or something below it;
// 0 where it is as it was in the first configuration.
func (t *Trail) Set(p tree.Path) (step int64) {
	for i := range p {
		step = max(step, t.whole(p[:i+1]))
	}
	own := p.Full()
	for key, list := range t.at {
		if key == own || strings.HasPrefix(key, own+"/") {
			step = max(step, list[len(list)-1].Step)
		}
	}
	return step
}

// Takes tells how many places of each step a difference from the newest
// configuration would take away: what these steps set and it changes or
// removes, and what they removed and it brings back. Step 0 is what was so in
// the first configuration.
func (t *Trail) Takes(d *diff.Difference) map[int64]int {
	out := map[int64]int{}
	d.Walk(func(c *diff.Change) {
		path := c.Path()
		if c.Kind == diff.Added {
			out[t.removed(path)]++
			return
		}
		step := int64(0)
		for i := range path {
			step = max(step, t.whole(path[:i+1]))
		}
		if e, ok := t.last(path.Full(), sets); ok {
			step = max(step, e.Step)
		}
		if c.Kind != diff.Removed || c.Old.Len() == 0 {
			out[step]++
			return
		}
		for _, l := range t.Lines(c.Old, path) {
			if !l.Leads {
				out[l.Step]++
			}
		}
	})
	return out
}

// removed gives the last step that removed what a path leads to, by itself or
// with what it stood in.
func (t *Trail) removed(p tree.Path) (step int64) {
	for i := range p {
		if e, ok := t.last(p[:i+1].Full(), func(e Event) bool { return e.Kind == diff.Removed }); ok {
			step = max(step, e.Step)
		}
	}
	return step
}

// Life gives what happened at a path and below it, oldest first, also where it
// came and went with what it stands in.
func (t *Trail) Life(p tree.Path) []Event {
	var out []Event
	own := p.Full()
	for key, list := range t.at {
		if len(p) == 0 || key == own || strings.HasPrefix(key, own+"/") || p[len(p)-1].Keys == nil &&
			strings.HasPrefix(key, own+"=") {
			out = append(out, list...)
		}
	}
	for i := 1; i < len(p); i++ {
		for _, e := range t.at[p[:i].Full()] {
			old, now := below(e.Old, p[i:]), below(e.New, p[i:])
			if tree.Same(old, now) || e.Kind != diff.Added && e.Kind != diff.Removed {
				continue
			}
			out = append(out, Event{e.Step, p, e.Kind, old, now})
		}
	}
	slices.SortStableFunc(out, func(a, b Event) int {
		return cmp.Or(cmp.Compare(a.Step, b.Step), strings.Compare(a.Path.Full(), b.Path.Full()))
	})
	return out
}

func below(n *tree.Node, p tree.Path) *tree.Node {
	if n == nil {
		return nil
	}
	return n.At(p)
}

// Gone lists what was removed at or below a path and is not in the newest
// configuration, newest first. What went with something it stood in is not
// listed by itself.
func (t *Trail) Gone(now *tree.Node, under tree.Path) []Event {
	var out []Event
	own := under.Full()
	for key, list := range t.at {
		e := list[len(list)-1]
		if e.Kind != diff.Removed || now.At(e.Path) != nil || t.again(e) {
			continue
		}
		if len(under) == 0 || key == own || strings.HasPrefix(key, own+"/") || strings.HasPrefix(key, own+"=") {
			out = append(out, e)
		}
	}
	slices.SortFunc(out, func(a, b Event) int {
		return cmp.Or(cmp.Compare(b.Step, a.Step), strings.Compare(a.Path.Full(), b.Path.Full()))
	})
	return out
}

// again reports whether something that was removed came back later with what it
// stands in, and so went with that.
func (t *Trail) again(e Event) bool {
	for i := 1; i < len(e.Path); i++ {
		for _, up := range t.at[e.Path[:i].Full()] {
			if up.Step > e.Step && up.Kind == diff.Added && below(up.New, e.Path[i:]) != nil {
				return true
			}
		}
	}
	return false
}
