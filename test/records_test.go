package test

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/lab"
	"oakenlatch/test/browser"
	"oakenlatch/wire"
)

// latchd runs the service's program for a while, and gives what it said.
func (s *stage) latchd(args ...string) (out string, status int) {
	s.T.Helper()
	cmd := exec.Command(
		"timeout", append([]string{"--kill-after=5", "20", filepath.Join(bin, "oaken-latchd")}, args...)...,
	)
	cmd.Env = append(os.Environ(), "TZ=UTC", "GORACE=halt_on_error=1")
	b, _ := cmd.CombinedOutput()
	assert.NotContains(s.T, string(b), "DATA RACE")
	return string(b), cmd.ProcessState.ExitCode()
}

// holding has a change on hold on a router with a guard of its own and a switch with none.
func holding(t *testing.T, hold string) (s *stage, change string) {
	return holdingAt(t, filepath.Join(t.TempDir(), "data"), hold)
}

func holdingAt(t *testing.T, data, hold string) (s *stage, change string) {
	s = newStageAt(t, t.TempDir(), data)
	s.AddLabOf(router, lab.Full)
	s.AddLabOf("saltern-slip", lab.NoConfirm)
	change = s.Open("mara", router+" /system/contact Night desk", "saltern-slip /system/contact Night desk")
	s.Do("mara", 0, "commit", change, "--hold", hold)
	return s, change
}

// Records that are lost, in every way, are no first start: nothing new is begun in their place,
// it is said what to do, and which devices were on hold.
func TestLostRecords(t *testing.T) {
	t.Parallel()
	s, n := holding(t, "10m")
	s.Kill()
	base, wal := filepath.Join(s.Data, "oaken-latch.db"), filepath.Join(s.Data, "oaken-latch.db-wal")
	whole := filepath.Join(s.Dir, "whole")
	require.NoError(t, os.CopyFS(whole, os.DirFS(s.Data)))
	for _, c := range []struct {
		name string
		lose func() error
		held bool // what was on hold can be told
	}{
		{"the database is gone", func() error { return os.Remove(base) }, true},
		{"the database and its log are gone", func() error { return errorsOf(os.Remove(base), os.Remove(wal)) }, true},
		{"the database is empty", func() error { return errorsOf(os.Truncate(base, 0), os.Remove(wal)) }, true},
		{"its log is gone", func() error { return os.Remove(wal) }, true},
		{"its log is empty", func() error { return os.Truncate(wal, 0) }, true},
		{"its log is cut off before the hold", func() error { return os.Truncate(wal, cutBefore(t, wal)) }, true},
		{"a key alone", func() error { return keepOnly(s.Data, "seal.key") }, false},
		{"a lock alone", func() error { return keepOnly(s.Data, "lock") }, false},
		{"a mark alone", func() error { return keepOnly(s.Data, "oaken-latch.folder") }, false},
		{"all is gone", func() error { return keepOnly(s.Data, "") }, false},
	} {
		require.NoError(t, os.RemoveAll(s.Data), c.name)
		require.NoError(t, os.CopyFS(s.Data, os.DirFS(whole)), c.name)
		require.NoError(t, c.lose(), c.name)
		before := listing(t, s.Data)["oaken-latch.db"]
		out, status := s.latchd("serve", "--plain", "--data", s.Data, "--listen", "127.0.0.1:0")
		assert.Equal(t, 1, status, "%s: %s", c.name, out)
		assert.NotContains(t, out, "listens on", c.name)
		if c.name == "all is gone" {
			assert.Contains(t, out, "their disk is not mounted", c.name)
			continue
		}
		assert.Contains(t, out, "this is no first start", c.name)
		assert.Contains(t, out, "oaken-latchd restore FILE", c.name)
		if c.held {
			assert.Contains(t, out, "change "+n, c.name)
			assert.Contains(t, out, "saltern-slip (", c.name)
			assert.Contains(t, out, "reverted by this service alone", c.name)
		}
		for _, verb := range []string{"init", "serve"} {
			_, status = s.latchd(verb, "--plain", "--data", s.Data, "--listen", "127.0.0.1:0")
			assert.Equal(t, 1, status, c.name)
		}
		if before == 0 {
			assert.Zero(t, listing(t, s.Data)["oaken-latch.db"], "%s: nothing is made in its place", c.name)
		}
		out, status = s.latchd("doctor", "--plain", "--data", s.Data, "--listen", "127.0.0.1:0")
		assert.Equal(t, 1, status, "%s: %s", c.name, out)
		assert.Contains(t, out, "wrong  data folder", c.name)
	}
	// A person goes on with what is left: that is entered, and what was on hold is to be looked at.
	require.NoError(t, os.RemoveAll(s.Data))
	require.NoError(t, os.CopyFS(s.Data, os.DirFS(whole)))
	require.NoError(t, os.Truncate(wal, cutBefore(t, wal)))
	out, status := s.latchd("accept-loss", "--plain", "--data", s.Data)
	assert.Zero(t, status, out)
	assert.Contains(t, out, "what came after it is lost")
	s.Start()
	var a wire.Attention
	require.NoError(t, json.Unmarshal([]byte(s.Do("admin", 0, "settle", "--json")), &a))
	require.Len(t, a.LostHolds, 1)
	assert.Equal(t, "mara", a.LostHolds[0].By)
	assert.Len(t, a.LostHolds[0].Devices, 2)
	assert.Equal(t, "Night desk", s.Value("saltern-slip", "/system/contact"), "nothing is done by itself")
	assert.Contains(t, s.Do("admin", 0, "audit", "kind:records.loss-accepted"), "records.loss-accepted")
	s.Do("admin", 0, "settle", n, "--looked")
	require.NoError(t, json.Unmarshal([]byte(s.Do("admin", 0, "settle", "--json")), &a))
	assert.Empty(t, a.LostHolds)
}

