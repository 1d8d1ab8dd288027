package access

import (
	"crypto/rand"
	"errors"
	"sync"
	"time"

	"github.com/go-webauthn/webauthn/webauthn"

	"oakenlatch/service/refusal"
)

// asking remembers who was asked for what, while the service runs.
type asking struct {
	mu   sync.Mutex
	list map[string]asked
	used map[string]int64 // by factor: the last step of which a code was taken, whether that could be kept or not
	gone map[string]bool  // recovery codes that were used, by hash
}

// asked is what somebody was asked for, and in which session.
type asked struct {
	account, session string // session is "" at sign-in
	begun            time.Time
	tries            int
	challenge        *webauthn.SessionData
	site             Site
	kind, name       string // of a factor that is to be added
	secret           string
}

// keep remembers that somebody was asked, and gives what to come back with.
func (q *asking) keep(a asked) string {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.list == nil {
		q.list = map[string]asked{}
	}
	oldest, own := "", 0
	for t, other := range q.list {
		switch {
		case a.begun.Sub(other.begun) > askedFor || len(q.list) >= mostAsked:
			delete(q.list, t)
		case other.account == a.account:
			if own++; oldest == "" || other.begun.Before(q.list[oldest].begun) {
				oldest = t
			}
		}
	}
	if own >= mostOfOne { // who asks without end pushes nobody else off the list
		delete(q.list, oldest)
	}
	ticket := rand.Text()
	q.list[ticket] = a
	return ticket
}

// take gives what a ticket stands for, which lets in once.
func (q *asking) take(ticket string, now time.Time) (asked, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	a, ok := q.list[ticket]
	delete(q.list, ticket)
	if !ok || now.Sub(a.begun) > askedFor {
		return a, refusal.New(
			refusal.Forbidden, "begin again", "you were not asked for that, or more than five minutes ago",
		)
	}
	return a, nil
}

// step notes that a code of a step was taken; false where that one, or a later one, was before.
func (q *asking) step(factor string, at int64) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.used == nil {
		q.used = map[string]int64{}
	}
	if at <= q.used[factor] {
		return false
	}
	q.used[factor] = at
	return true
}

func (q *asking) spend(hash string) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.gone[hash] {
		return false
	}
	if q.gone == nil {
		q.gone = map[string]bool{}
	}
	q.gone[hash] = true
	return true
}

// again lets somebody try once more with what they were asked, where what they showed was wrong or came too
// soon.
func (q *asking) again(a asked, ticket string, why error) {
	if a.tries++; ticket == "" || a.tries >= mostShown || !errors.Is(why, ErrShown) && !errors.As(
		why, new(*ThrottledError),
	) {
		return
	}
	q.mu.Lock()
	defer q.mu.Unlock()
	q.list[ticket] = a
}
