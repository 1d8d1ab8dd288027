package store

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/ledger"
	"oakenlatch/core/search"
	"oakenlatch/test/pace"
)

// filled gives records with entries that differ in everything that can be asked
// for; the clock is set back now and then.
func filled(t *testing.T, n int) (*Store, []ledger.Entry) {
	s := open(t, t.TempDir())
	r := rand.New(rand.NewPCG(7, 11))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	write(t, s, func(tx *Tx) error {
		for _, d := range []string{"quay", "quay-2", "slip"} {
			require.NoError(
				t,
				tx.AddDevice(
					Device{
						Name: d, Address: "h:1", Account: "u", Auth: "password", Secret: []byte{1},
						Site: map[bool]string{true: "Saltern", false: "Gannet Point"}[d != "slip"], Added: now,
						AddedBy: "x",
					},
				),
			)
		}
		return nil
	})
	at := now
	var all []ledger.Entry
	for i := range n {
		at = at.Add(time.Duration(r.IntN(3)) * time.Minute)
		if i%97 == 50 {
			at = at.Add(-90 * time.Minute)
		}
		e := ledger.Entry{
			At: at, Actor: pick("mara", "joss", "service"),
			Action: pick("edit.put", "edit.drop", "commit.start", "login", "revision.outside"),
			Device: pick("", "quay", "quay-2", "slip"), Change: int64(r.IntN(6)),
			Ticket: pick("", "TF-1", "TF-12", "TF 1"),
			Path: pick(
				"", "/ietf-interfaces:interfaces/interface=port1/ietf-ip:ipv4/mtu",
				"/ietf-interfaces:interfaces/interface=port12", "/ietf-system:system/contact",
			),
			Before: pick("", "Köln harbour", "=cmd()", "a\x00b\u202ec"), After: pick("", "port 3 lamps", "lamp port"),
			Note:    pick("", `say "ho" - twice`, "ns=1; DROP TABLE ledger"),
			Outcome: ledger.Outcome(pick("", "", string(ledger.Refused), string(ledger.Failed))),
			Address: pick("", "198.51.100.7", "2001:db8::7"),
		}
		all = append(all, e)
	}
	write(t, s, func(tx *Tx) error {
		for i := range all {
			var err error
			if all[i], err = tx.AppendLedger(all[i]); err != nil {
				return err
			}
		}
		return nil
	})
	return s, all
}

// naive tells whether a term takes an entry, by looking at it.
func naive(t *testing.T, s *Store, e ledger.Entry, term search.Term) bool {
	return slices.ContainsFunc(term.Values, func(v string) bool {
		same := func(have string) bool {
			if begin, ok := strings.CutSuffix(v, "*"); ok {
				return have != "" && strings.HasPrefix(strings.ToLower(have), strings.ToLower(begin))
			}
			return strings.EqualFold(have, v)
		}
		switch term.Key {
		case search.Who:
			return same(e.Actor)
		case search.Device:
			return same(e.Device)
		case search.Ticket:
			return same(e.Ticket)
		case search.Address:
			return same(e.Address)
		case search.Kind:
			kind, _, _ := strings.Cut(e.Action, ".")
			return same(e.Action) || same(kind)
		case search.Outcome:
			return same(e.Outcome.String())
		case search.Site:
			return strings.EqualFold(
				map[string]string{"quay": "Saltern", "quay-2": "Saltern", "slip": "Gannet Point"}[e.Device], v,
			)
		case search.Change, search.Entry:
			n := map[search.Key]int64{search.Change: e.Change, search.Entry: e.Seq}[term.Key]
			r, _ := search.Numbers(v)
			return n >= r.First && n <= r.Last
		case search.Path:
			have := search.Bare(e.Path)
			return have == v || strings.HasPrefix(have, v+"/") || strings.HasPrefix(have, v+"=")
		case search.Text:
			words := func(text string) string {
				return " " + strings.Join(
					strings.FieldsFunc(
						strings.NewReplacer("ö", "o").Replace(strings.ToLower(text)),
						func(r rune) bool { return !(r >= 'a' && r <= 'z' || r >= '0' && r <= '9') },
					),
					" ",
				) + " "
			}
			for _, text := range []string{
				e.Actor, e.Action, e.Device, e.Ticket, e.Path, e.Note, e.Address, e.Before, e.After,
			} {
				if strings.Contains(words(text), words(v)) {
					return true
				}
			}
			return false
		}
		t.Fatal(term.Key)
		return false
	})
}

