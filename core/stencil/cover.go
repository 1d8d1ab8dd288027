package stencil

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"oakenlatch/core/redact"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// Cover hides the secrets in stencils from those who may not see them, line by
// line, and knows its lines again. What is secret say the schemas that know a line;
// where none does, its name. A nil redactor hides nothing.
type Cover struct {
	Redactor *redact.Redactor
	Schemas  []*schema.Schema
}

// secret is what the lines of a stencil hide: whether a line does, by its number
// from 0, and which blanks stand in such lines, and which in others. Shared values
// are named with the @.
type secret struct {
	lines         map[int]bool
	covered, open map[string]bool
}

func (c Cover) look(st *Stencil) secret {
	out := secret{map[int]bool{}, map[string]bool{}, map[string]bool{}}
	type level struct {
		indent int
		name   string
		hidden bool // what stands below is, in the lines of its text
		xml    bool
	}
	var way []level
	for i, l := range st.lines {
		if l.idle {
			continue
		}
		for len(way) > 0 && way[len(way)-1].indent >= l.indent {
			way = way[:len(way)-1]
		}
		if l.block {
			if len(way) > 0 {
				up := way[len(way)-1]
				out.lines[i] = up.hidden || up.xml && c.Redactor.XML(l.text) != l.text
			}
		} else {
			name, rest := head(l.text)
			at := level{indent: l.indent, name: name, xml: l.text[0] == '?'}
			way = append(way, at)
			if strings.HasPrefix(rest, ":") {
				names := make([]string, len(way))
				for j, w := range way {
					names[j] = w.name
				}
				way[len(way)-1].hidden = c.secret(names)
				out.lines[i] = way[len(way)-1].hidden
			}
		}
		part := len(way) > 0 && way[len(way)-1].xml // some of the line is read by everybody
		for _, m := range blankForm.FindAllStringSubmatch(l.text, -1) {
			if m[0] == "{{" {
				continue
			}
			if out.lines[i] {
				out.covered[m[1]+m[2]] = true
			}
			if !out.lines[i] || part {
				out.open[m[1]+m[2]] = true
			}
		}
	}
	return out
}

// secret reports whether the leaf at the end of a way holds secrets.
func (c Cover) secret(way []string) bool {
	known := false
	for _, s := range c.Schemas {
		var n *schema.Node
		var err error
		for _, name := range way {
			if n, err = childNamed(s, n, name); err != nil {
				break
			}
		}
		if err == nil && n.Secret() {
			return true
		}
		known = known || err == nil
	}
	return !known && schema.SecretAt(way)
}

// childNamed is tree.ChildNamed with an error that is nil where there is none.
func childNamed(s *schema.Schema, parent *schema.Node, name string) (*schema.Node, error) {
	n, err := tree.ChildNamed(s, parent, name)
	if err != nil {
		return nil, err
	}
	return n, nil
}

// Text gives a stencil's text with names in the place of its secrets. Blanks hide
// nothing, and stay.
func (c Cover) Text(text string) string {
	st, err := Parse(text)
	if err != nil || c.Redactor == nil {
		return text
	}
	hidden := c.look(st).lines
	lines := cut(text)
	for i := range lines {
		if hidden[i] {
			lines[i] = c.line(lines[i])
		}
	}
	return strings.Join(lines, "\n")
}

// cut gives the lines of a text, however they end.
func cut(text string) []string {
	lines := strings.Split(text, "\n")
	for i, l := range lines {
		lines[i] = strings.TrimRight(l, "\r")
	}
	return lines
}

// line hides what a line holds.
func (c Cover) line(raw string) string {
	body := strings.TrimLeft(raw, " ")
	pad := raw[:len(raw)-len(body)]
	name, rest := "|", strings.TrimPrefix(body, "|")
	switch {
	case !strings.HasPrefix(body, "|"):
		name, rest = head(body)
		name, rest = name+":", rest[1:]
	case c.Redactor.XML(body) != body:
		return pad + c.Redactor.XML(body)
	}
	value := strings.TrimSpace(rest)
	if value == "|" || strings.TrimSpace(
		strings.Trim(blankForm.ReplaceAllString(value, ""), `"`),
	) == "" && !strings.Contains(value, "{{") {
		return raw // blanks alone, or its text follows
	}
	return pad + name + " " + c.Redactor.Name(value)
}

