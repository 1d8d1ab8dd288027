// Package archive copies configurations off the machine: to folders, SFTP
// servers and git repositories, in the order in which they stand, the next one
// used where one fails. A copy counts once it was read back and its digest
// compared. How copies look is in docs/archives.md.
package archive

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"oakenlatch/core/advice"

	"golang.org/x/crypto/ssh"

	"oakenlatch/core/ledger"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/fleet"
	"oakenlatch/service/history"
	"oakenlatch/service/hostkey"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Archives makes and reads copies.
type Archives struct {
	store   *store.Store
	log     *audit.Log
	fleet   *fleet.Fleet
	history *history.History
	sealer  *access.Sealer
	slog    *slog.Logger
	opt     Options

	mu sync.Mutex // one at a time copies
	wg sync.WaitGroup
}

// Options are how archives work.
type Options struct {
	Dir    string                          // where git's clones go
	Syslog func(severity int, text string) // is told of each copy and each failure; nil is not

	// Below are the folders of this machine that archives may be in, and below them; nil is all of it.
	Below []string

	// Pause is how long it gathers what belongs together before it copies, and
	// Retry how long it waits after a failure; the usual where they are 0.
	Pause, Retry time.Duration

	Logger *slog.Logger
}

// New gives the archives over a store.
func New(
	s *store.Store, log *audit.Log, f *fleet.Fleet, h *history.History, sealer *access.Sealer, opt Options,
) *Archives {
	opt.Pause, opt.Retry = cmp.Or(opt.Pause, 2*time.Second), cmp.Or(opt.Retry, time.Minute)
	return &Archives{store: s, log: log, fleet: f, history: h, sealer: sealer, opt: opt, slog: opt.Logger}
}

// Severities of syslog (RFC 5424 section 6.2.1).
const (
	severityError  = 3
	severityNotice = 5
)

func (a *Archives) tell(severity int, format string, args ...any) {
	if a.opt.Syslog != nil {
		a.opt.Syslog(severity, fmt.Sprintf(format, args...))
	}
}