// Whatever is asked, what is found is what looking at every entry finds.
func TestSearch(t *testing.T) {
	t.Parallel()
	s, all := filled(t, 600)
	r := rand.New(rand.NewPCG(3, 5))
	terms := []string{
		"who:mara", "who:joss,service", "device:quay", "device:qu*", "device:quay-2", "site:saltern",
		`site:"gannet point"`, "path:/interfaces", "path:/interfaces/interface", "path:/interfaces/interface=port1",
		"path:/ietf-system:system", "path:/interfaces/interface=port1/ipv4", "change:2..3", "change:5,1", "ticket:TF-1",
		"ticket:TF*", `ticket:"tf 1"`, "kind:edit", "kind:edit.put,login", "outcome:done", "outcome:refused,failed",
		"address:198.51.100.7", "entry:100..300", "entry:7", "lamps", `"port 3"`, "Köln", "koln", `"drop table"`,
		`"say \"ho\""`, "nowhere", "kind:nothing",
	}
	found := 0
	for i := range 250 {
		var line []string
		for range 1 + r.IntN(3) {
			term := terms[r.IntN(len(terms))]
			if r.IntN(4) == 0 {
				term = "-" + term
			}
			line = append(line, term)
		}
		if i%3 == 0 {
			line = append(line, "since:"+all[r.IntN(len(all))].At.Format(time.RFC3339))
		}
		if i%4 == 0 {
			line = append(line, "until:"+all[len(all)/2+r.IntN(len(all)/2)].At.Add(time.Minute).Format(time.RFC3339))
		}
		text := strings.Join(line, " ")
		q, err := search.Parse(text, now)
		if err != nil {
			require.ErrorContains(t, err, "is before since", text)
			continue
		}
		var want []int64
		for _, e := range all {
			if (q.Since.IsZero() || !e.At.Before(q.Since)) && (q.Until.IsZero() || !e.At.After(q.Until)) &&
				!slices.ContainsFunc(q.Terms, func(term search.Term) bool {
					plain := term
					if plain.Key == search.Path {
						plain.Values = []string{search.Bare(plain.Values[0])}
					}
					return naive(t, s, e, plain) == term.Not
				}) {
				want = append(want, e.Seq)
			}
		}
		var got []int64
		for e, err := range s.EachEntry(t.Context(), LedgerQuery{Query: q, Oldest: true}) {
			require.NoError(t, err, text)
			got = append(got, e.Seq)
		}
		require.Equal(t, want, got, "%s", text)
		found += len(got)
		slices.Reverse(want)
		list, err := s.Ledger(t.Context(), LedgerQuery{Query: q, Limit: 5})
		require.NoError(t, err)
		for i, e := range list {
			require.Equal(t, want[i], e.Seq, "%s: the newest come first", text)
		}
	}
	assert.Greater(t, found, 3000)
	_, err := s.Ledger(
		t.Context(),
		LedgerQuery{Query: search.Query{Terms: []search.Term{{Key: search.Change, Values: []string{"1..99999"}}}}},
	)
	require.ErrorIs(t, err, ErrBroad)
	kinds, err := s.Kinds(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"commit.start", "edit.drop", "edit.put", "login", "revision.outside"}, kinds)
}

// Entries of earlier releases, with nothing beside them, are found too, and
// very long ones do not matter.
func TestIndexBehind(t *testing.T) {
	t.Parallel()
	pace.Long(t)
	s := open(t, t.TempDir())
	write(t, s, func(tx *Tx) error {
		for i := range 2100 {
			if _, err := tx.AppendLedger(
				ledger.Entry{
					At: now, Actor: "mara", Action: "x", Note: fmt.Sprintf("word%d", i),
					After: strings.Repeat("é", i*10),
				},
			); err != nil {
				return err
			}
		}
		return nil
	})
	for _, n := range []int{0, 999, 1000, 2099} {
		list, err := s.Ledger(
			t.Context(),
			LedgerQuery{
				Query: search.Query{
					Terms: []search.Term{{Key: search.Text, Values: []string{fmt.Sprintf("word%d", n)}}},
				},
			},
		)
		require.NoError(t, err)
		require.Len(t, list, 1)
		assert.Equal(t, int64(n+1), list[0].Seq)
	}
}
