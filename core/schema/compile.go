package schema

import (
	"fmt"
	"sort"
	"strings"

	"github.com/openconfig/goyang/pkg/yang"
)

// Source is the text of one module or submodule as a device handed it out.
type Source struct {
	Name, Revision string // as asked for; used in messages
	Text           string
}

// Options say what the device told about its modules.
type Options struct {
	Features    map[string][]string // supported features by module name
	AllFeatures bool                // every feature is supported, where no device says which are
	ImportOnly  map[string]bool     // modules that are only there for others to import, by name
}

// Compile makes a schema of a set of modules. It never fails: what it cannot
// understand is in the result's Problems.
func Compile(sources []Source, opt Options) *Schema {
	c := &compiler{
		s: &Schema{
			byName: map[string]*Module{}, byNS: map[string]*Module{}, idents: map[identKey]*Identity{},
		},
		opt:        opt,
		modules:    map[string][]*unit{},
		subs:       map[string]*unit{},
		tops:       map[*Module]*scope{},
		features:   map[string]bool{},
		config:     map[*Node]bool{},
		checking:   map[*yang.Statement]bool{},
		scopes:     map[*Node]map[string]*Module{},
		operations: map[operation]bool{},
	}
	c.load(sources)
	c.link()
	c.identities()
	for _, u := range c.inOrder() {
		if u.module.Implemented {
			sc := c.tops[u.module]
			for _, part := range sc.parts {
				c.roots = append(
					c.roots, c.build(part.stmt.SubStatements(), &scope{unit: part, outer: sc}, u.module, nil)...,
				)
			}
		}
	}
	c.annotations()
	c.augments()
	c.deviations()
	c.inherit(c.roots, true)
	c.s.roots, c.s.index = finish(nil, c.roots)
	hide(c.s.roots, false)
	for _, n := range c.roots {
		if n.Kind == Choice {
			c.s.choices = append(c.s.choices, n)
		}
	}
	c.s.Walk(c.aim)
	sort.Slice(c.s.Modules, func(i, j int) bool { return c.s.Modules[i].Name < c.s.Modules[j].Name })
	return c.s
}

// Dependencies lists the modules that a module's text imports and the
// submodules it includes; none where the text cannot be read.
func Dependencies(text string) []string {
	if readable(text) != nil {
		return nil
	}
	stmts, err := yang.Parse(text, "")
	if err != nil {
		return nil
	}
	var out []string
	for _, st := range stmts {
		for _, keyword := range []string{"import", "include"} {
			for _, dep := range all(st, keyword) {
				out = append(out, dep.Argument)
			}
		}
	}
	return out
}

// unit is one parsed module or submodule.
type unit struct {
	name     string
	stmt     *yang.Statement
	module   *Module            // a submodule's is the one it belongs to
	prefixes map[string]*Module // nil values are imports that are missing
	includes []string
	missing  map[string]string // prefix -> module that was not handed out
}

// def is a typedef or grouping with the scope it stands in.
type def struct {
	stmt  *yang.Statement
	scope *scope
}

// scope is the lexical scope of typedefs and groupings (RFC 7950 section 5.5).
type scope struct {
	unit      *unit
	outer     *scope
	typedefs  map[string]def
	groupings map[string]def
	parts     []*unit // of a module's outermost scope: itself and its submodules
}

type compiler struct {
	s          *Schema
	opt        Options
	modules    map[string][]*unit // newest revision first
	subs       map[string]*unit
	tops       map[*Module]*scope
	features   map[string]bool
	config     map[*Node]bool // explicit config statements
	roots      []*Node
	depth      int
	work       int
	spent      bool
	statements int
	operations map[operation]bool
	checking   map[*yang.Statement]bool     // typedefs being resolved, to stop cycles
	scopes     map[*Node]map[string]*Module // prefixes where a node's default stands
}

func (c *compiler) problem(u *unit, st *yang.Statement, format string, args ...any) {
	p := Problem{Msg: fmt.Sprintf(format, args...)}
	if u != nil {
		p.Module = u.name
	}
	if st != nil {
		p.Where = st.Location()
	}
	c.s.Problems = append(c.s.Problems, p)
}

func arg(st *yang.Statement, keyword string) string {
	if sub := first(st, keyword); sub != nil {
		return sub.Argument
	}
	return ""
}

func first(st *yang.Statement, keyword string) *yang.Statement {
	for _, sub := range st.SubStatements() {
		if sub.Keyword == keyword {
			return sub
		}
	}
	return nil
}

func all(st *yang.Statement, keyword string) []*yang.Statement {
	var out []*yang.Statement
	for _, sub := range st.SubStatements() {
		if sub.Keyword == keyword {
			out = append(out, sub)
		}
	}
	return out
}

