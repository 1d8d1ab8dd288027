// Package search reads the short line with which entries of the ledger are
// found: words and quoted phrases that must stand in them, and terms of a key
// and values, such as
//
//	who:mara,joss device:saltern-* path:/interfaces since:7d -kind:edit "port 3"
//
// All of a line must hold for an entry; of the values of a term, one. A - before
// a term or word turns it round. docs/audit.md has it for those who use it.
package search

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// Key is what a term is about.
type Key string

// The keys. Text is that of words without a key.
const (
	Text    Key = "text"
	Who     Key = "who"
	Device  Key = "device"
	Site    Key = "site"
	Path    Key = "path"
	Change  Key = "change"
	Ticket  Key = "ticket"
	Kind    Key = "kind"
	Outcome Key = "outcome"
	Address Key = "address"
	Entry   Key = "entry"
	Since   Key = "since"
	Until   Key = "until"
)

// Keys are all keys with what they take, in the order in which they are shown.
var Keys = []struct {
	Key  Key
	Says string
}{
	{Who, "the account, or service"},
	{Device, "the device; with * for any letters"},
	{Site, "the site of the device"},
	{Path, "a path, and all below it; module names may be left out"},
	{Change, "the change's number, or several as 7..12"},
	{Ticket, "the change's ticket"},
	{Kind, "what was done: edit, or edit.put"},
	{Outcome, "done, refused or failed"},
	{Address, "where the person came from"},
	{Entry, "the entry's number, or several as 7..12"},
	{Since, "a time, or how long ago: 7d, 90m, 2026-11-20, 2026-11-20T08:00"},
	{Until, "the same"},
}

// Term is one condition.
type Term struct {
	Key    Key
	Values []string
	Not    bool
}

// Range is numbers from First to Last, both with.
type Range struct{ First, Last int64 }

// Query is a line that was read. Times are left out of its terms.
type Query struct {
	Terms        []Term
	Since, Until time.Time // zero: open
}

// Error is a line that cannot be read: At is the byte at which it goes wrong.
type Error struct {
	Line string
	At   int
	Msg  string
	Next string // what to do, or ""
}

func (e *Error) Error() string { return fmt.Sprintf("column %d: %s", e.Column(), e.Msg) }

// Column is the character at which it goes wrong, from 1.
func (e *Error) Column() int {
	return utf8.RuneCountInString(e.Line[:min(e.At, len(e.Line))]) + 1
}

// MaxLine is the most bytes of a line.
const MaxLine = 2000

// MaxTerms is the most words and terms of a line: each is looked up by itself.
const MaxTerms = 64

// word is one piece of a line: its bytes from at to end.
type word struct {
	at, end int
	not     bool
	key     Key
	keyAt   int
	values  []value
	quoted  bool // of text
	open    bool // a quotation mark is not closed
}

type value struct {
	at   int
	text string
}

// split cuts a line into its pieces.
func split(line string) (out []word) {
	i := 0
	for i < len(line) {
		if line[i] == ' ' || line[i] == '\t' {
			i++
			continue
		}
		w := word{at: i}
		if line[i] == '-' && i+1 < len(line) && line[i+1] != ' ' {
			w.not = true
			i++
		}
		w.keyAt = i
		if c := keyEnd(line[i:]); c > 0 {
			w.key = Key(line[i : i+c])
			i += c + 1
		}
		i = w.read(line, i)
		w.end = i
		out = append(out, w)
	}
	return out
}

// keyEnd gives where the colon of a key is; 0 where there is no key.
func keyEnd(s string) int {
	for i, r := range s {
		switch {
		case r == ':':
			return i
		case !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z'):
			return 0
		}
	}
	return 0
}

// read reads the values of a piece from i on: separated by commas, each plain
// or in quotation marks.
func (w *word) read(line string, i int) int {
	for {
		v := value{at: i}
		if i < len(line) && line[i] == '"' {
			w.quoted = true
			v.text, i, w.open = quotation(line, i)
		} else {
			j := i
			for j < len(line) && line[j] != ' ' && line[j] != '\t' && (w.key == "" || line[j] != ',') {
				j++
			}
			v.text, i = line[i:j], j
		}
		w.values = append(w.values, v)
		if w.key == "" || i >= len(line) || line[i] != ',' {
			break
		}
		i++
	}
	// What stands right behind a quotation belongs to nothing.
	return i
}

