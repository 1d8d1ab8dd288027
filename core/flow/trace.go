package flow

import (
	"errors"
	"slices"
)

// Traced is what filters do with packets, one filter after another.
type Traced struct {
	Packets string      `json:"packets"`
	Answer  string      `json:"answer" jsonschema:"enum=permitted,enum=denied,enum=partly"`
	Parts   []TracePart `json:"parts"`
	More    bool        `json:"more,omitempty"` // there are more parts than are given
	Trouble string      `json:"trouble,omitempty"`
}

// TracePart is packets that fare alike.
type TracePart struct {
	Packets   string      `json:"packets"`
	Permitted bool        `json:"permitted"`
	Example   string      `json:"example"`
	Way       []TraceStep `json:"way"` // of the example
}

// TraceStep is what one filter does with a packet.
type TraceStep struct {
	Filter string   `json:"filter"`
	By     Ruling   `json:"by"`
	Not    []Missed `json:"not,omitempty"` // rules before it, the nearest first, and why they do not fit
}

// Missed is a rule that does not fit a packet.
type Missed struct {
	Rule string `json:"rule"`
	Why  string `json:"why"`
}

// What is told of a trace at most: parts of each kind, and rules that do not fit.
const (
	tracedParts = 12
	mostMissed  = 8
)

// ParsePackets reads what packets are asked about: an expectation without its
// action.
func ParsePackets(line string) (Expectation, error) {
	const action = "permit "
	e, err := ParseExpectation(action + line)
	e.Text = e.Text[min(len(action), len(e.Text)):]
	if bad, ok := errors.AsType[*SyntaxError](err); ok {
		return e, &SyntaxError{Line: line, At: max(0, bad.At-len(action)), Msg: bad.Msg}
	}
	return e, err
}

// Trace tells what becomes of packets that go through filters one after another.
func Trace(e Expectation, way []Filter) Traced {
	s := NewSpace(Limits{})
	about := s.Set(e)
	through := s.through(about, way)
	out := Traced{Packets: e.Text, Answer: "partly", Parts: []TracePart{}}
	rest := about.Minus(through)
	switch {
	case rest.Empty():
		out.Answer = "permitted"
	case through.Empty():
		out.Answer = "denied"
	}
	deciders := make([]decider, len(way))
	for i, f := range way {
		deciders[i] = f.decider(2 * tracedParts)
	}
	for _, k := range []struct {
		set       Set
		permitted bool
	}{{through, true}, {rest, false}} {
		lines, all := k.set.Lines(tracedParts)
		out.More = out.More || !all
		for _, l := range lines {
			p := l.Example()
			part := TracePart{Packets: l.String(), Permitted: k.permitted, Example: p.String()}
			for i, f := range way {
				at := deciders[i](p)
				part.Way = append(part.Way, f.step(p, at))
				if at < 0 || !f.Rules[at].Action.Permits() {
					break
				}
			}
			out.Parts = append(out.Parts, part)
		}
	}
	if s.Err() != nil {
		return Traced{Packets: out.Packets, Parts: []TracePart{}, Trouble: tooLarge(s.Err())}
	}
	return out
}

// step tells of the rule at a place that it decides a packet, and why those before
// it do not.
func (f Filter) step(p Packet, at int) TraceStep {
	step := TraceStep{Filter: f.Name, By: f.ruling(at)}
	if at < 0 {
		at = len(f.Rules)
	}
	for i := max(0, at-mostMissed); i < at; i++ {
		step.Not = append(step.Not, Missed{Rule: f.Rules[i].Name, Why: f.Rules[i].whyNot(p)})
	}
	slices.Reverse(step.Not)
	return step
}

// decider gives the place of the rule that decides a packet, -1 where none fits.
type decider func(Packet) int

// What makes an index worth its making.
const (
	indexedRules   = 500
	indexedPackets = 16
)

// decider prepares for so many packets.
func (f Filter) decider(packets int) decider {
	if packets < indexedPackets || len(f.Rules) < indexedRules {
		return f.Decides
	}
	x := NewIndex(f.Rules)
	return func(p Packet) int { return x.Find(f.Rules, p) }
}
