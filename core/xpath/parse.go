package xpath

import (
	"fmt"
	"strings"

	"oakenlatch/core/schema"
)

// expr is a node of the syntax tree.
type expr interface{}

type (
	binary struct {
		op          string
		left, right expr
	}
	negated struct{ of expr }
	literal string
	numeral float64
	call    struct {
		name string
		args []expr
	}
	// filtered is a primary expression with predicates and steps behind it.
	filtered struct {
		of         expr
		predicates []expr
		steps      []step
	}
	path struct {
		absolute bool
		steps    []step
	}
)

type step struct {
	axis       string
	any        bool // node(): any node; with name "" and any false a wildcard
	text       bool // text()
	none       bool // comment() and the like: YANG data has none
	module     *schema.Module
	name       string
	predicates []expr
}

// maxNesting bounds how deep expressions may be nested.
const maxNesting = 200

// Parse reads an expression.
func Parse(src string, names Names) (e *Expr, err error) {
	p := &parser{src: src, names: names}
	defer func() {
		if r := recover(); r != nil {
			f, ok := r.(failure)
			if !ok {
				panic(r)
			}
			e, err = nil, f.err
		}
	}()
	p.lex()
	root := p.or()
	if p.at < len(p.tokens) {
		p.fail("%q is left over", p.tokens[p.at].text)
	}
	return &Expr{text: src, names: names, root: root}, nil
}

type tokenKind uint8

const (
	isName tokenKind = iota + 1 // with its prefix; or *
	isOperator
	isLiteral
	isNumeral
	isPunctuation
	isFunction // a name before (
	isAxis     // a name before ::
)

type token struct {
	kind tokenKind
	text string
	at   int
}

type parser struct {
	src    string
	names  Names
	tokens []token
	at     int
	depth  int
}

func (p *parser) fail(format string, args ...any) {
	panic(failure{fmt.Errorf("XPath %q: %s", p.src, fmt.Sprintf(format, args...))})
}

func nameByte(c byte, first bool) bool {
	return c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80 ||
		!first && (c == '-' || c == '.' || c >= '0' && c <= '9')
}

func (p *parser) word(i int) int {
	for j := i; j < len(p.src); j++ {
		if !nameByte(p.src[j], j == i) {
			return j
		}
	}
	return len(p.src)
}

// operand reports whether the token before ends an operand, so that a name or
// star is an operator (XPath 1.0 section 3.7).
func (p *parser) operand() bool {
	if len(p.tokens) == 0 {
		return false
	}
	switch t := p.tokens[len(p.tokens)-1]; t.kind {
	case isName, isLiteral, isNumeral:
		return true
	case isPunctuation:
		return t.text == ")" || t.text == "]" || t.text == "." || t.text == ".."
	}
	return false
}

func (p *parser) lex() {
	add := func(k tokenKind, from, to int) {
		p.tokens = append(p.tokens, token{k, p.src[from:to], from})
	}
	for i := 0; i < len(p.src); {
		c := p.src[i]
		two := p.src[i:min(i+2, len(p.src))]
		switch {
		case strings.IndexByte(" \t\r\n", c) >= 0:
			i++
		case c == '"' || c == '\'':
			end := strings.IndexByte(p.src[i+1:], c)
			if end < 0 {
				p.fail("the quote at %d is not closed", i+1)
			}
			add(isLiteral, i+1, i+1+end)
			i += end + 2
		case c >= '0' && c <= '9', c == '.' && len(two) == 2 && two[1] >= '0' && two[1] <= '9':
			j := i
			for j < len(p.src) && (p.src[j] >= '0' && p.src[j] <= '9' || p.src[j] == '.') {
				j++
			}
			add(isNumeral, i, j)
			i = j
		case two == "!=" || two == "<=" || two == ">=" || two == "//":
			add(isOperator, i, i+2)
			i += 2
		case two == ".." || two == "::":
			add(isPunctuation, i, i+2)
			i += 2
		case strings.IndexByte("=<>|+-/", c) >= 0:
			add(isOperator, i, i+1)
			i++
		case strings.IndexByte("()[].@,", c) >= 0:
			add(isPunctuation, i, i+1)
			i++
		case c == '*':
			if p.operand() {
				add(isOperator, i, i+1)
			} else {
				add(isName, i, i+1)
			}
			i++
		case nameByte(c, true):
			i = p.lexName(i, add)
		default:
			p.fail("%q at %d has no meaning", string(c), i+1)
		}
	}
}