// After a kill somebody looks at the records, and copies them, before the service is started:
// that takes their log in, and is no loss. A service that is killed as it starts loses nothing either.
func TestKilledAndLookedAt(t *testing.T) {
	t.Parallel()
	s, n := holding(t, "30s")
	s.Kill()
	out, _ := s.latchd("doctor", "--deep", "--plain", "--data", s.Data, "--listen", "127.0.0.1:0")
	assert.NotContains(t, out, "data folder        the records are gone")
	file := filepath.Join(s.Dir, "dead.bundle")
	out, status := s.latchd("backup", file, "--data", s.Data)
	assert.Zero(t, status, out)
	for _, after := range []time.Duration{20, 60, 120, 200, 350, 600} {
		cmd := exec.Command(
			filepath.Join(bin, "oaken-latchd"), "serve", "--plain", "--data", s.Data, "--listen", "127.0.0.1:0",
		)
		require.NoError(t, cmd.Start())
		time.Sleep(after * time.Millisecond)
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}
	s.Start()
	s.Eventually(n, "reverted", 60*time.Second)
	assert.NotEqual(t, "Night desk", s.Value("saltern-slip", "/system/contact"))
}

// A backup from before a hold, put into the folder whose records were lost during it: what was
// on hold is noted there, and told.
func TestRestoredBeforeHold(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.AddLabOf("saltern-slip", lab.NoConfirm)
	file := filepath.Join(s.Dir, "before.bundle")
	out, status := s.latchd("backup", file, "--data", s.Data)
	require.Zero(t, status, out)
	n := s.Open("mara", "saltern-slip /system/contact Night desk")
	s.Do("mara", 0, "commit", n, "--hold", "10m")
	s.Kill()
	for _, name := range []string{"oaken-latch.db", "oaken-latch.db-wal"} {
		require.NoError(t, os.Remove(filepath.Join(s.Data, name)))
	}
	out, status = s.latchd("restore", file, "--data", s.Data)
	require.Zero(t, status, out)
	s.Start()
	assert.Regexp(
		t, "lost: change "+n+".*\n +saltern-slip .*reverted by this service alone", s.Do("admin", 0, "settle"),
	)
	assert.Equal(t, "Night desk", s.Value("saltern-slip", "/system/contact"))
}

