package test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/lab"
	"oakenlatch/test/browser"
	"oakenlatch/test/netconfd"
	"oakenlatch/wire"
)

const contact = "/system/contact"

// keep commits a change and confirms it.
func (s *stage) keep(who, n string) {
	s.T.Helper()
	s.Do(who, 0, "commit", n, "--hold", "1m")
	s.Do(who, 0, "confirm", n)
}

// Who set what, when and why; what it was before; and that again.
func TestHistory(t *testing.T) {
	t.Parallel()
	s := newStage(t, router, quay)
	s.Do("mara", 0, "snapshot", "take", "Vor der Übergabe ⚓", "--all", "--note", "all quiet")
	first := s.Open("mara", quay+" "+contact+" Mara", quay+" /vlans/vlan=40/name cameras", router+" "+contact+" Mara")
	s.Do("mara", 0, "rename", first, "--ticket", "TF-9")
	assert.Contains(t, s.Do("mara", 0, "snapshot", "take", "unclean", quay), "1 change is staged on it")
	s.keep("mara", first)
	second := s.Open("joss", quay+" "+contact+" Joss", quay+" /system/location Roof")
	s.keep("joss", second)
	require.NoError(t, s.Devices[quay].Console("/system/location", "Cellar"))

	out := s.Do("mara", 0, "config", quay, contact)
	assert.Contains(t, out, "Joss")
	out = s.Do("mara", 0, "revisions", quay)
	assert.Regexp(
		t,
		`rev:4 .*not known +changed outside of this service\nrev:3 .*joss +change 2.*\nrev:2 .*mara +change 1: a change of mara \(TF-9\)\nrev:1 .*first read`,
		out,
	)
	assert.Regexp(t, `startup:3 .*joss +saved with change 2`, s.Do("mara", 0, "revisions", quay, "--startup"))
	out = s.Do("mara", 0, "blame", quay, "/system")
	assert.Regexp(t, `rev 3 .*joss  change 2 .*│   contact: Joss`, out)
	assert.Regexp(t, `rev 4 .*outside .*│   location: Cellar`, out)
	assert.Regexp(t, `rev 1 .*first read .*│   hostname: saltern-quay`, out)
	assert.Regexp(t, `rev 2 .*mara  change 1 TF-9 .*│   vlan \[40\]`, s.Do("mara", 0, "blame", quay, "/vlans"))
	out = s.Do("joss", 0, "history", quay, contact)
	assert.Regexp(
		t,
		`(?s)rev 1 .*\+ Harbour office.*rev 2 .*→ Mara.*change 1: a change of mara \(TF-9\), mara.*rev 3 .*Mara → Joss`,
		out,
	)
	assert.Contains(
		t, s.Do("mara", 2, "history", quay, "/system/contakt"), "contakt is not under system; there is contact",
	)

	// Between two moments, many devices in sum and any two in full.
	out = s.Do("mara", 1, "moved", "snapshot:Vor der Übergabe ⚓")
	assert.Contains(t, out, "2 devices differ")
	assert.Contains(t, out, "change 1, change 2, 1 outside change")
	assert.Contains(
		t, s.Do("mara", 1, "moved", "snapshot:1", "at:"+time.Now().UTC().Add(-time.Hour).Format(time.RFC3339)),
		"0 devices differ, 2 cannot be compared, 0 the same", "what is not known is no difference",
	)
	for _, as := range []string{"sides", "unified", "edit-config", "yang-patch", "yang-patch-json", "lines"} {
		assert.Contains(t, s.Do("mara", 1, "compare", quay+"@rev:1", quay+"@change:1", "--as", as), "Mara", as)
	}
	assert.Contains(t, s.Do("mara", 0, "compare", quay+"@before:2", quay+"@rev:2"), "No difference")
	assert.Contains(t, s.Do("mara", 0, "compare", quay+"@snapshot:1", quay+"@startup:1"), "No difference")
	assert.Contains(t, s.Do("mara", 1, "compare", quay, router, "--path", "/system"), "hostname")

	// The snapshot before each commit is there; names that several have are told apart.
	var list []wire.Snapshot
	require.NoError(t, json.Unmarshal([]byte(s.Do("mara", 0, "snapshots", "--json")), &list))
	require.Len(t, list, 4)
	assert.Equal(t, "Before change 2: a change of joss", list[0].Name)
	s.Do("mara", 0, "snapshot", "take", "unclean", quay)
	assert.Contains(t, s.Do("mara", 3, "restore", quay, "snapshot:unclean"), "2 snapshots are called \"unclean\": 5 (")
	s.Do("mara", 0, "snapshot", "protect", "5")
	assert.Contains(t, s.Do("mara", 3, "snapshot", "retire", "5"), "is protected")
	s.Do("mara", 0, "snapshot", "retire", "2")
	assert.Contains(t, s.Do("mara", 0, "snapshot", "show", "unclean"), "Snapshot 5")
	assert.Contains(t, s.Do("mara", 2, "snapshot", "take", strings.Repeat("ü", 201), quay), "not of 201")

	// Undo: what came after stays; what was set again since is a conflict, decided by a person.
	assert.Contains(t, s.Do("mara", 0, "undo", first), "1 place was set again since")
	out = s.Do("mara", 1, "preview", "3")
	assert.Contains(t, out, contact+": conflict: ")
	assert.Contains(t, out, "− ")
	s.Do("mara", 0, "decide", "3", quay, contact, "theirs")
	s.Do("mara", 0, "preview", "3")
	s.keep("mara", "3")
	assert.Equal(t, "Joss", s.Value(quay, contact))
	assert.Equal(t, "Cellar", s.Value(quay, "/system/location"))
	assert.Equal(t, "Harbour office, ext. 12", s.Value(router, contact))
	assert.Contains(t, s.Do("mara", 2, "config", quay, "/vlans/vlan=40"), "there is nothing at")
	assert.Contains(t, s.Do("mara", 0, "blame", quay, "--gone"), "− /vlans/vlan=40")
	assert.Contains(t, s.Do("mara", 2, "undo", "4"), "there is no change 4")

	// All of one person's in a period, one path only.
	out = s.Do("admin", 0, "undo", "--by", "joss", "--since", "1h", "--path", contact)
	assert.Contains(t, out, "contact: Joss → Mara")
	assert.NotContains(t, out, "location")

	// Restore: exactly what it was, with a word on what that takes away, also
	// when the device moves on after it was staged.
	out = s.Do("mara", 0, "restore", quay, "snapshot:1")
	assert.Regexp(
		t,
		`(?s)later work that this takes away:.*revision 4, .*changed outside of this service: 1 place.*revision 3, .*change 2 of joss.*1 place`,
		out,
	)
	require.NoError(t, s.Devices[quay].Console("/system/location", "Attic"))
	s.Do("mara", 0, "preview", "5")
	s.keep("mara", "5")
	assert.Contains(t, s.Do("mara", 0, "compare", quay, quay+"@rev:1"), "No difference")
	out = s.Do("mara", 0, "timeline", quay)
	for _, want := range []string{
		"✓ revision 2, change 1: a change of mara, mara", "! revision 4, changed, not by this service",
		"# snapshot 1: Vor der Übergabe ⚓, mara",
	} {
		assert.Contains(t, out, want)
	}
}

