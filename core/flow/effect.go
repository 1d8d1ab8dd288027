package flow

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"oakenlatch/core/tree"
)

// Change is what becomes of traffic at one place: a filter, or what works on an
// interface in one direction.
type Change struct {
	Filter    string   `json:"filter,omitempty"` // where it is about a filter by itself
	Interface string   `json:"interface,omitempty"`
	Direction string   `json:"direction,omitempty"` // ingress or egress
	On        []string `json:"on,omitempty"`        // of a filter: where it works by itself, INTERFACE DIRECTION
	Permitted []Moved  `json:"permitted,omitempty"` // newly
	Denied    []Moved  `json:"denied,omitempty"`    // newly
	Answered  []Moved  `json:"answered,omitempty"`  // denied as before, and told to the sender otherwise
	NoEffect  bool     `json:"noEffect,omitempty"`  // proved: every packet is treated as before
	More      bool     `json:"more,omitempty"`      // there are more lines than are given
	DependsOn []string `json:"dependsOn,omitempty"` // facts of which nothing is known
	Trouble   string   `json:"trouble,omitempty"`   // why it could not be worked out
}

// Name names the place of a change: FILTER, or INTERFACE DIRECTION.
func (c Change) Name() string {
	if c.Filter != "" {
		return c.Filter
	}
	return c.Interface + " " + c.Direction
}

// Where is the place of a change in words.
func (c Change) Where() string {
	if c.Filter == "" {
		return "interface " + c.Name()
	}
	return "filter " + c.Filter
}

// Place is where packets meet rules: a filter by itself, or an interface in a
// direction with whatever is attached there.
type Place struct{ Filter, Interface, Direction string }

// Place gives the place of a change.
func (c Change) Place() Place { return Place{c.Filter, c.Interface, c.Direction} }

// Place reads the name of a place; ok is false where a configuration has no such
// filter, and it is no interface with a direction.
func (r Reading) Place(name string) (p Place, ok bool) {
	if _, has := r.Filter(name); has {
		return Place{Filter: name}, true
	}
	i := strings.LastIndexByte(name, ' ')
	if i < 0 || name[i+1:] != "ingress" && name[i+1:] != "egress" {
		return Place{Filter: name}, false
	}
	return Place{Interface: strings.TrimSpace(name[:i]), Direction: name[i+1:]}, true
}

// Rules gives the rules of a place.
func (r Reading) Rules(p Place) Filter {
	if p.Filter != "" {
		f, _ := r.Filter(p.Filter)
		return f
	}
	return r.At(p.Interface, p.Direction)
}

// Has reports whether a filter is one of those of a place.
func (r Reading) Has(p Place, filter string) bool {
	return p.Filter == filter || p.Filter == "" && slices.Contains(r.attached(p.Interface, p.Direction), filter)
}

// Places gives where a change makes a difference. A filter that works with others
// alone, before and after, decides nothing by itself: it is told of where it
// works.
func Places(was, is Reading, effects []Change) (out []Change) {
	for _, c := range effects {
		if c.Filter == "" || !was.together(c.Filter) && !is.together(c.Filter) || len(c.On) > 0 {
			out = append(out, c)
		}
	}
	return out
}

// together reports whether a filter is attached, and nowhere by itself.
func (r Reading) together(filter string) (yes bool) {
	for _, at := range r.Attached {
		if slices.Equal(at.Filters, []string{filter}) {
			return false
		}
		yes = yes || slices.Contains(at.Filters, filter)
	}
	return yes
}

// Moved is a part of the packets that are treated otherwise.
type Moved struct {
	Packets string `json:"packets"` // in the words of an expectation
	Example string `json:"example"`
	Before  Ruling `json:"before"` // of the example
	After   Ruling `json:"after"`
}

// Ruling is which rule decides a packet, and how; without a rule none fits, and
// it is dropped.
type Ruling struct {
	Rule   string `json:"rule,omitempty"`
	Path   string `json:"path,omitempty"`
	Action string `json:"action"`
}

// String is for people.
func (r Ruling) String() string {
	switch r.Rule {
	case "":
		return "no rule fits: " + r.Action
	case NoFilter:
		return "no filter works there: " + r.Action
	}
	return fmt.Sprintf("%s by rule %s", r.Action, r.Rule)
}

// Ruling tells which rule decides a packet, and how.
func (f Filter) Ruling(p Packet) Ruling { return f.ruling(f.Decides(p)) }

func (f Filter) ruling(i int) Ruling {
	if i < 0 {
		return Ruling{Action: Drop.String()}
	}
	return Ruling{f.Rules[i].Name, f.Rules[i].Path, f.Rules[i].Action.String()}
}

// shownLines is how many lines of each kind a change is told in.
const shownLines = 40

