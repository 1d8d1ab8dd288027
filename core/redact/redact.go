// Package redact hides the secret values of configurations from those who may not
// see them, and knows them again.
//
// In the place of a secret stands a name for it: hidden: and some digits that are
// made of the value with a key. Equal values have equal names, so that what is
// compared redacted is compared exactly; without the key nothing can be
// learned from one. Which values are secret says [schema.Node.Secret]; what no
// module describes is hidden by the names of its elements.
package redact

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base32"
	"errors"
	"regexp"
	"slices"
	"strings"

	"oakenlatch/core/diff"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// Prefix begins the name of a hidden value.
const Prefix = "hidden:"

// Redactor hides values with a key; a nil one hides nothing.
type Redactor struct{ key []byte }

// New gives a redactor. Who has the key can try out whether a value has a name.
func New(key []byte) *Redactor { return &Redactor{slices.Clone(key)} }

var digits = base32.NewEncoding("abcdefghijkmnpqrstuvwxyz23456789").WithPadding(base32.NoPadding)

// Name gives the name of a value: 80 bits of its HMAC (RFC 2104) with SHA-256.
func (v *Redactor) Name(value string) string {
	mac := hmac.New(sha256.New, v.key)
	_, _ = mac.Write([]byte(value))
	return Prefix + digits.EncodeToString(mac.Sum(nil)[:10])
}

// IsName reports whether a text is the name of a hidden value.
func IsName(text string) bool {
	raw, ok := strings.CutPrefix(text, Prefix)
	b, err := digits.DecodeString(raw)
	return ok && err == nil && len(b) == 10 && digits.EncodeToString(b) == raw
}

// Tree gives a configuration, or a part of one, with names in the place of
// secrets; the very same where there are none. It is for being shown: names are
// not of the types that values are of.
func (v *Redactor) Tree(n *tree.Node) *tree.Node {
	if n == nil || v == nil {
		return n
	}
	if s := n.Schema(); s != nil && s.IsLeaf() {
		if s.Secret() {
			return tree.NewLeaf(s, v.Name(n.Value())).Annotated(n.Annotations())
		}
		return n
	}
	if o := n.Opaque(); o != nil {
		return v.opaque(n, o)
	}
	var out []*tree.Node
	changed := false
	for c := range n.Each() {
		d := c
		if c.Schema() == nil || c.Opaque() != nil || c.Schema().HasSecrets() || open(c) {
			d = v.Tree(c)
		}
		changed = changed || d != c
		out = append(out, d)
	}
	if !changed {
		return n
	}
	return n.With(out)
}

// open reports whether something below a node may be carried unread.
func open(n *tree.Node) bool { return n.Len() > 0 && !n.Schema().IsLeaf() && n.Unread() }

// element is one with text alone, in what no module describes.
var element = regexp.MustCompile(`<((?:[A-Za-z_][\w.-]*:)?([A-Za-z_][\w.-]*))((?:\s[^<>]*)?)>([^<]*)</`)

// opaque hides by the names of elements; all of what a module says nobody reads.
func (v *Redactor) opaque(n *tree.Node, o *tree.Opaque) *tree.Node {
	text := v.xml(string(o.XML), n.Schema() != nil && n.Schema().HasSecrets())
	if text == string(o.XML) {
		return n
	}
	hidden := *o
	hidden.XML = []byte(text)
	return tree.NewOpaque(n.Schema(), hidden)
}

// XML gives a piece of XML that no module describes with names in the place of
// secrets, by the names of its elements.
func (v *Redactor) XML(text string) string { return v.xml(text, false) }

func (v *Redactor) xml(text string, all bool) string {
	if v == nil {
		return text
	}
	return element.ReplaceAllStringFunc(text, func(found string) string {
		m := element.FindStringSubmatch(found)
		if m[4] == "" || !all && !schema.SecretName(m[2]) {
			return found
		}
		return "<" + m[1] + m[3] + ">" + v.Name(m[4]) + "</"
	})
}

