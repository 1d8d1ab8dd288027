package schema

import (
	"slices"
	"strings"
)

// acm is the module of NETCONF's access control (RFC 8341), whose extension
// default-deny-all marks what nobody reads who was not let (section 3.2.2).
const (
	acm     = "ietf-netconf-acm"
	denyAll = "default-deny-all"
)

// denied reports whether a statement is that extension, as its module has it.
func denied(keyword string, prefixes map[string]*Module) bool {
	prefix, name := splitName(keyword)
	return name == denyAll && prefix != "" && prefixes[prefix] != nil && prefixes[prefix].Name == acm
}

// secretWords are words, or pairs of words, of names under which secrets are kept;
// openWords end names that tell of a secret and are none.
var (
	secretWords = words("password passwd passphrase secret psk keystring credential key-string hexadecimal-string " +
		"private-key shared-key preshared-key auth-key authentication-key priv-key privacy-key encryption-key " +
		"enc-key symmetric-key api-key session-key master-key md5-key sha-key hmac-key")
	openWords = words(
		"id ref reference name index chain type format length algorithm lifetime age policy min max minimum maximum " +
			"timeout expiry required",
	)
	publicWords = words("public authorized host")
)

func words(list string) map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.Fields(list) {
		out[w] = true
	}
	return out
}

// secretTypes are types whose values are secrets wherever they are used, by name
// (RFC 7317, RFC 9640).
var secretTypes = map[string]bool{"crypt-hash": true}

// secret reports whether a leaf's values are not for everybody: by what its
// module says, its type, or its name. Keys of lists are never: they name what is
// there.
func (n *Node) secret() bool {
	if !n.IsLeaf() || n.key > 0 || n.Type == nil {
		return false
	}
	if secretTypes[n.Type.Name] {
		return true
	}
	if n.Type.Base != String && n.Type.Base != Binary && n.Type.Base != Union {
		return false
	}
	way := []string{n.Name}
	for up := n.Parent; up != nil; up = up.Parent {
		way = append([]string{up.Name}, way...)
	}
	return SecretAt(way)
}

// SecretAt is the rule by names alone, for a leaf and those above it, the outermost
// first; a module's name may stand before each, with a colon.
func SecretAt(way []string) bool {
	if len(way) == 0 {
		return false
	}
	bare := func(name string) string { return name[strings.LastIndexByte(name, ':')+1:] }
	if name := bare(way[len(way)-1]); name != "key" {
		return SecretName(name)
	}
	for _, up := range way[:len(way)-1] { // a key is one, where it is not a public one
		if slices.ContainsFunc(nameWords(bare(up)), func(w string) bool { return publicWords[w] }) {
			return false
		}
	}
	return true
}

func nameWords(name string) []string {
	return strings.FieldsFunc(strings.ToLower(name), func(r rune) bool { return r == '-' || r == '_' || r == '.' })
}

// SecretName reports whether a name is one under which secrets are kept.
func SecretName(name string) bool {
	list := nameWords(name)
	if len(list) == 0 || openWords[list[len(list)-1]] {
		return false
	}
	if len(list) == 1 && list[0] == "community" {
		return true
	}
	for i, w := range list {
		w = strings.TrimSuffix(w, "s") // several of them are no less secret
		if secretWords[w] || i > 0 && secretWords[list[i-1]+"-"+w] {
			return true
		}
	}
	return false
}

// Secret reports whether a leaf's values are shown only to those who may see
// secrets; HasSecrets whether anything at or below a node is.
func (n *Node) Secret() bool     { return n.isSecret }
func (n *Node) HasSecrets() bool { return n.hasSecrets }

// HasSecrets reports whether there is any place for secrets.
func (s *Schema) HasSecrets() bool {
	for _, n := range s.roots {
		if n.hasSecrets {
			return true
		}
	}
	return false
}

// hide marks the places of secrets at and below nodes.
func hide(nodes []*Node, above bool) (any bool) {
	for _, n := range nodes {
		deny := above || n.denied
		n.isSecret = n.secret() || deny && n.IsLeaf() && n.key == 0
		n.hasSecrets = hide(n.children, deny) || n.isSecret || deny && (n.Kind == AnyData || n.Kind == AnyXML)
		any = any || n.hasSecrets
	}
	return any
}