func (p *parser) lexName(i int, add func(tokenKind, int, int)) int {
	end := p.word(i)
	if p.operand() {
		switch p.src[i:end] {
		case "and", "or", "mod", "div":
			add(isOperator, i, end)
			return end
		}
		p.fail("%q stands where an operator belongs", p.src[i:end])
	}
	if end+1 < len(p.src) && p.src[end] == ':' && (nameByte(p.src[end+1], true) || p.src[end+1] == '*') {
		if p.src[end+1] == '*' {
			end += 2
		} else {
			end = p.word(end + 1)
		}
	}
	rest := strings.TrimLeft(p.src[end:], " \t\r\n")
	switch {
	case strings.HasPrefix(rest, "::"):
		add(isAxis, i, end)
	case strings.HasPrefix(rest, "("):
		add(isFunction, i, end)
	default:
		add(isName, i, end)
	}
	return end
}

func (p *parser) peek() token {
	if p.at < len(p.tokens) {
		return p.tokens[p.at]
	}
	return token{}
}

func (p *parser) take(kind tokenKind, texts ...string) (string, bool) {
	t := p.peek()
	if t.kind != kind {
		return "", false
	}
	for _, want := range texts {
		if t.text == want {
			p.at++
			return want, true
		}
	}
	return "", false
}

func (p *parser) expect(text string) {
	if _, ok := p.take(isPunctuation, text); !ok {
		p.fail("%q stands where %s belongs", p.peek().text, text)
	}
}

// The levels of precedence, loosest first (XPath 1.0 section 3.5).
var levels = [][]string{{"or"}, {"and"}, {"=", "!="}, {"<", "<=", ">", ">="}, {"+", "-"}, {"*", "div", "mod"}}

func (p *parser) or() expr {
	if p.depth++; p.depth > maxNesting {
		p.fail("nested deeper than %d", maxNesting)
	}
	defer func() { p.depth-- }()
	return p.level(0)
}

func (p *parser) level(l int) expr {
	if l == len(levels) {
		return p.unary()
	}
	left := p.level(l + 1)
	for {
		op, ok := p.take(isOperator, levels[l]...)
		if !ok {
			return left
		}
		left = binary{op, left, p.level(l + 1)}
	}
}

func (p *parser) unary() expr {
	minus := 0
	for {
		if _, ok := p.take(isOperator, "-"); !ok {
			break
		}
		minus++
	}
	left := p.path()
	for {
		if _, ok := p.take(isOperator, "|"); !ok {
			break
		}
		left = binary{"|", left, p.path()}
	}
	for range min(minus, 2-minus%2) {
		left = negated{left}
	}
	return left
}

func (p *parser) path() expr {
	t := p.peek()
	switch {
	case t.kind == isFunction && t.text != "node" && t.text != "text" && t.text != "comment" &&
		t.text != "processing-instruction",
		t.kind == isLiteral, t.kind == isNumeral, t.kind == isPunctuation && t.text == "(":
		f := filtered{of: p.primary()}
		f.predicates = p.predicates()
		if op, ok := p.take(isOperator, "/", "//"); ok {
			f.steps = p.steps(op == "//")
		}
		if len(f.predicates) == 0 && len(f.steps) == 0 {
			return f.of
		}
		return f
	}
	if op, ok := p.take(isOperator, "/", "//"); ok {
		if op == "/" && !p.startsStep() {
			return path{absolute: true}
		}
		return path{absolute: true, steps: p.steps(op == "//")}
	}
	return path{steps: p.steps(false)}
}

