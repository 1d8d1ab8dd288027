// Package doctor looks at all that the service rests on, whether it runs or not, and
// says what is wrong, and what to do.
package doctor

import (
	"context"
	"crypto/ed25519"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"oakenlatch/core/advice"

	"golang.org/x/sys/unix"

	"oakenlatch/service/access"
	"oakenlatch/service/approval"
	"oakenlatch/service/audit"
	"oakenlatch/service/backup"
	"oakenlatch/service/control"
	"oakenlatch/service/fleet"
	"oakenlatch/service/folder"
	"oakenlatch/service/history"
	"oakenlatch/service/store"
	"oakenlatch/service/underway"
)

// Grade is how something was found.
type Grade string

// The grades.
const (
	Good  Grade = "good"
	Look  Grade = "look" // it runs, and somebody should look at it
	Wrong Grade = "wrong"
)

// Finding is one thing that was looked at.
type Finding struct {
	Grade Grade
	What  string
	Said  string
	Next  advice.Steps // what to do
}

// Patient is what is looked at.
type Patient struct {
	Dir, KeyFile      string
	CertFile, CertKey string // "" is in the clear
	Listen            string
	Now               time.Time

	Deep      bool                  // read every stored configuration
	Witnesses []string              // keys of who vouches for the record from outside
	Progress  func(done, total int) // of that; nil is not told
}

// What is little: disk left, days until a certificate ends.
const (
	littleRoom = 1 << 30
	fewDays    = 21
)

// Examine looks at everything, and goes on whatever it finds.
func Examine(ctx context.Context, p Patient) []Finding {
	e := &examination{Patient: p, ctx: ctx}
	e.service()
	if e.folder() {
		e.room()
		e.records()
	}
	e.clock()
	e.certificate()
	e.port()
	return e.found
}

type examination struct {
	Patient
	ctx     context.Context
	found   []Finding
	running bool
	state   control.State // of the running service
}

func (e *examination) add(g Grade, what, next, format string, args ...any) {
	e.advise(g, what, advice.Words(next), format, args...)
}

// advise adds what there is more to do about than words say.
func (e *examination) advise(g Grade, what string, next advice.Steps, format string, args ...any) {
	e.found = append(e.found, Finding{g, what, fmt.Sprintf(format, args...), next})
}

// private looks at who else may read a file or folder.
func (e *examination) private(what, file string) bool {
	st, err := os.Stat(file)
	if err != nil {
		e.add(Wrong, what, "put it back from where it was copied; docs/runbook.md says what each file is", "%v", err)
		return false
	}
	if st.Mode().Perm()&0o077 != 0 {
		e.add(
			Look, what, fmt.Sprintf("chmod go= %s", file), "%s may be read by others on this machine (%s)", file,
			st.Mode().Perm(),
		)
		return true
	}
	e.add(Good, what, "", "%s, for its owner alone", file)
	return true
}

// service asks the running service how it is.
func (e *examination) service() {
	ctx, cancel := context.WithTimeout(e.ctx, 15*time.Second)
	defer cancel()
	st, err := control.Ask(ctx, e.Dir)
	if errors.Is(err, control.ErrNobody) {
		return
	}
	e.running = true
	if err != nil {
		e.add(
			Wrong, "service", "see its log; if nothing else helps, start it again: what is on hold is taken up",
			"it runs, and does not say how it is: %v", err,
		)
		return
	}
	e.state = st
	e.add(
		Good, "service", "", "release %s runs with these records, as process %d, since %s", st.Version, st.PID,
		at(st.Started),
	)
	switch {
	case st.Records != "":
		e.add(
			Wrong, "put on record", "what is on hold reverts by itself; nothing new is begun until this is fixed",
			"nothing can be: %s", st.Records,
		)
	default:
		e.add(Good, "put on record", "", "it can put something on record now")
	}
	if st.Unread != "" {
		e.add(Wrong, "reading", "it shows what was read last", "it could not read its records: %s", st.Unread)
	}
	for _, d := range st.Damaged {
		e.add(Wrong, "damage", "", "it met: %s", d)
	}
	if len(st.Overdue) > 0 {
		for _, o := range st.Overdue {
			e.advise(
				Wrong, "holds",
				advice.Words("look at those devices; how each stands is shown with the change").Do(advice.ShowChange),
				"overdue: %s", o,
			)
		}
	} else {
		e.add(Good, "holds", "", "%d under way, none overdue", st.Holds)
	}
	if st.ClockJumped != "" {
		e.add(
			Look, "clock", "what ends a hold goes by this clock; have it kept by NTP, and not set by hand",
			"it was set by %s since the service started", st.ClockJumped,
		)
	}
	if st.MostFiles > 0 && st.Files*10 > st.MostFiles*9 {
		e.add(
			Look, "open files", "raise LimitNOFILE= of its unit, or lower --connections",
			"%d of %d that it may have open", st.Files, st.MostFiles,
		)
	}
	e.answers(st.Listens)
}

