package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"oakenlatch/core/lifecycle"
)

// ChangeQuery says which changes are asked for. Its zero value asks for all, newest first.
type ChangeQuery struct {
	Numbers  []int64           // of these; nil is any
	States   []lifecycle.State // in any of these; nil is any
	Author   string            // of this person; "" is anybody's
	Number   string            // whose number begins with these digits
	Ticket   string            // whose ticket begins with this, whatever the case
	Text     string            // with this in the title or ticket, whatever the case
	Before   int64             // with a lower number; 0 is all
	Limit    int               // at most so many; 0 is all
	Sight    *Sight            // as somebody sees them; nil is everything
	Ticketed bool              // that have a ticket
}

// Sight is what of the changes somebody sees.
type Sight struct {
	Person  string
	Devices []int64 // changes with parts on others, and those of others without any, are not theirs; nil is no bound
}

// ChangeAndCommit is a change and its newest commit as they stood at one moment.
type ChangeAndCommit struct {
	Change Change
	Commit *Commit // without its parts; nil where it was never committed
}

// kindOfChange is a part of what is asked for that an index finds by itself: a state, "" for any, and a span
// of numbers, 0 for all.
type kindOfChange struct {
	state       lifecycle.State
	least, most int64
}

// kinds gives the parts of what is asked for.
func (q ChangeQuery) kinds() (out []kindOfChange) {
	states := q.States
	if states == nil {
		states = []lifecycle.State{""}
	}
	for i, state := range states {
		if slices.Contains(states[:i], state) {
			continue
		}
		if q.Number == "" {
			out = append(out, kindOfChange{state: state})
			continue
		}
		// Numbers that begin with 12 are 12, 120 to 129, 1200 to 1299 and so on.
		least, err := strconv.ParseInt(q.Number, 10, 64)
		if err != nil || least < 1 || strconv.FormatInt(least, 10) != q.Number {
			return nil // no number is written so
		}
		for most := least; most < 1<<50; least, most = least*10, most*10+9 {
			out = append(out, kindOfChange{state, least, most})
		}
	}
	return out
}

// where gives what a change of a kind has to be, as SQL over changes c, and the values in it.
func (q ChangeQuery) where(k kindOfChange) (string, []any, error) {
	var parts []string
	var args []any
	add := func(text string, values ...any) {
		parts, args = append(parts, text), append(args, values...)
	}
	if k.state != "" {
		add("c.state = ?", k.state)
	}
	if q.Numbers != nil {
		numbers, err := json.Marshal(q.Numbers)
		if err != nil {
			return "", nil, err
		}
		add("c.number IN (SELECT value FROM json_each(?))", string(numbers))
	}
	if q.Author != "" {
		add("c.author = ?", q.Author)
	}
	if k.least > 0 {
		add("c.number BETWEEN ? AND ?", k.least, k.most)
	}
	if q.Ticketed || q.Ticket != "" {
		add("c.ticket <> ''")
	}
	if q.Ticket != "" {
		add("c.ticket COLLATE NOCASE >= ? AND c.ticket COLLATE NOCASE < ?", q.Ticket, q.Ticket+"\U0010FFFF")
	}
	if q.Text != "" {
		like := "%" + likeText(q.Text) + "%"
		add(`(c.title LIKE ? ESCAPE '\' OR c.ticket LIKE ? ESCAPE '\')`, like, like)
	}
	if q.Before > 0 {
		add("c.number < ?", q.Before)
	}
	if q.Sight == nil {
		return strings.Join(append(parts, "1"), " AND "), args, nil
	}
	// What is or was on devices is everybody's to see; a draft is for those who work on it.
	add(
		`(c.author = ? OR c.state NOT IN ('draft', 'dropped') OR EXISTS (SELECT 1 FROM coworkers WHERE change = c.number AND account = ?))`,
		q.Sight.Person, q.Sight.Person,
	)
	if q.Sight.Devices != nil {
		devices, err := json.Marshal(q.Sight.Devices)
		if err != nil {
			return "", nil, err
		}
		const beyond = "EXISTS (SELECT 1 FROM parts o WHERE o.change = %s AND o.device NOT IN (SELECT value FROM " +
			"json_each(?)))"
		// A change without any part is its people's alone.
		if k.state == "" && k.least == 0 && q.Numbers == nil { // found by the devices in sight
			add(`c.number IN (SELECT p.change FROM parts p WHERE p.device IN (SELECT value FROM json_each(?)) AND NOT `+
				fmt.Sprintf(beyond, "p.change")+
				` UNION SELECT number FROM changes WHERE author = ? UNION SELECT change FROM coworkers WHERE account = ?)`,
				string(devices), string(devices), q.Sight.Person, q.Sight.Person)
		} else {
			add(`(EXISTS (SELECT 1 FROM parts p WHERE p.change = c.number) OR c.author = ? OR
				EXISTS (SELECT 1 FROM coworkers WHERE change = c.number AND account = ?))`, q.Sight.Person, q.Sight.Person)
		}
		add("NOT "+fmt.Sprintf(beyond, "c.number"), string(devices))
	}
	return strings.Join(parts, " AND "), args, nil
}

