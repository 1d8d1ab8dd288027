package schema

import (
	"encoding/base64"
	"fmt"
	"sort"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Resolver finds the module a prefix in a value stands for. Where a value was
// written decides how: XML by the namespaces in scope, JSON and people's input
// by module names. The empty prefix is asked for names without one.
type Resolver func(prefix string) *Module

// NameResolver resolves prefixes as module names (RFC 7951 section 6.8), with
// the given module for names without a prefix.
func (s *Schema) NameResolver(local *Module) Resolver {
	return func(prefix string) *Module {
		if prefix == "" {
			return local
		}
		return s.byName[prefix]
	}
}

// Canonical checks a value against the type and gives its canonical form
// (RFC 7950 section 9): identityrefs and instance-identifiers with module
// names as prefixes, everything else as the RFC's lexical form. The error says
// what is allowed.
func (s *Schema) Canonical(t *Type, value string, resolve Resolver) (string, error) {
	switch t.Base {
	case String:
		return s.canonicalString(t, value, resolve)
	case Int8, Int16, Int32, Int64, Uint8, Uint16, Uint32, Uint64:
		return t.canonicalInteger(value)
	case Decimal64:
		return t.canonicalDecimal(value)
	case Boolean:
		value = strings.TrimSpace(value)
		if value != "true" && value != "false" {
			return "", fmt.Errorf("%q is neither true nor false", value)
		}
		return value, nil
	case Empty:
		if strings.TrimSpace(value) != "" {
			return "", fmt.Errorf("takes no value, got %q", value)
		}
		return "", nil
	case Enumeration:
		return t.canonicalEnum(value)
	case Bits:
		return t.canonicalBits(value)
	case Binary:
		return t.canonicalBinary(value)
	case IdentityRef:
		return s.canonicalIdentity(t, value, resolve)
	case InstanceIdentifier:
		return s.canonicalInstance(value, resolve)
	case LeafRef:
		if t.Target == nil || t.Target.Type == nil {
			return value, nil
		}
		return s.Canonical(t.Target.Type, value, resolve)
	case Union:
		return s.canonicalUnion(t, value, resolve)
	}
	return value, nil
}

// canonicalString leaves a string as it is, but for the standard types whose
// descriptions say how they are written.
func (s *Schema) canonicalString(t *Type, value string, resolve Resolver) (string, error) {
	if t.form != nil {
		canon, understood := t.form(value)
		met := 0
		if understood {
			met = t.formed
		}
		if err := t.checkString(value, met); err != nil {
			// White space around a value is no part of it in these types.
			if trimmed := strings.TrimSpace(value); trimmed != value {
				return s.canonicalString(t, trimmed, resolve)
			}
			return "", err
		}
		if understood || canon != "" {
			return canon, nil
		}
		return value, nil
	}
	if err := t.checkString(value, 0); err != nil {
		return "", err
	}
	if t.instance {
		return s.canonicalInstance(value, resolve)
	}
	if t.xpath {
		return withModuleNames(value, resolve)
	}
	return value, nil
}

// checkString checks a string's characters, length and patterns but for the
// first few, which are met already.
func (t *Type) checkString(value string, met int) error {
	if !utf8.ValidString(value) {
		return fmt.Errorf("not valid UTF-8")
	}
	for _, r := range value {
		if r < 0x20 && r != '\t' && r != '\n' && r != '\r' || r == 0xFFFE || r == 0xFFFF {
			return fmt.Errorf("character U+%04X is not allowed in a string", r)
		}
	}
	if n := uint64(utf8.RuneCountInString(value)); !within(t.Lengths, Number{Magnitude: n}) {
		return fmt.Errorf("%d characters long, allowed is %s", n, spans(t.Lengths, 0))
	}
	for _, p := range t.Patterns[met:] {
		if p.re != nil && p.re.MatchString(value) == p.Invert {
			if p.Message != "" {
				return fmt.Errorf("%q: %s", value, p.Message)
			}
			if t.Name != string(t.Base) {
				return fmt.Errorf("%q is not a valid %s", value, t.Name)
			}
			return fmt.Errorf("%q does not match the pattern %s", value, p.Text)
		}
	}
	return nil
}

// parseInteger reads the lexical forms of RFC 7950 section 9.2.1.
func parseInteger(value string) (Number, bool) {
	digits := value
	neg := strings.HasPrefix(digits, "-")
	if neg || strings.HasPrefix(digits, "+") {
		digits = digits[1:]
	}
	base := 10
	switch {
	case strings.HasPrefix(digits, "0x"), strings.HasPrefix(digits, "0X"):
		base, digits = 16, digits[2:]
	case len(digits) > 1 && digits[0] == '0':
		base = 8
	}
	mag, err := strconv.ParseUint(digits, base, 64)
	if err != nil {
		return Number{}, false
	}
	return Number{Negative: neg && mag != 0, Magnitude: mag}, true
}

func (n Number) String() string {
	s := strconv.FormatUint(n.Magnitude, 10)
	if n.Negative {
		return "-" + s
	}
	return s
}

func (t *Type) canonicalInteger(value string) (string, error) {
	value = strings.TrimSpace(value)
	n, ok := parseInteger(value)
	if !ok {
		return "", fmt.Errorf("%q is not a whole number", value)
	}
	allowed := t.Ranges
	if len(allowed) == 0 {
		allowed = []Span{integerRange[t.Base]}
	}
	if !within(allowed, n) {
		return "", fmt.Errorf("%s is out of range, allowed is %s", value, spans(allowed, 0))
	}
	return n.String(), nil
}

func (t *Type) canonicalDecimal(value string) (string, error) {
	value = strings.TrimSpace(value)
	n, ok := parseDecimal(value, t.FractionDigits)
	if !ok {
		return "", fmt.Errorf(
			"%q is not a decimal number with at most %d digits after the point", value, t.FractionDigits,
		)
	}
	if !within(t.Ranges, n) {
		return "", fmt.Errorf("%s is out of range, allowed is %s", value, spans(t.Ranges, t.FractionDigits))
	}
	return formatDecimal(n, t.FractionDigits), nil
}

// parseDecimal gives the number in units of its last digit (RFC 7950 section 9.3).
func parseDecimal(value string, digits int) (Number, bool) {
	neg := strings.HasPrefix(value, "-")
	whole, frac, _ := strings.Cut(strings.TrimLeft(value, "+-"), ".")
	frac = strings.TrimRight(frac, "0")
	if whole == "" || len(frac) > digits || len(value)-len(strings.TrimLeft(value, "+-")) > 1 {
		return Number{}, false
	}
	mag, err := strconv.ParseUint(whole+frac+strings.Repeat("0", digits-len(frac)), 10, 64)
	if err != nil || mag > 1<<63 || (mag == 1<<63 && !neg) {
		return Number{}, false
	}
	return Number{Negative: neg && mag != 0, Magnitude: mag}, true
}

func formatDecimal(n Number, digits int) string {
	s := strconv.FormatUint(n.Magnitude, 10)
	if len(s) <= digits {
		s = strings.Repeat("0", digits-len(s)+1) + s
	}
	whole, frac := s[:len(s)-digits], strings.TrimRight(s[len(s)-digits:], "0")
	if frac == "" {
		frac = "0"
	}
	if n.Negative {
		whole = "-" + whole
	}
	return whole + "." + frac
}

func (t *Type) canonicalEnum(value string) (string, error) {
	for _, e := range t.Enums {
		if e.Name == value {
			return value, nil
		}
	}
	trimmed := strings.TrimSpace(value)
	names := make([]string, len(t.Enums))
	for i, e := range t.Enums {
		if e.Name == trimmed {
			return trimmed, nil
		}
		names[i] = e.Name
	}
	return "", fmt.Errorf("%q is not one of %s", value, choices(names))
}

func (t *Type) canonicalBits(value string) (string, error) {
	set := map[string]bool{}
	for _, word := range strings.Fields(value) {
		if set[word] {
			return "", fmt.Errorf("bit %q is given twice", word)
		}
		set[word] = true
	}
	var out, names []string
	for _, b := range t.Bits { // sorted by position
		names = append(names, b.Name)
		if set[b.Name] {
			out = append(out, b.Name)
			delete(set, b.Name)
		}
	}
	for word := range set {
		return "", fmt.Errorf("bit %q is not one of %s", word, choices(names))
	}
	return strings.Join(out, " "), nil
}

func (t *Type) canonicalBinary(value string) (string, error) {
	raw, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(value), ""))
	if err != nil {
		return "", fmt.Errorf("not base64: %w", err)
	}
	if !within(t.Lengths, Number{Magnitude: uint64(len(raw))}) {
		return "", fmt.Errorf("%d bytes long, allowed is %s", len(raw), spans(t.Lengths, 0))
	}
	return base64.StdEncoding.EncodeToString(raw), nil
}

