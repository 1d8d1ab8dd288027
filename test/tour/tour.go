// Package tour compares the outputs that the pages for users show with what the client says on the tour through the
// demo (scripts/tour.sh).
package tour

import (
	"regexp"
	"slices"
	"strings"
)

// Said is a command and what it answered.
type Said struct {
	Command string
	Lines   []string
	first   int // line of the page where the answer begins
}

const prompt = "$ latch "

// Transcript reads what the tour printed: commands after a prompt, what they answered, and remarks.
func Transcript(text string) (out []Said) {
	for _, line := range strings.Split(text, "\n") {
		switch {
		case prompted.MatchString(line):
			out = append(out, Said{Command: line})
		case strings.HasPrefix(line, "# ") || len(out) == 0:
			out = append(out, Said{}) // a remark ends an answer
		default:
			last := &out[len(out)-1]
			last.Lines = append(last.Lines, line)
		}
	}
	for i := range out {
		out[i].Lines = trimmed(out[i].Lines)
	}
	return out
}

// page gives what a page shows of the client: in text that is indented by four.
func page(text string) (out []Said) {
	open := false
	for i, line := range strings.Split(text, "\n") {
		body, inside := strings.CutPrefix(line, "    ")
		switch {
		case inside && strings.HasPrefix(body, prompt):
			out = append(out, Said{Command: body, first: i + 1})
			open = true
		case inside && open && prompted.MatchString(body):
			open = false
		case inside && open:
			last := &out[len(out)-1]
			last.Lines = append(last.Lines, body)
		case line == "" && open:
			last := &out[len(out)-1]
			last.Lines = append(last.Lines, "")
		default:
			open = false
		}
	}
	for i := range out {
		out[i].Lines = trimmed(out[i].Lines)
	}
	return out
}

func trimmed(lines []string) []string {
	for len(lines) > 0 && strings.TrimSpace(lines[len(lines)-1]) == "" {
		lines = lines[:len(lines)-1]
	}
	return lines
}

var (
	times  = regexp.MustCompile(`(\d{4}-)?\d\d-\d\d[ T]\d\d:\d\d(:\d\d)?(\.\d+)?( UTC|Z)?`)
	keys   = regexp.MustCompile(`[0-9a-f]{8,}\S*`)
	digits = regexp.MustCompile(`\d+`)
	// who asks, and what they ask
	prompted = regexp.MustCompile(`^[a-z]*\$ `)
	// what is said while something goes on: which of it is seen is chance
	passing = regexp.MustCompile(
		`^(about to begin|preparing:|prepared:|applying|active; opening|on hold( \(|$)|asking|confirming|reverting)`,
	)
	spaces = regexp.MustCompile(` +`)
)

// plain is a line without what is another each time: times, keys, numbers, and the widths that come of them.
func plain(line string) string {
	line = times.ReplaceAllString(line, "TIME")
	line = keys.ReplaceAllString(line, "KEY")
	line = digits.ReplaceAllString(line, "N")
	return strings.TrimSpace(spaces.ReplaceAllString(line, " "))
}

// elided is how a page leaves lines out.
const elided = "..."

// fits tells whether an answer is what a page shows, which may leave out lines where it says so.
func fits(shown, said []string) bool {
	shown, said = settled(shown), settled(said)
	at := 0
	skip := false
	for _, line := range shown {
		if strings.TrimSpace(line) == elided {
			skip = true
			continue
		}
		found := false
		for ; at < len(said) && !found; at++ {
			found = plain(said[at]) == plain(line)
			if !found && !skip {
				return false
			}
		}
		if !found {
			return false
		}
		skip = false
	}
	return skip || at == len(said)
}

// settled is an answer without what passes by.
func settled(lines []string) []string {
	return slices.DeleteFunc(slices.Clone(lines), passing.MatchString)
}

// Drift is an answer that the page has otherwise than the client gives it.
type Drift struct {
	Said
	Now []string // what the client answers; nil where the tour has no such command
}

// Line is the line of the page where the command stands.
func (s Said) Line() int { return s.first }

// Compare gives what of a page is no longer so. Commands that the page shows without an answer, and those that the tour
// does not have, are passed over.
func Compare(text string, tour []Said) (out []Drift, compared int) {
	for _, shown := range page(text) {
		if len(shown.Lines) == 0 {
			continue
		}
		var near []string
		ok, known := false, false
		for _, said := range tour {
			if said.Command != shown.Command {
				continue
			}
			known = true
			if fits(shown.Lines, said.Lines) {
				ok = true
				break
			}
			if near == nil || alike(shown.Lines, said.Lines) > alike(shown.Lines, near) {
				near = said.Lines
			}
		}
		if known {
			compared++
		}
		if known && !ok {
			out = append(out, Drift{Said: shown, Now: near})
		}
	}
	return out, compared
}

// alike counts the lines that two answers share.
func alike(a, b []string) (n int) {
	has := map[string]bool{}
	for _, line := range b {
		has[plain(line)] = true
	}
	for _, line := range a {
		if has[plain(line)] {
			n++
		}
	}
	return n
}

// Rewrite puts what the client answers in the place of what is no longer so. What a page shows a part of stays for a
// person to change.
func Rewrite(text string, list []Drift) string {
	lines := strings.Split(text, "\n")
	for i := len(list) - 1; i >= 0; i-- {
		d := list[i]
		part := false
		for _, line := range d.Lines {
			part = part || strings.TrimSpace(line) == elided
		}
		if part {
			continue
		}
		now := make([]string, len(d.Now))
		for j, line := range d.Now {
			if line != "" {
				now[j] = "    " + line
			}
		}
		lines = append(lines[:d.first:d.first], append(now, lines[d.first+len(d.Lines):]...)...)
	}
	return strings.Join(lines, "\n")
}