func errorsOf(list ...error) error {
	for _, err := range list {
		if err != nil {
			return err
		}
	}
	return nil
}

// keepOnly takes all files of a folder away but one.
func keepOnly(dir, name string) error {
	list, err := os.ReadDir(dir)
	for _, e := range list {
		if e.Name() != name && err == nil {
			err = os.RemoveAll(filepath.Join(dir, e.Name()))
		}
	}
	return err
}

func listing(t *testing.T, dir string) map[string]int64 {
	t.Helper()
	list, err := os.ReadDir(dir)
	require.NoError(t, err)
	out := map[string]int64{}
	for _, e := range list {
		info, err := e.Info()
		require.NoError(t, err)
		out[e.Name()] = info.Size()
	}
	return out
}

// cutBefore gives a length of the log at which the commit is not in it yet: after a third of
// its frames.
func cutBefore(t *testing.T, wal string) int64 {
	t.Helper()
	text, err := os.ReadFile(wal)
	require.NoError(t, err)
	// page size, and the head of a frame (SQLite's file format, section 4.1)
	frame := int64(binary.BigEndian.Uint32(text[8:12])) + 24
	return 32 + (int64(len(text))-32)/frame/3*frame
}

// The folder goes while the service runs: that is said in seconds, nothing new is begun, and
// what it holds open is saved by a backup, from which all is there again.
func TestFolderGoes(t *testing.T) {
	t.Parallel()
	for _, how := range []string{"deleted", "moved", "replaced", "unmounted"} {
		t.Run(how, func(t *testing.T) {
			t.Parallel()
			data := filepath.Join(t.TempDir(), "data")
			if how == "unmounted" {
				data = disk(t, "128m")
			}
			s, n := holdingAt(t, data, "10m")
			out, status := s.DaemonAgain()
			assert.Equal(t, 1, status, out)
			require.NoError(t, os.Remove(filepath.Join(s.Data, "lock")))
			out, status = s.DaemonAgain()
			assert.Equal(t, 1, status, "a second service: %s", out)
			assert.Contains(t, out, "in use by another")
			look := func(string, ...browser.Step) {}
			if how == "moved" {
				look = s.seenBy("joss", "joss's own password")
			}
			switch how {
			case "deleted":
				require.NoError(t, os.RemoveAll(s.Data))
			case "unmounted":
				require.NoError(t, syscall.Unmount(s.Data, syscall.MNT_DETACH))
			case "moved":
				require.NoError(t, os.Rename(s.Data, s.Data+".away"))
			case "replaced":
				require.NoError(t, os.Rename(s.Data, s.Data+".away"))
				require.NoError(t, os.CopyFS(s.Data, os.DirFS(s.Data+".away")))
			}
			require.Eventually(
				t, func() bool { return strings.Contains(ready(s), "folder of the records is gone") }, 90*time.Second,
				200*time.Millisecond,
			)
			assert.Contains(t, s.open2(t), "folder of the records is gone")
			look(
				"folder gone", chromedp.WaitVisible(browser.Text("*", "Nothing new can be begun")),
				chromedp.WaitVisible(browser.Text("*", "the folder of the records is gone")),
			)
			out, status = s.latchd("doctor", "--plain", "--data", s.Data, "--listen", s.Listen)
			assert.Equal(t, 1, status, out)
			assert.Contains(t, out, "save what the service still holds open")
			file := filepath.Join(s.Dir, "saved.bundle")
			out, status = s.latchd("backup", file, "--data", s.Data)
			assert.Zero(t, status, out)
			out, _ = s.Latch("mara", "revert", n, "--yes") // what takes back goes on
			assert.Contains(t, out, "reverted")
			assert.NotEqual(t, "Night desk", s.Value("saltern-slip", "/system/contact"))
			s.Kill()
			s.Data = filepath.Join(s.Dir, "again")
			out, status = s.latchd("restore", file, "--data", s.Data)
			assert.Zero(t, status, out)
			s.Start()
			assert.EqualValues(t, "unsettled", s.Change(n).State)
			assert.Contains(t, s.Do("mara", 0, "settle", n, "--accept", "--yes"), "reverted")
		})
	}
}

