package test

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/lab"
)

// disk gives a folder on a small disk of its own, made of memory.
func disk(t *testing.T, size string) string {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("a disk of its own needs root here: skipped")
	}
	dir := t.TempDir()
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size="+size, "tmpfs", dir).CombinedOutput(); err != nil {
		t.Skipf("a disk of its own cannot be had here: %s", out)
	}
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	return dir
}

// stuff fills a disk to the last byte; what it gives makes room again.
func stuff(t *testing.T, dir string) (clear func()) {
	t.Helper()
	name := filepath.Join(dir, "stuffing")
	f, err := os.Create(name)
	require.NoError(t, err)
	for size := 1 << 20; size > 0; size /= 2 {
		for err = nil; err == nil; {
			_, err = f.Write(make([]byte, size))
		}
		require.True(t, errors.Is(err, syscall.ENOSPC), "%v", err)
	}
	require.NoError(t, f.Close())
	return func() { require.NoError(t, os.Remove(name)) }
}

func ready(s *stage) string {
	res, err := http.Get(s.url + "/readyz")
	require.NoError(s.t, err)
	defer func() { _ = res.Body.Close() }()
	text, err := io.ReadAll(res.Body)
	require.NoError(s.t, err)
	return fmt.Sprintf("%d %s", res.StatusCode, text)
}

// sites are devices of every guard.
var sites = map[string]lab.Kind{router: lab.Full, quay: lab.NoPersist, "saltern-slip": lab.NoConfirm, hall: lab.NoCandidate}

// With its disk full to the last byte, the room that was kept used up too, the service sends all
// devices back: by the deadline, and by a person's word, who can sign in for it. What it
// says of them is so; it says what is wrong; and once there is room it is on record.
func TestFullDiskGoesBack(t *testing.T) {
	t.Parallel()
	for _, how := range []string{"deadline", "word", "restart"} {
		t.Run(how, func(t *testing.T) {
			t.Parallel()
			data := disk(t, "96m")
			s := newStageAt(t, t.TempDir(), data)
			for name, kind := range sites {
				s.addLabOf(name, kind)
			}
			var edits []string
			for name := range sites {
				edits = append(edits, name+" /system/contact Night desk")
			}
			n := s.open("mara", edits...)
			hold := map[string]string{"deadline": "15s", "word": "10m", "restart": "20s"}[how]
			s.do("mara", 0, "commit", n, "--hold", hold)
			assert.Equal(t, "200 ready\n", ready(s))
			var clears []func()
			fill := func() { clears = append(clears, stuff(t, data)) }
			fill()
			// It takes two: the room that was kept is given up once something does not fit.
			deadline := time.Now().Add(8 * time.Second)
			for time.Now().Before(deadline) {
				if _, err := os.Stat(filepath.Join(data, "spare-room")); os.IsNotExist(err) {
					break
				}
				_ = ready(s)
				time.Sleep(200 * time.Millisecond)
			}
			require.NoFileExists(t, filepath.Join(data, "spare-room"), "the room that was kept is given up")
			require.Contains(t, ready(s), "503 not ready: nothing new can be begun")
			require.NoError(t, os.Rename(filepath.Join(data, "stuffing"), filepath.Join(data, "stuffing1")))
			clears[0] = func() { require.NoError(t, os.Remove(filepath.Join(data, "stuffing1"))) }
			fill()
			// The database may find some room in its own files, which is well, and no test.
			for end := time.Now().Add(10 * time.Second); !strings.Contains(ready(s), "nothing of this was kept"); time.Sleep(300 * time.Millisecond) {
				if time.Now().After(end) {
					t.Skip("the database has room in its own files yet: skipped")
				}
			}

			if how == "restart" {
				s.kill()
				s.start()
			}
			// Somebody signs in, sees it, and says so.
			out, status := s.latch("joss", "changes")
			assert.Zero(t, status, out)
			out, status = s.latch("mara", "devices")
			assert.Zero(t, status, out)
			m := s.open2(t)
			assert.Contains(t, m, "disk of the records is full")
			if how == "word" {
				out, status = s.latch("mara", "confirm", n)
				assert.NotZero(t, status, "it is not kept where that cannot be put on record")
				assert.Contains(t, out, "disk of the records is full")
				out, _ = s.latch("mara", "revert", n, "--yes")
				assert.Contains(t, out, "going back")
			}
			for name := range sites {
				require.Eventually(t, func() bool { return s.value(name, "/system/contact") != "Night desk" }, 60*time.Second, 300*time.Millisecond, "%s goes back", name)
				assert.False(t, s.devices[name].Pending(), name)
			}
			out, status = s.latch("mara", "show", n)
			assert.NotContains(t, out, "kept", status)
			for _, clear := range clears {
				clear()
			}
			s.eventually(n, "reverted", 30*time.Second)
			require.Eventually(t, func() bool { return ready(s) == "200 ready\n" }, 20*time.Second, 300*time.Millisecond)
			assert.FileExists(t, filepath.Join(data, "spare-room"), "room is kept again")
			assert.Contains(t, s.do("mara", 0, "audit", "verify"), "The ledger is intact")
			n = s.open("mara", router+" /system/contact Day desk")
			s.do("mara", 0, "commit", n, "--hold", "2m")
			s.do("mara", 0, "confirm", n)
		})
	}
}

// open2 tries to begin something on a full disk, and gives what is said.
func (s *stage) open2(t *testing.T) string {
	t.Helper()
	out, status := s.latch("mara", "open", "something new")
	assert.NotZero(t, status)
	return out
}
