// Package clip shortens texts for places that have little room: a cell of a table, a subject, a line of the log.
package clip

import "strings"

// more stands where a text was cut.
const more = "…"

// To gives a text of at most so many characters (1 or more): what is too long ends in "…", which counts. No character
// is cut in half; bytes that are no UTF-8 count one each.
func To(text string, most int) string {
	if len(text) <= most {
		return text
	}
	last, count := 0, 0
	for i := range text {
		if count++; count == most {
			last = i
		}
		if count > most {
			return text[:last] + more
		}
	}
	return text
}

// Line gives a text as one line of at most so many characters: white space of any kind and length is one space.
func Line(text string, most int) string { return To(strings.Join(strings.Fields(text), " "), most) }
