package access_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/store"
)

func TestLogin(t *testing.T) {
	s, err := store.Open(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	clock := time.Date(2026, 11, 23, 2, 0, 0, 0, time.UTC)
	log := audit.New(s, func() time.Time { return clock })
	a, err := access.NewAccounts(s, log)
	require.NoError(t, err)
	require.NoError(t, a.Add(t.Context(), "admin", "mara", "a good password", access.Operator))
	require.ErrorIs(t, a.Add(t.Context(), "admin", "mara", "another password", access.Admin), store.ErrExists)
	for _, bad := range [][3]string{{"Mara", "long enough", "viewer"}, {"service", "long enough", "viewer"}, {"x", "short", "viewer"}, {"x", "long enough", "king"}} {
		require.Error(t, a.Add(t.Context(), "admin", bad[0], bad[1], access.Role(bad[2])), bad)
	}
	for _, c := range [][2]string{{"mara", "wrong password"}, {"nobody", "a good password"}, {"", ""}} {
		_, _, _, err := a.Login(t.Context(), c[0], c[1], "here")
		require.ErrorIs(t, err, access.ErrDenied)
	}
	token, expires, p, err := a.Login(t.Context(), "mara", "a good password", "here")
	require.NoError(t, err)
	assert.Equal(t, access.Person{Name: "mara", Role: access.Operator}, p)
	who, err := a.Who(t.Context(), token)
	require.NoError(t, err)
	assert.Equal(t, p, who)
	_, err = a.Who(t.Context(), token+"x")
	require.ErrorIs(t, err, access.ErrDenied)
	clock = expires
	_, err = a.Who(t.Context(), token)
	require.ErrorIs(t, err, access.ErrDenied, "a session ends")
	entries, err := log.Entries(t.Context(), store.LedgerQuery{Oldest: true})
	require.NoError(t, err)
	var told []string
	for _, e := range entries {
		told = append(told, e.Action)
		assert.NotContains(t, e.Note, "password")
	}
	assert.Equal(t, []string{"account.add", "login.denied", "login.denied", "login.denied", "login"}, told)
	v, err := log.Verify(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, int64(5), v.Entries)
	assert.Empty(t, v.Findings)
	assert.True(t, access.Admin.Covers(access.Operator) && access.Operator.Covers(access.Viewer) && !access.Viewer.Covers(access.Operator))
	assert.False(t, access.Role("").Covers(access.Viewer))
}

func TestSeal(t *testing.T) {
	dir := t.TempDir()
	s, err := access.OpenSealer(dir)
	require.NoError(t, err)
	sealed := s.Seal([]byte("rope"), "device a")
	assert.NotContains(t, string(sealed), "rope")
	assert.NotEqual(t, sealed, s.Seal([]byte("rope"), "device a"))
	again, err := access.OpenSealer(dir)
	require.NoError(t, err)
	got, err := again.Open(sealed, "device a")
	require.NoError(t, err)
	assert.Equal(t, "rope", string(got))
	_, err = s.Open(sealed, "device b")
	require.Error(t, err, "a secret moved to another device does not open")
	sealed[len(sealed)-1] ^= 1
	_, err = s.Open(sealed, "device a")
	require.Error(t, err)
	_, err = s.Open(nil, "device a")
	require.Error(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "seal.key"), []byte("cut short"), 0o600))
	_, err = access.OpenSealer(dir)
	require.ErrorContains(t, err, "restore it")
}
