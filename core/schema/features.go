package schema

import (
	"strings"

	"github.com/openconfig/goyang/pkg/yang"
)

// enabled evaluates the if-feature statements of st (RFC 7950 section 7.20.2).
func (c *compiler) enabled(st *yang.Statement, sc *scope) bool {
	for _, f := range all(st, "if-feature") {
		e := featureExpr{c: c, sc: sc, words: featureWords(f.Argument)}
		if !e.or() {
			return false
		}
	}
	return true
}

func featureWords(text string) []string {
	text = strings.NewReplacer("(", " ( ", ")", " ) ").Replace(text)
	return strings.Fields(text)
}

type featureExpr struct {
	c     *compiler
	sc    *scope
	words []string
	depth int
}

func (e *featureExpr) next(word string) bool {
	if len(e.words) > 0 && e.words[0] == word {
		e.words = e.words[1:]
		return true
	}
	return false
}

func (e *featureExpr) or() bool {
	v := e.and()
	for e.next("or") {
		w := e.and()
		v = v || w
	}
	return v
}

func (e *featureExpr) and() bool {
	v := e.not()
	for e.next("and") {
		w := e.not()
		v = v && w
	}
	return v
}

func (e *featureExpr) not() bool {
	if e.depth++; e.depth > maxDepth {
		return false // nobody writes that: what it guards is left out
	}
	defer func() { e.depth-- }()
	if e.next("not") {
		return !e.not()
	}
	if e.next("(") {
		v := e.or()
		e.next(")")
		return v
	}
	if len(e.words) == 0 {
		return false
	}
	prefix, name := splitName(e.words[0])
	e.words = e.words[1:]
	m, err := e.sc.module(prefix)
	return err == nil && e.c.supported(m, name)
}

// supported reports whether a feature and those it depends on are there.
func (c *compiler) supported(m *Module, name string) bool {
	if on, told := c.features[m.Name+":"+name]; !on && (told || !c.opt.AllFeatures) {
		return false
	}
	top := c.tops[m]
	if top == nil {
		return true
	}
	for _, part := range top.parts {
		for _, f := range all(part.stmt, "feature") {
			if f.Argument == name && len(all(f, "if-feature")) > 0 {
				c.features[m.Name+":"+name] = false // a feature that needs itself is not there
				ok := c.enabled(f, &scope{unit: part, outer: top})
				c.features[m.Name+":"+name] = ok
				return ok
			}
		}
	}
	return true
}
