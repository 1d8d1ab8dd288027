package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"time"

	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/lifecycle"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/fleet"
	"oakenlatch/service/history"
	"oakenlatch/service/store"
	"oakenlatch/service/underway"
)

// What the history is measured on: revisions of a configuration of 10,000
// lines and 540 KB, with 1 to 20 lines changed each.
const revisions = 2000

// past is such a history, as texts and as trees.
type past struct {
	texts [][]byte
	trees []*tree.Node
}

// words makes texts that compress about as badly as what people write.
func words(rnd *rand.Rand, n int) string {
	const syllables = "ba ce di fo gu ha je ki lo mu na pe ri so tu va we xi yo zu"
	all := strings.Fields(syllables)
	var b strings.Builder
	for b.Len() < n {
		for range 2 + rnd.IntN(3) {
			b.WriteString(all[rnd.IntN(len(all))])
		}
		b.WriteByte(' ')
	}
	return strings.TrimSpace(b.String())
}

// berth is one interface of ten lines, as a device writes it.
func berth(rnd *rand.Rand, i int) []string {
	return []string{
		"    <interface>",
		fmt.Sprintf("      <name>port%d</name>", i),
		"      <description>" + words(rnd, 133) + "</description>",
		`      <type xmlns:ianaift="urn:ietf:params:xml:ns:yang:iana-if-type">ianaift:ethernetCsmacd</type>`,
		fmt.Sprintf("      <enabled>%t</enabled>", rnd.IntN(4) > 0),
		`      <ipv4 xmlns="urn:ietf:params:xml:ns:yang:ietf-ip"><mtu>` + fmt.Sprint(576+rnd.IntN(8640)) + "</mtu>",
		fmt.Sprintf("        <address><ip>10.%d.%d.%d</ip>", rnd.IntN(256), i>>8, i&255),
		fmt.Sprintf("          <prefix-length>%d</prefix-length>", 8+rnd.IntN(24)),
		"        </address></ipv4>",
		"    </interface>",
	}
}

func newPast(s *schema.Schema, n int) (*past, error) {
	rnd := rand.New(rand.NewPCG(2026, 11))
	lines := []string{
		`<config xmlns="urn:ietf:params:xml:ns:netconf:base:1.0">`,
		`  <interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces">`,
	}
	const berths = 1000
	for i := range berths {
		lines = append(lines, berth(rnd, i)...)
	}
	lines = append(lines, "  </interfaces>", "</config>", "")
	p := &past{}
	for range n {
		for range 1 + rnd.IntN(20) {
			i, fresh := rnd.IntN(berths), berth(rnd, 0)
			which := []int{2, 4, 5, 7}[rnd.IntN(4)]
			lines[2+10*i+which] = fresh[which]
		}
		text := []byte(strings.Join(lines, "\n"))
		root, err := codec.Decoder{Schema: s}.ParseTree(text)
		if err != nil {
			return nil, err
		}
		p.texts, p.trees = append(p.texts, text), append(p.trees, root)
		if len(p.trees) > 1 { // all of them at once would not fit: they are made again where they are needed
			p.trees[len(p.trees)-2] = nil
		}
	}
	return p, nil
}

// records is a service's records with one device.
type records struct {
	dir     string
	store   *store.Store
	history *history.History
	fleet   *fleet.Fleet
	device  store.Device
	schema  *schema.Schema
}

func openRecords(dir string, sources []schema.Source) (*records, error) {
	ctx := context.Background()
	s, err := store.Open(dir)
	if err != nil {
		return nil, err
	}
	log := audit.New(s, audit.Options{})
	sealer, err := access.OpenSealer(filepath.Join(dir, access.KeyFile))
	if err != nil {
		return nil, err
	}
	r := &records{dir: dir, store: s, fleet: fleet.New(s, log, sealer)}
	r.history = history.New(s, log, r.fleet, underway.New())
	if _, err := s.Device(ctx, store.Everything, "quay"); err != nil {
		set, err := json.Marshal(fleet.ModuleSet{Sources: sources})
		if err != nil {
			return nil, err
		}
		err = s.Write(ctx, func(tx *store.Tx) error {
			if err := tx.AddDevice(
				store.Device{
					Name: "quay", Address: "h:830", Account: "u", Auth: "password", Secret: []byte{1},
					Added: time.Now(), AddedBy: "bench",
				},
			); err != nil {
				return err
			}
			return tx.SetModules(1, "list", "set", set, nil)
		})
		if err != nil {
			return nil, err
		}
	}
	if r.device, err = s.Device(ctx, store.Everything, "quay"); err != nil {
		return nil, err
	}
	r.schema, err = r.fleet.Schema(ctx, r.device)
	return r, err
}