// Changes works out what becomes of traffic where one configuration takes the
// place of another: for each filter that was touched, and for each interface and
// direction on which other rules work.
func Changes(before, after *tree.Node) []Change {
	a, b := before.Known("acls"), after.Known("acls")
	if a == b || a != nil && b != nil && tree.Same(a, b) {
		return nil
	}
	was, is := Read(before), Read(after)
	var out []Change
	for _, name := range names(was, is) {
		x, hadIt := was.Filter(name)
		y, hasIt := is.Filter(name)
		if slices.EqualFunc(
			x.Rules, y.Rules, func(p, q Rule) bool { return p.same(&q) && p.Name == q.Name },
		) && hadIt == hasIt {
			continue
		}
		c := Differ(x, y)
		c.Filter = name
		out = append(out, c)
	}
	return attachments(was, is, out)
}

// names gives the filters of both, those of the first in their order first.
func names(was, is Reading) (out []string) {
	for _, f := range append(slices.Clone(was.Filters), is.Filters...) {
		if !slices.Contains(out, f.Name) {
			out = append(out, f.Name)
		}
	}
	return out
}

// attachments tells of interfaces on which other rules work: a place where none
// works lets everything pass. Where one filter works by itself, and did before,
// what is told of it holds there.
func attachments(was, is Reading, out []Change) []Change {
	done := map[string]bool{}
	for _, at := range append(slices.Clone(was.Attached), is.Attached...) {
		key := at.Interface + " " + at.Direction
		if done[key] {
			continue
		}
		done[key] = true
		x, y := was.At(at.Interface, at.Direction), is.At(at.Interface, at.Direction)
		if slices.EqualFunc(x.Rules, y.Rules, func(p, q Rule) bool { return p.same(&q) && p.Name == q.Name }) {
			continue
		}
		if i := slices.IndexFunc(
			out, func(c Change) bool { return c.Filter != "" && was.alone(at, c.Filter) && is.alone(at, c.Filter) },
		); i >= 0 {
			out[i].On = append(out[i].On, key)
			continue
		}
		c := Differ(x, y)
		c.Interface, c.Direction = at.Interface, at.Direction
		out = append(out, c)
	}
	return out
}

// alone reports whether one filter works by itself at a place.
func (r Reading) alone(at Attachment, filter string) bool {
	return slices.ContainsFunc(r.Attached, func(a Attachment) bool {
		return a.Interface == at.Interface && a.Direction == at.Direction && slices.Equal(a.Filters, []string{filter})
	})
}

// NoFilter is the name of the rule that lets everything pass where no filter is.
const NoFilter = "(no filter)"

// At gives the rules that work on an interface in a direction: where none is
// attached, everything passes.
func (r Reading) At(name, direction string) Filter {
	if names := r.attached(name, direction); names == nil {
		return Filter{Name: name + " " + direction, Rules: []Rule{{Name: NoFilter, Action: Accept}}}
	}
	i := slices.IndexFunc(
		r.Attached, func(a Attachment) bool { return a.Interface == name && a.Direction == direction },
	)
	return r.Chain(r.Attached[i])
}

// attached names the filters that work on an interface in a direction.
func (r Reading) attached(name, direction string) []string {
	i := slices.IndexFunc(
		r.Attached, func(a Attachment) bool { return a.Interface == name && a.Direction == direction },
	)
	if i < 0 {
		return nil
	}
	return r.Attached[i].Filters
}

// Differ compares two filters.
func Differ(x, y Filter) (c Change) {
	s := NewSpace(Limits{})
	e := s.Compare(x.Rules, y.Rules)
	if err := s.Err(); err != nil {
		c.Trouble = tooLarge(err)
		return c
	}
	c.tell(x, y, e)
	if err := s.Err(); err != nil { // the lines cut what the sets are made of
		return Change{Trouble: tooLarge(err)}
	}
	return c
}

// tell puts sets in lines, each with an example and what decides it.
func (c *Change) tell(x, y Filter, e Effect) {
	c.NoEffect = e.None()
	kinds := []struct {
		set   Set
		into  *[]Moved
		lines []Line
	}{{e.Permitted, &c.Permitted, nil}, {e.Denied, &c.Denied, nil}, {e.Answered, &c.Answered, nil}}
	packets := 0
	for i, k := range kinds {
		lines, all := k.set.Lines(shownLines)
		kinds[i].lines = lines
		packets += len(lines)
		c.More = c.More || !all
		for _, f := range k.set.Facts() {
			if !slices.Contains(c.DependsOn, f) {
				c.DependsOn = append(c.DependsOn, f)
			}
		}
	}
	before, after := x.decider(packets), y.decider(packets)
	for _, k := range kinds {
		for _, l := range k.lines {
			p := l.Example()
			*k.into = append(*k.into, Moved{l.String(), p.String(), x.ruling(before(p)), y.ruling(after(p))})
		}
	}
}

func tooLarge(err error) string {
	if errors.Is(err, ErrTooLarge) {
		return "it is too large to be worked out exactly here; nothing is said of it"
	}
	return err.Error()
}