// seenBy opens the console as somebody; what is done and seen there is drawn where PICTURES
// names a folder.
func (s *stage) seenBy(who, password string) func(what string, steps ...browser.Step) {
	s.T.Helper()
	ctx := chromium(s.T, func(string) {})
	require.NoError(s.T, browser.SignIn(ctx, s.URL, "/", who, password))
	return func(what string, steps ...browser.Step) {
		s.T.Helper()
		require.NoError(s.T, browser.Do(ctx, what, steps...))
		if dir := os.Getenv("PICTURES"); dir != "" {
			png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
			require.NoError(s.T, err)
			require.NoError(s.T, os.WriteFile(dir+"/"+strings.ReplaceAll(what, " ", "-")+".png", png, 0o600))
		}
	}
}

// A backup that was taken during a hold: nothing is done to its devices by itself. Each is
// read, what it holds is told, and a person reverts it, or keeps it.
func TestRestoredHold(t *testing.T) {
	t.Parallel()
	s, n := holding(t, "10m")
	file := filepath.Join(s.Dir, "during.bundle")
	out, status := s.latchd("backup", file, "--data", s.Data)
	require.Zero(t, status, out)
	s.Do("mara", 0, "confirm", n) // after it: the records that come back do not know
	require.NoError(t, s.Devices["saltern-slip"].Quietly("/system/location", "Moved since"))
	s.Kill()
	s.Data = filepath.Join(s.Dir, "restored")
	out, status = s.latchd("restore", file, "--data", s.Data)
	require.Zero(t, status, out)
	s.Start()
	time.Sleep(3 * time.Second)
	for _, name := range []string{router, "saltern-slip"} {
		assert.Equal(t, "Night desk", s.Value(name, "/system/contact"), "%s: never by itself", name)
	}
	assert.Contains(t, s.Do("mara", 0, "settle"), "latch settle "+n)
	out = s.Do("mara", 0, "settle", n)
	for _, name := range []string{router, "saltern-slip"} {
		assert.Regexp(t, name+` +\S+ +the change`, out)
	}
	assert.Contains(t, out, "--revert")
	_, status = s.Latch("mara", "put", n, router, "/system/contact", "x")
	assert.Equal(t, 3, status, "it cannot be edited")
	_, status = s.Latch("joss", "settle", n, "--accept", "--yes")
	assert.Equal(t, 3, status, "it is another's")
	out = s.Do("mara", 0, "settle", n, router, "--accept", "--yes")
	assert.Contains(t, out, "not settled yet")
	_, status = s.Latch("mara", "settle", n, router, "--accept", "--yes")
	assert.Equal(t, 3, status, "once")
	look := s.seenBy("mara", maraPassword)
	look("restored now", chromedp.WaitVisible(browser.Text("*", "Unsettled after a restore")))
	look(
		"restored change", chromedp.Click(browser.Text("a", "Change 1: a change of mara")),
		chromedp.WaitVisible(browser.Text("*", "How it ended is not known")),
	)
	look(
		"restored read", chromedp.Click(browser.Button("Read its devices")),
		chromedp.WaitVisible(browser.Text("*", "settled: confirmed, by mara")),
		chromedp.WaitVisible(browser.Text("td", "the change")),
	)
	out = s.Do("mara", 0, "settle", n, "saltern-slip", "--revert")
	assert.Contains(t, out, "Night desk", "it is previewed")
	var list []wire.Change
	require.NoError(t, json.Unmarshal([]byte(s.Do("mara", 0, "changes", "--json")), &list))
	back := fmt.Sprint(list[0].Number)
	assert.Contains(t, s.Do("mara", 0, "preview", back), `"Night desk" →`)
	s.Do("mara", 0, "commit", back, "--hold", "5m")
	s.Do("mara", 0, "confirm", back)
	assert.NotEqual(t, "Night desk", s.Value("saltern-slip", "/system/contact"))
	assert.Equal(t, "Moved since", s.Value("saltern-slip", "/system/location"), "what came since stays")
	assert.Contains(t, s.Do("mara", 0, "settle", n), "its former configuration")
	out = s.Do("mara", 0, "settle", n, "--accept", "--yes")
	assert.Contains(t, out, "partly")
	assert.Contains(t, s.Change(n).Reason, router+" confirmed, saltern-slip reverted")
	_, status = s.Latch("mara", "settle", n)
	assert.Equal(t, 3, status, "it has its end")
	assert.Contains(t, s.Do("mara", 6, "audit", "verify"), "consistent in itself")
}