// Copies go to the first archive that takes them, are read back, and are all
// it takes to have devices and history again.
func TestArchives(t *testing.T) {
	t.Parallel()
	server := netconfd.StartSFTP(t)
	s := newStage(t, quay)
	away, repo := filepath.Join(s.Dir, "away"), filepath.Join(s.Dir, "network.git")
	require.NoError(t, os.Mkdir(away, 0o700))
	require.NoError(t, exec.Command("git", "init", "-q", "--bare", "-b", "main", repo).Run())
	key := filepath.Join(s.Dir, "key")
	require.NoError(t, os.WriteFile(key, server.PrivateKey, 0o600))

	assert.Contains(t, s.Do("mara", 0, "archive", "list"), "There is no archive")
	mounted := filepath.Join(s.Dir, "mounted")
	assert.Contains(
		t, s.Do("admin", 2, "archive", "add", "share", "--folder", mounted),
		"does not take a file: no such file or directory",
	)
	assert.Contains(t, s.Do("admin", 3, "archive", "add", "share", "--folder", "/etc"), "archive-folder")
	require.NoError(t, os.Mkdir(mounted, 0o700))
	s.Do("admin", 0, "archive", "add", "share", "--folder", mounted)
	require.NoError(t, os.Remove(mounted)) // it is mounted no more
	out := s.Do(
		"admin", 0, "archive", "add", "away", "--sftp", server.Address+away, "--user", server.User, "--key-file", key,
	)
	assert.Contains(t, out, "nobody accepted its host key yet")
	assert.Contains(t, out, "it is on this machine, and goes with it: no backup")
	s.Do("admin", 0, "archive", "trust", "away", "--yes")
	s.Do("admin", 0, "archive", "add", "log", "--git", repo, "--by-hand")

	n := s.Open("mara", quay+" "+contact+" Mara")
	s.Do("mara", 0, "rename", n, "--title", "Who to call", "--ticket", "TF-7")
	s.keep("mara", n)
	require.Eventually(t, func() bool {
		return strings.Contains(
			s.Do("mara", 0, "archive", "copies", "--device", quay, "--archive", "away"), "r000002.xml",
		)
	}, 90*time.Second, 300*time.Millisecond, "it is copied after the change, by the second archive, for the first "+
		"does not take it")
	assert.Contains(t, s.Do("mara", 0, "archive", "list"), "share does not take copies")
	assert.Contains(t, s.Do("mara", 0, "backups"), "revision 2 in away")
	assert.Contains(t, s.Do("mara", 0, "archive", "copy", "--to", "log"), "2 copies made")
	log, err := exec.Command("git", "-C", repo, "log", "--format=%an|%aI|%B", "-1", "--skip=1").Output()
	require.NoError(t, err)
	checkpoint, err := exec.Command("git", "-C", repo, "show", "HEAD:record-checkpoint.txt").Output()
	require.NoError(t, err)
	assert.Contains(
		t,
		s.Do(
			"admin", 0, "audit", "verify", "--checkpoint",
			s.File("checkpoint", strings.TrimSuffix(string(checkpoint), "\n")),
		),
		"seen by who stored the checkpoint", "what the record was lies beside the copies",
	)
	assert.Regexp(
		t, `^mara\|\d{4}-\d\d-\d\dT\S+\|Who to call\n\nChange: 1\nTicket: TF-7\nRevision: saltern-quay 2`, string(log),
	)
	assert.Contains(t, s.Do("admin", 0, "archive", "read", "1"), "<name>saltern-quay</name>")
	assert.Contains(t, s.Do("mara", 1, "compare", quay+"@archive:1", quay), "Mara")

	// What is damaged there is found, and made again.
	files, err := filepath.Glob(filepath.Join(away, "no-site", quay, "*r000002.xml"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	text, err := os.ReadFile(files[0])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(files[0], []byte(strings.Replace(string(text), "Mara", "Nora", 1)), 0o600))
	assert.Contains(t, s.Do("mara", 1, "archive", "verify", "away"), "1 of 2 copies read back whole")
	assert.Contains(t, s.Do("mara", 0, "backups"), "revision 2 in log", "that one is whole")
	assert.Contains(t, s.Do("mara", 3, "archive", "read", "2"), "is damaged")
	assert.Contains(t, s.Do("mara", 0, "archive", "copy", "--to", "away"), "1 copy made")
	for _, name := range []string{"away", "log"} {
		assert.Contains(t, s.Do("mara", 0, "archive", "verify", name), "2 of 2 copies read back whole")
	}

	// From nothing but an archive, of either kind.
	for _, from := range [][]string{
		{"away", "--sftp", server.Address + away, "--user", server.User, "--key-file", key}, {"log", "--git", repo},
	} {
		other := newStage(t)
		other.Do("admin", 0, append([]string{"archive", "add"}, from...)...)
		if from[0] == "away" {
			other.Do("admin", 0, "archive", "trust", "away", "--yes")
		}
		out := other.Do("admin", 0, "archive", "restore", from[0], "--yes")
		assert.Contains(t, out, "2 revisions made again, of 1 device that was not known: "+quay)
		assert.Regexp(t, `rev 2 .*mara .*│   contact: Mara`, other.Do("admin", 0, "blame", quay, "/system"))
		assert.Contains(t, other.Do("admin", 0, "archive", "restore", from[0], "--yes"), "0 revisions made again")
		assert.Contains(
			t, other.Do("admin", 3, "config", quay),
			"there is no password or key for it: it was rebuilt from an archive",
		)
		// And the device is reached again, with its history in one line.
		other.Do(
			"admin", 0, "device", "replace", quay, "--address", s.Devices[quay].Address, "--user", lab.User,
			"--password-file", s.File("pw-lab", lab.Password), "--yes",
		)
		other.Do("admin", 0, "device", "trust", quay, "--yes")
		assert.Contains(t, other.Do("admin", 0, "compare", quay, quay+"@rev:2"), "No difference")
	}
}

// The records are copied while the service runs, and put back when all is lost.
func TestBackup(t *testing.T) {
	t.Parallel()
	s := newStage(t, quay)
	n := s.Open("mara", quay+" "+contact+" Mara")
	s.keep("mara", n)
	held := s.Open("mara", quay+" "+contact+" Held")
	s.Do("mara", 0, "commit", held, "--hold", "1m")
	late := s.Open("mara", quay+" /system/location Late")
	s.Do("mara", 0, "commit", late, "--at", time.Now().UTC().Add(time.Hour).Format(time.RFC3339))
	daemon := func(status int, args ...string) string {
		cmd := exec.Command(filepath.Join(bin, "oaken-latchd"), args...)
		b, _ := cmd.CombinedOutput()
		require.Equal(t, status, cmd.ProcessState.ExitCode(), string(b))
		return string(b)
	}
	file, data := filepath.Join(s.Dir, "backup.tar"), filepath.Join(s.Dir, "data")
	signs, _ := plainKey(t, data) // as backups of an earlier release have it; the service signs with another
	assert.Contains(t, daemon(0, "backup", file, "--data", data), "1 devices, 3 changes")
	assert.Contains(t, daemon(1, "backup", file, "--data", data), "exists", "never over another")
	assert.Contains(t, daemon(1, "restore", file, "--data", data), "holds records already")
	st, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), st.Mode().Perm(), "it holds the key")
	s.Do("mara", 0, "confirm", held)

	s.Kill()
	require.NoError(t, os.RemoveAll(data))
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	bad := filepath.Join(s.Dir, "bad.tar")
	require.NoError(
		t,
		os.WriteFile(
			bad, append(append([]byte{}, whole[:9000]...), append([]byte{whole[9000] ^ 1}, whole[9001:]...)...), 0o600,
		),
	)
	assert.Contains(
		t, daemon(1, "restore", bad, "--data", data), "the bundle is damaged: oaken-latch.db: its SHA-256 is",
	)
	require.NoError(t, os.WriteFile(bad, whole[:len(whole)/2], 0o600))
	assert.Contains(t, daemon(1, "restore", bad, "--data", data), "nothing was restored")
	assert.Contains(t, daemon(0, "restore", file, "--data", data), "all checked")
	assert.FileExists(t, signs)
	s.Start()
	assert.Contains(t, daemon(0, "doctor", "--data", data, "--plain"), "look   signing key")

	// Accounts, keys, changes and history are there; what was under way is not
	// taken up, for how it went on is not in there: it was kept.
	assert.Contains(t, s.Do("mara", 0, "show", held), "restored from a backup")
	assert.Contains(t, s.Do("mara", 0, "schedule", "--all"), "put it there again if it is still meant")
	time.Sleep(4 * time.Second)
	assert.Equal(t, "Held", s.Value(quay, contact), "nothing of it was taken back")
	assert.Contains(t, s.Do("mara", 0, "config", quay, contact), "Held", "the device's password is there too")
	assert.Regexp(t, `rev:3 .*changed outside`, s.Do("mara", 0, "revisions", quay))
	s.Do("admin", 6, "audit", "verify")
}