// keep stores a configuration as a revision, durably.
func (r *records) keep(text []byte) error {
	n, err := codec.Decoder{Schema: r.schema}.ParseTree(text)
	if err != nil {
		return err
	}
	return r.store.Write(context.Background(), func(tx *store.Tx) error {
		digest, err := r.history.Add(tx, r.device.ID, r.device.ModuleSet, r.schema, n)
		if err == nil {
			_, err = tx.AddRevision(
				store.Revision{Device: r.device.ID, Digest: digest, At: time.Now(), Source: lifecycle.ByOutside},
			)
		}
		return err
	})
}

func (b *bench) history() error {
	began := time.Now()
	p, err := newPast(b.schema, revisions)
	if err != nil {
		return err
	}
	fmt.Printf(
		"a history of %d revisions, the last of %d lines and %d bytes (%s)\n", revisions,
		bytes.Count(p.texts[revisions-1], []byte("\n")), len(p.texts[revisions-1]),
		time.Since(began).Round(time.Second),
	)
	repo, err := b.repository(p)
	if err != nil {
		return err
	}
	dir := filepath.Join(b.dir, "records")
	if err := os.Mkdir(dir, 0o700); err != nil {
		return err
	}
	if err := b.storing(dir, p, repo); err != nil {
		return err
	}
	if err := b.readingPast(dir, p, repo); err != nil {
		return err
	}
	return b.blaming(dir, repo)
}

// repository makes the same history in git, packed as well as git can.
func (b *bench) repository(p *past) (string, error) {
	repo := filepath.Join(b.dir, "repo")
	if err := exec.Command("git", "init", "-q", "-b", "main", repo).Run(); err != nil {
		return "", err
	}
	imp := exec.Command("git", "-C", repo, "fast-import", "--quiet")
	in, err := imp.StdinPipe()
	if err != nil {
		return "", err
	}
	if err := imp.Start(); err != nil {
		return "", err
	}
	w := bufio.NewWriter(in)
	for i, text := range p.texts {
		_, _ = fmt.Fprintf(
			w, "commit refs/heads/main\ncommitter b <b@b> %d +0000\ndata 1\n.\nM 644 inline quay.xml\ndata %d\n",
			1_700_000_000+i, len(text),
		)
		_, _ = w.Write(text)
		_, _ = fmt.Fprint(w, "\n")
	}
	if err := w.Flush(); err != nil {
		return "", err
	}
	_ = in.Close()
	if err := imp.Wait(); err != nil {
		return "", err
	}
	began := time.Now()
	if out, err := exec.Command(
		"git", "-C", repo, "gc", "--aggressive", "--prune=now", "--quiet",
	).CombinedOutput(); err != nil {
		return "", fmt.Errorf("git gc: %w: %s", err, out)
	}
	fmt.Printf("git gc --aggressive took %s\n", time.Since(began).Round(time.Second))
	return repo, exec.Command("git", "-C", repo, "reset", "-q", "--hard").Run()
}

func folderSize(dir string) (n int64, err error) {
	return n, filepath.Walk(dir, func(_ string, info os.FileInfo, err error) error {
		if err == nil && !info.IsDir() {
			n += info.Size()
		}
		return err
	})
}

// storing keeps all of it, and measures the bytes and the time of one.
func (b *bench) storing(dir string, p *past, repo string) error {
	r, err := openRecords(dir, b.sources)
	if err != nil {
		return err
	}
	if err := r.store.Close(); err != nil {
		return err
	}
	empty, err := folderSize(dir)
	if err != nil {
		return err
	}
	if r, err = openRecords(dir, b.sources); err != nil {
		return err
	}
	var ours, plain time.Duration
	file := filepath.Join(b.dir, "plain.xml")
	for i, text := range p.texts {
		began := time.Now()
		if err := r.keep(text); err != nil {
			return err
		}
		if i%20 != 10 {
			continue
		}
		ours += time.Since(began)
		began = time.Now()
		if _, err = (codec.Decoder{Schema: r.schema}).ParseTree(text); err == nil {
			err = writeDurably(file, text)
		}
		plain += time.Since(began)
		if err != nil {
			return err
		}
	}
	if err := r.store.Close(); err != nil {
		return err
	}
	full, err := folderSize(dir)
	if err != nil {
		return err
	}
	git, err := folderSize(filepath.Join(repo, ".git", "objects"))
	if err != nil {
		return err
	}
	fmt.Printf("%-28s %12d   yardstick %12d bytes\n", "history-bytes", full-empty, git)
	b.ratio("history-bytes", float64(full-empty)/float64(git), 0.45)
	b.figure("history-store", ours/100, plain/100, 1)
	return nil
}

