package access

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"oakenlatch/core/ledger"
	"oakenlatch/service/store"
)

// A session that could not be put on record ends with the others of its account, and
// those that are over make room for new ones.
func TestLentSessions(t *testing.T) {
	t.Parallel()
	var l lent
	at := time.Unix(1_800_000_000, 0)
	for n := range mostLent {
		require.True(
			t,
			l.add(
				store.Token{Hash: fmt.Sprint(n), Account: "mara", Created: at, Expires: at.Add(time.Hour)},
				ledger.Entry{},
			),
		)
	}
	require.False(
		t, l.add(store.Token{Hash: "more", Account: "joss", Created: at, Expires: at.Add(time.Hour)}, ledger.Entry{}),
	)
	l.dropOf("mara")
	_, ok := l.find("0")
	require.False(t, ok)
	require.True(
		t, l.add(store.Token{Hash: "a", Account: "joss", Created: at, Expires: at.Add(time.Hour)}, ledger.Entry{}),
	)
	require.True(
		t,
		l.add(
			store.Token{Hash: "b", Account: "joss", Created: at.Add(2 * time.Hour), Expires: at.Add(3 * time.Hour)},
			ledger.Entry{},
		),
	)
	_, ok = l.find("a")
	require.False(t, ok, "it was over")
}

// Whatever works on a password waits its turn: each takes 32 MB.
func TestPasswordsInTurn(t *testing.T) {
	t.Parallel()
	a := &Accounts{hashers: make(chan struct{}, 1)}
	over, err := a.turn(t.Context())
	require.NoError(t, err)
	ctx, stop := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer stop()
	_, err = a.hashed(ctx, "a good password")
	require.ErrorIs(t, err, context.DeadlineExceeded)
	over()
	_, err = a.hashed(t.Context(), "a good password")
	require.NoError(t, err)
}
