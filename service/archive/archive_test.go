package archive_test

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/service/access"
	"oakenlatch/service/archive"
	"oakenlatch/service/audit"
	"oakenlatch/service/store"
	"oakenlatch/test/servicetest"
)

const quay = "saltern-quay"

type room struct {
	*servicetest.Room
	*archive.Archives
	t      *testing.T
	dir    string
	sealer *access.Sealer
	mu     sync.Mutex
	told   []string
}

func newRoom(t *testing.T) *room {
	t.Helper()
	r := &room{Room: servicetest.New(t, quay), t: t, dir: t.TempDir()}
	var err error
	r.sealer, err = access.OpenSealer(filepath.Join(r.dir, access.KeyFile))
	require.NoError(t, err)
	r.with(archive.Options{})
	r.read()
	return r
}

// with has archives work by other options.
func (r *room) with(opt archive.Options) {
	opt.Dir, opt.Logger, opt.Syslog = r.dir, slog.New(slog.DiscardHandler), func(severity int, text string) {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.told = append(r.told, fmt.Sprintf("%d %s", severity, text))
	}
	r.Archives = archive.New(r.Store, r.Log, r.Fleet, r.History, r.sealer, opt)
}

func (r *room) read() {
	_, err := r.History.Read(r.t.Context(), store.Everything, quay, "mara")
	require.NoError(r.t, err)
}

// changes has somebody change the device so often.
func (r *room) changes(n int) {
	for range n {
		require.NoError(r.t, r.Devices[quay].Console("/system/contact", time.Now().String()))
		r.read()
	}
}

func (r *room) add(n archive.NewArchive) store.Archive {
	require.NoError(r.t, r.Add(r.t.Context(), "mara", n))
	at, err := r.Find(r.t.Context(), n.Name)
	require.NoError(r.t, err)
	return at
}

func (r *room) devices() []store.Device {
	list, err := r.Store.Devices(r.t.Context(), store.Everything)
	require.NoError(r.t, err)
	return list
}

func (r *room) copy(only string) (archive.Copied, error) {
	return r.Copy(r.t.Context(), "mara", "hand", only, r.devices(), nil)
}

func files(t *testing.T, dir string) (out []string) {
	t.Helper()
	require.NoError(t, filepath.Walk(dir, func(p string, info os.FileInfo, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil // it was being written, and has its name now
		}
		if err == nil && strings.HasSuffix(p, ".xml") {
			out = append(out, strings.TrimPrefix(p, dir+"/"))
		}
		return err
	}))
	return out
}

// Names sort by time and revision; retention keeps the newest, and those that
// are young; what is gone is not made again.
func TestRetention(t *testing.T) {
	t.Parallel()
	r := newRoom(t)
	dir := t.TempDir()
	r.add(archive.NewArchive{Name: "share", Kind: "folder", Place: dir, KeepLast: 2, KeepDays: 1})
	r.changes(3)
	k, err := r.copy("share")
	require.NoError(t, err)
	assert.Equal(t, 4, k.Copies, "those that are young are kept too")
	names := files(t, dir)
	assert.True(t, slices.IsSorted(names))
	assert.Regexp(t, `^no-site/saltern-quay/\d{8}T\d{6}Z-r000004\.xml$`, names[3])
	r.SetClock(48 * time.Hour)
	r.changes(1)
	require.NoError(t, os.Remove(filepath.Join(dir, names[0])), "dropped just before the machine died, and never noted")
	k, err = r.copy("share")
	require.NoError(t, err)
	assert.Equal(t, []int{1, 3}, []int{k.Copies, k.Gone})
	assert.Len(t, files(t, dir), 2)
	k, err = r.copy("share")
	require.NoError(t, err)
	assert.Zero(t, k.Copies+k.Gone)
	assert.Contains(t, strings.Join(r.told, "\n"), "5 revision 5 of saltern-quay copied to archive share as no-site/")
}