func writeDurably(name string, text []byte) error {
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	if _, err = f.Write(text); err == nil {
		err = f.Sync()
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	return err
}

// readingPast reads all revisions in some order, as from a fresh start, and
// compares pairs of them.
func (b *bench) readingPast(dir string, p *past, repo string) error {
	ctx := context.Background()
	order := rand.New(rand.NewPCG(7, 7)).Perm(revisions)
	var read, git time.Duration
	for range 2 {
		r, err := openRecords(dir, b.sources)
		if err != nil {
			return err
		}
		revs, err := r.store.RevisionsAfter(ctx, r.device.ID, 0)
		if err != nil {
			return err
		}
		took := best(1, func() {
			for _, i := range order {
				if _, err = r.history.Tree(ctx, r.schema, revs[i].Digest); err != nil {
					return
				}
			}
		})
		if err != nil {
			return err
		}
		for _, i := range order[:20] { // what was read is what was kept
			n, err := r.history.Tree(ctx, r.schema, revs[i].Digest)
			if err != nil {
				return err
			}
			want, err := codec.Decoder{Schema: r.schema}.ParseTree(p.texts[i])
			if err != nil {
				return fmt.Errorf("revision %d: %w", i, err)
			}
			if want.Digest() != n.Digest() {
				return fmt.Errorf("revision %d does not come out as it went in", i)
			}
		}
		read = least(read, took/revisions)
		if took, err = b.catFile(repo, order); err != nil {
			return err
		}
		git = least(git, took/revisions)
		if err := r.store.Close(); err != nil {
			return err
		}
	}
	b.figure("history-read", read, git, 1.5)
	return b.comparingPast(dir, order)
}

func least(have, d time.Duration) time.Duration {
	if have == 0 {
		return d
	}
	return min(have, d)
}

// catFile reads all versions in git, through one process.
func (b *bench) catFile(repo string, order []int) (time.Duration, error) {
	out, err := exec.Command("git", "-C", repo, "rev-list", "--reverse", "main").Output()
	if err != nil {
		return 0, err
	}
	commits := strings.Fields(string(out))
	cat := exec.Command("git", "-C", repo, "cat-file", "--batch")
	in, err := cat.StdinPipe()
	if err != nil {
		return 0, err
	}
	from, err := cat.StdoutPipe()
	if err != nil {
		return 0, err
	}
	if err := cat.Start(); err != nil {
		return 0, err
	}
	answers := bufio.NewReaderSize(from, 1<<20)
	began := time.Now()
	for _, i := range order {
		if _, err := fmt.Fprintf(in, "%s:quay.xml\n", commits[i]); err != nil {
			return 0, err
		}
		head, err := answers.ReadString('\n')
		if err != nil {
			return 0, err
		}
		words := strings.Fields(head)
		size, err := strconv.Atoi(words[len(words)-1])
		if err != nil {
			return 0, err
		}
		if _, err := io.CopyN(io.Discard, answers, int64(size)+1); err != nil {
			return 0, err
		}
	}
	took := time.Since(began)
	_ = in.Close()
	return took, cat.Wait()
}

// comparingPast compares pairs against reading both.
func (b *bench) comparingPast(dir string, order []int) error {
	ctx := context.Background()
	r, err := openRecords(dir, b.sources)
	if err != nil {
		return err
	}
	revs, err := r.store.RevisionsAfter(ctx, r.device.ID, 0)
	if err != nil {
		return err
	}
	both := func(i int, use func(x, y *tree.Node)) {
		x, xerr := r.history.Tree(ctx, r.schema, revs[order[i]].Digest)
		y, yerr := r.history.Tree(ctx, r.schema, revs[order[i+1]].Digest)
		if xerr != nil || yerr != nil {
			err = errors.Join(xerr, yerr)
			return
		}
		use(x, y)
	}
	changes := 0
	reads := best(1, func() {
		for i := 0; i < 600; i += 2 {
			both(i, func(*tree.Node, *tree.Node) {})
		}
	})
	if cerr := r.store.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		return err
	}
	if r, err = openRecords(dir, b.sources); err != nil {
		return err
	}
	compares := best(1, func() {
		for i := 0; i < 600; i += 2 {
			both(i, func(x, y *tree.Node) { changes += diff.Compare(x, y).Count() })
		}
	})
	if err != nil {
		return err
	}
	fmt.Printf("pairs differ in %d places on average\n", changes/300)
	b.figure("history-compare", compares/300, reads/300, 1.2)
	return r.store.Close()
}

