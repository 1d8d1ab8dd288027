package spare_test

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
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
	limit := func(files uint64) {
		var lim syscall.Rlimit
		require.NoError(t, syscall.Getrlimit(syscall.RLIMIT_NOFILE, &lim))
		lim.Cur = files
		require.NoError(t, syscall.Setrlimit(syscall.RLIMIT_NOFILE, &lim))
	}
	open := func() (*os.File, error) { opened++; return os.Open(os.DevNull) }
	require.True(t, spare.Keep())
	assert.False(t, spare.Short())

	var was syscall.Rlimit
	require.NoError(t, syscall.Getrlimit(syscall.RLIMIT_NOFILE, &was))
	limit(spare.Files + 40)
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

// Where there is no room for all of them, none is kept: they would be missing elsewhere, for nothing.
func TestNoRoomForAll(t *testing.T) {
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), "FEW_FILES=1")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Equal(t, "kept false, short false, more open 0\n", string(out))
}

// TestMain is, in a process of its own, what TestNoRoomForAll looks at: there nothing was kept before.
func TestMain(m *testing.M) {
	if os.Getenv("FEW_FILES") == "" {
		os.Exit(m.Run())
	}
	var lim syscall.Rlimit
	err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &lim)
	lim.Cur = spare.Files
	err = errors.Join(err, syscall.Setrlimit(syscall.RLIMIT_NOFILE, &lim))
	if f, err := os.Open(os.DevNull); err == nil { // the first one has the runtime open others
		_ = f.Close()
	}
	before, berr := os.ReadDir("/proc/self/fd")
	kept := spare.Keep()
	after, aerr := os.ReadDir("/proc/self/fd")
	if err := errors.Join(err, berr, aerr); err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
	fmt.Printf("kept %t, short %t, more open %d\n", kept, spare.Short(), len(after)-len(before))
}