// The next is used where one fails, each trouble is on record once, and one
// that takes copies again is in trouble no more.
func TestNextOne(t *testing.T) {
	t.Parallel()
	r := newRoom(t)
	gone, there := filepath.Join(t.TempDir(), "gone"), t.TempDir()
	require.NoError(t, os.Mkdir(gone, 0o700))
	r.add(archive.NewArchive{Name: "first", Kind: "folder", Place: gone, AfterChange: true})
	require.NoError(t, os.Remove(gone)) // it is not mounted any more
	_, err := r.copy("")
	require.ErrorContains(t, err, "no archive took the copies: first: stat "+gone)
	r.add(archive.NewArchive{Name: "second", Kind: "folder", Place: there, AfterChange: true})
	for range 2 {
		k, err := r.copy("")
		require.NoError(t, err)
		assert.Equal(t, "second", k.Archive)
		assert.Len(t, k.Failed, 1)
	}
	list := r.Found(100, "who:%v", audit.Service)
	failed := 0
	for _, e := range list {
		if e.Action == "archive.failed" {
			failed++
		}
	}
	assert.Equal(t, 1, failed)
	require.NoError(t, os.Mkdir(gone, 0o700))
	k, err := r.copy("")
	require.NoError(t, err)
	assert.Equal(t, []any{"first", 1}, []any{k.Archive, k.Copies}, "it gets what it lacks")
	at, err := r.Find(t.Context(), "first")
	require.NoError(t, err)
	assert.Empty(t, at.Trouble)
	assert.False(t, at.Copied.IsZero())
}

// By itself: after what changed, and on an interval.
func TestByItself(t *testing.T) {
	t.Parallel()
	r := newRoom(t)
	after, every := t.TempDir(), t.TempDir()
	r.add(archive.NewArchive{Name: "after", Kind: "folder", Place: after, AfterChange: true})
	r.add(archive.NewArchive{Name: "every", Kind: "folder", Place: every, Every: time.Hour})
	r.with(archive.Options{Pause: 10 * time.Millisecond})
	ctx, cancel := context.WithCancel(t.Context())
	r.Run(ctx)
	t.Cleanup(func() { cancel(); r.Archives.Stop() })
	require.Eventually(
		t, func() bool { return len(files(t, every)) == 1 }, 90*time.Second, 20*time.Millisecond,
		"it was never brought up to date",
	)
	r.changes(1)
	require.Eventually(t, func() bool { return len(files(t, after)) == 2 }, 90*time.Second, 20*time.Millisecond)
	assert.Len(t, files(t, every), 1, "its hour is not over")
	r.SetClock(2 * time.Hour)
	r.changes(1)
	require.Eventually(
		t, func() bool { return len(files(t, every)) >= 2 }, 90*time.Second, 20*time.Millisecond, "its hour is over",
	)
}

// A commit that was pushed just before the machine died is not made twice, and
// one that was not pushed is made again.
func TestRepositoryAfterACrash(t *testing.T) {
	t.Parallel()
	r := newRoom(t)
	repo := filepath.Join(t.TempDir(), "network.git")
	require.NoError(t, exec.Command("git", "init", "-q", "--bare", "-b", "main", repo).Run())
	at := r.add(archive.NewArchive{Name: "log", Kind: "git", Place: repo})
	r.changes(1)
	_, err := r.copy("log")
	require.NoError(t, err)
	commits := func() string {
		out, err := exec.Command("git", "-C", repo, "rev-list", "--count", "main").Output()
		require.NoError(t, err)
		return strings.TrimSpace(string(out))
	}
	assert.Equal(t, "2", commits())
	list, err := r.Store.Copies(t.Context(), at.ID, 0)
	require.NoError(t, err)
	// as if it had never been noted
	require.NoError(
		t, r.Store.Write(t.Context(), func(tx *store.Tx) error { return tx.SetCopyGone(list[0].ID, time.Now()) }),
	)
	k, err := r.copy("log")
	require.NoError(t, err)
	assert.Equal(t, []any{1, "2"}, []any{k.Copies, commits()})
	for _, clone := range []string{fmt.Sprint(at.ID), fmt.Sprintf("%d-back", at.ID)} { // a git that died in the middle
		for _, lock := range []string{"index.lock", "HEAD.lock", "refs/heads/main.lock"} {
			require.NoError(t, os.WriteFile(filepath.Join(r.dir, "archives", clone, ".git", lock), nil, 0o600))
		}
	}
	var reads sync.WaitGroup
	for range 4 { // reading meanwhile takes nothing away from what is being put there
		reads.Go(func() {
			_, _, err := r.Archives.Read(t.Context(), list[1].ID)
			assert.NoError(t, err)
		})
	}
	r.changes(1)
	k, err = r.copy("log")
	reads.Wait()
	require.NoError(t, err)
	assert.Equal(t, []any{1, "3"}, []any{k.Copies, commits()})
	require.NoError(t, os.RemoveAll(filepath.Join(r.dir, "archives")), "the clones are lost")
	r.changes(1)
	k, err = r.copy("log")
	require.NoError(t, err)
	assert.Equal(t, []any{1, "4"}, []any{k.Copies, commits()})
	v, err := r.Verify(t.Context(), "mara", at, nil)
	require.NoError(t, err)
	assert.Equal(t, 4, v.Whole)

	// Somebody rewrites what was pushed.
	require.NoError(t, exec.Command("git", "-C", repo, "update-ref", "refs/heads/main", "main~1").Run())
	v, err = r.Verify(t.Context(), "mara", at, nil)
	require.NoError(t, err)
	assert.Equal(t, 3, v.Whole)
	assert.Contains(t, v.Wrong[0], "the repository does not hold commit")
}