// Difference gives a difference as it is seen redacted: exactly the places
// that differ.
func (v *Redactor) Difference(d *diff.Difference) *diff.Difference {
	if d == nil || v == nil {
		return d
	}
	old, now := v.Tree(d.Old), v.Tree(d.New)
	if old == d.Old && now == d.New {
		return d
	}
	return diff.Compare(old, now)
}

// Conflict gives a conflict with the three values as they are shown.
func (v *Redactor) Conflict(x diff.Conflict) diff.Conflict {
	x.Base, x.Mine, x.Theirs = v.Tree(x.Base), v.Tree(x.Mine), v.Tree(x.Theirs)
	if s := x.Path.Last(); v != nil && x.Order != nil && s != nil && s.Secret() { // the values of a leaf-list
		hide := func(names []string) (out []string) {
			for _, n := range names {
				out = append(out, v.Name(n))
			}
			return out
		}
		o := diff.Order{Base: hide(x.Order.Base), Mine: hide(x.Order.Mine), Theirs: hide(x.Order.Theirs)}
		for _, g := range x.Order.Among {
			o.Among = append(o.Among, hide(g))
		}
		x.Order, x.Why = &o, "the order was changed here and on the device"
	}
	return x
}

// Value gives a value as it is shown: its name where it is secret.
func (v *Redactor) Value(s *schema.Node, value string) string {
	if v == nil || value == "" || s == nil || !s.Secret() {
		return value
	}
	return v.Name(value)
}

// Edit gives the path and the value of an edit as they are shown: a value of a
// leaf-list stands in the path.
func (v *Redactor) Edit(s *schema.Schema, path, value string) (string, string) {
	p, err := tree.ParsePath(s, path)
	if err != nil || v == nil || len(p) == 0 {
		return path, value
	}
	last := &p[len(p)-1]
	if last.Node == nil || !last.Node.Secret() {
		return path, value
	}
	if len(last.Keys) == 1 {
		last.Keys = []string{v.Name(last.Keys[0])}
		path = p.Full()
	}
	return path, v.Value(last.Node, value)
}

// shortest is how long a value must be to be looked for in a text: shorter ones
// stand in any.
const shortest = 4

// Secrets gives the secret values of a configuration.
func Secrets(n *tree.Node) (out []string) {
	if n == nil {
		return nil
	}
	if s := n.Schema(); s != nil && s.IsLeaf() {
		if s.Secret() {
			out = append(out, n.Value())
		}
		return out
	}
	for c := range n.Each() {
		if c.Schema() != nil && c.Schema().HasSecrets() {
			out = append(out, Secrets(c)...)
		}
	}
	return out
}

// Text gives a text, of a device's or of ours, with names where secrets of these
// configurations stand in it.
func (v *Redactor) Text(text string, of ...*tree.Node) string {
	if text == "" || v == nil {
		return text
	}
	for _, n := range of {
		for _, value := range Secrets(n) {
			text = v.Hide(text, value)
		}
	}
	return text
}

// Hide gives a text with a name where a secret stands in it.
func (v *Redactor) Hide(text, value string) string {
	if v == nil || len(value) < shortest {
		return text
	}
	return strings.ReplaceAll(text, value, v.Name(value))
}

// ErrUnknown is given for a name of a value that is not to be found.
var ErrUnknown = errors.New(
	"it is the name of a hidden value that does not stand in this configuration: give the value itself, or leave the " +
		"name of the one that is there",
)

// Lift gives what a text means that was written redacted: the value that
// a name stands for among those of some configurations.
func (v *Redactor) Lift(text string, among ...*tree.Node) (string, error) {
	if !strings.HasPrefix(text, Prefix) {
		return text, nil
	}
	for _, n := range among {
		for _, value := range Secrets(n) {
			if v.Name(value) == text {
				return value, nil
			}
		}
	}
	return text, ErrUnknown
}
