package tree

import (
	"cmp"
	"strings"
)

// compareSiblings gives the canonical order; zero where it is the user's.
func compareSiblings(a, b *Node) int {
	switch {
	case a.schema == nil && b.schema == nil:
		return compareNames(a.Opaque(), b.Opaque())
	case a.schema == nil:
		return 1
	case b.schema == nil:
		return -1
	case a.schema != b.schema:
		return cmp.Compare(a.schema.Order, b.schema.Order)
	case a.schema.UserOrdered:
		return 0
	}
	if a.value[0] != "" && a.value[0] == b.value[0] && len(a.schema.Keys) < 2 {
		return 0
	}
	return CompareKeys(a.Keys(), b.Keys())
}

// CompareKeys orders keys as people do: digits by their number.
func CompareKeys(a, b []string) int {
	for i := 0; i < len(a) && i < len(b); i++ {
		if a[i] != b[i] {
			return natural(a[i], b[i])
		}
	}
	return cmp.Compare(len(a), len(b))
}

func natural(a, b string) int {
	x, y := a, b
	for x != "" && y != "" {
		if digit(x[0]) && digit(y[0]) {
			i, j := digits(x), digits(y)
			p, q := strings.TrimLeft(x[:i], "0"), strings.TrimLeft(y[:j], "0")
			if c := cmp.Or(cmp.Compare(len(p), len(q)), strings.Compare(p, q)); c != 0 {
				return c
			}
			x, y = x[i:], y[j:]
			continue
		}
		if x[0] != y[0] {
			return cmp.Compare(x[0], y[0])
		}
		x, y = x[1:], y[1:]
	}
	return cmp.Or(cmp.Compare(len(x), len(y)), strings.Compare(a, b))
}

func digit(c byte) bool { return c >= '0' && c <= '9' }

func digits(s string) int {
	i := 0
	for i < len(s) && digit(s[i]) {
		i++
	}
	return i
}

// compareNames orders unknown content by its name.
func compareNames(a, b *Opaque) int {
	return cmp.Or(strings.Compare(a.Space, b.Space), strings.Compare(a.Local, b.Local))
}
