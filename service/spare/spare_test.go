package spare_test

import (
	"os"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/service/spare"
)

// Once no file can be opened, those that are kept are given up, and one more can be; without them none could. They are
// not taken again while they are needed.
func TestGivenUp(t *testing.T) {
	opened := 0
	open := func() (*os.File, error) { opened++; return os.Open(os.DevNull) }
	require.True(t, spare.Keep())
	assert.False(t, spare.Short())

	var was syscall.Rlimit
	require.NoError(t, syscall.Getrlimit(syscall.RLIMIT_NOFILE, &was))
	low := was
	low.Cur = spare.Files + 40
	require.NoError(t, syscall.Setrlimit(syscall.RLIMIT_NOFILE, &low))
	t.Cleanup(func() { assert.NoError(t, syscall.Setrlimit(syscall.RLIMIT_NOFILE, &was)) })
	var files []*os.File
	for f, err := open(); err == nil; f, err = open() {
		files = append(files, f)
	}
	_, err := open()
	require.ErrorIs(t, err, syscall.EMFILE)

	opened = 0
	f, err := spare.Open(open)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	assert.Equal(t, 2, opened, "once more, after the files were given up")
	assert.True(t, spare.Short())
	assert.False(t, spare.Keep(), "it leaves them to whoever needs them")
	for _, f := range files {
		require.NoError(t, f.Close())
	}

	opened = 0
	_, err = spare.Open(func() (*os.File, error) { opened++; return nil, os.ErrNotExist })
	require.ErrorIs(t, err, os.ErrNotExist)
	assert.Equal(t, 1, opened, "what failed for another reason is not done twice")
}
