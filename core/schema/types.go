package schema

import (
	"errors"
	"fmt"
	"sort"
	"strconv"
	"strings"

	"github.com/openconfig/goyang/pkg/yang"
)

// typ resolves a type statement down to its built-in type.
func (c *compiler) typ(st *yang.Statement, sc *scope) (*Type, error) {
	if !c.spend(1) {
		return nil, errors.New("the modules describe too many types")
	}
	if _, builtin := bases[Base(st.Argument)]; builtin {
		t := &Type{Base: Base(st.Argument), Name: st.Argument}
		return t, c.restrict(t, st, sc)
	}
	d, err := c.find(st.Argument, sc, func(s *scope) map[string]def { return s.typedefs })
	if err != nil {
		return nil, fmt.Errorf("type %s: %w", st.Argument, err)
	}
	if c.checking[d.stmt] {
		return nil, fmt.Errorf("type %s is defined by itself", st.Argument)
	}
	c.checking[d.stmt] = true
	defer delete(c.checking, d.stmt)
	inner := first(d.stmt, "type")
	if inner == nil {
		return nil, fmt.Errorf("typedef %s has no type", st.Argument)
	}
	under, err := c.typ(inner, d.scope)
	if err != nil {
		return nil, err
	}
	t := *under
	_, t.Name = splitName(st.Argument)
	home := d.scope.unit.module
	if f := forms[home.Name][t.Name]; f != nil {
		t.form, t.formed = f, len(t.Patterns)
	}
	t.instance = t.instance || instanceTypes[home.Name][t.Name]
	t.xpath = t.xpath || xpathTypes[home.Name][t.Name]
	if def := first(d.stmt, "default"); def != nil {
		// A default's prefixes are those of the module it stands in.
		t.DefaultValue, t.HasDefault = def.Argument, true
		t.defaultScope = d.scope.unit.prefixes
	}
	if u := arg(d.stmt, "units"); u != "" {
		t.Units = u
	}
	return &t, c.restrict(&t, st, sc)
}

var bases = map[Base]bool{
	Binary: true, Bits: true, Boolean: true, Decimal64: true, Empty: true, Enumeration: true,
	IdentityRef: true, InstanceIdentifier: true, Int8: true, Int16: true, Int32: true, Int64: true,
	LeafRef: true, String: true, Uint8: true, Uint16: true, Uint32: true, Uint64: true, Union: true,
}

// restrict applies the sub-statements of a type statement to t.
func (c *compiler) restrict(t *Type, st *yang.Statement, sc *scope) error {
	var enums []Enum
	var bits []Bit
	for _, sub := range st.SubStatements() {
		var err error
		switch sub.Keyword {
		case "fraction-digits":
			t.FractionDigits, err = strconv.Atoi(sub.Argument)
		case "path":
			t.Path, t.PathPrefixes = sub.Argument, sc.unit.prefixes
		case "require-instance":
			t.NoRequire = sub.Argument == "false"
		case "length":
			t.Lengths, err = spanSet(sub.Argument, t.Lengths, Span{Number{}, Number{Magnitude: 1<<64 - 1}}, 0)
		case "pattern":
			t.Patterns = append(t.Patterns[:len(t.Patterns):len(t.Patterns)], Pattern{
				Text: sub.Argument, Invert: arg(sub, "modifier") == "invert-match",
				Message: strings.Join(strings.Fields(arg(sub, "error-message")), " "), re: translate(sub.Argument),
			})
		case "base":
			var id *Identity
			if id, err = c.identity(sub.Argument, sc); err == nil {
				t.Bases = append(t.Bases, id)
			}
		case "type":
			var m *Type
			if m, err = c.typ(sub, sc); err == nil {
				t.Members = append(t.Members[:len(t.Members):len(t.Members)], m)
			}
		case "enum":
			if c.enabled(sub, sc) {
				enums, err = addEnum(enums, t.Enums, sub)
			}
		case "bit":
			if c.enabled(sub, sc) {
				bits, err = addBit(bits, t.Bits, sub)
			}
		}
		if err != nil {
			return fmt.Errorf("%s %s: %w", sub.Keyword, sub.Argument, err)
		}
	}
	if enums != nil {
		t.Enums = enums
	}
	if bits != nil {
		sort.SliceStable(bits, func(i, j int) bool { return bits[i].Position < bits[j].Position })
		t.Bits = bits
	}
	// Ranges come last: those of a decimal64 need its fraction-digits.
	if r := first(st, "range"); r != nil {
		whole, ok := integerRange[t.Base]
		if !ok {
			whole = integerRange[Int64]
		}
		var err error
		if t.Ranges, err = spanSet(r.Argument, t.Ranges, whole, t.FractionDigits); err != nil {
			return fmt.Errorf("range %s: %w", r.Argument, err)
		}
	}
	return nil
}

// addEnum appends a value; a derived type keeps the numbers of its base
// (RFC 7950 section 9.6.4).
func addEnum(have, base []Enum, st *yang.Statement) ([]Enum, error) {
	e := Enum{Name: st.Argument, Description: strings.Join(strings.Fields(arg(st, "description")), " ")}
	for _, h := range have {
		if h.Value >= e.Value {
			e.Value = h.Value + 1
		}
	}
	for _, b := range base {
		if b.Name == e.Name {
			e.Value = b.Value
		}
	}
	if v := arg(st, "value"); v != "" {
		n, err := strconv.ParseInt(v, 10, 32)
		if err != nil {
			return nil, err
		}
		e.Value = n
	}
	return append(have, e), nil
}

func addBit(have, base []Bit, st *yang.Statement) ([]Bit, error) {
	b := Bit{Name: st.Argument, Description: strings.Join(strings.Fields(arg(st, "description")), " ")}
	for _, h := range have {
		if h.Position >= b.Position {
			b.Position = h.Position + 1
		}
	}
	for _, o := range base {
		if o.Name == b.Name {
			b.Position = o.Position
		}
	}
	if v := arg(st, "position"); v != "" {
		n, err := strconv.ParseUint(v, 10, 32)
		if err != nil {
			return nil, err
		}
		b.Position = n
	}
	return append(have, b), nil
}

// spanSet reads a range or length argument; min and max are those of the
// restricted type (RFC 7950 section 9.2.4).
func spanSet(text string, outer []Span, whole Span, digits int) ([]Span, error) {
	bounds := whole
	if len(outer) > 0 {
		bounds = Span{outer[0].Lo, outer[len(outer)-1].Hi}
	}
	bound := func(word string) (Number, error) {
		switch word = strings.TrimSpace(word); word {
		case "min":
			return bounds.Lo, nil
		case "max":
			return bounds.Hi, nil
		}
		n, ok := parseInteger(word)
		if digits > 0 {
			n, ok = parseDecimal(word, digits)
		}
		if !ok {
			return Number{}, fmt.Errorf("%q is not a number", word)
		}
		return n, nil
	}
	var out []Span
	for _, part := range strings.Split(text, "|") {
		lo, hi, isSpan := strings.Cut(part, "..")
		if !isSpan {
			hi = lo
		}
		l, err := bound(lo)
		if err != nil {
			return nil, err
		}
		h, err := bound(hi)
		if err != nil {
			return nil, err
		}
		if l.Compare(h) > 0 {
			return nil, fmt.Errorf("%s is upside down", strings.TrimSpace(part))
		}
		out = append(out, Span{l, h})
	}
	return out, nil
}