// likeText has a text stand for itself in LIKE.
func likeText(text string) string {
	return strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(text)
}

// most gives a limit as SQLite has it.
func (q ChangeQuery) most() int {
	if q.Limit == 0 {
		return -1
	}
	return q.Limit
}

// ofKinds puts a SELECT over changes c for every kind that is asked for: one statement, so that a change that goes from
// one state to another meanwhile is there once. It is "" where nothing can be found.
func (q ChangeQuery) ofKinds(selecting string) (string, []any, error) {
	var parts []string
	var args []any
	for _, k := range q.kinds() {
		where, values, err := q.where(k)
		if err != nil {
			return "", nil, err
		}
		parts, args = append(parts, selecting+" FROM changes c WHERE "+where), append(args, values...)
	}
	return strings.Join(parts, " UNION ALL "), args, nil
}

// ListChanges lists changes, newest first.
func (s *Store) ListChanges(ctx context.Context, q ChangeQuery) ([]Change, error) {
	text, args, err := q.ofKinds("SELECT " + changeColumns)
	if err != nil || text == "" {
		return nil, err
	}
	return many(s.ask(ctx, text+" ORDER BY number DESC LIMIT ?", append(args, q.most())...), scanChange)
}

// CountChanges counts the changes that are asked for, whatever the limit.
func (s *Store) CountChanges(ctx context.Context, q ChangeQuery) (int, error) {
	text, args, err := q.ofKinds("SELECT count(*) AS n")
	if err != nil || text == "" {
		return 0, err
	}
	return one(s.ask(ctx, "SELECT sum(n) FROM ("+text+")", args...), scanCount)
}

// Tickets lists the tickets of changes that are asked for, each once, in their order.
func (s *Store) Tickets(ctx context.Context, q ChangeQuery) ([]string, error) {
	q.Ticketed = true
	where, args, err := q.where(kindOfChange{})
	if err != nil {
		return nil, err
	}
	return many(
		s.ask(
			ctx, "SELECT DISTINCT c.ticket FROM changes c WHERE "+where+" ORDER BY c.ticket COLLATE NOCASE LIMIT ?",
			append(args, q.most())...,
		),
		scanText,
	)
}

const prefixedChange = "c.number, c.title, c.ticket, c.author, c.state, c.reason, c.origin, c.opened_at, c.updated_at"

const prefixedCommit = "k.id, k.change, k.actor, k.hold, k.started_at, k.ended_at, k.plan, k.state"

// ChangesNow gives changes by their numbers, each with its newest commit, in the order asked for; those that
// are not there are left out.
func (s *Store) ChangesNow(ctx context.Context, numbers []int64) ([]ChangeAndCommit, error) {
	list, err := json.Marshal(numbers)
	if err != nil {
		return nil, err
	}
	found, err := many(s.ask(ctx, "SELECT "+prefixedChange+", "+prefixedCommit+
		` FROM changes c LEFT JOIN commits k ON k.id = (SELECT max(id) FROM commits WHERE change = c.number)
		WHERE c.number IN (SELECT value FROM json_each(?))`, string(list)), scanChangeAndCommit)
	if err != nil {
		return nil, err
	}
	place := map[int64]int{}
	for i, n := range numbers {
		place[n] = i
	}
	slices.SortFunc(found, func(a, b ChangeAndCommit) int { return place[a.Change.Number] - place[b.Change.Number] })
	return found, nil
}

// scanChangeAndCommit reads a row of both, of which the latter may be missing.
func scanChangeAndCommit(r scanner) (ChangeAndCommit, error) {
	var out ChangeAndCommit
	var rest [8]sql.NullString
	columns := func(into ...any) error {
		for i := range rest {
			into = append(into, &rest[i])
		}
		return r.Scan(into...)
	}
	var err error
	if out.Change, err = scanChange(scanning(columns)); err != nil || !rest[0].Valid {
		return out, err
	}
	k, err := scanCommit(scanning(func(into ...any) error {
		for i, to := range into {
			switch to := to.(type) {
			case *string:
				*to = rest[i].String
			case *int64:
				n, err := strconv.ParseInt(rest[i].String, 10, 64)
				if err != nil {
					return err
				}
				*to = n
			default:
				return errors.New("a commit's column of a kind that is not known")
			}
		}
		return nil
	}))
	out.Commit = &k
	return out, err
}

// scanning is a row that is read by a function.
type scanning func(into ...any) error

func (f scanning) Scan(into ...any) error { return f(into...) }

