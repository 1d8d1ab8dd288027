// Package attack holds attacks on the running binaries, by kind: what somebody could try who has a
// part of what the service has, and what comes of it.
package attack

import (
	"bufio"
	"crypto/ed25519"
	"crypto/sha256"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite" // the driver "sqlite"

	"oakenlatch/core/ledger"
	"oakenlatch/test/pace"
	"oakenlatch/test/port"
	"oakenlatch/test/stage"
	"oakenlatch/wire"
)

var bin string

func TestMain(m *testing.M) { os.Exit(stage.Main(m, &bin)) }

// watcher is a witness in a process of its own.
type watcher struct {
	key, url string
	kill     func()
}

// watch runs a witness.
func watch(t *testing.T, dir, name, listen string, more ...string) watcher {
	t.Helper()
	cmd := exec.Command(
		filepath.Join(bin, "latch"),
		append([]string{"witness", "--dir", dir, "--name", name, "--listen", listen}, more...)...,
	)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	w := watcher{kill: func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }}
	t.Cleanup(w.kill)
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	w.key, w.url, _ = strings.Cut(strings.TrimSpace(line), " ")
	return w
}

// watched is a service whose record two witnesses watch over.
type watched struct {
	*stage.Stage
	t         *testing.T
	witnesses []watcher
	key       string // file of the key that signs the record
}

func newWatched(t *testing.T) *watched {
	s := &watched{Stage: stage.New(t), t: t}
	s.key = s.File("record.pub", firstLine(s.Do("admin", 0, "audit", "key")))
	for _, name := range []string{"northmole", "saltern"} {
		s.witnesses = append(
			s.witnesses, watch(t, filepath.Join(s.Dir, name), "tidewell/"+name, port.Address(t), "--log", s.key),
		)
	}
	s.Stop()
	s.serve()
	return s
}

func firstLine(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	return line
}

// flags name the witnesses in the settings of the service.
func (s *watched) flags() (out []string) {
	for _, w := range s.witnesses {
		out = append(out, "--witness", w.key+" "+w.url)
	}
	return out
}

func (s *watched) serve() { s.Start(s.flags()...) }

// edit gives the record something to tell of.
func (s *watched) edit(n int) {
	for range n {
		s.Open("mara")
	}
}

// database runs statements on the database, the service stopped.
func (s *watched) database(stmts ...string) {
	s.t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(s.Data, "oaken-latch.db"))
	require.NoError(s.t, err)
	defer func() { _ = db.Close() }()
	for _, stmt := range append(
		[]string{"DROP TRIGGER IF EXISTS ledger_no_update", "DROP TRIGGER IF EXISTS ledger_no_delete"}, stmts...,
	) {
		_, err := db.Exec(stmt)
		require.NoError(s.t, err, stmt)
	}
}

// rewritten gives statements that make somebody else of who did something, with the whole chain
// sealed anew.
func (s *watched) rewritten() (stmts []string) {
	db, err := sql.Open("sqlite", filepath.Join(s.Data, "oaken-latch.db"))
	require.NoError(s.t, err)
	defer func() { _ = db.Close() }()
	rows, err := db.Query(
		"SELECT seq, at, actor, action, device, change, ticket, path, before, after, note, outcome, way, address, " +
			"session FROM ledger ORDER BY seq",
	)
	require.NoError(s.t, err)
	defer func() { _ = rows.Close() }()
	prev := ""
	for rows.Next() {
		var e ledger.Entry
		var at string
		require.NoError(
			s.t,
			rows.Scan(
				&e.Seq, &at, &e.Actor, &e.Action, &e.Device, &e.Change, &e.Ticket, &e.Path, &e.Before, &e.After,
				&e.Note, &e.Outcome, &e.Way, &e.Address, &e.Session,
			),
		)
		e.At, err = time.Parse(time.RFC3339, at)
		require.NoError(s.t, err)
		if e.Actor == "mara" {
			e.Actor = "joss"
		}
		e = ledger.Seal(e, prev)
		prev = e.Hash
		stmts = append(
			stmts,
			fmt.Sprintf(
				"UPDATE ledger SET actor = '%s', prev = '%s', hash = '%s' WHERE seq = %d", e.Actor, e.Prev, e.Hash,
				e.Seq,
			),
		)
	}
	require.NoError(s.t, rows.Err())
	return stmts
}