func TestCaveats(t *testing.T) {
	t.Parallel()
	devices := []store.Device{{Name: quay, Address: "192.0.2.12:830"}}
	for place, want := range map[string]string{
		"folder /tmp": "this machine", "sftp 127.0.0.1:22/x": "this machine", "sftp [::1]:22/x": "this machine",
		"git /srv/x.git": "this machine", "git file:///srv/x": "this machine",
		"sftp 192.0.2.12:22/x": "on saltern-quay, a device", "git git@192.0.2.12:x.git": "on saltern-quay",
		"sftp 198.51.100.20:22/x": "", "git ssh://git@198.51.100.20/x.git": "",
		"git https://git.tidewell.example/x": "",
	} {
		kind, at, _ := strings.Cut(place, " ")
		got := archive.Caveat(store.Archive{Kind: kind, Place: at}, devices)
		assert.Contains(t, got, want, place)
		assert.Equal(t, want == "", got == "", place)
	}
}

func TestWrongArchives(t *testing.T) {
	t.Parallel()
	r := newRoom(t)
	for _, n := range []archive.NewArchive{
		{Name: "a b", Kind: "folder", Place: "/x"}, {Name: "a", Kind: "folder", Place: "x"},
		{Name: "a", Kind: "tape", Place: "/x"}, {Name: "a", Kind: "sftp", Place: "host/x", Account: "u", Password: "p"},
		{Name: "a", Kind: "sftp", Place: "h:22/x"},
		{Name: "a", Kind: "sftp", Place: "h:22/x", Account: "u", PrivateKey: "no key"},
		{Name: "a", Kind: "git", Place: "--upload-pack=x"},
		{Name: "a", Kind: "folder", Place: "/x", Every: time.Second},
		{Name: "a", Kind: "folder", Place: "/x", KeepLast: -1},
	} {
		require.Error(t, r.Add(t.Context(), "mara", n), "%+v", n)
	}
	x, y, outside := t.TempDir(), t.TempDir(), t.TempDir()
	add := func(n archive.NewArchive) error { return r.Add(t.Context(), "mara", n) }
	require.ErrorContains(
		t, add(archive.NewArchive{Name: "a", Kind: "folder", Place: filepath.Join(x, "none")}),
		"does not take a file: no such file or directory",
	)
	r.add(archive.NewArchive{Name: "a", Kind: "folder", Place: x})
	require.ErrorContains(t, add(archive.NewArchive{Name: "a", Kind: "folder", Place: y}), "take another name")
	// Only below what the settings name, whichever way round it is written; other machines' places are theirs.
	r.with(archive.Options{Below: []string{y}})
	require.NoError(t, os.Symlink(outside, filepath.Join(y, "way-out")))
	for i, place := range []string{
		outside, filepath.Join(y, "..", filepath.Base(outside)), filepath.Join(y, "way-out"), "/", y + "-beside",
	} {
		require.ErrorContains(
			t, add(archive.NewArchive{Name: fmt.Sprint("no", i), Kind: "folder", Place: place}), "archive-folder",
			place,
		)
		require.ErrorContains(
			t, add(archive.NewArchive{Name: fmt.Sprint("nogit", i), Kind: "git", Place: place}), "archive-folder",
			place,
		)
	}
	require.NoError(t, os.Mkdir(filepath.Join(y, "below"), 0o700))
	r.add(archive.NewArchive{Name: "b", Kind: "folder", Place: filepath.Join(y, "below")})
	r.add(archive.NewArchive{Name: "c", Kind: "git", Place: "git@git.tidewell.example:network.git"})
	r.with(archive.Options{Below: []string{}})
	require.ErrorContains(t, add(archive.NewArchive{Name: "d", Kind: "folder", Place: x}), "archive-folder")
}
