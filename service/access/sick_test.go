package access_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/store"
	"oakenlatch/test/servicetest"
)

// Where the disk cannot be read any more, whoever was in stays in, and whoever was put out
// stays out: what is remembered is never more than what stood there last.
func TestOutStaysOut(t *testing.T) {
	t.Parallel()
	disk := servicetest.NewDisk(t, 32)
	s, err := store.Open(disk.Dir)
	require.NoError(t, err)
	defer func() { _ = s.Close() }()
	require.NoError(t, s.Watch(disk.Dir, 0))
	a, err := access.NewAccounts(s, audit.New(s, audit.Options{}), access.Options{})
	require.NoError(t, err)
	require.NoError(t, a.Add(t.Context(), "x", "admin", "a good password", access.Everywhere(access.Roles...)))
	tokens := map[string]string{}
	for _, name := range []string{"mara", "joss", "wren", "tamsin"} {
		require.NoError(
			t, a.Add(t.Context(), "admin", name, "a good password", access.Everywhere(access.Read, access.Commit)),
		)
		token, _, _, err := a.Login(t.Context(), name, "a good password", "192.0.2.7", access.Site{})
		require.NoError(t, err)
		_, err = a.Who(t.Context(), token, "192.0.2.7")
		require.NoError(t, err)
		tokens[name] = token
	}
	require.NoError(t, a.Close(t.Context(), "admin", "joss"))
	require.NoError(t, a.Logout(t.Context(), access.Person{Name: "wren"}, tokens["wren"]))
	require.NoError(t, a.SetGrants(t.Context(), "admin", "tamsin", access.Everywhere(access.Read)))
	_, err = a.Who(t.Context(), tokens["mara"], "192.0.2.7") // as often happens
	require.NoError(t, err)
	disk.ShutDown()
	require.Eventually(t, func() bool { return store.Sick(s.Check(t.Context())) }, 90*time.Second, 50*time.Millisecond)

	p, err := a.Who(t.Context(), tokens["mara"], "192.0.2.7")
	require.NoError(t, err)
	assert.Equal(t, "mara", p.Name)
	for _, name := range []string{"joss", "wren"} {
		_, err = a.Who(t.Context(), tokens[name], "192.0.2.7")
		assert.Error(t, err, name)
	}
	if p, err = a.Who(t.Context(), tokens["tamsin"], "192.0.2.7"); err == nil {
		assert.Error(t, p.Fits(access.Need{Role: access.Commit}), "she may no longer")
	}
	_, _, _, err = a.Login(t.Context(), "joss", "a good password", "192.0.2.7", access.Site{})
	require.Error(t, err)
}