func (s *watched) verified(status int) wire.Verified {
	s.t.Helper()
	out, got := s.Latch("admin", "audit", "verify", "--json")
	var v wire.Verified
	require.NoError(s.t, json.Unmarshal([]byte(out), &v), out)
	require.Equal(s.t, status, got, out)
	return v
}

// Whoever has the data folder, whole, and rewrites what is in it: the witnesses tell. What they take
// out beside it does not help them, and neither does an older copy of the folder.
func TestRecordRewritten(t *testing.T) {
	t.Parallel()
	const checkpointsGone, treeGone = "DELETE FROM signed_trees", "DELETE FROM tree"
	cut := []string{"DELETE FROM ledger WHERE seq > (SELECT max(seq) - 2 FROM ledger)", checkpointsGone, treeGone}
	for name, attack := range map[string]func(*watched){
		"rewritten, its checkpoints and its tree gone": func(s *watched) {
			s.database(append(s.rewritten(), checkpointsGone, treeGone)...)
		},
		"its end cut off": func(s *watched) { s.database(cut...) },
		"an older one put back": func(s *watched) {
			s.database("VACUUM")
			copied, err := os.ReadFile(filepath.Join(s.Data, "oaken-latch.db"))
			require.NoError(t, err)
			s.serve()
			s.edit(3)
			s.verified(0)
			s.Stop()
			require.NoError(t, os.WriteFile(filepath.Join(s.Data, "oaken-latch.db"), copied, 0o600))
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := newWatched(t)
			s.edit(3)
			v := s.verified(0)
			assert.Equal(t, wire.Vouched, v.Answer)
			assert.Equal(t, v.Last, v.Vouched)
			require.Len(t, v.Witnesses, 2)
			kept := s.Do("admin", 0, "audit", "checkpoint")
			s.Stop()
			attack(s)
			// All that lies beside the database is made to fit.
			require.NoError(t, os.Remove(filepath.Join(s.Data, "record-checkpoint")))
			mark, err := os.ReadFile(filepath.Join(s.Data, "oaken-latch.folder"))
			require.NoError(t, err)
			if out, err := exec.Command(
				filepath.Join(bin, "oaken-latchd"), "serve", "--plain", "--data", s.Data, "--listen", "256.0.0.1:1",
			).CombinedOutput(); strings.Contains(string(out), "accept-loss") {
				t.Logf("the mark of the folder told already: %s %v", out, err)
				var m map[string]any
				require.NoError(t, json.Unmarshal(mark, &m))
				m["entries"] = 1
				text, err := json.Marshal(m)
				require.NoError(t, err)
				require.NoError(t, os.WriteFile(filepath.Join(s.Data, "oaken-latch.folder"), text, 0o600))
			}
			s.serve()
			v = s.verified(1)
			assert.Equal(t, wire.Altered, v.Answer)
			require.NotEmpty(t, v.Findings)
			assert.Contains(t, v.Findings[len(v.Findings)-1].Msg, "witness tidewell/")
			require.Eventually(
				t, func() bool { return strings.Contains(s.Logged(), "a witness saw another record than this one") },
				90*time.Second, 100*time.Millisecond,
			)
			assert.Contains(t, s.Do("admin", 0, "audit"), "witness tidewell/saltern: it saw")
			// Without witnesses, who kept a checkpoint elsewhere tells, too.
			out, status := s.Latch(
				"admin", "audit", "verify", "--checkpoint", s.File("confirmed", strings.TrimSuffix(kept, "\n")),
			)
			assert.Equal(t, 1, status, out)
		})
	}
}

