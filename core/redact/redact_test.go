package redact_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/markup"
	"oakenlatch/core/redact"
	"oakenlatch/core/schema"
)

var modules = []schema.Source{
	{
		Name: "ietf-netconf-acm",
		Text: `module ietf-netconf-acm { namespace "urn:ietf:params:xml:ns:yang:ietf-netconf-acm"; prefix nacm; extension default-deny-all; }`,
	},
	{Name: "pier", Text: `module pier { yang-version 1.1; namespace "urn:pier"; prefix p;
		import ietf-netconf-acm { prefix acm; }
		typedef crypt-hash { type string { pattern "\\$0\\$.*|\\$6\\$.*"; } }
		container pier {
			leaf name { type string; }
			leaf door { type crypt-hash; }
			leaf wifi-psk { type string { length "8..63"; } }
			leaf psk-id { type string; }
			leaf password-min-length { type uint8; }
			leaf-list old-passwords { type string; }
			leaf combination { acm:default-deny-all; type uint32; }
			container vault { acm:default-deny-all; leaf shelf { type string; } list box { key id; leaf id { type string; } leaf holds { type string; } } }
			list peer { key key; leaf key { type string; } leaf private-key { type binary; } leaf public-key { type binary; } }
			list authorized-key { key name; leaf name { type string; } leaf key { type string; } }
			list ring { key name; leaf name { type string; } leaf key { type string; } }
		} }`},
}

const text = `pier
  name: "North pier"
  door: $6$salt$hash
  wifi-psk: "gulls and herring"
  psk-id: "gulls and herring"
  password-min-length: 9
  old-passwords: mussels
  combination: 4711
  vault
    shelf: third
    box [b1]
      holds: "the ferry's bell"
  peer [harbour]
    private-key: c2VjcmV0
    public-key: b3Blbg==
  authorized-key [mara]
    key: "ssh-ed25519 AAAA"
  ring [spare]
    key: brass
`

// secrets are what nobody reads who may not.
var secrets = []string{"$6$salt$hash", "c2VjcmV0", "mussels", "4711", "third", "ferry's bell", "brass", "cod liver"}

func TestVeil(t *testing.T) {
	s := schema.Compile(modules, schema.Options{})
	require.Empty(t, s.Problems)
	d := codec.Decoder{Schema: s}
	n, err := d.ParseOutline(text)
	require.NoError(t, err)
	x := string(codec.XML(s, n, markup.Name{Local: "config"}))
	x = strings.Replace(
		x, "</pier>", `<odd xmlns="urn:odd"><Passphrase>cod liver</Passphrase><length>9</length></odd></pier>`, 1,
	)
	n, err = d.ParseTree([]byte(x))
	require.NoError(t, err)
	v := redact.New([]byte("a key"))
	seen := v.Tree(n)
	for what, shown := range map[string]string{
		"outline": codec.OutlineText(seen), "xml": string(codec.XML(s, seen, markup.Name{Local: "config"})),
		"json": string(codec.JSON(s, seen)),
	} {
		for _, secret := range secrets {
			assert.NotContains(t, shown, secret, what)
		}
		for _, open := range []string{
			"North pier", "gulls and herring", "b3Blbg==", "ssh-ed25519 AAAA", "9", "b1", "harbour",
		} {
			assert.Contains(t, shown, open, what)
		}
	}
	assert.Equal(
		t, 1, strings.Count(codec.OutlineText(seen), "gulls and herring"),
		"what is the id is shown, and what is the secret not",
	)
	assert.Same(t, n, (*redact.Redactor)(nil).Tree(n))
	assert.True(t, seen.Digest() == v.Tree(n).Digest(), "it is the same each time")
	assert.NotEqual(t, seen.Digest(), redact.New([]byte("another")).Tree(n).Digest())
	open, err := d.ParseOutline("pier\n  name: x\n")
	require.NoError(t, err)
	assert.Same(t, open, v.Tree(open), "where nothing is secret nothing is made anew")

	// What is compared redacted differs just where it differs.
	other, err := d.ParseTree([]byte(strings.Replace(strings.Replace(x, "brass", "tin", 1), "North pier", "Pier", 1)))
	require.NoError(t, err)
	df := v.Difference(diff.Compare(n, other))
	items := df.Items()
	require.Len(t, items, 2)
	assert.Equal(
		t, []string{"Pier", v.Name("brass"), v.Name("tin")}, []string{items[0].New, items[1].Old, items[1].New},
	)
	assert.Same(t, df, (*redact.Redactor)(nil).Difference(df))

	// Names are taken for what they stand for, by secrets alone.
	back, err := codec.Decoder{
		Schema: s, Lift: func(text string) (string, error) { return v.Lift(text, n) },
	}.ParseOutline(codec.OutlineText(seen.Cut(nil)))
	require.NoError(t, err)
	assert.Empty(t, diff.Compare(n.WithoutDefaults(), back).Items()[1:], "all but what no module describes")
	for line, want := range map[string]string{
		"door: hidden:nobody": "hidden value that does not stand",
		"door: clear-text":    "is no crypt-hash; it is not shown",
	} {
		_, err = codec.Decoder{
			Schema: s, Lift: func(text string) (string, error) { return v.Lift(text, n) },
		}.ParseOutline("pier\n  " + line + "\n")
		require.ErrorContains(t, err, want)
		assert.NotContains(t, err.Error(), "clear-text")
	}
	stolen, err := codec.Decoder{
		Schema: s, Lift: func(text string) (string, error) { return v.Lift(text, n) },
	}.ParseOutline("pier\n  name: " + v.Name("brass") + "\n")
	require.NoError(t, err)
	assert.NotContains(t, codec.OutlineText(stolen), "brass", "a name in a place that all read stays a name")

	path, value := v.Edit(s, "/pier/old-passwords=mussels", "mussels")
	assert.NotContains(t, path+value, "mussels")
	path, value = v.Edit(s, "/pier/name", "mussels")
	assert.Equal(t, "/pier/name mussels", path+" "+value)
	assert.Equal(t, "no "+v.Name("mussels")+" at "+v.Name("4711"), v.Text("no mussels at 4711", stolen, n))
}

func TestSecretName(t *testing.T) {
	for name, want := range map[string]bool{
		"password": true, "admin-password": true, "password-hash": true, "pre-shared-secret": true, "wpa_psk": true,
		"auth-key": true, "private-key": true, "cleartext-private-key": true, "key-string": true, "community": true,
		"Passphrase": true, "preshared-key": true, "shared.key": true, "secrets": true, "addresses": false,
		"public-key": false, "key": false, "password-policy": false, "psk-id": false, "key-chain": false,
		"keyboard": false, "secretary": false, "community-name": false, "min-password-length": false, "": false,
		"host-key": false,
	} {
		assert.Equal(t, want, schema.SecretName(name), name)
	}
}

// What stands in the place of a secret is known by its form, and nothing else is taken for it.
func TestIsName(t *testing.T) {
	v := redact.New([]byte("k"))
	for _, value := range []string{"", "x", "$0$word"} {
		assert.True(t, redact.IsName(v.Name(value)))
	}
	for _, text := range []string{
		"", "hidden:", "hidden:x", "Hidden:aaaaaaaaaaaaaaaa", "hidden:aaaaaaaaaaaaaaa", "hidden:aaaaaaaaaaaaaaaaa",
		"hidden:aaaaaaaaaaaaaaal", " " + v.Name("x"), v.Name("x") + "\n",
	} {
		assert.False(t, redact.IsName(text), "%q", text)
	}
}