func (s *Schema) canonicalIdentity(t *Type, value string, resolve Resolver) (string, error) {
	value = strings.TrimSpace(value)
	prefix, name, found := strings.Cut(value, ":")
	if !found {
		prefix, name = "", value
	}
	m := resolve(prefix)
	var id *Identity
	if m != nil {
		id = s.idents[identKey{m.Name, name}]
	}
	if id != nil && derivedFromAll(id, t.Bases) {
		return id.String(), nil
	}
	allowed := s.Identities(t)
	if !found {
		// A person may leave the prefix out where only one identity fits.
		var fit []string
		for _, a := range allowed {
			if strings.HasSuffix(a, ":"+name) {
				fit = append(fit, a)
			}
		}
		if len(fit) == 1 {
			return fit[0], nil
		}
	}
	return "", fmt.Errorf("%q is not one of %s", value, choices(allowed))
}

func derivedFromAll(id *Identity, bases []*Identity) bool {
	for _, b := range bases {
		if !id.Derived(b) {
			return false
		}
	}
	return true
}

// Identities lists what an identityref may hold, sorted.
func (s *Schema) Identities(t *Type) []string {
	if len(t.Bases) == 0 {
		return nil
	}
	var out []string
	for id := range t.Bases[0].below {
		if derivedFromAll(id, t.Bases) {
			out = append(out, id.String())
		}
	}
	sort.Strings(out)
	return out
}