// Who takes out the key that signs, or plants another, has a service that does not start: until
// somebody says so, which is entered, and from where it is another record to outsiders.
func TestRecordKey(t *testing.T) {
	t.Parallel()
	for name, stmts := range map[string][]string{
		"taken out": {"DELETE FROM sealed WHERE name = 'ledger'"},
		"taken out, and all named by it": {
			"DELETE FROM sealed WHERE name = 'ledger'", "DELETE FROM signed_trees", "DELETE FROM tree",
		},
		"another named": {
			"INSERT INTO ledger SELECT seq + 1, at, 'service', 'audit.key', '', 0, '', '', 'AAAA', '', hash, hash, " +
				"'', '', '', '', '' FROM ledger ORDER BY seq DESC LIMIT 1",
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := newWatched(t)
			s.edit(1)
			s.verified(0)
			s.Stop()
			s.database(stmts...)
			out, status := s.latchd("serve", "--plain", "--data", s.Data, "--listen", "127.0.0.1:0")
			assert.Equal(t, 1, status, out)
			assert.Contains(t, out, "accept-key")
			out, status = s.latchd("doctor", "--plain", "--data", s.Data)
			assert.Equal(t, 1, status, out)
			if name == "another named" {
				return // such an entry is no way to go on: verify names it for good
			}
			assert.Contains(t, out, "wrong  signing key")
			out, status = s.latchd("accept-key", "--plain", "--data", s.Data, "--note", "the attack of this test")
			assert.Zero(t, status, out)
			s.serve()
			assert.Contains(t, s.Do("admin", 0, "audit", "kind:audit.key", "--json"), "the attack of this test")
			v := s.verified(6)
			assert.Equal(t, wire.Consistent, v.Answer, "witnesses of the record before do not know this one")
			for _, w := range v.Witnesses {
				assert.Contains(t, w.Trouble, "it does not watch over this record")
			}
			// They are told, and vouch from then on.
			key := s.File("record2.pub", firstLine(s.Do("admin", 0, "audit", "key")))
			for i, w := range s.witnesses {
				w.kill()
				dir := filepath.Join(s.Dir, []string{"northmole", "saltern"}[i])
				again := watch(t, dir, "", strings.TrimPrefix(w.url, "http://"), "--log", key)
				assert.Equal(t, w.key, again.key, "its key stays")
			}
			assert.Equal(t, wire.Vouched, s.verified(0).Answer)
		})
	}
}

func (s *watched) latchd(args ...string) (string, int) {
	cmd := exec.Command(filepath.Join(bin, "oaken-latchd"), args...)
	out, _ := cmd.CombinedOutput()
	return string(out), cmd.ProcessState.ExitCode()
}

// A key that is rotated is signed in by the one before: the witnesses take it without being told,
// what was proved before still holds, and the record is the same one.
func TestRecordKeyRotated(t *testing.T) {
	t.Parallel()
	s := newWatched(t)
	s.edit(2)
	before := s.verified(0)
	first := s.File("first", strings.TrimSuffix(s.Do("admin", 0, "audit", "checkpoint"), "\n"))
	s.Stop()
	out, status := s.latchd("rotate-key", "--plain", "--data", s.Data)
	require.Zero(t, status, out)
	s.serve()
	s.edit(1)
	after := s.verified(0)
	assert.NotEqual(t, before.Key, after.Key)
	assert.Equal(t, ledger.Name(before.Key), ledger.Name(after.Key))
	assert.Equal(t, after.Last, after.Vouched, "both witnesses took the key that was signed in")
	for _, w := range after.Witnesses {
		assert.Empty(t, w.Trouble)
	}
	s.Do("admin", 0, "audit", "verify", "--checkpoint", first)
}

