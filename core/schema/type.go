package schema

import (
	"regexp"
	"regexp/syntax"
	"strings"
)

// Base is a built-in type (RFC 7950 section 9).
type Base string

// The built-in types.
const (
	Binary             Base = "binary"
	Bits               Base = "bits"
	Boolean            Base = "boolean"
	Decimal64          Base = "decimal64"
	Empty              Base = "empty"
	Enumeration        Base = "enumeration"
	IdentityRef        Base = "identityref"
	InstanceIdentifier Base = "instance-identifier"
	Int8               Base = "int8"
	Int16              Base = "int16"
	Int32              Base = "int32"
	Int64              Base = "int64"
	LeafRef            Base = "leafref"
	String             Base = "string"
	Uint8              Base = "uint8"
	Uint16             Base = "uint16"
	Uint32             Base = "uint32"
	Uint64             Base = "uint64"
	Union              Base = "union"
)

// integerRange gives the bounds of the integer types.
var integerRange = map[Base]Span{
	Int8: {num(-1 << 7), num(1<<7 - 1)}, Int16: {num(-1 << 15), num(1<<15 - 1)},
	Int32: {num(-1 << 31), num(1<<31 - 1)}, Int64: {num(-1 << 63), num(1<<63 - 1)},
	Uint8: {num(0), num(1<<8 - 1)}, Uint16: {num(0), num(1<<16 - 1)},
	Uint32: {num(0), num(1<<32 - 1)}, Uint64: {num(0), Number{Magnitude: 1<<64 - 1}},
}

// Type is a resolved type: all restrictions of its chain of typedefs are in it.
type Type struct {
	Base    Base
	Name    string // as written where it is used
	Ranges  []Span // numbers; decimal64 in units of its last digit. Each set must match.
	Lengths []Span
	// Every pattern of the chain must match.
	Patterns       []Pattern
	Enums          []Enum
	Bits           []Bit
	FractionDigits int
	Members        []*Type // a union's, in order
	Bases          []*Identity
	Path           string // a leafref's
	PathPrefixes   map[string]*Module
	Target         *Node // what a leafref points at, nil if that is not known
	NoRequire      bool  // require-instance false
	DefaultValue   string
	HasDefault     bool
	defaultScope   map[string]*Module // prefixes where the default stands
	Units          string

	form     form
	formed   int // how many of the patterns a text that form understands meets
	xpath    bool
	instance bool // an XPath that is an instance-identifier
}

// Number is an integer in the range of both int64 and uint64.
type Number struct {
	Negative  bool
	Magnitude uint64
}

func num(v int64) Number {
	if v < 0 {
		return Number{true, uint64(-(v + 1)) + 1}
	}
	return Number{false, uint64(v)}
}

// Compare orders numbers.
func (n Number) Compare(m Number) int {
	switch {
	case n == m:
		return 0
	case n.Negative != m.Negative:
		if n.Negative {
			return -1
		}
		return 1
	case (n.Magnitude < m.Magnitude) != n.Negative:
		return -1
	}
	return 1
}

// Span is an inclusive range of numbers.
type Span struct{ Lo, Hi Number }

// Pattern is a restriction of strings (RFC 7950 section 9.4.5).
type Pattern struct {
	Text    string
	Invert  bool
	Message string
	re      *regexp.Regexp // nil: not translatable, left to the device
}

// Enum is a value of an enumeration.
type Enum struct {
	Name, Description string
	Value             int64
}

// Bit is a bit of a bits type.
type Bit struct {
	Name, Description string
	Position          uint64
}

// Identity is a YANG identity with everything derived from it.
type Identity struct {
	Module *Module
	Name   string
	Bases  []*Identity

	below map[*Identity]bool // derived, at any depth
}

type identKey struct{ module, name string }

// Derived reports whether i is derived from base (RFC 7950 section 9.10.2).
func (i *Identity) Derived(base *Identity) bool { return base.below[i] }

func (i *Identity) String() string { return i.Module.Name + ":" + i.Name }

// Identity gives an identity by module and name, or nil.
func (s *Schema) Identity(module, name string) *Identity { return s.idents[identKey{module, name}] }

// translate turns a W3C schema pattern into one for Go's regexp: always
// anchored; ^ and $ are ordinary characters there. What has no counterpart
// (subtracted classes, block names) gives nil.
func translate(text string) *regexp.Regexp {
	var b strings.Builder
	class := 0
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case c == '\\' && i+1 < len(text):
			i++
			switch text[i] {
			case 'i':
				b.WriteString(pick(class > 0, `\pL_:`, `[\pL_:]`))
			case 'c':
				b.WriteString(pick(class > 0, `\pL\pN_:.\-`, `[\pL\pN_:.\-]`))
			case 'd':
				b.WriteString(`\p{Nd}`)
			case 'I', 'C', 'D', 'W', 'w':
				if text[i] == 'w' && class == 0 {
					b.WriteString(`[^\pP\pZ\pC]`)
					continue
				}
				if text[i] == 'D' && class == 0 {
					b.WriteString(`\P{Nd}`)
					continue
				}
				return nil
			default:
				if ch := text[i]; ch|0x20 >= 'a' && ch|0x20 <= 'z' && !strings.ContainsRune("nrtpPsS", rune(ch)) ||
					ch >= '0' && ch <= '9' {
					return nil // of Go's own: an assertion, or a character by its number
				}
				b.WriteByte('\\')
				b.WriteByte(text[i])
			}
		case c == '(' && class == 0 && strings.HasPrefix(text[i:], "(?"):
			return nil // likewise
		case c == '[':
			if class > 0 {
				return nil // subtraction
			}
			class++
			b.WriteByte(c)
		case c == ']' && class > 0:
			class--
			b.WriteByte(c)
		case (c == '^' || c == '$') && class == 0:
			b.WriteByte('\\')
			b.WriteByte(c)
		case c == '.' && class == 0:
			b.WriteString(`[^\n\r]`)
		default:
			b.WriteByte(c)
		}
	}
	if _, err := syntax.Parse(b.String(), syntax.Perl); err != nil {
		return nil // by itself: what is put around it may close what is open in it
	}
	re, err := regexp.Compile(`\A(?:` + b.String() + `)\z`)
	if err != nil {
		return nil
	}
	return re
}

// CompilePattern gives the regular expression of a pattern (RFC 7950 section
// 9.4.5), anchored at both ends; false where it has no counterpart in Go.
func CompilePattern(text string) (*regexp.Regexp, bool) {
	re := translate(text)
	return re, re != nil
}

func pick(cond bool, a, b string) string {
	if cond {
		return a
	}
	return b
}
