package xpath

import (
	"math"
	"slices"
	"strings"
	"unicode/utf8"

	"oakenlatch/core/schema"
)

// function is one of the core library (XPath 1.0 section 4) or of YANG (RFC
// 7950 section 10).
type function struct {
	least, most int
	run         func(ev *evaluation, c context, args []expr) value
}

var functions map[string]function

func init() {
	functions = map[string]function{
		"last":     {0, 0, func(_ *evaluation, c context, _ []expr) value { return number(float64(c.size)) }},
		"position": {0, 0, func(_ *evaluation, c context, _ []expr) value { return number(float64(c.position)) }},
		"count": {
			1, 1, func(ev *evaluation, c context, a []expr) value { return number(float64(len(ev.set(a[0], c)))) },
		},
		"id": {1, 1, func(*evaluation, context, []expr) value { return nodes(nil) }}, // YANG data has no ids
		"local-name": {0, 1, func(ev *evaluation, c context, a []expr) value {
			return ev.first(c, a, func(s *schema.Node) string { return s.Name })
		}},
		"namespace-uri": {0, 1, func(ev *evaluation, c context, a []expr) value {
			return ev.first(c, a, func(s *schema.Node) string { return s.Module.Namespace })
		}},
		"name": {0, 1, func(ev *evaluation, c context, a []expr) value {
			return ev.first(c, a, func(s *schema.Node) string { return s.Module.Prefix + ":" + s.Name })
		}},

		"string": {
			0, 1, func(ev *evaluation, c context, a []expr) value { return text(ev.optional(c, a).text()) },
		},
		"concat":           {2, math.MaxInt, concat},
		"starts-with":      {2, 2, texts(func(a, b string) value { return boolean(strings.HasPrefix(a, b)) })},
		"contains":         {2, 2, texts(func(a, b string) value { return boolean(strings.Contains(a, b)) })},
		"substring-before": {2, 2, texts(substringBefore)},
		"substring-after": {
			2, 2, texts(func(a, b string) value { _, after, _ := strings.Cut(a, b); return text(after) }),
		},
		"substring": {2, 3, substring},
		"string-length": {0, 1, func(ev *evaluation, c context, a []expr) value {
			return number(float64(utf8.RuneCountInString(ev.optional(c, a).text())))
		}},
		"normalize-space": {0, 1, func(ev *evaluation, c context, a []expr) value {
			return text(
				strings.Join(
					strings.FieldsFunc(
						ev.optional(c, a).text(), func(r rune) bool { return strings.ContainsRune(" \t\r\n", r) },
					),
					" ",
				),
			)
		}},
		"translate": {3, 3, translate},

		"boolean": {
			1, 1, func(ev *evaluation, c context, a []expr) value { return boolean(ev.eval(a[0], c).boolean()) },
		},
		"not": {
			1, 1, func(ev *evaluation, c context, a []expr) value { return boolean(!ev.eval(a[0], c).boolean()) },
		},
		"true":  {0, 0, func(*evaluation, context, []expr) value { return boolean(true) }},
		"false": {0, 0, func(*evaluation, context, []expr) value { return boolean(false) }},
		// no xml:lang in YANG data
		"lang": {1, 1, func(*evaluation, context, []expr) value { return boolean(false) }},

		"number": {0, 1, func(ev *evaluation, c context, a []expr) value { return number(ev.optional(c, a).number()) }},
		"sum": {1, 1, func(ev *evaluation, c context, a []expr) value {
			total := 0.0
			for _, n := range ev.set(a[0], c) {
				total += parseNumber(textOf(n))
			}
			return number(total)
		}},
		"floor": {
			1, 1,
			func(ev *evaluation, c context, a []expr) value { return number(math.Floor(ev.eval(a[0], c).number())) },
		},
		"ceiling": {
			1, 1,
			func(ev *evaluation, c context, a []expr) value { return number(math.Ceil(ev.eval(a[0], c).number())) },
		},
		"round": {1, 1, func(ev *evaluation, c context, a []expr) value {
			return number(math.Floor(ev.eval(a[0], c).number() + 0.5))
		}},

		"current": {
			0, 0, func(ev *evaluation, _ context, _ []expr) value { return nodes([]Node{ev.current}) },
		},
		"re-match": {2, 2, reMatch},
		"deref":    {1, 1, deref},
		"derived-from": {
			2, 2, func(ev *evaluation, c context, a []expr) value { return derived(ev, c, a, false) },
		},
		"derived-from-or-self": {
			2, 2, func(ev *evaluation, c context, a []expr) value { return derived(ev, c, a, true) },
		},
		"enum-value": {1, 1, enumValue},
		"bit-is-set": {2, 2, bitIsSet},
	}
}

// set evaluates an argument that must be a set of nodes.
func (ev *evaluation) set(e expr, c context) []Node {
	v := ev.eval(e, c)
	if v.kind != isNodes {
		undecided("a function is given what is no set of nodes")
	}
	return v.nodes
}