// Another box in the old one's place: its history goes on in one line, and it
// becomes what the old one was.
func TestReplacedDevice(t *testing.T) {
	t.Parallel()
	s := newStage(t, quay)
	s.keep("mara", s.Open("mara", quay+" "+contact+" Mara", quay+" /vlans/vlan=40/name lamps"))
	assert.Contains(t, s.Do("mara", 0, "export", filepath.Join(s.Dir, "q.tar"), quay), "OL-")
	s.Devices[quay].Stop()
	sites, err := lab.Tidewell("")
	require.NoError(t, err)
	spec := sites[1].Spec
	spec.Listen, spec.Serial = "127.0.0.1:0", "OL-NEW-0001"
	fresh, err := lab.Start(spec)
	require.NoError(t, err)
	t.Cleanup(fresh.Stop)
	s.Devices[quay] = fresh

	assert.Contains(
		t,
		s.Do(
			"mara", 3, "device", "replace", quay, "--address", fresh.Address, "--user", lab.User, "--password-file",
			s.File("pw-lab", lab.Password), "--yes",
		),
		"may not administer",
	)
	s.Do(
		"admin", 0, "device", "replace", quay, "--address", fresh.Address, "--user", lab.User, "--password-file",
		s.File("pw-lab", lab.Password), "--yes",
	)
	assert.Contains(t, s.Do("mara", 3, "config", quay), "its host key has not been accepted yet")
	s.Do("admin", 0, "device", "trust", quay, "--yes")
	assert.Contains(t, s.Do("mara", 0, "device", "show", quay), "OL-NEW-0001")
	assert.Regexp(
		t, `rev:3 .*another box was put in its place\nrev:2 .*mara +change 1`, s.Do("mara", 0, "revisions", quay),
	)
	assert.Contains(t, s.Do("mara", 0, "import", filepath.Join(s.Dir, "q.tar")), "in its place stands")
	s.Do("mara", 0, "restore", quay, "rev:2")
	s.Do("mara", 0, "preview", "3")
	s.keep("mara", "3")
	assert.Equal(t, "Mara", s.Value(quay, contact))
	assert.Contains(t, s.Do("mara", 0, "compare", quay, quay+"@rev:2"), "No difference")
}