// quotation reads from one mark to the next; \" and \\ stand for themselves.
func quotation(line string, i int) (text string, end int, open bool) {
	var b strings.Builder
	for i++; i < len(line); i++ {
		switch {
		case line[i] == '"':
			return b.String(), i + 1, false
		case line[i] == '\\' && i+1 < len(line) && (line[i+1] == '"' || line[i+1] == '\\'):
			i++
		}
		b.WriteByte(line[i])
	}
	return b.String(), len(line), true
}

// Parse reads a line. now is what times without a date, and times ago, are
// reckoned from; they are in its zone.
func Parse(line string, now time.Time) (Query, error) {
	var q Query
	if len(line) > MaxLine {
		return q, &Error{
			line, MaxLine, fmt.Sprintf("the line has %d bytes, and %d are the most", len(line), MaxLine),
			"leave some of it out",
		}
	}
	if !utf8.ValidString(line) {
		return q, &Error{"", 0, "the line is no UTF-8 text", ""}
	}
	words := split(line)
	if len(words) > MaxTerms {
		return q, &Error{
			line, words[MaxTerms].at, fmt.Sprintf("the line has %d terms, and %d are the most", len(words), MaxTerms),
			"leave some of it out",
		}
	}
	for _, w := range words {
		if err := q.add(line, w, now); err != nil {
			return q, err
		}
	}
	if !q.Since.IsZero() && !q.Until.IsZero() && q.Until.Before(q.Since) {
		return q, &Error{line, 0, fmt.Sprintf("until %s is before since %s", stamp(q.Until), stamp(q.Since)), ""}
	}
	return q, nil
}

func stamp(t time.Time) string { return t.Format("2006-01-02 15:04 MST") }

func (q *Query) add(line string, w word, now time.Time) error {
	fail := func(at int, next, format string, args ...any) error {
		return &Error{line, at, fmt.Sprintf(format, args...), next}
	}
	if w.open {
		return fail(w.values[len(w.values)-1].at, "close it with \"", "the quotation is not closed")
	}
	if w.key == "" {
		text := w.values[0].text
		if strings.IndexFunc(text, func(r rune) bool { return unicode.IsLetter(r) || unicode.IsNumber(r) }) < 0 {
			return fail(w.values[0].at, "", "%q has no letter or digit to be found by", text)
		}
		q.Terms = append(q.Terms, Term{Text, []string{text}, w.not})
		return nil
	}
	if !slices.ContainsFunc(Keys, func(k struct {
		Key  Key
		Says string
	}) bool {
		return k.Key == w.key
	}) {
		return fail(
			w.keyAt, "to look for it as text, put it in quotation marks", "%q is no word to ask by; there are %s",
			w.key, keyNames(),
		)
	}
	t := Term{Key: w.key, Not: w.not}
	for _, v := range w.values {
		if v.text == "" {
			return fail(v.at, "", "%s: needs a value: %s", w.key, says(w.key))
		}
		if err := check(w.key, v.text); err != "" {
			return fail(v.at, "", "%s", err)
		}
		t.Values = append(t.Values, v.text)
	}
	if w.key != Since && w.key != Until {
		q.Terms = append(q.Terms, t)
		return nil
	}
	into := &q.Since
	if w.key == Until {
		into = &q.Until
	}
	if w.not || len(t.Values) > 1 || !into.IsZero() {
		return fail(w.at, "", "%s: is said once, with one time", w.key)
	}
	at, ok := moment(t.Values[0], now, w.key == Until)
	if !ok {
		return fail(
			w.values[0].at, "",
			"%q is no time; write it as 7d, 90m, 08:00, 2026-11-20, 2026-11-20T08:00 or in full (RFC 3339)",
			t.Values[0],
		)
	}
	*into = at
	return nil
}

func keyNames() string {
	var out []string
	for _, k := range Keys {
		out = append(out, string(k.Key))
	}
	return strings.Join(out, ", ")
}

func says(key Key) string {
	for _, k := range Keys {
		if k.Key == key {
			return k.Says
		}
	}
	return ""
}

