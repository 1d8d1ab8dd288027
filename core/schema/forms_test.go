package schema_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/schema"
)

// What RFC 6991 has, by name; the patterns are those of the RFC where they
// decide something.
const inetTypes = `module ietf-inet-types { namespace "urn:ietf:params:xml:ns:yang:ietf-inet-types"; prefix inet;
  typedef ipv4-address { type string { pattern "(([0-9]|[1-9][0-9]|1[0-9][0-9]|2[0-4][0-9]|25[0-5])\\.){3}([0-9]|[1-9][0-9]|1[0-9][0-9]|2[0-4][0-9]|25[0-5])(%[\\p{N}\\p{L}]+)?"; } }
  typedef ipv4-address-no-zone { type ipv4-address { pattern "[0-9\\.]*"; } }
  typedef ipv6-address { type string { pattern "[0-9a-fA-F:\\.]*(%[\\p{N}\\p{L}]+)?"; pattern ".*:.*"; } }
  typedef ip-address { type union { type ipv4-address; type ipv6-address; } }
  typedef ipv4-prefix { type string { pattern "[0-9\\.]+/[0-9]+"; } }
  typedef ipv6-prefix { type string { pattern "[0-9a-fA-F:]+/[0-9]+"; } }
  typedef domain-name { type string { length "1..253"; pattern "[a-zA-Z0-9_.\\-]*"; } }
  typedef host { type union { type ip-address; type domain-name; } }
  typedef uri { type string; } }`

const yangTypes = `module ietf-yang-types { namespace "urn:ietf:params:xml:ns:yang:ietf-yang-types"; prefix yang;
  typedef date-and-time { type string { pattern "\\d{4}-\\d{2}-\\d{2}T\\d{2}:\\d{2}:\\d{2}(\\.\\d+)?(Z|[\\+\\-]\\d{2}:\\d{2})"; } }
  typedef mac-address { type string { pattern "[0-9a-fA-F]{2}(:[0-9a-fA-F]{2}){5}"; } }
  typedef phys-address { type string { pattern "([0-9a-fA-F]{2}(:[0-9a-fA-F]{2})*)?"; } }
  typedef uuid { type string { pattern "[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}"; } }
  typedef xpath1.0 { type string; } }`

const formsModule = `module forms { namespace "urn:forms"; prefix f; import ietf-inet-types { prefix inet; } import ietf-yang-types { prefix yang; }
  leaf v4 { type inet:ipv4-address; } leaf bare { type inet:ipv4-address-no-zone; } leaf v6 { type inet:ipv6-address; } leaf ip { type inet:ip-address; }
  leaf p4 { type inet:ipv4-prefix; } leaf p6 { type inet:ipv6-prefix; } leaf name { type inet:domain-name; } leaf host { type inet:host; } leaf uri { type inet:uri; }
  leaf at { type yang:date-and-time; } leaf mac { type yang:mac-address; } leaf phys { type yang:phys-address; } leaf id { type yang:uuid; } leaf where { type yang:xpath1.0; }
  leaf ours { type inet:ipv4-address { pattern "10\\..*"; } } }`

