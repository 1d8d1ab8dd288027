package report

import (
	_ "embed"
	"html/template"
	"io"
	"strings"
	"time"

	"oakenlatch/core/diff"
)

//go:embed report.html
var page string

var pageTemplate = template.Must(template.New("report").Funcs(template.FuncMap{
	"stamp":  stamp,
	"indent": func(l diff.Line) string { return strings.Repeat("  ", l.Depth) },
	"mark": func(l diff.Line) string {
		if l.Mark == "" {
			return " "
		}
		return l.Mark
	},
	"kind": kindOf,
	"rfc":  func(t time.Time) string { return t.UTC().Format(time.RFC3339) },
}).Parse(page))

// kindOf names what a line of a difference is.
func kindOf(l diff.Line) string {
	switch l.Mark {
	case diff.MarkAdded:
		return "added"
	case diff.MarkRemoved:
		return "removed"
	case diff.MarkChanged:
		return "changed"
	case diff.MarkMoved:
		return "moved"
	}
	return "same"
}

// HTML writes a report as one file that needs nothing beside it.
func (r Report) HTML(w io.Writer) error { return pageTemplate.Execute(w, r) }