// What one prove prints anybody checks without the service and without our code: the test does it by
// the RFCs alone. What is altered in it, or signed by others, does not hold.
func TestProofForOutsiders(t *testing.T) {
	t.Parallel()
	s := newWatched(t)
	s.edit(40)
	n := "17"
	text := s.Do("admin", 0, "audit", "prove", n)
	proof := s.File("proof", strings.TrimSuffix(text, "\n"))
	kept := s.File("confirmed", strings.TrimSuffix(s.Do("admin", 0, "audit", "checkpoint"), "\n"))
	s.edit(9)
	extends := filepath.Join(s.Dir, "extends")
	s.Do("admin", 0, "audit", "prove", "--since", kept, "--to", extends)
	export := filepath.Join(s.Dir, "ledger.jsonl")
	s.Do("admin", 0, "audit", "export", export, "--format", "jsonl")
	s.Stop()

	// By the RFCs: the entry is base64 JSON, the path leads to the root of the checkpoint, and the key
	// of the record signed that (RFC 9162, 2.1.3.2; RFC 8032).
	lines := strings.Split(text, "\n")
	require.Equal(t, "c2sp.org/tlog-proof@v1", lines[0])
	entry, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(lines[1], "extra "))
	require.NoError(t, err)
	var e struct {
		Seq   int64
		Actor string
	}
	require.NoError(t, json.Unmarshal(entry, &e))
	require.Equal(t, int64(17), e.Seq)
	require.Equal(t, "index 16", lines[2])
	at := 3
	hash := sha256.Sum256(append([]byte{0}, entry...))
	var path [][]byte
	for ; lines[at] != ""; at++ {
		h, err := base64.StdEncoding.DecodeString(lines[at])
		require.NoError(t, err)
		path = append(path, h)
	}
	signed := strings.Join(lines[at+1:at+4], "\n") + "\n"
	var size uint64
	_, err = fmt.Sscan(lines[at+2], &size)
	require.NoError(t, err)
	fn, sn := uint64(16), size-1
	for _, p := range path {
		require.NotZero(t, sn)
		if fn&1 == 1 || fn == sn {
			hash = sha256.Sum256(append(append([]byte{1}, p...), hash[:]...))
			for fn&1 == 0 && fn != 0 {
				fn, sn = fn>>1, sn>>1
			}
		} else {
			hash = sha256.Sum256(append(append([]byte{1}, hash[:]...), p...))
		}
		fn, sn = fn>>1, sn>>1
	}
	assert.Zero(t, sn)
	assert.Equal(t, base64.StdEncoding.EncodeToString(hash[:]), lines[at+3])
	public, err := os.ReadFile(s.key)
	require.NoError(t, err)
	parts := strings.SplitN(strings.TrimSpace(string(public)), "+", 3)
	raw, err := base64.StdEncoding.DecodeString(parts[2])
	require.NoError(t, err)
	name, signature, _ := strings.Cut(strings.TrimPrefix(lines[at+5], "— "), " ")
	assert.Equal(t, parts[0], name)
	sig, err := base64.StdEncoding.DecodeString(signature)
	require.NoError(t, err)
	assert.True(t, ed25519.Verify(raw[1:], []byte(signed), sig[4:]))

	run := func(want int, args ...string) string {
		cmd := exec.Command(filepath.Join(bin, "latch"), append([]string{"audit", "check"}, args...)...)
		cmd.Env = append(os.Environ(), "OAKEN_LATCH_SERVER=http://127.0.0.1:1", "HOME="+s.Dir)
		out, _ := cmd.CombinedOutput()
		require.Equal(t, want, cmd.ProcessState.ExitCode(), "%q: %s", args, out)
		return string(out)
	}
	witness := s.witnesses[0].key
	out := run(0, proof, "--key", s.key, "--witness", witness)
	for _, want := range []string{
		"Entry 17 is in the record oaken-latch/", "It is signed with oaken-latch/",
		"Witness tidewell/northmole saw it at 2",
	} {
		assert.Contains(t, out, want)
	}
	assert.Contains(t, run(6, proof), "give the record's key with --key")
	stranger := ledger.NewSigner(ed25519.NewKeyFromSeed(make([]byte, 32)), "")
	assert.Contains(t, run(1, proof, "--key", stranger.Key()), "not signed with the key that was given")
	forged := strings.Replace(
		text, lines[1],
		"extra "+base64.StdEncoding.EncodeToString([]byte(strings.Replace(string(entry), e.Actor, "nobody", 1))), 1,
	)
	assert.Contains(t, run(1, s.File("forged", forged), "--key", s.key), "does not hold")
	run(2, s.File("nothing", "nothing of the kind"), "--key", s.key)
	run(2, proof, "--key", "nokey")
	assert.Contains(t, run(0, extends, "--since", kept, "--key", s.key), "nothing of that was rewritten")
	run(1, extends, "--since", kept, "--key", stranger.Key())

	// The whole record as it was exported, against the checkpoint that was kept.
	whole := exec.Command(
		filepath.Join(bin, "latch"), "audit", "verify", "--file", export, "--checkpoint", kept, "--key", s.key,
		"--witness", witness,
	)
	whole.Env = append(os.Environ(), "HOME="+s.Dir)
	text2, err := whole.CombinedOutput()
	require.NoError(t, err, "%s", text2)
	assert.Contains(t, string(text2), "tidewell/northmole")
}

