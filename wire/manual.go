package wire

import (
	"fmt"
	"strings"
)

// Manual is a manual page (man(7)), made of what a program says with --help.
type Manual struct {
	Name, Section, Summary string
	Synopsis               []string
	Commands               []ManualCommand
	Parts                  []ManualPart
}

// ManualCommand is one verb.
type ManualCommand struct {
	Usage, Summary, Example string
	Flags                   [][2]string // name and what it says
}

// ManualPart is a section of text.
type ManualPart struct{ Title, Text string }

// Roff gives the page as man reads it.
func (m Manual) Roff() string {
	var b strings.Builder
	line := func(format string, args ...any) { _, _ = fmt.Fprintf(&b, format+"\n", args...) }
	line(`.TH "%s" "%s" "" "Oaken Latch %s" "Oaken Latch"`, strings.ToUpper(m.Name), m.Section, Release)
	line(".SH NAME\n%s \\- %s", roff(m.Name), roff(m.Summary))
	line(".SH SYNOPSIS\n.nf")
	for _, s := range m.Synopsis {
		line("%s", roff(s))
	}
	line(".fi")
	if len(m.Commands) > 0 {
		line(".SH COMMANDS")
	}
	for _, c := range m.Commands {
		line(".SS %s\n%s", roff(c.Usage), roff(c.Summary))
		for _, f := range c.Flags {
			line(".TP\n.B %s\n%s", roff(f[0]), roff(f[1]))
		}
		if c.Example != "" {
			line(".PP\nExample:\n.PP\n.RS\n.nf\n%s\n.fi\n.RE", roff(c.Example))
		}
	}
	for _, p := range m.Parts {
		line(".SH %s\n.nf\n%s\n.fi", roff(p.Title), roff(strings.Trim(p.Text, "\n")))
	}
	return b.String()
}

// roff keeps text from being read as requests.
func roff(text string) string {
	text = strings.ReplaceAll(text, `\`, `\e`)
	text = strings.ReplaceAll(text, "-", `\-`)
	lines := strings.Split(text, "\n")
	for i, l := range lines {
		if strings.HasPrefix(l, ".") || strings.HasPrefix(l, "'") {
			lines[i] = `\&` + l
		}
	}
	return strings.Join(lines, "\n")
}
