package cli

import (
	"crypto/rand"
	"fmt"
	"io"
	"os"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"

	"oakenlatch/core/clip"
)

// screen is where the client writes for people. Most of what it writes came from others: devices, co-workers, files. So
// nothing acts here: control characters and marks that turn the direction of text are shown as the escapes they have in
// JSON, whoever wrote them. Only the client's own styles and moves pass, which nobody else can write (own).
type screen struct{ io.Writer }

// ownKey tells the client's own sequences from those in texts: another one in each process.
var ownKey = rand.Text()

// own is a control sequence (ECMA-48, section 5.4) of the client, "[1m" for instance.
func own(sequence string) string { return "\x1b" + ownKey + sequence }

// toStart goes to the first column, and clears the line.
var toStart = own("[G") + own("[K")

// Write writes text; each call has whole characters and sequences.
func (s *screen) Write(p []byte) (int, error) {
	if _, err := io.WriteString(s.Writer, tamed(string(p))); err != nil {
		return 0, err
	}
	return len(p), nil
}

// acts reports whether a character does something on a terminal, or turns the direction of text.
func acts(r rune) bool {
	return unicode.IsControl(r) && r != '\n' && r != '\t' || unicode.Is(unicode.Cf, r) || r == unicode.ReplacementChar
}

// tamed shows what acts as what it is, and has the client's own sequences act.
func tamed(text string) string {
	if strings.IndexFunc(text, acts) < 0 {
		return text
	}
	var b strings.Builder
	for len(text) > 0 {
		if rest, ok := strings.CutPrefix(text, "\x1b"+ownKey); ok {
			b.WriteByte('\x1b')
			text = rest
			continue
		}
		r, n := utf8.DecodeRuneInString(text)
		switch {
		case !acts(r):
			b.WriteString(text[:n])
		case r > 0xffff:
			high, low := utf16.EncodeRune(r)
			fmt.Fprintf(&b, `\u%04x\u%04x`, high, low)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
		text = text[n:]
	}
	return b.String()
}

// wide is how many columns a text takes, without the client's own sequences.
func wide(text string) int {
	n := 0
	for {
		before, rest, found := strings.Cut(text, "\x1b"+ownKey)
		n += utf8.RuneCountInString(before)
		if !found {
			return n
		}
		_, text, _ = strings.Cut(rest, "m") // a style
	}
}

// raw is what a screen writes to: for another program that has the terminal to itself.
func raw(w io.Writer) io.Writer {
	if s, ok := w.(*screen); ok {
		return s.Writer
	}
	return w
}

// exact writes what machines read: as it is to a file or another program, and tamed on a terminal.
func (a *app) exact(text string) error {
	_, err := io.WriteString(a.exactly(), text)
	return err
}

func (a *app) exactly() io.Writer {
	if !a.tty {
		return raw(a.out)
	}
	return a.out
}

// terminal is the terminal that the client writes to, nil if it is none.
func (a *app) terminal() *os.File {
	if f, ok := raw(a.out).(*os.File); ok && a.tty {
		return f
	}
	return nil
}

// table aligns rows. On a terminal the last cells are cut where a row would be wider than it.
func (a *app) table(head []string, rows [][]string) {
	if len(rows) == 0 {
		return
	}
	rows = append([][]string{head}, rows...)
	var widths []int
	for _, r := range rows {
		for i, cell := range r {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], wide(tamedCell(cell)))
		}
	}
	room := 0
	if a.terminal() != nil {
		room = a.width()
	}
	for _, r := range rows {
		line, at := "", 0
		for i, cell := range r {
			cell = tamedCell(cell)
			if i == len(r)-1 {
				if room > 0 && at+wide(cell) > room && !strings.Contains(cell, ownKey) {
					cell = clip.To(cell, max(room-at, 12))
				}
				line += cell
				break
			}
			line += cell + strings.Repeat(" ", widths[i]-wide(cell)+2)
			at += widths[i] + 2
		}
		a.printf("%s\n", strings.TrimRight(line, " "))
	}
}

// tamedCell is a cell on one line, its own sequences as they are.
func tamedCell(cell string) string {
	cell = strings.NewReplacer("\n", " ", "\t", " ").Replace(cell)
	if strings.Contains(cell, ownKey) {
		return cell
	}
	return tamed(cell)
}