// A witness keeps what it saw through its death, answers a stranger with nothing but no, and takes
// no request that is too large or makes no sense.
func TestWitness(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	dir := t.TempDir()
	key := ed25519.NewKeyFromSeed(append(make([]byte, 31), 7))
	signer, stranger := ledger.NewSigner(key, ""), ledger.NewSigner(ed25519.NewKeyFromSeed(make([]byte, 32)), "")
	w := watch(t, dir, "tidewell/hall", "127.0.0.1:0", "--log", signer.Key())
	var list []ledger.Entry
	var edge, other ledger.Edge
	for i := range int64(9) {
		e := ledger.Seal(ledger.Entry{Seq: i + 1, Actor: "mara"}, "")
		list = append(list, e)
		edge.Add(ledger.Sum(e).Leaf)
		e.Actor = "joss"
		other.Add(ledger.Sum(e).Leaf)
	}
	note := func(s ledger.Signer, e ledger.Edge) string {
		text, err := s.Sign(e.Size(), e.Root())
		require.NoError(t, err)
		return string(text)
	}
	ask := func(path, body string) (int, string) {
		res, err := http.Post(w.url+path, "text/plain", strings.NewReader(body))
		require.NoError(t, err)
		defer func() { _ = res.Body.Close() }()
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, string(text)
	}
	first := "old 0\n\n" + note(signer, edge)
	for _, c := range []struct {
		what, path, body string
		status           int
	}{
		{"nothing", "/add-checkpoint", "", 400},
		{"noise", "/add-checkpoint", "old 0\n\nx", 400},
		{"a record that is not watched", "/add-checkpoint", "old 0\n\n" + note(stranger, edge), 404},
		{"another's signature", "/add-checkpoint", strings.Replace(first, "\n9\n", "\n8\n", 1), 403},
		{"the first", "/add-checkpoint", first, 200},
		{"the same again", "/add-checkpoint", strings.Replace(first, "old 0", "old 9", 1), 200},
		{"as if it were the first", "/add-checkpoint", first, 409},
		{"another of the same size", "/add-checkpoint", "old 9\n\n" + note(signer, other), 409},
		{"from behind its end", "/add-checkpoint", "old 10\n\n" + note(signer, edge), 400},
		{"too large", "/add-checkpoint", strings.Repeat("x", 1<<19), 413},
		{"a key that nobody signed in", "/add-key", "x", 400},
	} {
		status, text := ask(c.path, c.body)
		assert.Equal(t, c.status, status, "%s: %s", c.what, text)
		if status == 409 {
			assert.Equal(t, "9\n", text)
		}
	}
	w.kill()
	w = watch(t, dir, "", "127.0.0.1:0")
	status, text := ask("/add-checkpoint", first)
	assert.Equal(t, []any{409, "9\n"}, []any{status, text}, "it remembers")
	more := edge
	more.Add(ledger.Sum(list[0]).Leaf)
	status, text = ask(
		"/add-checkpoint",
		"old 9\n"+strings.Repeat(base64.StdEncoding.EncodeToString(make([]byte, 32))+"\n", 3)+"\n"+note(signer, more),
	)
	assert.Equal(t, 422, status, text)
}