// The past in Chromium: looked at, compared, brought back with parts picked by
// hand, undone.
func TestConsoleHistory(t *testing.T) {
	t.Parallel()
	const slip = "saltern-slip"
	s := newStage(t, quay, slip)
	s.Do("mara", 0, "snapshot", "take", "Before winter", "--all")
	s.keep("mara", s.Open("mara", quay+" "+contact+" Mara", quay+" /system/location Roof"))
	s.keep("mara", s.Open("mara", quay+" /vlans/vlan=40/name lamps"))
	var complaints []string
	ctx := chromium(t, func(text string) { complaints = append(complaints, text) })
	do := func(what string, steps ...browser.Step) {
		t.Helper()
		require.NoError(t, browser.Do(ctx, what, steps...))
	}
	shows := func(text string) browser.Step { return chromedp.WaitVisible(browser.Text("*", text)) }
	require.NoError(t, browser.SignIn(ctx, s.URL, "/devices/"+quay+"?view=timeline", "mara", maraPassword))
	do(
		"timeline",
		chromedp.Click(chromedp.Search(`//*[@role="option" and contains(@aria-label, "changes: a change of mara")]`)),
		chromedp.Click(browser.Button("What it changed")), shows("saltern-quay@rev:1"),
		chromedp.WaitVisible(chromedp.Search(`//*[@role="row" and contains(., "Roof")]`)),
	)
	do(
		"blame", chromedp.Click(browser.Text("div", "Who set it")+`[@role="tab"]`), shows("change 1"),
		shows("contact: Mara"), shows("first read"),
	)
	do(
		"parts picked by hand", chromedp.Navigate(s.URL+"/devices/"+quay+"?view=compare&a=snapshot:1&b=running"),
		chromedp.Click(chromedp.Search(`//input[@aria-label="pick /system/location"]`)),
		chromedp.Click(browser.Button("Bring back what is picked (1)")), shows("Later work that it takes away"),
		shows("change 1 of mara"),
	)
	do(
		"its change", chromedp.Click(browser.Text("a", "change 3")), shows("location: Roof →"),
		chromedp.Click(browser.Button("Commit on hold")), chromedp.WaitEnabled(browser.Button("Confirm")),
		chromedp.Click(browser.Button("Confirm")), chromedp.WaitNotPresent(browser.Button("Confirm")),
	)
	s.Eventually("3", "confirmed", 90*time.Second)
	assert.Equal(t, "Saltern terminal, quay cabinet 3", s.Value(quay, "/system/location"))
	assert.Equal(t, "Mara", s.Value(quay, contact), "what was not picked stays")
	do(
		"undo", chromedp.Navigate(s.URL+"/changes/2"), chromedp.Click(browser.Button("Undo this change…")),
		shows("change 4: Undo change 2"),
	)
	assert.Contains(t, s.Do("mara", 0, "preview", "4"), "−   vlan [40]")
	do(
		"snapshots", chromedp.Navigate(s.URL+"/snapshots"), browser.Type("name of the snapshot", "Nach dem Winter"),
		chromedp.Click(browser.Button("Take it")), shows("The moment was not clean"), shows("1 change is staged on it"),
	)
	do(
		"carry", chromedp.Navigate(s.URL+"/devices/"+slip+"?view=compare"), browser.Pick("device to carry from", quay),
		chromedp.Click(browser.Button("Stage it on "+slip)), shows("Left as it is on "+slip), shows("/system/hostname"),
		shows("stays "+slip),
	)
	tar := filepath.Join(s.Dir, "both.tar")
	s.Do("mara", 0, "export", tar, "--all", "--from", "rev:1")
	do(
		"bundle", chromedp.Navigate(s.URL+"/snapshots"),
		chromedp.SetUploadFiles(chromedp.Search(`//input[@type="file"]`), []string{tar}), shows("Import a bundle of"),
		shows("Nothing reached a device"),
	)
	do("backups", chromedp.Navigate(s.URL+"/backups"), shows("Nothing is copied off this machine"), shows("revision 4"))
	assert.Empty(t, complaints)

	ctx = chromium(t, func(text string) { complaints = append(complaints, text) })
	require.NoError(t, browser.SignIn(ctx, s.URL, "/backups", "admin", adminPassword))
	vault := filepath.Join(s.Dir, "vault")
	require.NoError(t, os.Mkdir(vault, 0o700))
	do(
		"archive", browser.Type("Name", "vault"), browser.Type("Place", vault),
		chromedp.Click(browser.Button("Add it")), chromedp.Click(browser.Button("Copy now")),
		shows("each read back and compared"), chromedp.Click(browser.Button("Its copies")),
		chromedp.Click(browser.Button("Read it")), shows("whole."), shows("instance-data-set"),
	)
	do(
		"another box", chromedp.Navigate(s.URL+"/devices/"+slip),
		chromedp.Click(browser.Button("Another box in its place")), browser.Type("Password", lab.Password),
		chromedp.Click(browser.Button("Put it in the place of "+slip)),
		chromedp.WaitNotPresent(chromedp.Search(`//*[@role="dialog"]`)),
		chromedp.Click(browser.Button("Ask it for its host key")), shows("SHA256:"),
		chromedp.Click(browser.Button("accept it")), chromedp.WaitNotPresent(browser.Button("accept it")),
	)
	require.Eventually(t, func() bool {
		return strings.Contains(s.Do("mara", 0, "revisions", slip), "another box was put in its place")
	}, 90*time.Second, 300*time.Millisecond)
	assert.Empty(t, complaints)
}
