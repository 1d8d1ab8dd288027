package test

import (
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
	"oakenlatch/test/servicetest"
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

func ready(s *stage) string {
	res, err := http.Get(s.URL + "/readyz")
	require.NoError(s.T, err)
	defer func() { _ = res.Body.Close() }()
	text, err := io.ReadAll(res.Body)
	require.NoError(s.T, err)
	return fmt.Sprintf("%d %s", res.StatusCode, text)
}

// sites are devices of every guard.
var sites = map[string]lab.Kind{
	router: lab.Full, quay: lab.NoPersist, "saltern-slip": lab.NoConfirm, hall: lab.NoCandidate,
}

// everyGuard is a service with its records in a folder, and a change on devices of every guard.
func everyGuard(t *testing.T, data string) (s *stage, change string) {
	t.Helper()
	s = newStageAt(t, t.TempDir(), data)
	var edits []string
	for name, kind := range sites {
		s.AddLabOf(name, kind)
		edits = append(edits, name+" /system/contact Night desk")
	}
	return s, s.Open("mara", edits...)
}

// With its disk full to the last byte, the room that was kept used up too, the service sends all
// devices back: by the deadline, and by a person's word, who can sign in for it. What it
// says of them is so; it says what is wrong; and once there is room it is on record.
func TestFullDiskGoesBack(t *testing.T) {
	t.Parallel()
	for _, how := range []string{"deadline", "word", "restart"} {
		t.Run(how, func(t *testing.T) {
			t.Parallel()
			data := disk(t, "96m")
			s, n := everyGuard(t, data)
			hold := map[string]string{"deadline": "60s", "word": "10m", "restart": "60s"}[how]
			s.Do("mara", 0, "commit", n, "--hold", hold)
			assert.Equal(t, "200 ready\n", ready(s))
			var clears []func()
			fill := func() { clears = append(clears, servicetest.Stuff(t, data)) }
			fill()
			// It takes two: the room that was kept is given up once something does not fit.
			deadline := time.Now().Add(40 * time.Second)
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
			for end := time.Now().Add(10 * time.Second); !strings.Contains(
				ready(s), "nothing of this was stored",
			); time.Sleep(300 * time.Millisecond) {
				if time.Now().After(end) {
					t.Skip("the database has room in its own files yet: skipped")
				}
			}

			// The room that was kept may have been given up before anybody looked how full the disk was.
			require.Eventually(
				t, func() bool { return strings.Contains(s.Logged(), "the disk of the records is nearly full") },
				90*time.Second, 100*time.Millisecond,
			)
			if how == "restart" {
				s.Kill()
				s.Start()
			}
			// Somebody signs in, sees it, and says so.
			out, status := s.Latch("joss", "changes")
			assert.Zero(t, status, out)
			out, status = s.Latch("mara", "devices")
			assert.Zero(t, status, out)
			m := s.open2(t)
			assert.Contains(t, m, "disk of the records is full")
			if how == "word" {
				out, status = s.Latch("mara", "confirm", n)
				assert.NotZero(t, status, "it is not kept where that cannot be put on record")
				assert.Contains(t, out, "disk of the records is full")
				out, _ = s.Latch("mara", "revert", n, "--yes")
				assert.Contains(t, out, "reverting")
			}
			for name := range sites {
				require.Eventually(
					t, func() bool { return s.Value(name, "/system/contact") != "Night desk" }, 180*time.Second,
					300*time.Millisecond, "%s reverts", name,
				)
				assert.False(t, s.Devices[name].Pending(), name)
			}
			out, status = s.Latch("mara", "show", n)
			assert.NotContains(t, out, "confirmed", status)
			for _, clear := range clears {
				clear()
			}
			s.Eventually(n, "reverted", 90*time.Second)
			require.Eventually(
				t, func() bool { return ready(s) == "200 ready\n" }, 90*time.Second, 300*time.Millisecond,
			)
			assert.FileExists(t, filepath.Join(data, "spare-room"), "room is kept again")
			assert.Contains(t, s.Do("mara", 6, "audit", "verify"), "consistent in itself")
			n = s.Open("mara", router+" /system/contact Day desk")
			s.Do("mara", 0, "commit", n, "--hold", "2m")
			s.Do("mara", 0, "confirm", n)
		})
	}
}

// open2 tries to begin something on a full disk, and gives what is said.
func (s *stage) open2(t *testing.T) string {
	t.Helper()
	out, status := s.Latch("mara", "open", "something new")
	assert.NotZero(t, status)
	return out
}

// A disk that fails during a hold, in every way: the service says so, lets people in, shows
// what is under way, refuses what is new and what it could not keep on record, and sends every device back, by the
// deadline and by a person's word. Once the disk is mended, what it says of every device is so.
func TestSickDisks(t *testing.T) {
	t.Parallel()
	for _, how := range []struct {
		name   string
		strike func(*stage, *servicetest.Disk)
		says   string // by /readyz
		mend   func(*stage, *servicetest.Disk)
	}{
		{"shut down", func(_ *stage, d *servicetest.Disk) { d.ShutDown() }, "disk of the records fails", restarted},
		{
			"takes no changes", func(_ *stage, d *servicetest.Disk) { d.FailWrites() }, "disk of the records fails",
			restarted,
		},
		{
			"does not answer", func(_ *stage, d *servicetest.Disk) { d.Freeze() }, "does not answer",
			func(_ *stage, d *servicetest.Disk) { d.Thaw() },
		},
		{
			"takes no changes, started anew",
			func(s *stage, d *servicetest.Disk) { d.FailWrites(); s.Kill(); s.Start() }, "disk of the records fails",
			restarted,
		},
	} {
		for _, by := range []string{"deadline", "word"} {
			t.Run(how.name+", "+by, func(t *testing.T) {
				t.Parallel()
				d := servicetest.NewDisk(t, 128)
				s, n := everyGuard(t, filepath.Join(d.Dir, "data"))
				thawed := false
				t.Cleanup(func() {
					if how.name == "does not answer" && !thawed {
						d.Thaw()
					}
				})
				s.Do("mara", 0, "devices")
				s.Do("joss", 0, "changes")
				s.Do("mara", 0, "commit", n, "--hold", map[string]string{"deadline": "20s", "word": "10m"}[by])
				time.Sleep(3 * time.Second) // what is under way is known by heart soon after it began
				how.strike(s, d)
				require.Eventually(
					t, func() bool { return strings.Contains(ready(s), how.says) }, 90*time.Second,
					300*time.Millisecond, "%s", how.says,
				)
				out, status := s.Latch("mara", "show", n)
				assert.Zero(t, status, out)
				assert.Contains(t, out, "holding", out)
				assert.Regexp(t, "reverted .* unless you confirm|reverting", out)
				out, status = s.Latch("mara", "devices")
				assert.Zero(t, status, out)
				assert.Contains(t, out, hall)
				require.NoError(t, os.RemoveAll(filepath.Join(s.Dir, "home-joss")))
				out, status = s.Latch("joss", "show", n) // signs in anew
				assert.Zero(t, status, out)
				assert.Contains(t, s.open2(t), "disk of the records")
				if by == "word" {
					out, status = s.Latch("mara", "confirm", n)
					assert.NotZero(t, status, "it is not kept where that cannot be put on record")
					// where it was started anew, a session that was the hold is gone
					assert.Regexp(t, "disk of the records|already reverting", out)
					out, _ = s.Latch("mara", "revert", n, "--yes")
					assert.Contains(t, out, "reverting")
				}
				for name := range sites {
					require.Eventually(
						t, func() bool { return s.Value(name, "/system/contact") != "Night desk" }, 60*time.Second,
						300*time.Millisecond, "%s reverts", name,
					)
					assert.False(t, s.Devices[name].Pending(), name)
				}
				out, _ = s.Latch("mara", "show", n)
				assert.NotRegexp(t, `(?m)^ +\S+ +kept`, out)
				how.mend(s, d)
				thawed = true
				c := s.Eventually(n, "reverted", 60*time.Second)
				for _, dev := range c.Commit.Devices {
					assert.Equal(t, "reverted", string(dev.Standing), dev.Name)
				}
				require.Eventually(
					t, func() bool { return ready(s) == "200 ready\n" }, 90*time.Second, 300*time.Millisecond,
				)
				assert.Contains(t, s.Do("mara", 6, "audit", "verify"), "consistent in itself")
			})
		}
	}
}

// restarted is how a disk is mended that the service cannot go on with.
func restarted(s *stage, d *servicetest.Disk) {
	s.Kill()
	d.Remount()
	s.Start()
}