// Bytes that are flipped in the records are found and named; the service stays up for the rest,
// and an archive's copy is put in their place.
func TestDamage(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.AddLabOf(router, lab.Full)
	s.AddLabOf(quay, lab.Full)
	dir := filepath.Join(s.Dir, "archive")
	require.NoError(t, os.Mkdir(dir, 0o700))
	s.Do("admin", 0, "archive", "add", "shelf", "--folder", dir)
	for i := range 3 {
		for _, name := range []string{router, quay} {
			n := s.Open("mara", fmt.Sprintf("%s /system/contact Desk %d", name, i))
			s.Do("mara", 0, "commit", n, "--hold", "5m")
			s.Do("mara", 0, "confirm", n)
		}
	}
	s.Do("admin", 0, "archive", "copy")
	s.Stop()
	out, status := s.latchd("doctor", "--deep", "--plain", "--data", s.Data, "--listen", "127.0.0.1:0")
	assert.Zero(t, status, out)
	assert.Contains(t, out, "and as they were stored")
	sql(
		t, filepath.Join(s.Data, "oaken-latch.db"),
		"UPDATE packs SET body = CAST(substr(body, 1, 20) || x'FFEE' || substr(body, 23) AS BLOB) WHERE run = "+
			"(SELECT id FROM runs WHERE device = (SELECT id FROM devices WHERE name = '"+router+"')) AND number = 1",
	)
	out, status = s.latchd("doctor", "--plain", "--data", s.Data, "--listen", "127.0.0.1:0")
	assert.Zero(t, status, out)
	assert.Contains(t, out, "look   configurations", "it gives no all-clear for what it did not look at")
	out, status = s.latchd("doctor", "--deep", "--plain", "--data", s.Data, "--listen", "127.0.0.1:0")
	assert.Equal(t, 1, status, out)
	assert.Regexp(t, `wrong  configurations +the stored configuration of .*`+router+` revision`, out)
	assert.Contains(t, out, "latch archive repair")
	s.Start()
	assert.Equal(t, "200 ready\n", ready(s))
	out, status = s.Latch("mara", "compare", router+"@rev:2", router)
	assert.NotZero(t, status)
	assert.Contains(t, out, router+" revision 2")
	require.Contains(t, out, "latch archive repair")
	copyOf := strings.Fields(out[strings.Index(out, "latch archive repair ")+len("latch archive repair "):])[0]
	assert.Contains(t, s.Do("mara", 0, "devices"), router, "all else is there")
	out, status = s.Latch("mara", "compare", quay+"@rev:2", quay)
	assert.LessOrEqual(t, status, 1, out)
	res, err := http.Get(s.URL + "/healthz")
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	out, _ = s.latchd("doctor", "--plain", "--data", s.Data, "--listen", s.Listen)
	assert.Contains(t, out, "wrong  damage")
	assert.Contains(t, s.Do("mara", 0, "settle"), "damaged")
	s.Do("admin", 0, "archive", "repair", strings.TrimRight(copyOf, ",."))
	out, status = s.Latch("mara", "compare", router+"@rev:2", router)
	assert.LessOrEqual(t, status, 1, out)
	assert.NotContains(t, out, "damaged")
	n := s.Open("mara", router+" /system/contact Day desk")
	s.Do("mara", 0, "commit", n, "--hold", "5m")
	s.Do("mara", 0, "confirm", n)
}

