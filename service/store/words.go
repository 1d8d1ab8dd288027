package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"oakenlatch/core/ledger"
	"oakenlatch/core/search"
)

// What entries are found by is one full-text index: its text is what stands in
// an entry, its marks are one word for each thing that a term can ask for.

// mark is such a word: letters and digits only, whatever the value. A value's
// beginning is the beginning of its mark.
func mark(key search.Key, value string) string {
	return markLetters[key] + hex.EncodeToString([]byte(strings.ToLower(value)))
}

// place is the mark of a path, of any length.
func place(path string) string {
	sum := sha256.Sum256([]byte(path))
	return markLetters[search.Path] + hex.EncodeToString(sum[:10])
}

var markLetters = map[search.Key]string{
	search.Who: "w", search.Device: "d", search.Change: "c", search.Ticket: "t", search.Kind: "k", search.Outcome: "o",
	search.Address: "a", search.Path: "p",
}

// everything is a mark that every entry has.
const everything = "every"

func marks(e ledger.Entry) string {
	out := []string{everything, mark(search.Who, e.Actor), mark(search.Kind, e.Action)}
	if kind, _, some := strings.Cut(e.Action, "."); some {
		out = append(out, mark(search.Kind, kind))
	}
	out = append(out, mark(search.Outcome, e.Outcome.String()))
	for key, v := range map[search.Key]string{
		search.Device: e.Device, search.Ticket: e.Ticket, search.Address: e.Address,
	} {
		if v != "" {
			out = append(out, mark(key, v))
		}
	}
	if e.Change != 0 {
		out = append(out, mark(search.Change, fmt.Sprint(e.Change)))
	}
	out = append(out, places(e.Path)...)
	return strings.Join(out, " ")
}

// places gives the marks of a path and of all that lead to it: each entry of a
// list by its keys and as any of its list.
func places(path string) (out []string) {
	if path == "" {
		return nil
	}
	bare := search.Bare(path)
	for i := 1; i <= len(bare); i++ {
		if i < len(bare) && bare[i] != '/' {
			continue
		}
		up := bare[:i]
		out = append(out, place(up))
		if cut := strings.LastIndexByte(up, '='); cut > strings.LastIndexByte(up, '/') {
			out = append(out, place(up[:cut]))
		}
	}
	return out
}

// mostWords is how much of a long text is found by its words.
const mostWords = 16 << 10

func words(e ledger.Entry) string {
	text := strings.Join(
		[]string{e.Actor, e.Action, e.Device, e.Ticket, e.Path, e.Note, e.Address, cut(e.Before), cut(e.After)}, " \n ",
	)
	return strings.ToValidUTF8(text, " ")
}

func cut(text string) string {
	if len(text) <= mostWords {
		return text
	}
	text = text[:mostWords]
	for len(text) > 0 && !utf8.RuneStart(text[len(text)-1]) {
		text = text[:len(text)-1]
	}
	return text
}

// indexed is how many entries are made findable in one transaction.
const indexed = 1000

// IndexLedger makes every entry findable that is not yet. What is written
// meanwhile may be left for the next time.
func (s *Store) IndexLedger(ctx context.Context) error {
	for {
		done, newest, err := s.behind(ctx)
		if err != nil || done >= newest {
			return err
		}
		err = s.Write(ctx, func(tx *Tx) error {
			done, err := one(tx.ask(indexedUpTo), number)
			if err != nil {
				return err
			}
			list, err := many(
				tx.ask("SELECT "+ledgerColumns+" FROM ledger WHERE seq > ? ORDER BY seq LIMIT ?", done, indexed),
				scanEntry,
			)
			if err != nil {
				return err
			}
			kinds := map[string]bool{}
			for _, e := range list {
				if !kinds[e.Action] {
					kinds[e.Action] = true
					if _, err := tx.exec(
						"INSERT INTO ledger_kinds (action) VALUES (?) ON CONFLICT DO NOTHING", e.Action,
					); err != nil {
						return err
					}
				}
				if _, err := tx.exec(
					"INSERT INTO ledger_words (rowid, marks, text) VALUES (?, ?, ?)", e.Seq, marks(e), words(e),
				); err != nil {
					return err
				}
			}
			return nil
		})
		if Sick(err) {
			return nil // what is findable already is found
		}
		if err != nil {
			return err
		}
	}
}

const indexedUpTo = "SELECT coalesce(max(id), 0) FROM ledger_words_docsize"

func number(r scanner) (n int64, err error) { err = r.Scan(&n); return n, err }

func (s *Store) behind(ctx context.Context) (done, newest int64, err error) {
	if done, err = one(s.ask(ctx, indexedUpTo), number); err == nil {
		newest, err = one(s.ask(ctx, "SELECT coalesce(max(seq), 0) FROM ledger"), number)
	}
	return done, newest, err
}

