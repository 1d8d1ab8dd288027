package schema

import (
	"net/netip"
	"strconv"
	"strings"
	"time"
)

// form gives the canonical form that the description of a standard string
// type demands, for texts it understands; ok is false for all others, which
// are then left to the type's patterns.
type form func(text string) (canonical string, ok bool)

// forms are the string types of RFC 6991 and RFC 9911 whose descriptions
// define a canonical form, by module and name. Only what the RFCs say in
// words, and no program can read, stands here.
var forms = map[string]map[string]form{
	"ietf-inet-types": {
		"ipv4-address": address(netip.Addr.Is4, true), "ipv4-address-no-zone": address(netip.Addr.Is4, false),
		"ipv6-address": address(netip.Addr.Is6, true), "ipv6-address-no-zone": address(netip.Addr.Is6, false),
		"ipv4-prefix": prefix(netip.Addr.Is4, true), "ipv6-prefix": prefix(netip.Addr.Is6, true),
		"ipv4-address-and-prefix": prefix(netip.Addr.Is4, false),
		"ipv6-address-and-prefix": prefix(netip.Addr.Is6, false), "domain-name": lowerCase, "host-name": lowerCase,
		"uri": uri,
	},
	"ietf-yang-types": {
		"date-and-time": dateAndTime, "date": zoned("2006-01-02"), "time": zoned("15:04:05.999999999"),
		"phys-address": hexBytes, "mac-address": hexBytes, "hex-string": hexBytes, "uuid": lowerCase,
	},
}

// xpathTypes are those whose prefixes mean what is in scope where they stand.
var xpathTypes = map[string]map[string]bool{"ietf-yang-types": {"xpath1.0": true}}

// instanceTypes are string types whose values are instance-identifiers of which
// predicates may be left out (RFC 8341 section 3.4.5).
var instanceTypes = map[string]map[string]bool{"ietf-netconf-acm": {"node-instance-identifier": true}}

// address is the form of RFC 5952 for IPv6 and of dotted decimals for IPv4.
// The zone stays as it is: its numeric form is the device's own business.
func address(family func(netip.Addr) bool, zone bool) form {
	return func(text string) (string, bool) {
		a, err := netip.ParseAddr(text)
		if err != nil || !family(a.WithZone("")) && !a.Is4In6() || (a.Zone() != "" && !zone) {
			// IPv4 with a zone is YANG's own.
			bare, z, found := strings.Cut(text, "%")
			if b, err := netip.ParseAddr(bare); found && zone && err == nil && b.Is4() && family(b) && plainZone(z) {
				return b.String() + "%" + z, true
			}
			return "", false
		}
		if a.Zone() != "" && !plainZone(a.Zone()) || a.Is4In6() && !family(a) {
			return "", false
		}
		return a.String(), true
	}
}

// plainZone holds for zones that every revision of the pattern accepts.
func plainZone(z string) bool {
	for i := range len(z) {
		if c := z[i]; !(c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z') {
			return false
		}
	}
	return z != ""
}

// prefix is an address in canonical form and a length; where masked, the bits
// behind the length are zero.
func prefix(family func(netip.Addr) bool, masked bool) form {
	return func(text string) (string, bool) {
		p, err := netip.ParsePrefix(text)
		if err != nil || !family(p.Addr()) {
			return "", false
		}
		if masked {
			p = p.Masked()
		}
		return p.String(), true
	}
}

// lowerCase leaves the checking to the patterns.
func lowerCase(text string) (string, bool) { return strings.ToLower(text), false }

func hexBytes(text string) (string, bool) {
	for i := range len(text) {
		c := text[i] | 0x20
		if i%3 == 2 && text[i] != ':' || i%3 != 2 && !(c >= '0' && c <= '9' && text[i] < 'A' || c >= 'a' && c <= 'f') {
			return strings.ToLower(text), false
		}
	}
	return strings.ToLower(text), len(text) == 17
}

// dateAndTime gives a moment in UTC, without trailing zeros in its fraction.
// -00:00, a moment whose zone is not known, stays apart (RFC 6991 section 3).
func dateAndTime(text string) (string, bool) {
	t, err := time.Parse(time.RFC3339Nano, text)
	if err != nil {
		return text, false // a leap second, or wrong
	}
	zone := "+00:00"
	if strings.HasSuffix(text, "-00:00") {
		zone = "-00:00"
	}
	return t.UTC().Format("2006-01-02T15:04:05.999999999") + zone, true
}

// zoned is for dates and times with a zone that may be written Z or +00:00.
func zoned(string) form {
	return func(text string) (string, bool) {
		if bare, ok := strings.CutSuffix(text, "+00:00"); ok {
			return bare + "Z", false
		}
		return text, false
	}
}

// uri normalises case and percent-encoding (RFC 3986 section 6.2.2).
func uri(text string) (string, bool) {
	scheme, rest, ok := strings.Cut(text, ":")
	if !ok || strings.ContainsAny(scheme, "/?#%") {
		scheme, rest = "", text
	} else {
		scheme = strings.ToLower(scheme) + ":"
	}
	if after, ok := strings.CutPrefix(rest, "//"); ok {
		end := strings.IndexAny(after, "/?#")
		if end < 0 {
			end = len(after)
		}
		user, host := "", after[:end]
		if at := strings.LastIndexByte(host, '@'); at >= 0 {
			user, host = host[:at+1], host[at+1:]
		}
		rest = "//" + user + strings.ToLower(host) + after[end:]
	}
	var b strings.Builder
	b.WriteString(scheme)
	for i := 0; i < len(rest); i++ {
		if rest[i] != '%' || i+2 >= len(rest) {
			b.WriteByte(rest[i])
			continue
		}
		v, err := strconv.ParseUint(rest[i+1:i+3], 16, 8)
		switch c := byte(v); {
		case err != nil:
			b.WriteByte('%')
			continue
		case c >= '0' && c <= '9', c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c == '-', c == '.', c == '_', c == '~':
			b.WriteByte(c)
		default:
			b.WriteString(strings.ToUpper(rest[i : i+3]))
		}
		i += 2
	}
	return b.String(), false
}

// IsXPath reports whether values are XPath expressions with prefixes of the
// place where they stand; canonically these are module names.
func (t *Type) IsXPath() bool { return t.xpath }

// Free reports whether any text is its own canonical form, so that it need not
// be looked at where it is only carried.
func (t *Type) Free() bool { return t.Base == String && t.form == nil && !t.xpath }

// Anything reports whether every text that XML can carry is a value.
func (t *Type) Anything() bool {
	return t.Free() && len(t.Lengths) == 0 && len(t.Patterns) == 0
}

// Concrete follows leafrefs and unions to the type that a canonical value is of.
func (s *Schema) Concrete(t *Type, value string) *Type {
	switch t.Base {
	case LeafRef:
		if t.Target != nil && t.Target.Type != nil {
			return s.Concrete(t.Target.Type, value)
		}
	case Union:
		for _, m := range t.Members {
			if v, err := s.Canonical(m, value, s.NameResolver(nil)); err == nil && v == value {
				return s.Concrete(m, value)
			}
		}
	}
	return t
}

// IsDefault reports whether a canonical value is what the schema says holds
// where a leaf is not set.
func (n *Node) IsDefault(value string) bool {
	return n.Kind == Leaf && len(n.Defaults) == 1 && n.Defaults[0] == value
}