// sql changes records as nobody should.
func sql(t *testing.T, file, text string) {
	t.Helper()
	out, err := exec.Command("sqlite3", file, text).CombinedOutput()
	require.NoError(t, err, "%s", out)
}

// Bytes are flipped all over the database, and its file is cut off, during a hold while the
// service is down. It starts, and every device reverts; or it does not, and names the devices that were on hold.
// It never says of a device what is not so, and the doctor ends with an answer.
func TestFlippedBytes(t *testing.T) {
	t.Parallel()
	s, n := holding(t, "15s")
	s.Kill()
	whole := filepath.Join(s.Dir, "whole")
	require.NoError(t, os.CopyFS(whole, os.DirFS(s.Data)))
	seed := uint64(time.Now().UnixNano())
	rnd := rand.New(rand.NewPCG(seed, 1))
	ends := map[string]int{}
	for i := range 14 {
		require.NoError(t, os.RemoveAll(s.Data))
		require.NoError(t, os.CopyFS(s.Data, os.DirFS(whole)))
		require.NoError(t, s.Devices["saltern-slip"].Quietly("/system/contact", "Night desk"))
		name := filepath.Join(s.Data, []string{"oaken-latch.db", "oaken-latch.db-wal"}[i%2])
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		if i < 2 {
			text = text[:len(text)/2]
		} else {
			for range 1 + rnd.IntN(4) {
				text[rnd.IntN(len(text))] ^= byte(1 << rnd.IntN(8))
			}
		}
		require.NoError(t, os.WriteFile(name, text, 0o600))
		said := fmt.Sprintf("seed %d, try %d, %s", seed, i, filepath.Base(name))
		cmd := exec.Command(
			"timeout", "--kill-after=5", "40", filepath.Join(bin, "oaken-latchd"), "serve", "--plain", "--data", s.Data,
			"--listen", "127.0.0.1:0",
		)
		cmd.Env = append(os.Environ(), "GORACE=halt_on_error=1")
		var out bytes.Buffer
		cmd.Stdout, cmd.Stderr = (*locked)(&out), (*locked)(&out)
		require.NoError(t, cmd.Start())
		over := make(chan struct{})
		go func() { _ = cmd.Wait(); close(over) }()
		end := "reverted"
		for until := time.Now().Add(35 * time.Second); ; time.Sleep(200 * time.Millisecond) {
			if v := s.Value("saltern-slip", "/system/contact"); v != "Night desk" {
				break
			}
			ended := false
			select {
			case <-over:
				ended = true
			default:
			}
			if ended {
				end = "refused"
				break
			}
			if time.Now().After(until) {
				end = "stays"
				break
			}
		}
		_ = cmd.Process.Signal(syscall.SIGTERM)
		<-over
		text = (*locked)(&out).bytes()
		assert.NotContains(t, string(text), "panic", said)
		assert.NotContains(t, string(text), "DATA RACE", said)
		switch end {
		case "refused":
			assert.Contains(
				t, string(text), "saltern-slip (", "%s: it does not start, and names what was on hold: %s", said, text,
			)
		case "stays": // what it did not know it says
			assert.Regexp(t, "know nothing of a hold|records are damaged|cannot be read", string(text), said)
		}
		ends[end]++
		answer, status := s.latchd("doctor", "--deep", "--plain", "--data", s.Data, "--listen", "127.0.0.1:0")
		assert.Contains(t, []int{0, 1}, status, "%s: %s", said, answer)
		assert.NotContains(t, answer, "panic", said)
	}
	fmt.Printf("tell: %d times damaged during a hold, change %s: %v\n", 14, n, ends)
}

var lock sync.Mutex

// locked is a buffer that a program writes to while it is read.
type locked bytes.Buffer

func (b *locked) Write(p []byte) (int, error) {
	lock.Lock()
	defer lock.Unlock()
	return (*bytes.Buffer)(b).Write(p)
}

func (b *locked) bytes() []byte {
	lock.Lock()
	defer lock.Unlock()
	return bytes.Clone((*bytes.Buffer)(b).Bytes())
}
