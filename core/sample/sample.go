// Package sample makes schemas and random configurations for the core's tests.
package sample

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
var Modules = []schema.Source{{Name: "quay", Text: quay}, {Name: "crane", Text: crane}, {Name: "quay-types", Text: quayTypes}}

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
	return tree.Root(out)
}

func nodes(r *rand.Rand, n *schema.Node) []*tree.Node {
	if !n.Config || r.IntN(4) == 0 && n.KeyIndex() < 0 {
		return nil
	}
	switch n.Kind {
	case schema.Leaf:
		return []*tree.Node{tree.NewLeaf(n, value(r, n))}
	case schema.LeafList:
		var out []*tree.Node
		for _, i := range r.Perm(5)[:r.IntN(5)] {
			v := fmt.Sprint(i)
			if n.Type.Base == schema.String {
				v = []string{"oak", "ash", "elm", "fir", "yew"}[i]
			}
			out = append(out, tree.NewLeaf(n, v))
		}
		return out
	case schema.Container:
		return []*tree.Node{tree.New(n, children(r, n, nil))}
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
			out = append(out, tree.New(n, children(r, n, keys)))
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
		return pick("/quay:harbour/name", "/quay:harbour/berth[name='b1']")
	case schema.String:
		return pick("a", "two words", "<&>\"'", "ünïcode", "")
	}
	return fmt.Sprint(r.IntN(4))
}