// load parses the texts and makes a unit of each.
func (c *compiler) load(sources []Source) {
	seen := map[string]bool{}
	for _, src := range sources {
		err := readable(src.Text)
		var stmts []*yang.Statement
		if err == nil {
			stmts, err = yang.Parse(src.Text, src.Name)
		}
		if err != nil || len(stmts) != 1 {
			if err == nil {
				err = fmt.Errorf("holds %d statements where one module belongs", len(stmts))
			}
			c.s.Problems = append(c.s.Problems, Problem{Module: src.Name, Msg: "cannot be read: " + err.Error()})
			continue
		}
		st := stmts[0]
		c.statements += count(st)
		u := &unit{name: st.Argument, stmt: st, prefixes: map[string]*Module{}, missing: map[string]string{}}
		for _, inc := range all(st, "include") {
			u.includes = append(u.includes, inc.Argument)
		}
		revision := ""
		for _, r := range all(st, "revision") {
			revision = max(revision, r.Argument)
		}
		if seen[st.Keyword+st.Argument+revision] {
			continue
		}
		seen[st.Keyword+st.Argument+revision] = true
		switch st.Keyword {
		case "module":
			u.module = &Module{
				Name: st.Argument, Namespace: arg(st, "namespace"), Prefix: arg(st, "prefix"), Revision: revision,
				Implemented: !c.opt.ImportOnly[st.Argument],
			}
			c.modules[u.name] = append(c.modules[u.name], u)
		case "submodule":
			c.subs[u.name] = u
		default:
			c.s.Problems = append(c.s.Problems, Problem{Module: src.Name, Msg: "is neither a module nor a submodule"})
		}
	}
	for name, units := range c.modules {
		sort.SliceStable(units, func(i, j int) bool { return units[i].module.Revision > units[j].module.Revision })
		for i, u := range units {
			if i > 0 {
				u.module.Implemented = false // one revision of a module is implemented
				continue
			}
			c.s.Modules = append(c.s.Modules, u.module)
			c.s.byName[name] = u.module
			c.s.byNS[u.module.Namespace] = u.module
		}
	}
}

func (c *compiler) inOrder() []*unit {
	var out []*unit
	for _, units := range c.modules {
		out = append(out, units...)
	}
	sort.Slice(out, func(i, j int) bool {
		if out[i].name != out[j].name {
			return out[i].name < out[j].name
		}
		return out[i].module.Revision > out[j].module.Revision
	})
	return out
}

// link resolves imports and includes and gathers each module's outermost scope.
func (c *compiler) link() {
	for _, u := range c.inOrder() {
		sc := &scope{unit: u, typedefs: map[string]def{}, groupings: map[string]def{}}
		c.tops[u.module] = sc
		done := map[string]bool{}
		var take func(part *unit)
		take = func(part *unit) {
			part.module = u.module
			sc.parts = append(sc.parts, part)
			c.imports(part)
			inner := &scope{unit: part, outer: sc}
			collect(part.stmt, inner, sc)
			for _, name := range part.includes {
				if done[name] {
					continue
				}
				done[name] = true
				if sub := c.subs[name]; sub != nil {
					take(sub)
				} else {
					c.problem(part, nil, "submodule %s was not handed out by the device", name)
				}
			}
		}
		take(u)
	}
	for name, list := range c.opt.Features {
		for _, f := range list {
			c.features[name+":"+f] = true
		}
	}
}

// collect puts the typedefs and groupings directly in st into sc; they will be
// resolved in scope inner.
func collect(st *yang.Statement, inner, sc *scope) {
	for _, sub := range st.SubStatements() {
		switch sub.Keyword {
		case "typedef":
			if sc.typedefs == nil {
				sc.typedefs = map[string]def{}
			}
			sc.typedefs[sub.Argument] = def{sub, inner}
		case "grouping":
			if sc.groupings == nil {
				sc.groupings = map[string]def{}
			}
			sc.groupings[sub.Argument] = def{sub, inner}
		}
	}
}

func (c *compiler) imports(u *unit) {
	own := u.module.Prefix
	if bt := first(u.stmt, "belongs-to"); bt != nil {
		own = arg(bt, "prefix")
	}
	u.prefixes[own] = u.module
	u.prefixes[""] = u.module
	for _, imp := range all(u.stmt, "import") {
		prefix, want := arg(imp, "prefix"), arg(imp, "revision-date")
		units := c.modules[imp.Argument]
		if len(units) == 0 {
			u.missing[prefix] = imp.Argument
			c.problem(u, nil, "imports %s, which was not handed out by the device", imp.Argument)
			continue
		}
		pick := units[0]
		for _, cand := range units {
			if want != "" && cand.module.Revision == want {
				pick = cand
			}
		}
		u.prefixes[prefix] = pick.module
	}
}

