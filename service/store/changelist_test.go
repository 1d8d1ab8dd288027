package store

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/lifecycle"
	"oakenlatch/test/pace"
)

// TestListOfAMovingChange: a change that goes from one state to another, on and on, is in a list of both at any moment,
// and once.
func TestListOfAMovingChange(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	states := []lifecycle.State{lifecycle.Holding, lifecycle.Unsettled}
	write(t, s, func(tx *Tx) error {
		if err := tx.AddAccount(Account{Name: "mara", Created: now}); err != nil {
			return err
		}
		_, err := tx.AddChange(Change{Title: "x", Author: "mara", State: states[0], Opened: now, Updated: now})
		return err
	})
	done := make(chan struct{})
	var wg sync.WaitGroup
	var moved error
	wg.Go(func() {
		for i := 0; moved == nil; i++ {
			select {
			case <-done:
				return
			default:
			}
			moved = s.Write(t.Context(), func(tx *Tx) error { return tx.SetState(1, states[(i+1)%2], "", now) })
		}
	})
	q := ChangeQuery{States: states}
	for end := time.Now().Add(time.Second); time.Now().Before(end) && !t.Failed(); {
		list, err := s.ListChanges(t.Context(), q)
		if assert.NoError(t, err) {
			assert.Len(t, list, 1)
		}
		n, err := s.CountChanges(t.Context(), q)
		if assert.NoError(t, err) {
			assert.Equal(t, 1, n)
		}
	}
	close(done)
	wg.Wait()
	require.NoError(t, moved)
}

// TestChangeQueries holds what is listed and counted against a plain reading of the question, over random changes and
// random questions.
func TestChangeQueries(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	rnd := rand.New(rand.NewPCG(7, 8))
	people := []string{"mara", "joss", "nell"}
	states := []lifecycle.State{
		lifecycle.Draft, lifecycle.Dropped, lifecycle.Holding, lifecycle.Unsettled, lifecycle.Confirmed,
	}
	pick := func(list []string) string { return list[rnd.IntN(len(list))] }
	var changes []Change
	coworkers, devices := map[int64][]string{}, map[int64][]int64{}
	write(t, s, func(tx *Tx) error {
		for _, name := range people {
			if err := tx.AddAccount(Account{Name: name, Created: now}); err != nil {
				return err
			}
		}
		for i := range 3 {
			err := tx.AddDevice(Device{
				Name: fmt.Sprint("d", i), Address: "a:1", Account: "u", Auth: "password", Secret: []byte{1}, Added: now,
				AddedBy: "mara",
			})
			if err != nil {
				return err
			}
			if err := tx.SetModules(int64(i)+1, "list", "set", []byte("modules"), []string{"urn:x"}); err != nil {
				return err
			}
			if _, err := tx.AddRun(int64(i)+1, "set", fmt.Sprint("digest", i), []byte("<config/>")); err != nil {
				return err
			}
			r := Revision{Device: int64(i) + 1, Digest: fmt.Sprint("digest", i), At: now, Source: lifecycle.FirstRead}
			if _, err := tx.AddRevision(r); err != nil {
				return err
			}
		}
		for range 130 {
			c, err := tx.AddChange(Change{
				Title:  pick([]string{"Uplink", "50% more", "a_b", "new ACL"}),
				Ticket: pick([]string{"", "FER-1", "fer-12", "OPS_3"}),
				Author: pick(people), State: states[rnd.IntN(len(states))], Opened: now, Updated: now,
			})
			if err != nil {
				return err
			}
			changes = append(changes, c)
			for d := range int64(3) {
				if rnd.IntN(3) == 0 {
					err = errors.Join(err, tx.SetPart(Part{Change: c.Number, Device: d + 1, Base: 1}))
					devices[c.Number] = append(devices[c.Number], d+1)
				}
			}
			if other := pick(people); other != c.Author && rnd.IntN(2) == 0 {
				err = errors.Join(err, tx.AddCoworker(c.Number, other, c.Author, now))
				coworkers[c.Number] = []string{other}
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
	slices.Reverse(changes)
	contains := func(text, part string) bool { return strings.Contains(strings.ToLower(text), strings.ToLower(part)) }
	prefixed := func(text, part string) bool { return strings.HasPrefix(strings.ToLower(text), strings.ToLower(part)) }
	fits := func(q ChangeQuery, c Change) bool {
		switch {
		case q.Numbers != nil && !slices.Contains(q.Numbers, c.Number),
			q.States != nil && !slices.Contains(q.States, c.State),
			q.Author != "" && q.Author != c.Author,
			!strings.HasPrefix(strconv.FormatInt(c.Number, 10), q.Number),
			(q.Ticketed || q.Ticket != "") && c.Ticket == "",
			!prefixed(c.Ticket, q.Ticket),
			!contains(c.Title, q.Text) && !contains(c.Ticket, q.Text),
			q.Before > 0 && c.Number >= q.Before:
			return false
		case q.Sight == nil:
			return true
		}
		worksOn := c.Author == q.Sight.Person || slices.Contains(coworkers[c.Number], q.Sight.Person)
		if !worksOn && (c.State == lifecycle.Draft || c.State == lifecycle.Dropped) {
			return false
		}
		if q.Sight.Devices == nil {
			return true
		}
		for _, d := range devices[c.Number] {
			if !slices.Contains(q.Sight.Devices, d) {
				return false
			}
		}
		return worksOn || devices[c.Number] != nil
	}
	found := 0
	for round := range pace.Rounds(1000) {
		var q ChangeQuery
		maybe := func(f func()) {
			if rnd.IntN(4) == 0 {
				f()
			}
		}
		maybe(func() {
			for range rnd.IntN(4) {
				q.States = append(q.States, states[rnd.IntN(len(states))])
			}
		})
		maybe(func() { q.Numbers = []int64{int64(rnd.IntN(140)), int64(rnd.IntN(140)), int64(rnd.IntN(140))} })
		maybe(func() { q.Author = pick(people) })
		maybe(func() { q.Number = pick([]string{"1", "12", "130", "5", "0", "01", "x", "999"}) })
		maybe(func() { q.Ticket = pick([]string{"f", "FER-1", "fer-12", "OPS", "z"}) })
		maybe(func() { q.Text = pick([]string{"%", "_", "up", "fer", "ACL"}) })
		maybe(func() { q.Before = int64(1 + rnd.IntN(140)) })
		maybe(func() { q.Ticketed = true })
		maybe(func() { q.Limit = 1 + rnd.IntN(9) })
		maybe(func() {
			q.Sight = &Sight{Person: pick(people)}
			maybe(func() { q.Sight.Devices = []int64{int64(1 + rnd.IntN(3))} })
		})
		var want []Change
		for _, c := range changes {
			if fits(q, c) {
				want = append(want, c)
			}
		}
		count, err := s.CountChanges(t.Context(), q)
		require.NoError(t, err)
		require.Equal(t, len(want), count, "round %d: %+v", round, q)
		if q.Limit > 0 {
			want = want[:min(q.Limit, len(want))]
		}
		list, err := s.ListChanges(t.Context(), q)
		require.NoError(t, err)
		require.Len(t, list, len(want), "round %d: %+v", round, q)
		for i, c := range want {
			require.Equal(t, c.Number, list[i].Number, "round %d: %+v", round, q)
		}
		found += len(want)
	}
	assert.Greater(t, found, pace.Rounds(3_000), "the questions find something")
}