// Kinds lists what was ever done, by name.
func (s *Store) Kinds(ctx context.Context) ([]string, error) {
	return many(
		s.ask(ctx, "SELECT action FROM ledger_kinds ORDER BY action"),
		func(r scanner) (t string, err error) { err = r.Scan(&t); return t, err },
	)
}

// bound is entries of certain numbers, or all others.
type bound struct {
	ranges []search.Range
	not    bool
}

func (b bound) add(seq string, add func(string, ...any)) {
	var parts []string
	var args []any
	for _, r := range b.ranges {
		parts = append(parts, seq+" BETWEEN ? AND ?")
		args = append(args, r.First, r.Last)
	}
	cond := "(" + strings.Join(parts, " OR ") + ")"
	if b.not {
		cond = "NOT " + cond
	}
	add(cond, args...)
}

// mostNumbers is how many changes one term may name.
const mostNumbers = 1000

// ErrBroad is given for a term that asks for more than can be looked for.
var ErrBroad = errors.New("asks for too many at once")

// match gives the full-text query for terms, and the bounds that some set.
func (s *Store) match(ctx context.Context, terms []search.Term) (string, []bound, error) {
	var with, without []string
	var bounds []bound
	for _, t := range terms {
		if t.Key == search.Entry {
			b := bound{not: t.Not}
			for _, v := range t.Values {
				r, _ := search.Numbers(v)
				b.ranges = append(b.ranges, r)
			}
			bounds = append(bounds, b)
			continue
		}
		var any []string
		for _, v := range t.Values {
			m, err := s.matchOne(ctx, t.Key, v)
			if err != nil {
				return "", nil, err
			}
			any = append(any, m...)
		}
		if len(any) == 0 {
			any = []string{"marks : nothing"}
		}
		cond := "(" + strings.Join(any, " OR ") + ")"
		if t.Not {
			without = append(without, cond)
		} else {
			with = append(with, cond)
		}
	}
	switch {
	case len(with)+len(without) == 0:
		return "", bounds, nil
	case len(with) == 0:
		with = []string{"marks : " + everything}
	}
	match := strings.Join(with, " AND ")
	if len(without) > 0 {
		match = "(" + match + ") NOT (" + strings.Join(without, " OR ") + ")"
	}
	return match, bounds, nil
}

// matchOne gives what one value of a term is looked for by.
func (s *Store) matchOne(ctx context.Context, key search.Key, value string) ([]string, error) {
	begins := strings.HasSuffix(value, "*")
	switch key {
	case search.Text:
		word := strings.TrimSuffix(value, "*")
		// A zero byte would end the expression.
		m := `text : "` + strings.NewReplacer(`"`, `""`, "\x00", " ").Replace(strings.ToValidUTF8(word, " ")) + `"`
		if begins {
			m += " *"
		}
		return []string{m}, nil
	case search.Path:
		return []string{"marks : " + place(strings.TrimSuffix(search.Bare(value), "/"))}, nil
	case search.Change:
		r, _ := search.Numbers(value)
		if r.Last-r.First >= mostNumbers {
			return nil, fmt.Errorf("change:%s %w: at most %d", value, ErrBroad, mostNumbers)
		}
		var out []string
		for n := r.First; n <= r.Last; n++ {
			out = append(out, "marks : "+mark(key, fmt.Sprint(n)))
		}
		return out, nil
	case search.Site:
		names, err := many(
			s.ask(ctx, "SELECT name FROM devices WHERE site = ? COLLATE NOCASE", value),
			func(r scanner) (t string, err error) { err = r.Scan(&t); return t, err },
		)
		var out []string
		for _, n := range names {
			out = append(out, "marks : "+mark(search.Device, n))
		}
		return out, err
	}
	if begins {
		return []string{"marks : " + mark(key, strings.TrimSuffix(value, "*")) + " *"}, nil
	}
	return []string{"marks : " + mark(key, value)}, nil
}

// What keeps the index quick: it grows in pieces that are looked through one
// after another. From so many on they are made into one, a few pages at a time,
// so that nobody waits for it.
const (
	mostPieces = 6
	tidyPages  = 250
)

// TidyWords makes one piece of the many that the index has grown in.
func (s *Store) TidyWords(ctx context.Context) error {
	pieces, err := one(s.ask(ctx, "SELECT count(DISTINCT segid) FROM ledger_words_idx"), number)
	if err != nil || pieces < mostPieces {
		return err
	}
	pages := -tidyPages // the first time: all pieces are to become one
	for more := true; more && err == nil; pages = tidyPages {
		err = s.Write(ctx, func(tx *Tx) error {
			before, err := one(tx.ask("SELECT total_changes()"), number)
			if err != nil {
				return err
			}
			if _, err := tx.exec(
				"INSERT INTO ledger_words (ledger_words, rank) VALUES ('merge', ?)", pages,
			); err != nil {
				return err
			}
			after, err := one(tx.ask("SELECT total_changes()"), number)
			more = after-before >= 2 // fewer: there was nothing to do
			return err
		})
	}
	return err
}