func (p *parser) startsStep() bool {
	t := p.peek()
	switch t.kind {
	case isName, isAxis, isFunction:
		return true
	case isPunctuation:
		return t.text == "." || t.text == ".." || t.text == "@"
	}
	return false
}

func (p *parser) primary() expr {
	t := p.peek()
	p.at++
	switch t.kind {
	case isLiteral:
		return literal(t.text)
	case isNumeral:
		if strings.Count(t.text, ".") > 1 {
			p.fail("%q is no number", t.text)
		}
		return numeral(parseNumber(t.text))
	case isFunction:
		c := call{name: t.text}
		p.expect("(")
		if _, ok := p.take(isPunctuation, ")"); ok {
			p.known(c)
			return c
		}
		for {
			c.args = append(c.args, p.or())
			if _, ok := p.take(isPunctuation, ","); !ok {
				break
			}
		}
		p.expect(")")
		p.known(c)
		return c
	}
	e := p.or()
	p.expect(")")
	return e
}

// known refuses functions that do not exist or are called wrongly.
func (p *parser) known(c call) {
	f, ok := functions[c.name]
	switch {
	case !ok:
		panic(failure{fmt.Errorf("%w: XPath %q calls %s(), which is not known", ErrUndecided, p.src, c.name)})
	case len(c.args) < f.least || len(c.args) > f.most:
		p.fail("%s() takes %d to %d arguments, got %d", c.name, f.least, f.most, len(c.args))
	}
}

func (p *parser) predicates() []expr {
	var out []expr
	for {
		if _, ok := p.take(isPunctuation, "["); !ok {
			return out
		}
		out = append(out, p.or())
		p.expect("]")
	}
}

var everything = step{axis: "descendant-or-self", any: true}

func (p *parser) steps(deep bool) []step {
	var out []step
	for {
		if deep {
			out = append(out, everything)
		}
		out = append(out, p.step())
		op, ok := p.take(isOperator, "/", "//")
		if !ok {
			return out
		}
		deep = op == "//"
	}
}

var axes = map[string]bool{
	"child": true, "parent": true, "self": true, "descendant": true, "descendant-or-self": true, "ancestor": true,
	"ancestor-or-self": true, "following": true, "following-sibling": true, "preceding": true,
	"preceding-sibling": true, "attribute": true, "namespace": true,
}

func (p *parser) step() step {
	if _, ok := p.take(isPunctuation, "."); ok {
		return step{axis: "self", any: true}
	}
	if _, ok := p.take(isPunctuation, ".."); ok {
		return step{axis: "parent", any: true}
	}
	s := step{axis: "child"}
	t := p.peek()
	if _, ok := p.take(isPunctuation, "@"); ok {
		s.axis = "attribute"
	} else if t.kind == isAxis {
		if !axes[t.text] {
			p.fail("%s is no axis", t.text)
		}
		s.axis = t.text
		p.at++
		p.expect("::")
	}
	t = p.peek()
	p.at++
	switch t.kind {
	case isFunction:
		p.expect("(")
		p.take(isLiteral, p.peek().text)
		p.expect(")")
		switch t.text {
		case "node":
			s.any = true
		case "text":
			s.text = true
		default:
			s.none = true
		}
	case isName:
		p.test(&s, t.text)
	default:
		p.fail("%q stands where a step belongs", t.text)
	}
	s.predicates = p.predicates()
	return s
}

func (p *parser) test(s *step, name string) {
	prefix, local, ok := strings.Cut(name, ":")
	if !ok {
		prefix, local = "", name
	}
	if local != "*" {
		s.name = local
	}
	switch {
	case prefix != "":
		if s.module = p.names.Prefixes[prefix]; s.module == nil {
			panic(
				failure{
					fmt.Errorf("%w: XPath %q: the module of prefix %s is not at hand", ErrUndecided, p.src, prefix),
				},
			)
		}
	case local != "*":
		s.module = p.names.Local
	}
}