// Lift gives what a text means that was written through the cover: a line with the
// name of a hidden value is the one that has it in a former version, and hides it
// here, too.
func (c Cover) Lift(text string, former ...string) (string, error) {
	if !strings.Contains(text, redact.Prefix) {
		return text, nil
	}
	meant := map[string]string{}
	for _, f := range former {
		shown := cut(c.Text(f))
		for i, raw := range cut(f) {
			if raw != shown[i] {
				meant[strings.TrimSpace(shown[i])] = strings.TrimLeft(raw, " ") // what stands behind a value is of it
			}
		}
	}
	given, lines := cut(text), cut(text)
	for i, l := range lines {
		body := strings.TrimSpace(l)
		if raw, ok := meant[body]; ok {
			lines[i] = strings.Repeat(" ", len(l)-len(strings.TrimLeft(l, " "))) + raw
		} else if strings.Contains(body, redact.Prefix) && !strings.HasPrefix(body, "#") {
			return "", fail(i+1, "%v", redact.ErrUnknown)
		}
	}
	lifted := strings.Join(lines, "\n")
	again := cut(c.Text(lifted))
	for i := range lines {
		if lines[i] != given[i] && strings.TrimSpace(again[i]) != strings.TrimSpace(given[i]) {
			return "", fail(i+1, "a hidden value cannot be put where everybody reads it; give a value")
		}
	}
	return lifted, nil
}

// Covered names the blanks of a text that stand where secrets do, and Open those
// that stand elsewhere; shared values with the @.
func (c Cover) Covered(text string) map[string]bool { return c.of(text).covered }

// Open is told of at Covered.
func (c Cover) Open(text string) map[string]bool { return c.of(text).open }

func (c Cover) of(text string) secret {
	st, err := Parse(text)
	if err != nil {
		return secret{}
	}
	return c.look(st)
}

// HoldsSecrets reports whether a text holds secrets of its own, and not in blanks
// alone.
func (c Cover) HoldsSecrets(text string) bool { return c.Text(text) != text }

// Values gives the values for blanks with names in the place of secrets.
func (c Cover) Values(text string, values map[string]string) map[string]string {
	if c.Redactor == nil || len(values) == 0 {
		return values
	}
	out, hidden := maps.Clone(values), c.Covered(text)
	for name, v := range values {
		if hidden[name] && v != "" {
			out[name] = c.Redactor.Name(v)
		}
	}
	return out
}

// Error gives an error about a filled-in text without the secrets in it: neither
// those of the text nor those that were filled in.
func (c Cover) Error(err error, text string, values map[string]string, shared map[string][]string) error {
	if err == nil || c.Redactor == nil {
		return err
	}
	var secrets []string
	shown := cut(c.Text(text))
	for i, raw := range cut(text) {
		if raw != shown[i] {
			_, value, _ := strings.Cut(raw, " ")
			if name, rest := head(strings.TrimSpace(raw)); name != "" {
				value = rest
			}
			secrets = append(secrets, strings.Trim(strings.TrimSpace(strings.TrimLeft(value, ":|")), `"`))
		}
	}
	for name := range c.Covered(text) {
		if plain, ok := strings.CutPrefix(name, "@"); ok {
			secrets = append(secrets, shared[plain]...)
		} else {
			secrets = append(secrets, values[name])
		}
	}
	told := err.Error()
	slices.SortFunc(secrets, func(a, b string) int { return len(b) - len(a) })
	for _, s := range secrets {
		told = c.Redactor.Hide(told, s)
	}
	if told == err.Error() {
		return err
	}
	return fmt.Errorf("%s", told)
}