// optional evaluates an argument that stands for the context node if left out.
func (ev *evaluation) optional(c context, args []expr) value {
	if len(args) == 0 {
		return nodes([]Node{c.node})
	}
	return ev.eval(args[0], c)
}

func (ev *evaluation) first(c context, args []expr, f func(*schema.Node) string) value {
	v := ev.optional(c, args)
	if v.kind != isNodes {
		undecided("a function is given what is no set of nodes")
	}
	if len(v.nodes) == 0 || v.nodes[0].Schema() == nil {
		return text("")
	}
	return text(f(v.nodes[0].Schema()))
}

func texts(f func(a, b string) value) func(*evaluation, context, []expr) value {
	return func(ev *evaluation, c context, a []expr) value {
		return f(ev.eval(a[0], c).text(), ev.eval(a[1], c).text())
	}
}

func concat(ev *evaluation, c context, args []expr) value {
	var b strings.Builder
	for _, a := range args {
		b.WriteString(ev.eval(a, c).text())
		ev.work(b.Len() / 64)
	}
	return text(b.String())
}

func substringBefore(a, b string) value {
	before, _, found := strings.Cut(a, b)
	if !found {
		return text("")
	}
	return text(before)
}

// substring counts characters from 1 and rounds (XPath 1.0 section 4.2).
func substring(ev *evaluation, c context, args []expr) value {
	runes := []rune(ev.eval(args[0], c).text())
	from := math.Floor(ev.eval(args[1], c).number() + 0.5)
	to := math.Inf(1)
	if len(args) == 3 {
		to = from + math.Floor(ev.eval(args[2], c).number()+0.5)
	}
	var b strings.Builder
	for i, r := range runes {
		if at := float64(i + 1); at >= from && at < to {
			b.WriteRune(r)
		}
	}
	return text(b.String())
}

func translate(ev *evaluation, c context, args []expr) value {
	from, to := []rune(ev.eval(args[1], c).text()), []rune(ev.eval(args[2], c).text())
	return text(strings.Map(func(r rune) rune {
		i := slices.Index(from, r)
		switch {
		case i < 0:
			return r
		case i < len(to):
			return to[i]
		}
		return -1
	}, ev.eval(args[0], c).text()))
}

// reMatch matches the whole string, as a pattern statement does (RFC 7950
// section 10.2.1).
func reMatch(ev *evaluation, c context, args []expr) value {
	pattern := ev.eval(args[1], c).text()
	re, ok := schema.CompilePattern(pattern)
	if !ok {
		undecided("the pattern %q has no counterpart here", pattern)
	}
	return boolean(re.MatchString(ev.eval(args[0], c).text()))
}

func deref(ev *evaluation, c context, args []expr) value {
	list := ev.set(args[0], c)
	if len(list) == 0 {
		return nodes(nil)
	}
	out, err := list[0].Deref()
	if err != nil {
		panic(failure{err})
	}
	return nodes(out)
}

// derived tells whether a node of the set has a value derived from an identity
// (RFC 7950 section 10.4).
func derived(ev *evaluation, c context, args []expr, orSelf bool) value {
	prefix, name, ok := strings.Cut(ev.eval(args[1], c).text(), ":")
	m := ev.names.Local
	if ok {
		m = ev.names.Prefixes[prefix]
	} else {
		name = prefix
	}
	if m == nil {
		undecided("the module of prefix %s is not at hand", prefix)
	}
	base := ev.names.Schema.Identity(m.Name, name)
	if base == nil {
		undecided("identity %s of module %s is not at hand", name, m.Name)
	}
	for _, n := range ev.set(args[0], c) {
		s := n.Schema()
		if s == nil || !s.IsLeaf() || ev.names.Schema.Concrete(s.Type, n.Text()).Base != schema.IdentityRef {
			continue
		}
		module, name, _ := strings.Cut(n.Text(), ":")
		if id := ev.names.Schema.Identity(module, name); id != nil && (id.Derived(base) || orSelf && id == base) {
			return boolean(true)
		}
	}
	return boolean(false)
}

func enumValue(ev *evaluation, c context, args []expr) value {
	list := ev.set(args[0], c)
	if len(list) > 0 && list[0].Schema() != nil && list[0].Schema().IsLeaf() {
		for _, e := range ev.names.Schema.Concrete(list[0].Schema().Type, list[0].Text()).Enums {
			if e.Name == list[0].Text() {
				return number(float64(e.Value))
			}
		}
	}
	return number(math.NaN())
}

func bitIsSet(ev *evaluation, c context, args []expr) value {
	bit := ev.eval(args[1], c).text()
	list := ev.set(args[0], c)
	if len(list) == 0 || list[0].Schema() == nil || !list[0].Schema().IsLeaf() {
		return boolean(false)
	}
	if ev.names.Schema.Concrete(list[0].Schema().Type, list[0].Text()).Base != schema.Bits {
		return boolean(false)
	}
	return boolean(slices.Contains(strings.Fields(list[0].Text()), bit))
}
