// Package treetest makes schemas and random configurations for the core's tests.
package treetest

import (
	"fmt"
	"math/rand/v2"

	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// Modules use every kind of node that matters to a configuration: lists with
// one and several keys, with order of the system's and the user's, leaf-lists,
// presence, choices, identities, unions, leafrefs, an augment by another
// module that adds a node of a name that is there already, and features.
var Modules = []schema.Source{
	{Name: "quay", Text: quay}, {Name: "crane", Text: crane}, {Name: "quay-types", Text: quayTypes},
	{Name: "quay-notes", Text: quayNotes},
}

// quayNotes defines metadata as RFC 7952 has it; the module with the extension
// is only known by its namespace.
const quayNotes = `module quay-notes {
  yang-version 1.1;
  namespace "urn:ietf:params:xml:ns:yang:ietf-yang-metadata"; prefix md;
  import quay-types { prefix qt; }
  revision 2026-05-05;
  extension annotation { argument name; }
  md:annotation inspected { type uint8; }
  md:annotation because { type identityref { base qt:cargo; } }
}`

const quayTypes = `module quay-types {
  yang-version 1.1;
  namespace "urn:example:quay-types"; prefix qt;
  revision 2026-01-01;
  identity cargo; identity bulk { base cargo; } identity grain { base bulk; } identity cars { base cargo; }
  typedef percent { type uint8 { range "0..100"; } units "percent"; default 50; }
  typedef berth-name { type string { length "1..12"; pattern "[a-z][a-z0-9-]*"; } }
  grouping lamps {
    leaf colour { type enumeration { enum red; enum green { value 7; } enum white; } default white; }
    container housing { leaf sealed { type boolean; default false; } }
  }
}`

const quay = `module quay {
  yang-version 1.1;
  namespace "urn:example:quay"; prefix q;
  import quay-types { prefix qt; }
  revision 2026-02-02; revision 2025-01-01;
  feature tides; feature ice { if-feature "tides and not summer"; } feature summer;
  container harbour {
    leaf name { type string; }
    leaf depth { type decimal64 { fraction-digits 2; range "0.5..99.99"; } default 8.5; }
    leaf load { type qt:percent; }
    leaf lit { type empty; }
    leaf flags { type bits { bit dry { position 3; } bit wet { position 1; } bit iced; } }
    leaf limit { type union { type uint16 { range "1..100"; } type enumeration { enum none; } type qt:berth-name; } }
    leaf-list words { type string; ordered-by user; }
    leaf-list numbers { type int32; }
    list berth {
      key name;
      leaf name { type qt:berth-name; }
      leaf cargo { type identityref { base qt:cargo; } }
      leaf beside { type leafref { path "../../berth/name"; } }
      container lamp { presence "there is a lamp"; uses qt:lamps { refine colour { default red; } augment housing { leaf glass { type string; } } } }
      choice tie { case ropes { leaf ropes { type uint8; } leaf knots { type uint8; } } leaf magnet { type boolean; } }
    }
    list queue { key "lane ship"; ordered-by user; leaf lane { type uint8; } leaf ship { type string; } leaf note { type string; } }
    container tide { if-feature tides; leaf high { type uint8; } }
    container frost { if-feature ice; leaf thick { type uint8; } }
    container seen { config false; leaf ships { type uint32; } }
    anydata papers;
    leaf strict { type int8; mandatory true; }
  }
}`

const crane = `module crane {
  yang-version 1.1;
  namespace "urn:example:crane"; prefix c;
  import quay { prefix q; }
  import quay-types { prefix qt; }
  revision 2026-03-03;
  identity timber { base qt:bulk; }
  augment "/q:harbour" { leaf name { type string; } container crane { leaf reach { type uint8; } } }
  augment "/q:harbour/c:crane" { leaf hook { type instance-identifier; } }
  augment "/q:harbour/q:berth/q:tie" { case glue { leaf glue { type string; } } }
  deviation "/q:harbour/q:seen" { deviate not-supported; }
}`

// Schema compiles the sample modules with the feature tides.
func Schema() *schema.Schema {
	return schema.Compile(Modules, schema.Options{Features: map[string][]string{"quay": {"tides", "ice", "summer"}}})
}

// Tree makes a random configuration. Small sizes make accidental agreement
// between two of them likely, which is where comparing and merging is hard.
func Tree(r *rand.Rand, s *schema.Schema) *tree.Node {
	var out []*tree.Node
	for _, n := range s.Roots() {
		out = append(out, nodes(r, n)...)
	}
	if r.IntN(2) == 0 {
		for _, i := range r.Perm(6)[:r.IntN(4)] {
			out = append(out, unknown(i))
		}
	}
	return tree.Root(out)
}

// unknown is content of no module at hand.
func unknown(i int) *tree.Node {
	name := []string{"gull", "heron"}[i%2]
	body := fmt.Sprintf("<%s xmlns=\"urn:example:birds\">\n  <n  k='%d'/> </%s>", name, i, name)
	return tree.NewOpaque(nil, tree.Opaque{Space: "urn:example:birds", Local: name, XML: []byte(body)})
}

// noted puts metadata to a node now and then.
func noted(r *rand.Rand, n *tree.Node) *tree.Node {
	if r.IntN(12) > 0 {
		return n
	}
	return n.Annotated([]tree.Annotation{
		{Module: "quay-notes", Name: "inspected", Value: fmt.Sprint(r.IntN(2))},
		{Module: "quay-notes", Name: "because", Value: "quay-types:grain"},
		{Space: "urn:example:birds", Name: "seen", Value: "a \"gull\"\n"},
	}[r.IntN(2):])
}

func nodes(r *rand.Rand, n *schema.Node) []*tree.Node {
	if !n.Config || r.IntN(4) == 0 && n.KeyIndex() < 0 {
		return nil
	}
	switch n.Kind {
	case schema.Leaf:
		if n.KeyIndex() >= 0 {
			return []*tree.Node{tree.NewLeaf(n, value(r, n))}
		}
		return []*tree.Node{noted(r, tree.NewLeaf(n, value(r, n)))}
	case schema.LeafList:
		var out []*tree.Node
		for _, i := range r.Perm(5)[:r.IntN(5)] {
			v := fmt.Sprint(i)
			if n.Type.Base == schema.String {
				v = []string{"oak", "ash", "elm", "fir", "yew"}[i]
			}
			out = append(out, noted(r, tree.NewLeaf(n, v)))
		}
		return out
	case schema.Container:
		kids := children(r, n, nil)
		if r.IntN(8) == 0 {
			kids = append(kids, unknown(r.IntN(4)))
		}
		return []*tree.Node{noted(r, tree.New(n, kids))}
	case schema.List:
		var out []*tree.Node
		for _, i := range r.Perm(6)[:r.IntN(6)] {
			var keys []*tree.Node
			for _, k := range n.Keys {
				leaf := n.Child(n.Module, k)
				v := fmt.Sprintf("b%d", i)
				if leaf.Type.Base != schema.String {
					v = fmt.Sprint(i)
				}
				keys = append(keys, tree.NewLeaf(leaf, v))
			}
			out = append(out, noted(r, tree.New(n, children(r, n, keys))))
		}
		return out
	case schema.AnyData:
		body := fmt.Sprintf(`<papers xmlns="urn:example:quay"><n xmlns="">%d</n></papers>`, r.IntN(3))
		return []*tree.Node{tree.NewOpaque(n, tree.Opaque{Space: n.Module.Namespace, Local: n.Name, XML: []byte(body)})}
	}
	return nil
}

// children fills a node; of each choice at most one case.
func children(r *rand.Rand, n *schema.Node, have []*tree.Node) []*tree.Node {
	picked := map[*schema.Node]*schema.Node{}
	for _, c := range n.Data() {
		if c.KeyIndex() >= 0 {
			continue
		}
		if cs := c.Parent; cs != nil && cs.Kind == schema.Case {
			if picked[cs.Parent] == nil {
				all := cs.Parent.Children()
				picked[cs.Parent] = all[r.IntN(len(all))]
			}
			if picked[cs.Parent] != cs {
				continue
			}
		}
		have = append(have, nodes(r, c)...)
	}
	return have
}

func value(r *rand.Rand, n *schema.Node) string {
	pick := func(v ...string) string { return v[r.IntN(len(v))] }
	switch n.Type.Base {
	case schema.Boolean:
		return pick("true", "false")
	case schema.Enumeration:
		return n.Type.Enums[r.IntN(len(n.Type.Enums))].Name
	case schema.IdentityRef:
		return pick("quay-types:grain", "quay-types:cars", "crane:timber")
	case schema.Decimal64:
		return pick("8.5", "1.25", "99.99")
	case schema.Bits:
		return pick("", "wet", "wet dry", "iced")
	case schema.Empty:
		return ""
	case schema.LeafRef:
		return pick("b1", "b2")
	case schema.Union:
		return pick("7", "none", "west")
	case schema.InstanceIdentifier:
		return pick("/quay:harbour/quay:name", "/quay:harbour/quay:berth[quay:name='b1']")
	case schema.String:
		return pick(
			"a", "two words", "<&>\"'", "ünïcode", "", "one\n  two\n\n| three\ttabs", "at the end \nspace", "@sign",
			"#hash",
		)
	}
	return fmt.Sprint(r.IntN(4))
}

// Mutate gives a configuration that differs from another in a few places.
func Mutate(r *rand.Rand, s *schema.Schema, n *tree.Node) *tree.Node {
	for range 1 + r.IntN(4) {
		e := mutation(r, n, s.Roots())
		if e == nil {
			continue
		}
		if out, err := tree.Apply(n, &tree.Edit{Children: []*tree.Edit{e}}, tree.Merge); err == nil {
			n = out
		}
	}
	return n
}

// mutation is an edit of some child of a node, nil where none came to mind.
func mutation(r *rand.Rand, n *tree.Node, known []*schema.Node) *tree.Edit {
	kids := n.Children()
	if len(kids) > 0 && r.IntN(5) > 0 {
		c := kids[r.IntN(len(kids))]
		e := &tree.Edit{Schema: c.Schema(), Keys: c.Keys(), Opaque: c.Opaque(), Op: tree.Delete}
		switch {
		case c.Schema() != nil && c.Schema().KeyIndex() >= 0:
			return nil
		case c.Schema() == nil || r.IntN(5) == 0:
			return e
		case len(c.Schema().Data()) > 0:
			inner := mutation(r, c, c.Schema().Data())
			if inner == nil {
				return nil
			}
			e.Op, e.Children = tree.None, []*tree.Edit{inner}
		case c.Schema().Kind == schema.Leaf:
			e.Op, e.Value = tree.Merge, value(r, c.Schema())
		case c.Schema().UserOrdered:
			e.Op, e.Insert = tree.Merge, []string{"first", "last"}[r.IntN(2)]
		}
		return e
	}
	if len(known) == 0 {
		return nil
	}
	pick := known[r.IntN(len(known))]
	if pick.KeyIndex() >= 0 {
		return nil
	}
	for _, fresh := range nodes(r, pick) {
		if n.Find(pick, fresh.Keys()) == nil {
			return asEdit(fresh)
		}
	}
	return nil
}

// asEdit is the edit that merges a node with all below it.
func asEdit(n *tree.Node) *tree.Edit {
	e := &tree.Edit{
		Schema: n.Schema(), Keys: n.Keys(), Value: n.Value(), Opaque: n.Opaque(), Annotations: n.Annotations(),
	}
	for c := range n.Each() {
		e.Children = append(e.Children, asEdit(c))
	}
	return e
}