// inside opens the scope of a statement that may hold typedefs and groupings.
func inside(st *yang.Statement, outer *scope) *scope {
	sc := &scope{unit: outer.unit, outer: outer}
	collect(st, sc, sc)
	if sc.typedefs == nil && sc.groupings == nil {
		return outer
	}
	return sc
}

// module resolves a prefix; the error names the module that is missing.
func (sc *scope) module(prefix string) (*Module, error) {
	if m := sc.unit.prefixes[prefix]; m != nil {
		return m, nil
	}
	if name := sc.unit.missing[prefix]; name != "" {
		return nil, fmt.Errorf("needs module %s, which was not handed out by the device", name)
	}
	return nil, fmt.Errorf("prefix %q is not declared in %s", prefix, sc.unit.name)
}

func splitName(qname string) (prefix, name string) {
	if p, n, ok := strings.Cut(qname, ":"); ok {
		return p, n
	}
	return "", qname
}

// find looks a typedef or grouping up, lexically and then by import.
func (c *compiler) find(qname string, sc *scope, pick func(*scope) map[string]def) (def, error) {
	prefix, name := splitName(qname)
	m, err := sc.module(prefix)
	if err != nil {
		return def{}, err
	}
	if m == sc.unit.module {
		for s := sc; s != nil; s = s.outer {
			if d, ok := pick(s)[name]; ok {
				return d, nil
			}
		}
	}
	if top := c.tops[m]; top != nil {
		if d, ok := pick(top)[name]; ok {
			return d, nil
		}
	}
	return def{}, fmt.Errorf("%s is not defined in module %s", name, m.Name)
}

// identities makes all identities and their derivation.
func (c *compiler) identities() {
	type pending struct {
		id *Identity
		st *yang.Statement
		sc *scope
	}
	var todo []pending
	for _, u := range c.inOrder() {
		top := c.tops[u.module]
		if c.s.byName[u.name] != u.module {
			continue
		}
		for _, part := range top.parts {
			sc := &scope{unit: part, outer: top}
			for _, st := range all(part.stmt, "identity") {
				if !c.enabled(st, sc) {
					continue
				}
				id := &Identity{Module: u.module, Name: st.Argument, below: map[*Identity]bool{}}
				c.s.idents[identKey{u.name, st.Argument}] = id
				todo = append(todo, pending{id, st, sc})
			}
		}
	}
	for _, p := range todo {
		for _, b := range all(p.st, "base") {
			base, err := c.identity(b.Argument, p.sc)
			if err != nil {
				c.problem(p.sc.unit, b, "identity %s: %v", p.id.Name, err)
				continue
			}
			p.id.Bases = append(p.id.Bases, base)
		}
	}
	for _, p := range todo {
		var up func(id *Identity)
		up = func(id *Identity) {
			for _, b := range id.Bases {
				if !b.below[p.id] && b != p.id && c.spend(1) {
					b.below[p.id] = true
					up(b)
				}
			}
		}
		up(p.id)
	}
}

func (c *compiler) identity(qname string, sc *scope) (*Identity, error) {
	prefix, name := splitName(qname)
	m, err := sc.module(prefix)
	if err != nil {
		return nil, err
	}
	if id := c.s.idents[identKey{m.Name, name}]; id != nil {
		return id, nil
	}
	return nil, fmt.Errorf("identity %s is not defined in module %s", name, m.Name)
}

// annotations gathers the metadata that modules define (RFC 7952 section 3).
func (c *compiler) annotations() {
	for _, u := range c.inOrder() {
		for _, part := range c.tops[u.module].parts {
			sc := &scope{unit: part, outer: c.tops[u.module]}
			for _, st := range part.stmt.SubStatements() {
				prefix, keyword := splitName(st.Keyword)
				if m, err := sc.module(prefix); prefix == "" || keyword != "annotation" || err != nil ||
					m.Namespace != metadataNS || !c.enabled(st, sc) {
					continue
				}
				t := &Type{Base: String, Name: string(String)}
				if sub := first(st, "type"); sub != nil {
					var err error
					if t, err = c.typ(sub, sc); err != nil {
						c.problem(part, st, "annotation %s: %v", st.Argument, err)
						continue
					}
				}
				if u.module.Annotations == nil {
					u.module.Annotations = map[string]*Type{}
				}
				u.module.Annotations[st.Argument] = t
			}
		}
	}
}

// metadataNS is the namespace of the extension that defines annotations.
const metadataNS = "urn:ietf:params:xml:ns:yang:ietf-yang-metadata"
