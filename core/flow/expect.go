package flow

import (
	"encoding/hex"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Expectation is what traffic a change is meant to permit or deny:
//
//	permit tcp from 198.51.100.0/24 to 192.0.2.13 port 830
//	deny any from 203.0.113.0/24
//
// An action (permit, deny), protocols (any, or names and numbers with commas),
// and clauses in any order: from, to (prefixes, addresses, or ranges of them),
// from-port, port (numbers and ranges), type, code (of ICMP). What is left out
// may be anything.
type Expectation struct {
	Permit bool
	Text   string

	protocols []uint64
	nets      map[Field][]netRange
	numbers   map[Field][]span
}

type netRange struct {
	fam Family
	span
}

// SyntaxError is a line that cannot be read: At is the byte at which it goes
// wrong.
type SyntaxError struct {
	Line string
	At   int
	Msg  string
}

func (e *SyntaxError) Error() string { return fmt.Sprintf("column %d: %s", e.Column(), e.Msg) }

// Column is the character at which it goes wrong, from 1.
func (e *SyntaxError) Column() int {
	return utf8.RuneCountInString(e.Line[:min(e.At, len(e.Line))]) + 1
}

// MaxExpectation is the most bytes of an expectation.
const MaxExpectation = 2000

// ParseExpectation reads one.
func ParseExpectation(line string) (Expectation, error) {
	e := Expectation{
		Text: strings.Join(strings.Fields(line), " "), nets: map[Field][]netRange{}, numbers: map[Field][]span{},
	}
	p := &phrase{line: line}
	if len(line) > MaxExpectation {
		return e, p.wrong(0, "it has %d bytes, at most %d are read", len(line), MaxExpectation)
	}
	at, word := p.word()
	switch word {
	case "permit":
		e.Permit = true
	case "deny":
	case "":
		return e, p.wrong(
			at, "it begins with permit or deny, as in: permit tcp from 198.51.100.0/24 to 192.0.2.13 port 830",
		)
	default:
		return e, p.wrong(at, "%q: an expectation begins with permit or deny", word)
	}
	at, word = p.word()
	if word == "" {
		return e, p.wrong(at, "which protocols? any, tcp, udp, icmp, icmpv6, a number, or several with commas")
	}
	if word != "any" {
		if err := p.each(at, word, func(at int, text string) error {
			n, err := protocolNumber(text)
			if err != nil {
				return p.wrong(at, "%v", err)
			}
			e.protocols = append(e.protocols, n)
			return nil
		}); err != nil {
			return e, err
		}
	}
	return e, e.clauses(p)
}

func (e *Expectation) clauses(p *phrase) error {
	for {
		at, word := p.word()
		if word == "" {
			return e.sensible(p)
		}
		var field Field
		found := false
		for f, name := range clauses {
			if name == word {
				field, found = f, true
			}
		}
		if !found {
			return p.wrong(at, "%q: from, from-port, to, port, type or code is expected here", word)
		}
		if e.nets[field] != nil || e.numbers[field] != nil {
			return p.wrong(at, "%s stands twice", word)
		}
		vat, values := p.word()
		if values == "" {
			return p.wrong(vat, "%s what?", word)
		}
		if field == Source || field == Destination {
			if values == "any" {
				continue
			}
			if err := p.each(vat, values, func(at int, text string) error {
				r, err := readNet(text)
				if err != nil {
					return p.wrong(at, "%v", err)
				}
				e.nets[field] = append(e.nets[field], r)
				return nil
			}); err != nil {
				return err
			}
			continue
		}
		most := last(field, IPv4).lo
		if err := p.each(vat, values, func(at int, text string) error {
			sp, err := readRange(text, most)
			if err != nil {
				return p.wrong(at, "%v", err)
			}
			e.numbers[field] = join(e.numbers[field], []span{sp})
			return nil
		}); err != nil {
			return err
		}
	}
}

// sensible refuses what no packet can be.
func (e *Expectation) sensible(p *phrase) error {
	_, ports := e.numbers[DestinationPort]
	_, from := e.numbers[SourcePort]
	if (ports || from) && !e.about(TCP, UDP, 132) {
		return p.wrong(len(p.line), "ports are those of tcp, udp and sctp: name one of them")
	}
	_, kind := e.numbers[ICMPType]
	_, code := e.numbers[ICMPCode]
	if (kind || code) && !e.about(ICMP, ICMPv6) {
		return p.wrong(len(p.line), "types and codes are those of icmp and icmpv6: name one of them")
	}
	if len(e.matches()) == 0 {
		return p.wrong(len(p.line), "no packet is from an address of one family to one of the other")
	}
	return nil
}

// about reports whether only protocols of a few are named.
func (e *Expectation) about(some ...uint64) bool {
	return len(e.protocols) > 0 && !slices.ContainsFunc(
		e.protocols, func(n uint64) bool { return !slices.Contains(some, n) },
	)
}

// matches gives what packets it is about, family by family.
func (e *Expectation) matches() (out []Match) {
	for fam := range families {
		m := Match{}.In(fam)
		possible := true
		for _, f := range []Field{Source, Destination} {
			if e.nets[f] == nil {
				continue
			}
			var spans []span
			for _, n := range e.nets[f] {
				if n.fam == fam {
					spans = join(spans, []span{n.span})
				}
			}
			possible = possible && len(spans) > 0
			m = m.and(cond{field: f, fam: fam, spans: spans})
		}
		if !possible {
			continue
		}
		if len(e.protocols) > 0 {
			var spans []span
			for _, n := range e.protocols {
				if n == ICMP && fam == IPv6 {
					n = ICMPv6 // icmp is that of the family
				}
				spans = join(spans, []span{{num(n), num(n)}})
			}
			m = m.and(cond{field: Protocol, every: true, spans: spans})
		}
		for f, spans := range e.numbers {
			m = m.and(cond{field: f, every: true, spans: spans})
		}
		out = append(out, m)
	}
	return out
}

// Set gives the packets that it is about.
func (s *Space) Set(e Expectation) Set {
	out := s.Nothing()
	for _, m := range e.matches() {
		out = out.Union(s.Matching(m))
	}
	return out
}

// phrase reads a line word by word.
type phrase struct {
	line string
	at   int
}

func (p *phrase) wrong(at int, format string, args ...any) error {
	return &SyntaxError{p.line, at, fmt.Sprintf(format, args...)}
}

func (p *phrase) word() (at int, word string) {
	for p.at < len(p.line) && (p.line[p.at] == ' ' || p.line[p.at] == '\t') {
		p.at++
	}
	at = p.at
	for p.at < len(p.line) && p.line[p.at] != ' ' && p.line[p.at] != '\t' {
		p.at++
	}
	return at, p.line[at:p.at]
}

// each reads a list with commas.
func (p *phrase) each(at int, list string, use func(at int, text string) error) error {
	for _, text := range strings.Split(list, ",") {
		if text == "" {
			return p.wrong(at, "something is missing beside a comma")
		}
		if err := use(at, text); err != nil {
			return err
		}
		at += len(text) + 1
	}
	return nil
}

func readNet(text string) (netRange, error) {
	if lo, hi, ok := strings.Cut(text, "-"); ok {
		a, aerr := netip.ParseAddr(lo)
		b, berr := netip.ParseAddr(hi)
		if aerr != nil || berr != nil || a.Is4() != b.Is4() || b.Less(a) {
			return netRange{}, fmt.Errorf("%q is no range of addresses", text)
		}
		return netRange{familyOf(a), span{addressValue(a), addressValue(b)}}, nil
	}
	if p, err := netip.ParsePrefix(text); err == nil {
		if p.Masked() != p {
			return netRange{}, fmt.Errorf(
				"%s has bits behind its length: is %s meant, or %s?", text, p.Masked(), p.Addr(),
			)
		}
		return netRange{familyOf(p.Addr()), prefixSpan(p)}, nil
	}
	a, err := netip.ParseAddr(text)
	if err != nil || a.Zone() != "" {
		return netRange{}, fmt.Errorf("%q is no prefix, address or range of them: write it like 198.51.100.0/24", text)
	}
	v := addressValue(a)
	return netRange{familyOf(a), span{v, v}}, nil
}

func familyOf(a netip.Addr) Family {
	if a.Is4() {
		return IPv4
	}
	return IPv6
}

func readRange(text string, most uint64) (span, error) {
	lo, hi, ok := strings.Cut(text, "-")
	if !ok {
		hi = lo
	}
	a, aerr := strconv.ParseUint(lo, 10, 64)
	b, berr := strconv.ParseUint(hi, 10, 64)
	if aerr != nil || berr != nil || a > b || b > most {
		return span{}, fmt.Errorf("%q is no number or range up to %d", text, most)
	}
	return span{num(a), num(b)}, nil
}

// Answer is what became of an expectation.
type Answer struct {
	Already   string   `json:"already"`             // wholly, partly or not: whether it is so before the change
	Part      []string `json:"part,omitempty"`      // where partly: what of it is
	Delivered bool     `json:"delivered"`           // wholly so after the change
	Missing   []Lack   `json:"missing,omitempty"`   // what is not
	DependsOn []string `json:"dependsOn,omitempty"` // facts of which nothing is known that the answer rests on
	Trouble   string   `json:"trouble,omitempty"`   // why it could not be worked out
}

// Lack is a part of an expectation that is not delivered, and what stands in its
// way.
type Lack struct {
	Packets string `json:"packets"`
	Example string `json:"example"`
	Filter  string `json:"filter"` // that decides it
	By      Ruling `json:"by"`
}

// mostLacks is how many parts are told.
const mostLacks = 20

// FilterChain is filters that packets go through one after another, before a change and
// after it.
type FilterChain struct{ Before, After []Filter }

// Ask tells whether an expectation is met on each of some ways. What is to be
// permitted must be permitted by all filters of a way, and what is to be denied by
// one of them.
func Ask(e Expectation, ways ...FilterChain) (a Answer) {
	s := NewSpace(Limits{})
	about := s.Set(e)
	was, missing := about, s.Nothing()
	for _, w := range ways {
		before, after := s.through(about, w.Before), s.through(about, w.After)
		if !e.Permit {
			before, after = about.Minus(before), about.Minus(after)
		}
		was, missing = was.Both(before), missing.Union(about.Minus(after))
	}
	switch {
	case about.Minus(was).Empty():
		a.Already = "wholly"
	case was.Empty():
		a.Already = "not"
	default:
		a.Already = "partly"
		lines, _ := was.Lines(mostLacks)
		for _, l := range lines {
			a.Part = append(a.Part, l.String())
		}
	}
	a.Delivered = missing.Empty()
	lines, _ := missing.Lines(mostLacks)
	for _, l := range lines {
		p := l.Example()
		lack := Lack{Packets: l.String(), Example: p.String()}
		for _, w := range ways {
			if w.decides(p, &lack) != e.Permit {
				break
			}
		}
		a.Missing = append(a.Missing, lack)
	}
	a.DependsOn = missing.Facts()
	if err := s.Err(); err != nil {
		return Answer{Trouble: tooLarge(err)}
	}
	return a
}

// decides tells which filter of a way decides a packet after the change: the
// first that stands in its way, or the last that lets it pass.
func (w FilterChain) decides(p Packet, lack *Lack) (permitted bool) {
	for _, f := range w.After {
		lack.Filter, lack.By = f.Name, f.Ruling(p)
		if act, _ := f.Does(p); !act.Permits() {
			return false
		}
	}
	return true
}

// through gives the packets of a set that all filters permit.
func (s *Space) through(in Set, filters []Filter) Set {
	for _, f := range filters {
		in = s.PermittedWithin(in, f.Rules)
	}
	return in
}

// Beside gives what of a change at one place no expectation covers: newly
// permitted though none permits it, or newly denied though none denies it. The
// digest names those packets, however many lines they are told in.
func Beside(before, after Filter, expected []Expectation) (c Change, digest string) {
	s := NewSpace(Limits{})
	e := s.Compare(before.Rules, after.Rules)
	permitted, denied := e.Permitted, e.Denied
	for _, x := range expected {
		if x.Permit {
			permitted = permitted.Minus(s.Set(x))
		} else {
			denied = denied.Minus(s.Set(x))
		}
	}
	if err := s.Err(); err != nil {
		return Change{Trouble: tooLarge(err)}, ""
	}
	c.tell(before, after, Effect{permitted, denied, s.Nothing()})
	if err := s.Err(); err != nil {
		return Change{Trouble: tooLarge(err)}, ""
	}
	sum := Digest(permitted, denied)
	return c, hex.EncodeToString(sum[:8])
}
