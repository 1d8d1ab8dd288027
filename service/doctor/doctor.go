// Package doctor looks at all that the service rests on, whether it runs or not, and
// says what is wrong, and what to do.
package doctor

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/store"
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
	Next  string // what to do
}

// Patient is what is looked at.
type Patient struct {
	Dir, KeyFile      string
	CertFile, CertKey string // "" is in the clear
	Listen            string
	Now               time.Time
}

// What is little: disk left, days until a certificate ends.
const (
	littleRoom = 1 << 30
	fewDays    = 21
)

// Examine looks at everything, and goes on whatever it finds.
func Examine(ctx context.Context, p Patient) []Finding {
	e := &examination{Patient: p, ctx: ctx}
	if e.folder() {
		e.room()
		e.records()
	}
	e.certificate()
	e.port()
	return e.found
}

type examination struct {
	Patient
	ctx     context.Context
	found   []Finding
	running bool
}

func (e *examination) add(g Grade, what, next, format string, args ...any) {
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
		e.add(Look, what, fmt.Sprintf("chmod go= %s", file), "%s may be read by others on this machine (%s)", file, st.Mode().Perm())
		return true
	}
	e.add(Good, what, "", "%s, for its owner alone", file)
	return true
}

func (e *examination) folder() bool {
	if _, err := os.Stat(filepath.Join(e.Dir, store.File)); errors.Is(err, os.ErrNotExist) {
		e.add(Look, "data folder", "the first start of oaken-latchd serve makes it; if there was one, see docs/runbook.md", "%s holds no records", e.Dir)
		return false
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
	if left < littleRoom {
		e.add(Look, "disk", "make room: when it is full nothing is committed any more, for nothing could be recorded", "%d MB are left for %s", left>>20, e.Dir)
		return
	}
	e.add(Good, "disk", "", "%d GB are left for %s", left>>30, e.Dir)
}

// records looks at a copy of them: the service may run meanwhile.
func (e *examination) records() {
	if f, err := os.OpenFile(filepath.Join(e.Dir, "lock"), os.O_RDWR, 0); err == nil {
		e.running = syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil
		_ = f.Close()
	}
	tmp, err := os.MkdirTemp("", "oaken-latch-doctor-")
	if err != nil {
		e.add(Wrong, "records", "", "%v", err)
		return
	}
	defer func() { _ = os.RemoveAll(tmp) }()
	const restore = "keep the file, and restore the newest backup into another folder: oaken-latchd restore FILE --data DIR (docs/runbook.md)"
	if err := store.CopyTo(e.ctx, e.Dir, filepath.Join(tmp, store.File)); err != nil {
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
	devices, derr := s.Devices(e.ctx)
	changes, cerr := s.Changes(e.ctx)
	if err := errors.Join(derr, cerr); err != nil {
		e.add(Wrong, "records", restore, "%v", err)
		return
	}
	e.add(Good, "records", "", "whole: %d devices, %d changes", len(devices), len(changes))
	e.ledger(s)
	e.secrets(s)
	e.accounts(s)
	e.devices(devices)
}

func (e *examination) ledger(s *store.Store) {
	log := audit.New(s, func() time.Time { return e.Now })
	v, err := log.Verify(e.ctx, nil)
	switch {
	case err != nil:
		e.add(Wrong, "ledger", "", "it cannot be read: %v", err)
	case v.Wrong > 0:
		e.add(Wrong, "ledger", "find out who could write to the database; compare with a checkpoint that was kept elsewhere: latch audit verify --checkpoint FILE", "it was altered: %v", v.Findings[0])
	default:
		e.add(Good, "ledger", "", "%d entries, chained", v.Entries)
	}
	if file := filepath.Join(e.Dir, access.PlainKeyFile); exists(file) {
		e.add(Look, "signing key", "start the service once: it seals the key and takes the file away; if it stays, it is another key than the one that signs, and may be taken away", "%s holds a key that signs the record, as it is", file)
	}
}

func (e *examination) secrets(s *store.Store) {
	if err := access.Missing(e.ctx, s, e.KeyFile); err != nil {
		e.add(Wrong, "sealed secrets", "", "%v", err)
		return
	}
	if !e.private("key file", e.KeyFile) {
		return
	}
	sealer, err := access.OpenSealer(e.KeyFile)
	if err != nil {
		e.add(Wrong, "sealed secrets", "", "%v", err)
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
		if may, perr := access.ParseGrants(a.Grants); perr == nil && a.Closed.IsZero() && may.Everywhere(access.Administer) {
			admins++
		}
	}
	switch {
	case err != nil:
		e.add(Wrong, "accounts", "", "%v", err)
	case admins == 0:
		e.add(Wrong, "accounts", "", "nobody may administer everything")
	case admins == 1:
		e.add(Look, "accounts", "make another, for when that person is away", "%d accounts, of which one may administer everything", len(list))
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
		e.add(Look, "tokens", "see them with: latch token list", "%d tokens of machines end within %d days", soon, fewDays)
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
		e.add(Look, "host keys", "latch device trust NAME", "of %d devices nobody accepted the host key", untrusted)
	}
	if trouble > 0 {
		e.add(Look, "devices", "see them with: latch devices", "%d of %d were not well at the last contact, such as %s", trouble, len(list), first)
		return
	}
	e.add(Good, "devices", "", "%d, all well at the last contact", len(list))
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
		e.add(Wrong, "certificate", "put back a certificate and the key that belongs to it", "%s with %s: %v", e.CertFile, e.CertKey, err)
		return
	}
	e.private("certificate's key", e.CertKey)
	switch left := pair.Leaf.NotAfter.Sub(e.Now); {
	case left <= 0:
		e.add(Wrong, "certificate", "replace it; the service takes it up by itself", "it ended %s", pair.Leaf.NotAfter.UTC().Format(time.RFC3339))
	case left < fewDays*24*time.Hour:
		e.add(Look, "certificate", "replace it; the service takes it up by itself (one it made itself, it makes anew at its next start)", "it ends %s", pair.Leaf.NotAfter.UTC().Format(time.RFC3339))
	default:
		e.add(Good, "certificate", "", "until %s", pair.Leaf.NotAfter.UTC().Format("2006-01-02"))
	}
}

func (e *examination) port() {
	if e.running {
		e.add(Good, "service", "", "it runs with these records")
		return
	}
	l, err := net.Listen("tcp", e.Listen)
	if err != nil {
		e.add(Wrong, "service", "stop what listens there, or give another address with --listen", "it does not run, and cannot listen: %v", err)
		return
	}
	_ = l.Close()
	e.add(Good, "service", "", "it does not run; it could listen on %s", e.Listen)
}

func exists(file string) bool {
	_, err := os.Stat(file)
	return err == nil
}
