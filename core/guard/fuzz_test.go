package guard_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"oakenlatch/core/guard"
)

// A probe that is read is written as a line that is read as the same.
func FuzzProbe(f *testing.F) {
	for _, line := range []string{
		"tcp 192.0.2.12:22", "state saltern-quay /interfaces/interface=trunk1/oper-status up",
		"program ferry-answers Heron two", "", "tcp", "state a b", "program \x00",
	} {
		f.Add(line)
	}
	f.Fuzz(func(t *testing.T, line string) {
		p, err := guard.ParseProbe(line)
		if err != nil {
			require.Zero(t, p)
			return
		}
		again, err := guard.ParseProbe(p.String())
		require.NoError(t, err, "%q", p.String())
		require.Equal(t, p.String(), again.String())
		require.Equal(t, p.Kind, again.Kind)
	})
}
