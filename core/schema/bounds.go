package schema

import (
	"errors"
	"fmt"

	"github.com/openconfig/goyang/pkg/yang"
)

// The bounds of a module set: a device may hand out what it likes, and must not
// bring the service down with it. Real sets stay far below them.
const (
	maxModule  = 32 << 20  // bytes of one module
	maxNesting = 2000      // blocks within blocks
	maxWork    = 2_000_000 // nodes, types and derivations in all,
	freeWork   = 100_000   // of which so many whatever the texts say,
	eachWork   = 50        // and so many more for each statement
)

// readable refuses text that the parser, which goes down into blocks by
// recursion, had better not be given.
func readable(text string) error {
	if len(text) > maxModule {
		return fmt.Errorf("is %d bytes long, at most %d are read", len(text), maxModule)
	}
	depth := 0
	for i := 0; i < len(text); i++ {
		switch c := text[i]; c {
		case '"', '\'':
			for i++; i < len(text) && text[i] != c; i++ {
				if c == '"' && text[i] == '\\' {
					i++
				}
			}
		case '/':
			i = afterComment(text, i)
		case '{':
			if depth++; depth > maxNesting {
				return errors.New("has blocks nested deeper than is read")
			}
		case '}':
			depth--
		}
	}
	return nil
}

// afterComment gives the last byte of a comment that begins at i, or i.
func afterComment(text string, i int) int {
	end := ""
	switch {
	case i+1 >= len(text):
		return i
	case text[i+1] == '/':
		end = "\n"
	case text[i+1] == '*':
		end = "*/"
	default:
		return i
	}
	for j := i + 2; j < len(text); j++ {
		if len(text)-j >= len(end) && text[j:j+len(end)] == end {
			return j + len(end) - 1
		}
	}
	return len(text)
}

// spend takes from what a module set may cost; false, and told once, when it
// is used up. Groupings that use others twice over grow without bound.
func (c *compiler) spend(n int) bool {
	c.work += n
	most := min(maxWork, freeWork+eachWork*c.statements)
	if c.work <= most {
		return true
	}
	if !c.spent {
		c.spent = true
		c.problem(
			nil, nil,
			"the modules describe more than %d nodes, types and derivations: what is beyond is carried unread", most,
		)
	}
	return false
}

// count counts a statement with all below it.
func count(st *yang.Statement) int {
	n := 1
	for _, sub := range st.SubStatements() {
		n += count(sub)
	}
	return n
}