// blaming measures who set each line of all of it, and the life of one value.
func (b *bench) blaming(dir, repo string) error {
	ctx := context.Background()
	git := time.Duration(1 << 62)
	began := time.Now()
	if err := exec.Command("git", "-C", repo, "blame", "--porcelain", "quay.xml").Run(); err != nil {
		return err
	}
	git = min(git, time.Since(began))
	r, err := openRecords(dir, b.sources)
	if err != nil {
		return err
	}
	lines := 0
	ours := best(1, func() {
		err = r.history.Follow(ctx, r.device, func(t *history.Trail) error {
			lines = len(t.Lines(t.Now, nil))
			return nil
		})
	})
	if err != nil {
		return err
	}
	b.figure("history-blame", ours, git, 0.1)
	path, err := tree.ParsePath(r.schema, "/interfaces/interface=port500/description")
	if err != nil {
		return err
	}
	events := 0
	life := best(5, func() {
		err = r.history.Follow(ctx, r.device, func(t *history.Trail) error {
			events = len(t.Life(path))
			return nil
		})
	})
	fmt.Printf("%d lines blamed; the life of one value, %d events, once its device was followed\n", lines, events)
	b.figure("history-life", life, git, 0.01)
	runtime.GC()
	if cerr := r.store.Close(); err == nil {
		err = cerr
	}
	return err
}

// exported measures the memory that exports take: of a hundred devices, and of
// a thousand.
func (f *fleetBench) exported() error {
	token, _, _, err := f.service.Accounts.Login(f.ctx, "mara", "the bench's own password", "bench", access.Site{})
	if err != nil {
		return err
	}
	peak := func(devices int) (uint64, int64, error) {
		stop, most := make(chan struct{}), make(chan uint64)
		before := live()
		go func() {
			top := before
			for {
				select {
				case <-stop:
					most <- top
					return
				case <-time.After(20 * time.Millisecond):
					top = max(top, live())
				}
			}
		}()
		w := &discarded{header: http.Header{}}
		req := httptest.NewRequestWithContext(
			f.ctx, "GET", "/api/v1/export?from=rev:1&device="+strings.Join(f.names[:devices], ","), nil,
		)
		req.Header.Set("Authorization", "Bearer "+token)
		f.service.Handler().ServeHTTP(w, req)
		close(stop)
		top := <-most
		if w.status != 0 && w.status != 200 || w.bytes < int64(devices)*1000 {
			return 0, 0, fmt.Errorf("the export came to nothing: status %d, %d bytes", w.status, w.bytes)
		}
		return top - min(before, top), w.bytes, nil
	}
	if _, _, err = peak(1000); err != nil { // what is kept at hand afterwards is no part of it
		return err
	}
	few, _, err := peak(100)
	if err != nil {
		return err
	}
	many, bytes, err := peak(1000)
	if err != nil {
		return err
	}
	const slack = 1 << 20
	fmt.Printf(
		"an export of 100 devices takes %d KB beyond what there was, one of 1000 (%d KB) %d KB\n", few>>10, bytes>>10,
		many>>10,
	)
	f.ratio("export-memory", float64(many+slack)/float64(few+slack), 2)
	return nil
}

// live is the bytes of what is reachable now.
func live() uint64 {
	var m runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&m)
	return m.HeapAlloc
}

// discarded is an answer that nobody keeps.
type discarded struct {
	header http.Header
	status int
	bytes  int64
}

func (d *discarded) Header() http.Header  { return d.header }
func (d *discarded) WriteHeader(code int) { d.status = code }
func (d *discarded) Write(p []byte) (int, error) {
	d.bytes += int64(len(p))
	return len(p), nil
}