// ofChanges reads what belongs to changes, by their numbers, which a row of the query begins with.
func ofChanges[T any](
	s *Store, ctx context.Context, text string, numbers []int64, scan func(scanner) (int64, T, error),
) (map[int64][]T, error) {
	list, err := json.Marshal(numbers)
	if err != nil {
		return nil, err
	}
	type row struct {
		change int64
		value  T
	}
	rows, err := many(s.ask(ctx, text, string(list)), func(r scanner) (x row, err error) {
		x.change, x.value, err = scan(r)
		return x, err
	})
	out := map[int64][]T{}
	for _, x := range rows {
		out[x.change] = append(out[x.change], x.value)
	}
	return out, err
}

// DevicesOfChanges gives the devices that changes have parts on, in the order of their parts; of each what
// says who may see it.
func (s *Store) DevicesOfChanges(ctx context.Context, numbers []int64) (map[int64][]Device, error) {
	return ofChanges(s, ctx, "SELECT p.change, "+placeColumns+" FROM parts p JOIN devices d ON d.id = p.device WHERE "+
		"p.change IN (SELECT value FROM json_each(?)) ORDER BY p.change, d.id", numbers,
		func(r scanner) (n int64, d Device, err error) {
			d, err = scanPlace(scanning(func(into ...any) error { return r.Scan(append([]any{&n}, into...)...) }))
			return n, d, err
		})
}

// EditsOfChanges tells how many edits are staged in changes.
func (s *Store) EditsOfChanges(ctx context.Context, numbers []int64) (map[int64][]int, error) {
	return ofChanges(
		s, ctx, "SELECT change, count(*) FROM edits WHERE change IN (SELECT value FROM json_each(?)) GROUP BY change",
		numbers, func(r scanner) (n int64, count int, err error) { err = r.Scan(&n, &count); return n, count, err },
	)
}

// CoworkersOfChanges lists who works on changes beside their authors.
func (s *Store) CoworkersOfChanges(ctx context.Context, numbers []int64) (map[int64][]string, error) {
	return ofChanges(
		s, ctx,
		"SELECT change, account FROM coworkers WHERE change IN (SELECT value FROM json_each(?)) "+
			"ORDER BY change, account",
		numbers, func(r scanner) (n int64, name string, err error) { err = r.Scan(&n, &name); return n, name, err },
	)
}

// NotesOfChanges lists the notes of changes, oldest first.
func (s *Store) NotesOfChanges(ctx context.Context, numbers []int64) (map[int64][]Note, error) {
	return ofChanges(s, ctx, "SELECT id, change, actor, at, text FROM notes WHERE change IN (SELECT value FROM "+
		"json_each(?)) ORDER BY id", numbers,
		func(r scanner) (int64, Note, error) {
			n, err := scanNote(r)
			return n.Change, n, err
		})
}

// WorkersOfChanges lists all who ever worked on changes.
func (s *Store) WorkersOfChanges(ctx context.Context, numbers []int64) (map[int64][]string, error) {
	return ofChanges(
		s, ctx,
		"SELECT change, account FROM workers WHERE change IN (SELECT value FROM json_each(?)) ORDER BY change, account",
		numbers, func(r scanner) (n int64, name string, err error) { err = r.Scan(&n, &name); return n, name, err },
	)
}

// ApprovalsOfChanges lists the agreements to changes, oldest first.
func (s *Store) ApprovalsOfChanges(ctx context.Context, numbers []int64) (map[int64][]Approval, error) {
	return ofChanges(s, ctx, "SELECT change, actor, digest, note, at FROM approvals WHERE change IN (SELECT value "+
		"FROM json_each(?)) ORDER BY at", numbers,
		func(r scanner) (int64, Approval, error) {
			a, err := scanApproval(r)
			return a.Change, a, err
		})
}

// WaitingOfChanges gives what of changes waits on the schedule.
func (s *Store) WaitingOfChanges(ctx context.Context, numbers []int64) (map[int64][]Scheduled, error) {
	return ofChanges(s, ctx, "SELECT "+scheduleColumns+" FROM schedule WHERE state = 'waiting' AND change IN (SELECT "+
		"value FROM json_each(?)) ORDER BY at, id", numbers,
		func(r scanner) (int64, Scheduled, error) {
			v, err := scanScheduled(r)
			return v.Change, v, err
		})
}

// OutsideDuringChanges lists the outside changes that were found during the holds of changes.
func (s *Store) OutsideDuringChanges(ctx context.Context, numbers []int64) (map[int64][]Outside, error) {
	return ofChanges(s, ctx, "SELECT "+outsideColumns+" FROM outside_changes WHERE during IN (SELECT value FROM "+
		"json_each(?)) AND during <> 0 ORDER BY id", numbers,
		func(r scanner) (int64, Outside, error) {
			o, err := scanOutside(r)
			return o.During, o, err
		})
}