// Equal values written differently are one value (RFC 6991): addresses,
// prefixes, moments, names. What a type does not allow is still refused.
func TestCanonicalForms(t *testing.T) {
	s := schema.Compile(
		[]schema.Source{
			{Name: "inet", Text: inetTypes}, {Name: "yang", Text: yangTypes}, {Name: "forms", Text: formsModule},
		},
		schema.Options{},
	)
	require.Empty(t, s.Problems)
	for _, c := range []struct{ leaf, value, want, fails string }{
		{"v4", "192.0.2.1", "192.0.2.1", ""}, {"v4", " 192.0.2.1\n", "192.0.2.1", ""},
		{"v4", "192.0.2.1%eth0", "192.0.2.1%eth0", ""}, {"v4", "192.0.2.01", "", "not a valid ipv4-address"},
		{"v4", "2001:db8::1", "", "not a valid"}, {"v4", "192.0.2", "", "not a valid"},
		{"bare", "192.0.2.1", "192.0.2.1", ""}, {"bare", "192.0.2.1%eth0", "", "not a valid ipv4-address-no-zone"},
		{"v6", "2001:DB8:0:0::1", "2001:db8::1", ""}, {"v6", "2001:0db8::0001%3", "2001:db8::1%3", ""},
		{"v6", "::ffff:192.0.2.1", "::ffff:192.0.2.1", ""}, {"v6", "192.0.2.1", "", "not a valid"},
		{"ip", "2001:DB8::", "2001:db8::", ""}, {"ip", "192.0.2.9", "192.0.2.9", ""},
		{"ip", "nowhere", "", "fits none of the kinds"}, {"p4", "192.0.2.77/24", "192.0.2.0/24", ""},
		{"p4", "192.0.2.0/24", "192.0.2.0/24", ""}, {"p6", "2001:DB8:1::1/32", "2001:db8::/32", ""},
		{"name", "Quay.Tidewell.EXAMPLE", "quay.tidewell.example", ""}, {"name", "a b", "", "not a valid domain-name"},
		{"host", "Quay.example", "quay.example", ""}, {"host", "2001:DB8::1", "2001:db8::1", ""},
		{"uri", "HTTPS://User@Quay.Example:8640/a%7Eb/%c3%a9?Q#F", "https://User@quay.example:8640/a~b/%C3%A9?Q#F", ""},
		{"uri", "urn:Example:A%2f", "urn:Example:A%2F", ""}, {"uri", "/just/%zz", "/just/%zz", ""},
		{"at", "2026-11-23T02:00:00Z", "2026-11-23T02:00:00+00:00", ""},
		{"at", "2026-11-23T03:30:00.500+01:30", "2026-11-23T02:00:00.5+00:00", ""},
		{"at", "2026-11-23T02:00:00-00:00", "2026-11-23T02:00:00-00:00", ""},
		{"at", "2026-12-31T23:59:60Z", "2026-12-31T23:59:60Z", ""},
		{"at", "yesterday", "", "not a valid date-and-time"}, {"mac", "00:1A:2B:3C:4D:5E", "00:1a:2b:3c:4d:5e", ""},
		{"mac", "00:1a", "", "not a valid mac-address"}, {"phys", "AB:CD", "ab:cd", ""}, {"phys", "", "", ""},
		{"id", "F81D4FAE-7DEC-11D0-A765-00A0C91E6BF6", "f81d4fae-7dec-11d0-a765-00a0c91e6bf6", ""},
		{"where", "/f:v4[f:v6='f:x'] and child::f:ip", "/forms:v4[forms:v6='f:x'] and child::forms:ip", ""},
		{"ours", "10.0.0.1", "10.0.0.1", ""}, {"ours", "192.0.2.1", "", "not a valid ipv4-address"},
	} {
		n := at(t, s, "/"+c.leaf)
		got, err := s.Canonical(n.Type, c.value, func(prefix string) *schema.Module { return s.ModuleByName("forms") })
		if c.fails != "" {
			require.ErrorContains(t, err, c.fails, "%s %q", c.leaf, c.value)
			continue
		}
		require.NoError(t, err, "%s %q", c.leaf, c.value)
		assert.Equal(t, c.want, got, "%s %q", c.leaf, c.value)
		again, err := s.Canonical(n.Type, got, s.NameResolver(n.Module))
		require.NoError(t, err)
		assert.Equal(t, got, again, "the canonical form is its own")
	}
}

func TestInstanceIdentifiers(t *testing.T) {
	s := schema.Compile(
		[]schema.Source{
			{
				Name: "forms",
				Text: `module forms { namespace "urn:forms"; prefix f; list a { key "k l"; leaf k { type uint8; } leaf l { type string; } leaf-list v { type uint8; } } leaf to { type instance-identifier; } }`,
			},
		},
		schema.Options{},
	)
	to := at(t, s, "/to")
	resolve := func(prefix string) *schema.Module {
		if prefix == "p" || prefix == "forms" {
			return s.ModuleByName("forms")
		}
		return nil
	}
	for value, want := range map[string]string{
		"/p:a [ p:k = '0x1' ] [p:l=\"it's\"] / p:v " +
			"[ . = '07' ]": `/forms:a[forms:k='1'][forms:l="it's"]/forms:v[.='7']`,
		"/p:a[k='1'][l='/']":    "/forms:a[forms:k='1'][forms:l='/']", // as JSON writes them
		"/p:a[3]/p:v":           "/forms:a[3]/forms:v",
		"/p:unknown/p:thing":    "/forms:unknown/forms:thing",
		"/forms:a[forms:k='1']": "/forms:a[forms:k='1']",
	} {
		got, err := s.Canonical(to.Type, value, resolve)
		require.NoError(t, err, value)
		assert.Equal(t, want, got)
	}
	in, err := schema.ParseInstance("/p:a[p:k='1'][p:l='x']/p:v[.='7']", resolve)
	require.NoError(t, err)
	assert.Equal(t, "/forms:a[k='1'][l='x']/v[.='7']", in.Short())
	for value, want := range map[string]string{
		"p:a": "not an absolute path", "/q:a": `prefix "q" is not known`, "/": "stands where a name belongs",
		"/p:a[": "stands where a name belongs", "/p:a[p:k]": "stands where = belongs",
		"/p:a[p:k=1]": "is not in quotes", "/p:a[p:k='1]": "open quote", "/p:a[p:k='1'": "not closed",
		"/p:a[2": "not closed", "/p:a p:b": "stands where / or [ belongs", "/p:a:b": "stands where a name belongs",
	} {
		_, err := s.Canonical(to.Type, value, resolve)
		require.ErrorContains(t, err, want, value)
	}
}