// check tells what is wrong with a value; "" is nothing.
func check(key Key, text string) string {
	switch key {
	case Change, Entry:
		if _, ok := Numbers(text); !ok {
			return fmt.Sprintf(
				"%q is no number of %s; write 7, or 7..12", text,
				map[Key]string{Change: "a change", Entry: "an entry"}[key],
			)
		}
	case Path:
		if !strings.HasPrefix(text, "/") {
			return fmt.Sprintf("%q is no path: it begins with /", text)
		}
	case Outcome:
		if text != "done" && text != "refused" && text != "failed" {
			return fmt.Sprintf("%q is no outcome: there are done, refused and failed", text)
		}
	case Kind:
		if strings.Trim(text, "abcdefghijklmnopqrstuvwxyz-.") != "" {
			return fmt.Sprintf("%q is no kind: write it as edit, or edit.put", text)
		}
	}
	return ""
}

// Numbers reads the value of a change or entry: a number from 1, or two with
// .. between.
func Numbers(text string) (Range, bool) {
	first, last, several := strings.Cut(text, "..")
	a, err := strconv.ParseInt(first, 10, 64)
	if err != nil || a < 1 {
		return Range{}, false
	}
	if !several {
		return Range{a, a}, true
	}
	b, err := strconv.ParseInt(last, 10, 64)
	return Range{a, b}, err == nil && b >= a
}

var units = map[byte]time.Duration{
	's': time.Second, 'm': time.Minute, 'h': time.Hour, 'd': 24 * time.Hour, 'w': 7 * 24 * time.Hour,
}

// moment reads a time. A day that something lasts until is meant to its end.
func moment(text string, now time.Time, end bool) (time.Time, bool) {
	if n, err := strconv.ParseInt(text[:len(text)-1], 10, 32); err == nil && n >= 0 {
		if u, ok := units[text[len(text)-1]]; ok {
			return now.Add(-time.Duration(min(n, 100_000)) * u), true
		}
	}
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, true
	}
	if t, err := time.ParseInLocation("2006-01-02", text, now.Location()); err == nil {
		if end {
			t = t.AddDate(0, 0, 1).Add(-time.Millisecond)
		}
		return t, true
	}
	for _, form := range []string{"2006-01-02T15:04", "2006-01-02T15:04:05"} {
		if t, err := time.ParseInLocation(form, text, now.Location()); err == nil {
			return t, true
		}
	}
	if t, err := time.Parse("15:04", text); err == nil {
		y, m, d := now.Date()
		at := time.Date(y, m, d, t.Hour(), t.Minute(), 0, 0, now.Location())
		if at.After(now) {
			at = at.AddDate(0, 0, -1) // the last time the clock showed it
		}
		return at, true
	}
	return time.Time{}, false
}

// Spot is where a line is being written on: what stands from From on is to be
// replaced, and is a key for Key "", else a value of Key.
type Spot struct {
	From    int
	Key     Key
	Partial string
}

// At tells what is being written at the end of a line.
func At(line string) Spot {
	list := split(line)
	if len(list) == 0 || list[len(list)-1].end < len(line) {
		return Spot{From: len(line)}
	}
	w := list[len(list)-1]
	v := w.values[len(w.values)-1]
	s := Spot{From: v.at, Key: w.key, Partial: v.text}
	if w.quoted && w.key == "" {
		s.Key = Text
	}
	return s
}

// Quote writes a value so that it is read as it is.
func Quote(text string) string {
	if text == "" || strings.ContainsAny(text, " \t,\"") || strings.HasPrefix(text, "-") {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`
	}
	return text
}

// Bare gives a path without module names: what a path is found by.
func Bare(path string) string {
	parts := strings.Split(path, "/")
	for i, p := range parts {
		name, keys, some := strings.Cut(p, "=")
		if _, after, ok := strings.Cut(name, ":"); ok {
			name = after
		}
		if parts[i] = name; some {
			parts[i] += "=" + keys
		}
	}
	return strings.Join(parts, "/")
}

// Covers reports whether a path is, or is below, another; module names count
// nowhere, and a list without keys is every entry of it.
func Covers(above, path string) bool {
	up, down := strings.Split(Bare(strings.TrimRight(above, "/")), "/"), strings.Split(Bare(path), "/")
	if len(up) > len(down) {
		return false
	}
	for i, step := range up {
		name, _, keyed := strings.Cut(down[i], "=")
		if step != down[i] && (!keyed || step != name) {
			return false
		}
	}
	return true
}