// answers asks where the service listens.
func (e *examination) answers(url string) {
	if url == "" {
		e.add(Wrong, "listening", "see its log", "it does not listen yet")
		return
	}
	// Whether it answers is asked, and not whose it is: it said itself where it listens.
	client := &http.Client{
		Timeout: 10 * time.Second,
		Transport: &http.Transport{
			TLSClientConfig: &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS12},
		},
	} //nolint:gosec // see above
	res, err := client.Get(url + "/readyz")
	if err != nil {
		e.add(Wrong, "listening", "see its log, and what stands before it", "%s does not answer: %v", url, err)
		return
	}
	defer func() { _ = res.Body.Close() }()
	text, _ := io.ReadAll(io.LimitReader(res.Body, 2000))
	if res.StatusCode != http.StatusOK {
		e.add(Wrong, "listening", "", "%s answers: %s", url, strings.TrimSpace(string(text)))
		return
	}
	e.add(Good, "listening", "", "%s answers, and is ready", url)
}

// clock looks whether the machine's clock is kept.
func (e *examination) clock() {
	var t unix.Timex
	state, err := unix.Adjtimex(&t)
	const next = "what ends a hold, and when things were done, goes by this clock: have it kept by NTP"
	switch {
	case err != nil:
		e.add(Look, "clock", next, "whether it is kept cannot be told: %v", err)
	case state == unix.TIME_ERROR || t.Status&unix.STA_UNSYNC != 0:
		e.add(Look, "clock", next, "it is %s, and nothing keeps it in step", at(e.Now))
	default:
		e.add(
			Good, "clock", "", "it is %s, kept in step to %s", at(e.Now),
			(time.Duration(t.Esterror) * time.Microsecond).Round(time.Millisecond),
		)
	}
}

