package test

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/lab"
	"oakenlatch/test/pace"
	"oakenlatch/test/port"
	set "oakenlatch/test/stage"
)

// releaseBefore holds the data folder of the release before this one, killed during a hold of
// ten minutes on a router with a guard of its own and a switch with none, and the keys of those devices.
// It is made by that release's programs: RELEASE_BEFORE=DIR (of its binaries) go test ./test -run TestReleaseBefore
const releaseBefore = "testdata/release-before.tar.gz"

// beforeDevices start the devices where that release knew them.
func beforeDevices(t *testing.T, dir string) map[string]*lab.Device {
	sites, err := lab.Tidewell(dir)
	require.NoError(t, err)
	out := map[string]*lab.Device{}
	for name, listen := range map[string]string{router: "127.64.9.1:2830", "saltern-slip": "127.64.9.4:2830"} {
		for _, site := range sites {
			if site.Spec.Name != name {
				continue
			}
			site.Spec.Listen, site.Spec.Kind = listen, map[string]lab.Kind{
				router: lab.Full, "saltern-slip": lab.NoConfirm,
			}[name]
			d, err := lab.Start(site.Spec)
			require.NoError(t, err)
			t.Cleanup(d.Stop)
			out[name] = d
		}
	}
	return out
}

// An upgrade with a hold open: the new release brings the records up to date, takes up the
// hold, and reverts what is past its end. Nothing of the record is lost.
func TestReleaseBefore(t *testing.T) {
	pace.Long(t)
	if old := os.Getenv("RELEASE_BEFORE"); old != "" {
		makeReleaseBefore(t, old)
	}
	dir := t.TempDir()
	unpackTo(t, releaseBefore, dir)
	devices := beforeDevices(t, filepath.Join(dir, "lab"))
	const contact = "/system/contact"
	// as it was left; the router went back by itself
	require.NoError(t, devices["saltern-slip"].Quietly(contact, "Night desk"))
	s := &stage{&set.Stage{T: t, Dir: dir, Data: filepath.Join(dir, "data"), Devices: devices, Listen: port.Address(t)}}
	for _, who := range []string{"mara", "admin"} {
		s.File("pw-"+who, map[string]string{"mara": maraPassword, "admin": adminPassword}[who])
	}
	s.StartOld = true
	s.Start()
	t.Cleanup(s.Kill)
	c := s.Eventually("1", "reverted", 60*time.Second)
	assert.Len(t, c.Commit.Devices, 2)
	assert.NotEqual(t, "Night desk", s.Value("saltern-slip", contact))
	assert.NotEqual(t, "Night desk", s.Value(router, contact))
	assert.Contains(t, s.Do("mara", 6, "audit", "verify"), "consistent in itself")
	list, err := filepath.Glob(filepath.Join(s.Data, "oaken-latch.db.release-*"))
	require.NoError(t, err)
	assert.NotEmpty(t, list, "what was there before stays beside it")
	n := s.Open("mara", router+" "+contact+" Day desk")
	s.Do("mara", 0, "commit", n, "--hold", "2m")
	s.Do("mara", 0, "confirm", n)
}

// makeReleaseBefore makes what TestReleaseBefore starts from.
func makeReleaseBefore(t *testing.T, old string) {
	was := bin
	bin = old
	defer func() { bin = was }()
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "lab"), 0o700))
	devices := beforeDevices(t, filepath.Join(dir, "lab"))
	s := &stage{&set.Stage{T: t, Dir: dir, Data: filepath.Join(dir, "data"), Devices: devices, Listen: port.Address(t)}}
	s.File("pw-mara", maraPassword)
	s.File("pw-admin", adminPassword)
	if exec.Command(filepath.Join(old, "oaken-latchd"), "--version").Run() != nil { // it knows no init
		s.StartOld = true
	}
	s.Start(map[bool][]string{true: {"--admin-password-file", filepath.Join(dir, "pw-admin")}}[s.StartOld]...)
	s.Do(
		"admin", 0, "account", "add", "mara", "--may", "read,stage,commit,approve,audit", "--password-file",
		filepath.Join(dir, "pw-mara"),
	)
	var edits []string
	for name, d := range devices {
		s.Do(
			"admin", 0, "device", "add", name, "--address", d.Address, "--user", lab.User, "--password-file",
			s.File("pw-lab", lab.Password),
		)
		s.Do("admin", 0, "device", "trust", name, "--yes")
		edits = append(edits, name+" /system/contact Night desk")
	}
	n := s.Open("mara", edits...)
	s.Do("mara", 0, "commit", n, "--hold", "10m")
	s.Kill()
	for _, d := range devices {
		d.Stop()
	}
	require.NoError(t, os.MkdirAll("testdata", 0o755))
	packFrom(t, dir, releaseBefore)
}

func packFrom(t *testing.T, dir, file string) {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	require.NoError(t, filepath.WalkDir(dir, func(path string, e os.DirEntry, err error) error {
		rel, _ := filepath.Rel(dir, path)
		if err != nil || e.IsDir() || !strings.HasPrefix(rel, "data/") && !strings.HasPrefix(rel, "lab/") ||
			strings.HasSuffix(rel, "spare-room") || strings.HasSuffix(rel, "-shm") {
			return err
		}
		text, err := os.ReadFile(path)
		if err == nil {
			err = w.WriteHeader(&tar.Header{Name: rel, Mode: 0o600, Size: int64(len(text))})
		}
		if err == nil {
			_, err = w.Write(text)
		}
		return err
	}))
	require.NoError(t, errors.Join(w.Close(), z.Close(), os.WriteFile(file, b.Bytes(), 0o644)))
}

func unpackTo(t *testing.T, file, dir string) {
	f, err := os.Open(file)
	require.NoError(t, err)
	defer func() { _ = f.Close() }()
	z, err := gzip.NewReader(f)
	require.NoError(t, err)
	for r := tar.NewReader(z); ; {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			return
		}
		require.NoError(t, err)
		path := filepath.Join(dir, h.Name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
		text, err := io.ReadAll(r)
		require.NoError(t, errors.Join(err, os.WriteFile(path, text, 0o600)))
	}
}