var archiveName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$`)

// NewArchive describes an archive to be added.
type NewArchive struct {
	Name, Kind, Place    string
	Account              string
	Password, PrivateKey string
	AfterChange          bool
	Every                time.Duration
	KeepLast, KeepDays   int
}

// Add adds an archive behind those there are.
func (a *Archives) Add(ctx context.Context, by string, n NewArchive) error {
	if !archiveName.MatchString(n.Name) {
		return refusal.New(
			refusal.Invalid, "use 1 to 63 letters, digits, dots, dashes or underscores", "%q is no name for an archive",
			n.Name,
		)
	}
	at := store.Archive{
		Name: n.Name, Kind: n.Kind, Place: n.Place, Account: n.Account, AfterChange: n.AfterChange, Every: n.Every,
		KeepLast: n.KeepLast, KeepDays: n.KeepDays, Added: a.log.Now(), AddedBy: by,
	}
	if err := sensible(at); err != nil {
		return err
	}
	if err := a.allowed(at); err != nil {
		return err
	}
	secret := n.Password
	switch {
	case n.PrivateKey != "":
		at.Auth, secret = "key", n.PrivateKey
		if _, err := ssh.ParsePrivateKey([]byte(secret)); err != nil {
			return refusal.New(
				refusal.Invalid, "give one in OpenSSH or PEM form without a passphrase",
				"archive %s: the private key cannot be read: %v", n.Name, err,
			)
		}
	case n.Password != "":
		at.Auth = "password"
	}
	if at.Kind == "sftp" && (secret == "" || at.Account == "") {
		return refusal.New(
			refusal.Invalid, "", "archive %s: an account, and a password or a private key, are needed", n.Name,
		)
	}
	if secret != "" {
		at.Secret = a.sealer.Seal([]byte(secret), access.Purpose("archives", n.Name))
	}
	return a.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.AddArchive(at); err != nil {
			if errors.Is(err, store.ErrExists) {
				return refusal.New(refusal.Conflict, "take another name", "there is, or was, an archive %q", n.Name)
			}
			return err
		}
		return tx.Record(
			ledger.Entry{Actor: by, Action: "archive.add", Path: "archive:" + n.Name, Note: n.Kind + " " + n.Place},
		)
	})
}

// allowed checks that a place on this machine is below the folders that the settings name, and, where it
// is a folder, that it takes files: who administers the service is not who runs its machine.
func (a *Archives) allowed(at store.Archive) error {
	_, remote := gitHost(at.Place)
	if at.Kind == "sftp" || at.Kind == "git" && remote {
		return nil
	}
	place := strings.TrimPrefix(at.Place, "file://")
	if a.opt.Below != nil {
		real, err := filepath.EvalSymlinks(place)
		if err != nil {
			real = filepath.Clean(place)
		}
		if !slices.ContainsFunc(a.opt.Below, func(top string) bool {
			if resolved, err := filepath.EvalSymlinks(top); err == nil {
				top = resolved
			}
			in, err := filepath.Rel(top, real)
			return err == nil && filepath.IsLocal(in)
		}) {
			return refusal.New(
				refusal.Forbidden, "whoever runs the service names it in its settings: archive-folder",
				"archive %s: %s is not below a folder of this machine that archives may be in", at.Name, place,
			)
		}
	}
	if at.Kind != "folder" {
		return nil
	}
	f, err := os.CreateTemp(place, ".tried-")
	if err != nil {
		return refusal.New(
			refusal.Invalid, "make it, mount it, or let the service's account write there",
			"archive %s: the folder does not take a file: %s", at.Name, reason(err),
		)
	}
	return errors.Join(f.Close(), os.Remove(f.Name()))
}

// reason is why the machine did not do something, without what it was called there.
func reason(err error) string {
	var path *fs.PathError
	if errors.As(err, &path) {
		return path.Err.Error()
	}
	return err.Error()
}

// sensible checks what an archive says of itself.
func sensible(at store.Archive) error {
	var err error
	switch at.Kind {
	case "folder":
		if !path.IsAbs(at.Place) {
			err = errors.New("give the folder from the root on")
		}
	case "sftp":
		_, _, err = sftpPlace(at.Place)
	case "git":
		if at.Place == "" || strings.HasPrefix(at.Place, "-") {
			err = fmt.Errorf("%q is no repository", at.Place)
		}
	default:
		err = fmt.Errorf("kind %q is none of folder, sftp, git", at.Kind)
	}
	switch {
	case err != nil:
		return refusal.New(refusal.Invalid, "", "archive %s: %v", at.Name, err)
	case at.Every != 0 && at.Every < time.Minute, at.Every > 366*24*time.Hour:
		return refusal.New(refusal.Invalid, "", "archive %s: an interval is of a minute to a year", at.Name)
	case at.KeepLast < 0 || at.KeepDays < 0 || at.KeepDays > 100_000:
		return refusal.New(refusal.Invalid, "", "archive %s: that retention means nothing", at.Name)
	}
	return nil
}

// Find gives an archive that is in use.
func (a *Archives) Find(ctx context.Context, name string) (store.Archive, error) {
	at, err := a.store.Archive(ctx, name)
	if errors.Is(err, store.ErrNotFound) || err == nil && !at.Retired.IsZero() {
		return at, refusal.New(refusal.NotFound, "list them", "there is no archive %q", name).Do(advice.ListArchives)
	}
	return at, err
}

// Set changes how an archive is used.
func (a *Archives) Set(ctx context.Context, by string, at store.Archive, what string) error {
	if err := sensible(at); err != nil {
		return err
	}
	return a.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.SetArchive(at); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: by, Action: "archive.set", Path: "archive:" + at.Name, Note: what})
	})
}

// HostKey asks an archive's server for its host key.
func (a *Archives) HostKey(ctx context.Context, at store.Archive) (hostkey.Shown, error) {
	address := ""
	switch at.Kind {
	case "sftp":
		address, _, _ = sftpPlace(at.Place)
	case "git":
		if host, remote := gitHost(at.Place); remote {
			address = host + ":22"
		}
	}
	if address == "" {
		return hostkey.Shown{}, refusal.New(
			refusal.Conflict, "", "archive %s has no host key: it is not reached over SSH", at.Name,
		)
	}
	ctx, cancel := context.WithTimeout(ctx, reach)
	defer cancel()
	shown, err := hostkey.Scan(ctx, address, "oaken-latch", at.HostKey)
	if err != nil {
		err = refusal.New(refusal.Conflict, "", "archive %s: %v", at.Name, err)
	}
	return shown, err
}

// Trust accepts the host key of that fingerprint, if the server still shows it.
func (a *Archives) Trust(ctx context.Context, by string, at store.Archive, print string) (hostkey.Shown, error) {
	shown, err := a.HostKey(ctx, at)
	if err != nil {
		return shown, err
	}
	if shown.Fingerprint != print {
		return shown, refusal.New(
			refusal.Conflict, "nothing was kept; compare again", "archive %s shows host key %s, not the %s you accept",
			at.Name, shown.Fingerprint, print,
		)
	}
	at.HostKey = shown.Key
	return shown, a.Set(ctx, by, at, "host key "+shown.Fingerprint+" accepted")
}

// MetaFormat and MetaVersion name what is written.
const (
	MetaFormat  = "oaken-latch-copy"
	MetaVersion = 1
)