// withModuleNames rewrites the prefixes of an XPath expression as module names.
// A prefix that nobody declared stays as it is.
func withModuleNames(value string, resolve Resolver) (string, error) {
	var b strings.Builder
	for i := 0; i < len(value); {
		c := value[i]
		if c == '\'' || c == '"' {
			end := strings.IndexByte(value[i+1:], c)
			if end < 0 {
				return "", fmt.Errorf("%q has an open quote", value)
			}
			b.WriteString(value[i : i+end+2])
			i += end + 2
			continue
		}
		if !isNameByte(c) {
			b.WriteByte(c)
			i++
			continue
		}
		j := i
		for j < len(value) && isNameByte(value[j]) {
			j++
		}
		if j < len(value) && value[j] == ':' && !strings.HasPrefix(value[j:], "::") {
			m := resolve(value[i:j])
			if m != nil {
				b.WriteString(m.Name)
			} else {
				b.WriteString(value[i:j])
			}
		} else {
			b.WriteString(value[i:j])
		}
		i = j
	}
	return b.String(), nil
}

func isNameByte(c byte) bool {
	return c == '_' || c == '-' || c == '.' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' ||
		c >= 0x80
}

func (s *Schema) canonicalUnion(t *Type, value string, resolve Resolver) (string, error) {
	var why []string
	for _, m := range t.Members {
		out, err := s.Canonical(m, value, resolve)
		if err == nil {
			return out, nil
		}
		why = append(why, err.Error())
	}
	if len(why) > 3 {
		why = append(why[:3], "…")
	}
	return "", fmt.Errorf("%q fits none of the kinds allowed here (%s)", value, strings.Join(why, "; "))
}

func within(set []Span, n Number) bool {
	if len(set) == 0 {
		return true
	}
	for _, s := range set {
		if s.Lo.Compare(n) <= 0 && n.Compare(s.Hi) <= 0 {
			return true
		}
	}
	return false
}

func spans(set []Span, digits int) string {
	text := func(n Number) string {
		if digits > 0 {
			return formatDecimal(n, digits)
		}
		return n.String()
	}
	parts := make([]string, len(set))
	for i, s := range set {
		parts[i] = text(s.Lo)
		if s.Lo != s.Hi {
			parts[i] += " to " + text(s.Hi)
		}
	}
	return strings.Join(parts, " or ")
}

func choices(names []string) string {
	const most = 12
	if len(names) == 0 {
		return "(nothing: this device defines no value for it)"
	}
	if len(names) > most {
		return strings.Join(names[:most], ", ") + fmt.Sprintf(" and %d more", len(names)-most)
	}
	return strings.Join(names, ", ")
}
