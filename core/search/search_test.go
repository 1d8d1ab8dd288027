package search_test

import (
	"errors"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/search"
)

var now = time.Date(2026, 11, 24, 1, 30, 0, 0, time.FixedZone("there", 3600))

func TestParse(t *testing.T) {
	q, err := search.Parse(
		`who:mara,joss device:"quay, old",slip -kind:edit path:/system/contact change:7..12 since:7d until:2026-11-23 "port 3" lamps -x\y ticket:TF-1`,
		now,
	)
	require.NoError(t, err)
	assert.Equal(t, []search.Term{
		{search.Who, []string{"mara", "joss"}, false}, {search.Device, []string{"quay, old", "slip"}, false},
		{search.Kind, []string{"edit"}, true}, {search.Path, []string{"/system/contact"}, false},
		{search.Change, []string{"7..12"}, false}, {search.Text, []string{"port 3"}, false},
		{search.Text, []string{"lamps"}, false}, {search.Text, []string{`x\y`}, true},
		{search.Ticket, []string{"TF-1"}, false},
	}, q.Terms)
	assert.Equal(t, now.AddDate(0, 0, -7), q.Since)
	assert.Equal(t, time.Date(2026, 11, 23, 23, 59, 59, 999e6, now.Location()), q.Until, "to the end of the day")
	for text, want := range map[string]time.Time{
		"90m": now.Add(-90 * time.Minute), "2026-11-20T08:00": time.Date(2026, 11, 20, 8, 0, 0, 0, now.Location()),
		"2026-11-20T08:00:05Z": time.Date(2026, 11, 20, 8, 0, 5, 0, time.UTC),
		"02:00":                time.Date(2026, 11, 23, 2, 0, 0, 0, now.Location()),
		"01:00":                time.Date(2026, 11, 24, 1, 0, 0, 0, now.Location()),
	} {
		q, err := search.Parse("since:"+text, now)
		require.NoError(t, err, text)
		assert.True(t, want.Equal(q.Since), "%s is %s", text, q.Since)
	}
	q, err = search.Parse(`device:"a \"b\" \\ c"`, now)
	require.NoError(t, err)
	assert.Equal(t, `a "b" \ c`, q.Terms[0].Values[0])
	q, err = search.Parse("  ", now)
	require.NoError(t, err)
	assert.Empty(t, q.Terms)
}

// What cannot be read is pointed at.
func TestErrors(t *testing.T) {
	for line, want := range map[string]struct {
		column int
		says   string
	}{
		"who:mara devise:x":        {10, `"devise" is no word to ask by; there are who, device, site, path`},
		"who:":                     {5, "who: needs a value: the account"},
		"who:a,,b":                 {7, "needs a value"},
		"größe who:":               {11, "needs a value"},
		`x device:"quay`:           {10, "the quotation is not closed"},
		"change:x":                 {8, "is no number of a change"},
		"change:9..3":              {8, "is no number"},
		"entry:0":                  {7, "is no number of an entry"},
		"path:system":              {6, "begins with /"},
		"since:soon":               {7, "is no time"},
		"since:1d since:2d":        {10, "is said once"},
		"-since:1d":                {1, "is said once"},
		"since:1d until:2d":        {1, "is before since"},
		"outcome:maybe":            {9, "there are done, refused and failed"},
		"kind:EDIT":                {6, "is no kind"},
		"mara !!":                  {6, "no letter or digit"},
		strings.Repeat("a ", 65):   {129, "65 terms, and 64 are the most"},
		strings.Repeat("a ", 5000): {search.MaxLine + 1, "10000 bytes, and 2000 are the most"},
	} {
		_, err := search.Parse(line, now)
		var e *search.Error
		require.True(t, errors.As(err, &e), "%.40s: %v", line, err)
		assert.Equal(t, want.column, e.Column(), "%.40s", line)
		assert.Contains(t, e.Error(), want.says)
	}
}

func TestAt(t *testing.T) {
	for line, want := range map[string]search.Spot{
		"": {}, "who:mara ": {From: 9}, "wh": {Partial: "wh"}, "x who:ma": {6, search.Who, "ma"},
		"who:mara,jo": {9, search.Who, "jo"}, `device:"sal`: {7, search.Device, "sal"}, "-kind:": {6, search.Kind, ""},
		`"port `: {0, search.Text, "port "},
	} {
		assert.Equal(t, want, search.At(line), "%q", line)
	}
}

func TestBare(t *testing.T) {
	for path, want := range map[string]string{
		"/ietf-interfaces:interfaces/interface=a%2Fb/ietf-ip:ipv4": "/interfaces/interface=a%2Fb/ipv4",
		"/a/b=x:y": "/a/b=x:y", "": "", "/": "/",
	} {
		assert.Equal(t, want, search.Bare(path))
	}
}

// Whatever stands in a line, it is read or pointed at, and what was quoted
// comes back.
func FuzzParse(f *testing.F) {
	for _, s := range []string{
		"", "\t", `who:mara -"x`, "since:7d until:08:00", `device:"a,b",c`, "change:1..", `\"`, "a:b", "-", "- x",
	} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, line string) {
		search.At(line)
		_, err := search.Parse(line, now)
		var e *search.Error
		if err != nil {
			require.True(t, errors.As(err, &e))
			require.LessOrEqual(t, e.At, len(line))
			e.Column()
		}
		if utf8.ValidString(line) && len(line) < 900 && line != "" {
			q, err := search.Parse("device:"+search.Quote(line), now)
			require.NoError(t, err)
			require.Equal(t, []search.Term{{search.Device, []string{line}, false}}, q.Terms)
		}
	})
}
