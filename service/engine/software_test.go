package engine_test

import (
	"bytes"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/guard"
	"oakenlatch/lab"
	"oakenlatch/test/pace"
)

// A device that begins to run other software during a hold, with modules more or less than before, and
// still holds the change: it reverts all the same, and what it does not know any more is left alone.
func TestOtherSoftwareDuringHold(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	acls := regexp.MustCompile(`(?s)<acls .*</acls>`)
	for _, c := range []struct {
		what    string
		modules []string
		factory func([]byte) []byte
	}{
		{
			"with more modules", []string{"ietf-access-control-list", "oaken-lab-zones"},
			func(b []byte) []byte { return b },
		},
		{"with one less", nil, func(b []byte) []byte { return acls.ReplaceAll(b, nil) }},
	} {
		t.Run(c.what, func(t *testing.T) {
			t.Parallel()
			r := newKind(t, func(s *lab.Spec) { s.Kind, s.Management.Others = lab.NoConfirm, nil }, router)
			old := r.Devices[router]
			former, err := old.Value(contact)
			require.NoError(t, err)
			n := r.stage(router + " " + contact + " Night desk")
			r.commit(n, 15*time.Second)
			r.until(n, 30*time.Second, awaiting)
			old.Stop()
			spec := old.Spec
			spec.Listen, spec.Modules = old.Address, c.modules
			spec.Factory = c.factory(bytes.Replace(spec.Factory, []byte(former), []byte("Night desk"), 1))
			fresh, err := lab.Start(spec)
			require.NoError(t, err)
			t.Cleanup(fresh.Stop)
			require.NoError(t, r.Trust(router))
			held, err := fresh.Value(contact)
			require.NoError(t, err)
			require.Equal(t, "Night desk", held)
			s := r.until(n, 60*time.Second, done)
			assert.Equal(t, guard.Reverted, s.Outcome, "%+v", s)
			now, err := fresh.Value(contact)
			require.NoError(t, err)
			assert.Equal(t, former, now)
		})
	}
}