func at(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 UTC") }

func (e *examination) folder() bool {
	_, err := folder.Look(e.Dir)
	switch {
	case e.running && (err != nil || e.state.Records != "" && strings.Contains(e.state.Records, "gone")):
		e.add(
			Wrong, "data folder",
			"save what the service still holds open, before it is stopped: oaken-latchd backup FILE --data "+e.Dir,
			"%s is not as it was when the service started: %v", e.Dir, err,
		)
		return true
	case errors.Is(err, folder.ErrNone):
		e.add(
			Look, "data folder",
			"oaken-latchd init --data "+e.Dir+" makes a new one; if there was one, it was moved away or is not "+
				"mounted: see docs/runbook.md",
			"%v", err,
		)
		return false
	case err != nil:
		e.add(Wrong, "data folder", folder.Advice, "%v", err)
		holds, herr := folder.Holds(e.Dir)
		for _, h := range holds {
			e.add(Wrong, "holds", "look at these devices now", "on hold when the records were used last: %s", h)
		}
		if herr != nil {
			e.add(Wrong, "holds", "", "what was on hold cannot be told: %v", herr)
		}
		return false
	}
	holds, err := folder.Holds(e.Dir)
	if err != nil {
		e.add(Wrong, "holds", "", "what is noted of them beside the records cannot be read: %v", err)
	}
	for _, h := range holds {
		switch {
		case h.Lost:
			e.advise(
				Wrong, "holds", advice.Words("look at its devices, then settle it").Do(advice.SettleLost, h.Change),
				"the records know nothing of one that was under way: %s", h,
			)
		case !e.running && h.Until.Before(e.Now):
			e.add(
				Wrong, "holds", "start the service: it takes them up", "its end has passed and no service runs: %s", h,
			)
		}
	}
	return e.private("data folder", e.Dir)
}

func (e *examination) room() {
	var fs syscall.Statfs_t
	if err := syscall.Statfs(e.Dir, &fs); err != nil {
		e.add(Look, "disk", "", "how much is left cannot be told: %v", err)
		return
	}
	left := fs.Bavail * uint64(fs.Bsize)
	if fs.Blocks > 0 && fs.Bavail*10 < fs.Blocks {
		e.add(
			Look, "disk", "make room, before nothing new can be begun", "%d %% of it is used; %d MB are left for %s",
			100-fs.Bavail*100/fs.Blocks, left>>20, e.Dir,
		)
		return
	}
	if left < littleRoom {
		e.add(
			Look, "disk", "make room: when it is full nothing is committed any more, for nothing could be recorded",
			"%d MB are left for %s", left>>20, e.Dir,
		)
		return
	}
	e.add(Good, "disk", "", "%d GB are left for %s", left>>30, e.Dir)
}

// records looks at a copy of them: the service may run meanwhile.
func (e *examination) records() {
	tmp, err := os.MkdirTemp("", "oaken-latch-doctor-")
	if err != nil {
		e.add(Wrong, "records", "", "%v", err)
		return
	}
	defer func() { _ = os.RemoveAll(tmp) }()
	const restore = "do not delete the file, and restore the newest backup into another folder: oaken-latchd " +
		"restore FILE " +
		"--data DIR (docs/runbook.md)"
	if _, err := backup.Copy(e.ctx, e.Dir, filepath.Join(tmp, store.File)); err != nil {
		e.add(Wrong, "records", restore, "%v", err)
		return
	}
	s, err := store.Open(tmp)
	if err != nil {
		e.add(Wrong, "records", restore, "%v", err)
		return
	}
	defer func() { _ = s.Close() }()
	if err := s.Sound(e.ctx); err != nil {
		e.add(Wrong, "records", restore, "%v", err)
		return
	}
	devices, derr := s.Devices(e.ctx, store.Everything)
	changes, cerr := s.Changes(e.ctx)
	if err := errors.Join(derr, cerr); err != nil {
		e.add(Wrong, "records", restore, "%v", err)
		return
	}
	have, err := s.LedgerLength(e.ctx)
	if err == nil {
		err = folder.Reaches(e.Dir, have)
	}
	if err != nil {
		e.add(Wrong, "data folder", folder.Advice, "%v", err)
	}
	e.add(Good, "records", "", "every page of them can be read: %d devices, %d changes", len(devices), len(changes))
	e.configurations(s)
	e.ledger(s)
	e.rules(s)
	e.secrets(s)
	e.accounts(s)
	e.devices(devices)
}

// configurations reads everything that is kept, if that is wanted.
func (e *examination) configurations(s *store.Store) {
	list, err := s.ConfigDigests(e.ctx)
	if err != nil {
		e.add(Wrong, "configurations", "", "%v", err)
		return
	}
	if !e.Deep {
		e.add(
			Look, "configurations", "oaken-latchd doctor --deep reads them all",
			"%d are stored; whether each is what it was stored as was not checked", len(list),
		)
		return
	}
	log := audit.New(s, audit.Options{Now: func() time.Time { return e.Now }})
	h := history.New(s, log, fleet.New(s, log, nil), underway.New())
	whole, damaged, err := h.Examine(e.ctx, e.Progress)
	for _, d := range damaged {
		e.advise(Wrong, "configurations", d.Next(), "%v", d)
	}
	if err != nil {
		e.add(Wrong, "configurations", "", "not all could be read: %v", err)
	} else if len(damaged) == 0 {
		e.add(Good, "configurations", "", "all %d read, and as they were stored", whole)
	}
}

func (e *examination) ledger(s *store.Store) {
	log := audit.New(s, audit.Options{Now: func() time.Time { return e.Now }, Beside: e.Dir, Witnesses: e.Witnesses})
	switch key, err := e.signingKey(s); {
	case errors.Is(err, access.ErrNoSigningKey):
		e.add(
			Wrong, "signing key",
			"restore the records from a backup; or, if you know why it is gone: oaken-latchd accept-key --data "+e.Dir,
			"the key that signs the record is missing",
		)
	case err != nil:
		e.add(Look, "signing key", "", "it cannot be read, so that who signed is not known: %v", err)
	default:
		if err := log.LookWith(e.ctx, key); err != nil {
			e.add(Wrong, "ledger", "", "it cannot be read: %v", err)
		}
	}
	v, err := log.Verify(e.ctx, nil)
	switch {
	case err != nil:
		e.add(Wrong, "ledger", "", "it cannot be read: %v", err)
	case v.Wrong > 0:
		e.advise(
			Wrong, "ledger",
			advice.Words("find out who could write to the database").
				Or("compare with a checkpoint that was stored elsewhere", advice.VerifyAgainst),
			"it was altered: %v", v.Findings[0],
		)
	case v.Outside().Size == 0:
		e.advise(
			Look, "ledger",
			advice.Words("have it watched over from another machine, and set witness").Do(advice.WatchRecord).
				Or("or keep a checkpoint elsewhere", advice.SignCheckpoint),
			"%d entries, consistent in themselves; nobody outside vouches for them", v.Entries,
		)
	default:
		e.add(
			Good, "ledger", "", "%d entries; up to %d they are what %s saw, %s", v.Entries, v.Outside().Size,
			strings.Join(v.Outside().Whose, ", "), v.Outside().At.UTC().Format(time.RFC3339),
		)
	}
	if file := filepath.Join(e.Dir, access.PlainKeyFile); exists(file) {
		e.add(
			Look, "signing key",
			"start the service once: it seals the key and takes the file away; if it stays, it is another key than "+
				"the one that signs, and may be taken away",
			"%s holds a key that signs the record, as it is", file,
		)
	}
}

// rules looks for those that keep nothing back.
func (e *examination) rules(s *store.Store) {
	list, err := s.ApprovalRules(e.ctx)
	if err != nil {
		e.add(Wrong, "rules", "", "%v", err)
		return
	}
	f, idle := fleet.New(s, audit.New(s, audit.Options{Now: func() time.Time { return e.Now }}), nil), 0
	for _, r := range list {
		why, err := approval.Idle(e.ctx, f, r)
		if err != nil {
			e.add(Wrong, "rules", "", "rule %d: %v", r.ID, err)
		} else if why != "" {
			idle++
			e.advise(
				Look, "rules", advice.Words("see what it was meant for").Do(advice.ListRules),
				"rule %d (%s) keeps nothing back now: %s", r.ID, approval.RuleText(r), why,
			)
		}
	}
	if len(list) > idle {
		e.add(Good, "rules", "", "%d say whose approval a change needs", len(list)-idle)
	}
}

// signingKey is the key that signs the record now.
func (e *examination) signingKey(s *store.Store) (ed25519.PrivateKey, error) {
	if _, err := os.Stat(e.KeyFile); err != nil {
		return nil, err // or another would be made
	}
	sealer, err := access.OpenSealer(e.KeyFile)
	if err != nil {
		return nil, err
	}
	return sealer.SignedWith(e.ctx, s)
}

func (e *examination) secrets(s *store.Store) {
	if err := access.Missing(e.ctx, s, e.KeyFile); err != nil {
		e.add(Wrong, "sealed secrets", "put it back, a backup holds it; docs/runbook.md", "%v", err)
		return
	}
	if !e.private("key file", e.KeyFile) {
		return
	}
	sealer, err := access.OpenSealer(e.KeyFile)
	if err != nil {
		e.add(Wrong, "sealed secrets", "put back the key file that belongs to these records", "%v", err)
		return
	}
	n := 0
	err = s.Write(e.ctx, func(tx *store.Tx) (err error) { n, err = sealer.Trial(tx); return err })
	if err != nil {
		e.add(Wrong, "sealed secrets", "put back the key file that belongs to these records", "%v", err)
		return
	}
	e.add(Good, "sealed secrets", "", "all %d open with %s", n, e.KeyFile)
}

func (e *examination) accounts(s *store.Store) {
	list, err := s.Accounts(e.ctx)
	admins := 0
	for _, a := range list {
		if may, perr := access.ParseGrants(a.Grants); perr == nil && a.Closed.IsZero() &&
			may.Everywhere(access.Administer) {
			admins++
		}
	}
	switch {
	case err != nil:
		e.add(Wrong, "accounts", "", "%v", err)
	case admins == 0:
		e.add(
			Wrong, "accounts", "restore a backup from before that: nobody can give it to anybody",
			"nobody may administer everything",
		)
	case admins == 1:
		e.add(
			Look, "accounts", "make another, for when that person is away",
			"%d accounts, of which one may administer everything", len(list),
		)
	default:
		e.add(Good, "accounts", "", "%d, of which %d may administer everything", len(list), admins)
	}
	tokens, err := s.Tokens(e.ctx, "")
	soon := 0
	for _, t := range tokens {
		if t.Kind == "machine" && t.Expires.After(e.Now) && t.Expires.Sub(e.Now) < fewDays*24*time.Hour {
			soon++
		}
	}
	if err == nil && soon > 0 {
		e.advise(
			Look, "tokens", advice.Words("see them").Do(advice.ListTokens), "%d tokens of machines end within %d days",
			soon, fewDays,
		)
	}
}

func (e *examination) devices(list []store.Device) {
	untrusted, trouble, first := 0, 0, ""
	for _, d := range list {
		if d.HostKey == "" {
			untrusted++
		}
		if d.Trouble != "" {
			trouble++
			first = d.Name + ": " + d.Trouble
		}
	}
	if untrusted > 0 {
		e.advise(
			Look, "host keys", advice.Words("compare and accept each").Do(advice.TrustDevice),
			"of %d devices nobody accepted the host key", untrusted,
		)
	}
	if trouble > 0 {
		e.advise(
			Look, "devices", advice.Words("see them").Do(advice.ListDevices),
			"%d of %d were not OK at the last contact, for example %s", trouble, len(list), first,
		)
		return
	}
	e.add(Good, "devices", "", "%d, all OK at their last contact; they were not asked now", len(list))
}

func (e *examination) certificate() {
	if e.CertFile == "" {
		e.add(Good, "certificate", "", "none: it answers in the clear, on this machine alone")
		return
	}
	pair, err := tls.LoadX509KeyPair(e.CertFile, e.CertKey)
	if errors.Is(err, os.ErrNotExist) {
		e.add(Look, "certificate", "the next start of oaken-latchd serve makes one", "%v", err)
		return
	}
	if err != nil {
		e.add(
			Wrong, "certificate", "put back a certificate and the key that belongs to it", "%s with %s: %v", e.CertFile,
			e.CertKey, err,
		)
		return
	}
	e.private("certificate's key", e.CertKey)
	switch left := pair.Leaf.NotAfter.Sub(e.Now); {
	case left <= 0:
		e.add(
			Wrong, "certificate", "replace it; the service takes it up by itself", "it ended %s",
			pair.Leaf.NotAfter.UTC().Format(time.RFC3339),
		)
	case left < fewDays*24*time.Hour:
		e.add(
			Look, "certificate",
			"replace it; the service takes it up by itself (one it made itself, it makes again at its next start)",
			"it ends %s", pair.Leaf.NotAfter.UTC().Format(time.RFC3339),
		)
	default:
		e.add(Good, "certificate", "", "until %s", pair.Leaf.NotAfter.UTC().Format("2006-01-02"))
	}
}

func (e *examination) port() {
	if e.running {
		return
	}
	l, err := net.Listen("tcp", e.Listen)
	if err != nil {
		e.add(
			Wrong, "service", "stop what listens there, or give another address with --listen",
			"it does not run, and cannot listen: %v", err,
		)
		return
	}
	_ = l.Close()
	e.add(Good, "service", "", "it does not run; it could listen on %s", e.Listen)
}

func exists(file string) bool {
	_, err := os.Stat(file)
	return err == nil
}
