package cli

import (
	"fmt"
	"strings"
	"time"

	"oakenlatch/core/clip"
	"oakenlatch/core/diff"
)

// paint colours text for terminals; marks stand beside every colour.
func (a *app) paint(style, text string) string {
	if !a.tty || a.getenv("NO_COLOR") != "" || style == "" {
		return text
	}
	return own("["+style+"m") + text + own("[0m")
}

// The styles of the client.
const (
	strong = "1"
	dim    = "2"
	alarm  = "38;5;166"
)

// markStyle gives the colour of a difference's mark: added blue, removed rust,
// changed violet, moved slate.
var markStyle = map[string]string{
	diff.MarkAdded: "38;5;33", diff.MarkRemoved: "38;5;166", diff.MarkChanged: "38;5;135", diff.MarkMoved: "38;5;67",
}

func (a *app) difference(lines []diff.Line) {
	for _, l := range lines {
		a.printf(
			"  %s\n",
			a.paint(markStyle[l.Mark], strings.TrimRight(l.Mark+" "+strings.Repeat("  ", l.Depth)+l.Text, " ")),
		)
	}
}

// sides shows a difference in two columns, the old side at the left.
func (a *app) sides(lines []diff.Line, old, now string) {
	width := (a.width() - 5) / 2
	row := func(mark, left, right string) {
		a.printf(
			"%s\n",
			a.paint(
				markStyle[mark],
				strings.TrimRight(fmt.Sprintf("%s %s │ %s", mark, fill(left, width), clip.To(right, width)), " "),
			),
		)
	}
	if len(lines) > 0 {
		row(diff.MarkSame, old, now)
	}
	for _, l := range lines {
		left, right := l.Sides()
		indent := strings.Repeat("  ", l.Depth)
		if left != "" {
			left = indent + left
		}
		if right != "" {
			right = indent + right
		}
		row(l.Mark, left, right)
	}
}

func fill(s string, n int) string {
	s = clip.To(s, n)
	return s + strings.Repeat(" ", n-len([]rune(s)))
}

// when tells a time with its zone.
func when(t time.Time) string {
	if t.IsZero() {
		return "never"
	}
	return t.Local().Format("2006-01-02 15:04:05 MST")
}

func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}
