package ledger_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"oakenlatch/core/ledger"
)

func chain() []ledger.Entry {
	var out []ledger.Entry
	prev := ""
	for i := range int64(5) {
		e := ledger.Seal(ledger.Entry{Seq: i + 1, At: time.Unix(1800000000+i, 123456789), Actor: "mara", Action: "edit.put", Path: "/a", After: "x"}, prev)
		prev = e.Hash
		out = append(out, e)
	}
	return out
}

func verify(list []ledger.Entry) error {
	var v ledger.Verifier
	for _, e := range list {
		if err := v.Next(e); err != nil {
			return err
		}
	}
	return nil
}

func TestChain(t *testing.T) {
	require.NoError(t, verify(chain()))
	for name, c := range map[string]struct {
		tamper func([]ledger.Entry) []ledger.Entry
		want   string
	}{
		"altered": {func(l []ledger.Entry) []ledger.Entry { l[2].Actor = "joss"; return l }, "ledger entry 3: its content does not match"},
		"altered and sealed again": {func(l []ledger.Entry) []ledger.Entry {
			l[2].Actor = "joss"
			l[2] = ledger.Seal(l[2], l[2].Prev)
			return l
		}, "ledger entry 4: does not follow entry 3"},
		"taken out": {func(l []ledger.Entry) []ledger.Entry { return append(l[:2:2], l[3:]...) }, "ledger entry 4: does not follow entry 2"},
		"swapped":   {func(l []ledger.Entry) []ledger.Entry { l[1], l[2] = l[2], l[1]; return l }, "ledger entry 3: does not follow entry 1"},
		"renumbered": {func(l []ledger.Entry) []ledger.Entry {
			l[4].Seq = 9
			l[4] = ledger.Seal(l[4], l[4].Prev)
			return l
		}, "the entry after 4 is missing"},
	} {
		t.Run(name, func(t *testing.T) { require.ErrorContains(t, verify(c.tamper(chain())), c.want) })
	}
}
