package schema

import (
	"fmt"
	"strings"
)

// Instance is an instance-identifier (RFC 7950 section 9.13): the way to one
// node of data.
type Instance []InstanceStep

// InstanceStep is one node on the way.
type InstanceStep struct {
	Module, Name string // the module's name
	Keys         []InstanceKey
}

// InstanceKey is one predicate: a key leaf's value, a leaf-list's own value
// (Name is "."), or a position (Name is empty), counted from 1.
type InstanceKey struct{ Module, Name, Value string }

// ParseInstance reads an instance-identifier. A name without a prefix is of
// the module of the name before it (RFC 7951 section 6.11).
func ParseInstance(value string, resolve Resolver) (Instance, error) {
	p := instanceParser{rest: strings.TrimSpace(value), resolve: resolve}
	if !strings.HasPrefix(p.rest, "/") {
		return nil, fmt.Errorf("%q is not an absolute path", value)
	}
	var out Instance
	for p.rest != "" {
		if !p.take("/") {
			return nil, fmt.Errorf("%q: %q stands where / or [ belongs", value, p.rest)
		}
		m, name, err := p.name()
		if err != nil {
			return nil, fmt.Errorf("%q: %w", value, err)
		}
		step := InstanceStep{Module: m, Name: name}
		p.module = m
		for p.take("[") {
			k, err := p.key()
			if err != nil {
				return nil, fmt.Errorf("%q: %w", value, err)
			}
			step.Keys = append(step.Keys, k)
		}
		out = append(out, step)
	}
	return out, nil
}

type instanceParser struct {
	rest    string
	module  string // of the step before
	resolve Resolver
}

func (p *instanceParser) take(token string) bool {
	rest, ok := strings.CutPrefix(strings.TrimLeft(p.rest, " \t\r\n"), token)
	if ok {
		p.rest = rest
	}
	return ok
}

func (p *instanceParser) name() (module, name string, err error) {
	p.rest = strings.TrimLeft(p.rest, " \t\r\n")
	end := 0
	for end < len(p.rest) && (isNameByte(p.rest[end]) || p.rest[end] == ':') {
		end++
	}
	word := p.rest[:end]
	p.rest = p.rest[end:]
	prefix, name, found := strings.Cut(word, ":")
	if !found {
		prefix, name = "", word
	}
	switch {
	case name == "" || strings.Contains(name, ":"):
		return "", "", fmt.Errorf("%q stands where a name belongs", word+p.rest)
	case prefix == "" && p.module != "":
		return p.module, name, nil
	}
	m := p.resolve(prefix)
	if m == nil {
		return "", "", fmt.Errorf("prefix %q is not known", prefix)
	}
	return m.Name, name, nil
}

func (p *instanceParser) key() (k InstanceKey, err error) {
	p.rest = strings.TrimLeft(p.rest, " \t\r\n")
	switch {
	case p.rest != "" && p.rest[0] >= '0' && p.rest[0] <= '9':
		end := 0
		for end < len(p.rest) && p.rest[end] >= '0' && p.rest[end] <= '9' {
			end++
		}
		k.Value, p.rest = p.rest[:end], p.rest[end:]
		if !p.take("]") {
			return k, fmt.Errorf("the predicate %s is not closed", k.Value)
		}
		return k, nil
	case p.take("."):
		k.Name = "."
	default:
		if k.Module, k.Name, err = p.name(); err != nil {
			return k, err
		}
	}
	if !p.take("=") {
		return k, fmt.Errorf("%q stands where = belongs", p.rest)
	}
	p.rest = strings.TrimLeft(p.rest, " \t\r\n")
	if p.rest == "" || p.rest[0] != '\'' && p.rest[0] != '"' {
		return k, fmt.Errorf("the value of %s is not in quotes", k.Name)
	}
	end := strings.IndexByte(p.rest[1:], p.rest[0])
	if end < 0 {
		return k, fmt.Errorf("the value of %s has an open quote", k.Name)
	}
	k.Value, p.rest = p.rest[1:end+1], p.rest[end+2:]
	if !p.take("]") {
		return k, fmt.Errorf("the predicate of %s is not closed", k.Name)
	}
	return k, nil
}

// String gives the canonical form: module names at every name.
func (i Instance) String() string { return i.text(false) }

// Short names a module only where it changes, as JSON does (RFC 7951 section
// 6.11).
func (i Instance) Short() string { return i.text(true) }

func (i Instance) text(short bool) string {
	var b strings.Builder
	module := ""
	for _, s := range i {
		b.WriteByte('/')
		if !short || s.Module != module {
			b.WriteString(s.Module + ":")
		}
		module = s.Module
		b.WriteString(s.Name)
		for _, k := range s.Keys {
			quote := "'"
			if strings.Contains(k.Value, quote) {
				quote = `"`
			}
			switch k.Name {
			case "":
				b.WriteString("[" + k.Value + "]")
				continue
			case ".":
				b.WriteString("[.")
			default:
				b.WriteByte('[')
				if !short || k.Module != module {
					b.WriteString(k.Module + ":")
				}
				b.WriteString(k.Name)
			}
			b.WriteString("=" + quote + k.Value + quote + "]")
		}
	}
	return b.String()
}

// canonicalInstance gives the canonical form of an instance-identifier, with
// the keys' values in theirs where the schema knows the nodes.
func (s *Schema) canonicalInstance(value string, resolve Resolver) (string, error) {
	in, err := ParseInstance(value, resolve)
	if err != nil {
		return "", err
	}
	var at *Node
	for _, step := range in {
		m := s.byName[step.Module]
		if at == nil {
			at = s.Root(m, step.Name)
		} else {
			at = at.Child(m, step.Name)
		}
		if at == nil {
			break
		}
		for k := range step.Keys {
			leaf := at
			if step.Keys[k].Name != "." {
				leaf = at.Child(s.byName[step.Keys[k].Module], step.Keys[k].Name)
			}
			if leaf == nil || leaf.Type == nil || step.Keys[k].Name == "" {
				continue
			}
			if v, err := s.Canonical(leaf.Type, step.Keys[k].Value, resolve); err == nil {
				step.Keys[k].Value = v
			}
		}
	}
	return in.String(), nil
}
