// Package service is the long-running part: its rooms put together.
package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"oakenlatch/core/guard"
	"oakenlatch/core/ledger"
	"oakenlatch/core/redact"
	"oakenlatch/service/access"
	"oakenlatch/service/api"
	"oakenlatch/service/approval"
	"oakenlatch/service/archive"
	"oakenlatch/service/audit"
	"oakenlatch/service/commit"
	"oakenlatch/service/control"
	"oakenlatch/service/desk"
	"oakenlatch/service/documents"
	"oakenlatch/service/engine"
	"oakenlatch/service/fleet"
	"oakenlatch/service/folder"
	"oakenlatch/service/history"
	"oakenlatch/service/notify"
	"oakenlatch/service/outside"
	"oakenlatch/service/report"
	"oakenlatch/service/reservation"
	"oakenlatch/service/restore"
	"oakenlatch/service/stencils"
	"oakenlatch/service/store"
	"oakenlatch/service/syslog"
	"oakenlatch/service/underway"
	"oakenlatch/service/witness"
)

// Options say where a service keeps its records and what it serves.
type Options struct {
	Dir         string        // data folder
	Make        bool          // make it into one where it holds nothing of ours
	SpareRoom   int64         // bytes that are kept free beside the records; none if 0
	Connections int           // open at once; MostConnections if 0
	Second      access.Needs  // who has to have a second factor
	Idle, Life  time.Duration // of sessions, unused and at all; the usual if 0
	Version     string        // of this program

	Names   []string    // that the service is called by, beside addresses; nil is any
	Proxies []net.IPNet // that stand before us and are believed who asks

	OIDC *access.OIDC // who vouches for people beside us; nil is nobody

	ArchivesBelow []string // folders of this machine that archives may be in; nil is all of it

	Witnesses []witness.Outside // who vouches for the record from outside
	Signs     func(key string)  // told which key signs the record, before it does; nil is not

	KeyFile string // of the key that seals secrets; seal.key in the data folder if ""
	Console fs.FS
	Logger  *slog.Logger
	Now     func() time.Time // time.Now if nil

	ProbePrograms string // folder of the programs that may be run as probes; "" allows none
	Unwatched     bool   // keep no sessions to idle devices, and look for no outside changes

	LookEvery time.Duration // devices that tell of no events are read so often; the usual if 0

	Syslog *syslog.Sender // told of copies; nil is not
}

// Service is a service that is ready to serve.
type Service struct {
	Accounts *access.Accounts
	Fleet    *fleet.Fleet
	History  *history.History
	Desk     *desk.Desk
	Engine   *engine.Engine
	Archives *archive.Archives
	Outside  *outside.Watch
	Notifier *notify.Notifier
	Commits  *commit.Commits

	store   *store.Store
	sealer  *access.Sealer
	lock    *folder.Locked
	notes   *folder.Notes
	api     *api.API
	handler http.Handler
	logger  *slog.Logger

	dir, version string
	started      time.Time
	now          func() time.Time
	making       bool                  // the folder was made by this start
	marked       bool                  // the folder, as in use
	phases       map[int64]guard.Phase // of what is under way, as keepWatch saw it last
	listening    atomic.Pointer[string]

	connections int
	stopping    context.Context
	stop        context.CancelFunc
	keeping     sync.WaitGroup
}

// Open opens the records, takes up the commits that were under way, and makes
// the service ready.
func Open(ctx context.Context, opt Options) (*Service, error) {
	if opt.Now == nil {
		opt.Now = time.Now
	}
	s := &Service{
		logger: opt.Logger, connections: opt.Connections, dir: opt.Dir, version: opt.Version, started: time.Now(),
		now: opt.Now,
	}
	s.stopping, s.stop = context.WithCancel(context.Background())
	if err := s.openFolder(opt); err != nil {
		return nil, err
	}
	if err := s.assemble(ctx, opt); err != nil {
		if errors.Is(err, store.ErrDamaged) {
			err = lost(opt.Dir, err)
		}
		return nil, errors.Join(err, s.Close())
	}
	if err := s.used(); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	if err := control.Serve(s.stopping, opt.Dir, s.answers()); err != nil {
		s.logger.Error("backup and doctor cannot ask this service: something else listens where it would", "error", err)
	}
	return s, nil
}

// openFolder takes a data folder for this service, with the records in it.
func (s *Service) openFolder(opt Options) error {
	if opt.Make {
		if err := os.MkdirAll(opt.Dir, 0o700); err != nil {
			return fmt.Errorf("data folder: %w", err)
		}
	}
	_, err := folder.Look(opt.Dir)
	fresh := errors.Is(err, folder.ErrNone)
	switch {
	case fresh && !opt.Make:
		return fmt.Errorf(
			"data folder: %w; for a new service run first: oaken-latchd init --data %s. If there were records, they "+
				"were moved away, or their disk is not mounted: put that right first",
			err, opt.Dir,
		)
	case errors.Is(err, folder.ErrLost):
		return lost(opt.Dir, err)
	case err != nil && !fresh:
		return fmt.Errorf("data folder: %w", err)
	}
	take := folder.Take
	if fresh {
		take = folder.Lock
	}
	if s.lock, err = take(opt.Dir); err != nil {
		return err
	}
	if s.making = fresh; fresh {
		err = folder.Begin(opt.Dir)
	}
	if err == nil {
		if perr := folder.Private(opt.Dir); perr != nil && !readOnly(perr) {
			err = perr
		}
	}
	if err != nil {
		return errors.Join(err, s.lock.Close())
	}
	if s.store, err = store.Open(opt.Dir); err != nil && store.Sick(err) && !errors.Is(err, store.ErrDamaged) &&
		!fresh {
		why := err
		if s.store, err = store.OpenFrozen(opt.Dir, why); err == nil {
			s.logger.Error(
				"the disk of the records cannot be written: what is on hold is taken up by a copy in memory and "+
					"reverts; nothing is put on record, and nothing new is begun",
				"folder", opt.Dir, "error", why,
			)
		}
	}
	if err == nil {
		err = s.complete(opt.Dir)
	}
	if err == nil {
		s.notes, err = folder.OpenNotes(opt.Dir)
	}
	if err == nil {
		err = s.store.Watch(opt.Dir, opt.SpareRoom)
	}
	if err != nil && s.store != nil {
		err = errors.Join(err, s.store.Close())
	}
	if err != nil {
		if errors.Is(err, store.ErrDamaged) {
			err = lost(opt.Dir, err)
		}
		return errors.Join(err, s.lock.Close())
	}
	return nil
}

// readOnly reports whether something failed as its disk takes no changes.
func readOnly(err error) bool { return errors.Is(err, syscall.EROFS) || errors.Is(err, syscall.EIO) }

// lost tells that records are lost, and what was on hold then.
func lost(dir string, err error) error {
	text := folder.Advice
	holds, herr := folder.Holds(dir)
	for _, h := range holds {
		text += "\non hold when they were used last: " + h.String()
	}
	if len(holds) > 0 {
		text += "\nlook at these devices now: what only this service can revert stays as it is until somebody does"
	}
	return errors.Join(fmt.Errorf("%w\n%s", err, text), herr)
}

// complete looks whether the records reach as far as what was noted beside them.
func (s *Service) complete(dir string) error {
	have, err := s.store.LedgerLength(context.Background())
	if err == nil {
		err = folder.Reaches(dir, have)
	}
	if errors.Is(err, folder.ErrLost) {
		err = lost(dir, err)
	}
	return err
}

// used marks the folder as in use, once something of this run is on record. Where that
// cannot be done the folder stays marked as it was, and a service that is there goes on; a new one is not made.
func (s *Service) used() error {
	if s.store.Frozen() != nil {
		return nil
	}
	err := s.store.Check(context.Background())
	if err == nil || errors.Is(err, store.ErrShort) {
		if err = folder.Set(s.dir, folder.Open); err == nil {
			s.marked = true
			return nil
		}
	}
	if s.making {
		return fmt.Errorf("the records of a new service could not be made in %s: %w", s.dir, err)
	}
	s.logger.Error("the data folder could not be marked as in use", "folder", s.dir, "error", err)
	return nil
}

// AcceptKey has another key sign the record from here on, as a person says: where the one before is
// gone, is not the one that the record names, or signed what is lost.
func AcceptKey(ctx context.Context, dir, keyFile, why string) (string, error) {
	if _, err := folder.Look(dir); err != nil {
		return "", err
	}
	lock, err := folder.Take(dir)
	if err != nil {
		return "", err
	}
	defer func() { _ = lock.Close() }()
	s, err := store.Open(dir)
	if err != nil {
		return "", err
	}
	defer func() { _ = s.Close() }()
	return acceptKey(ctx, s, dir, keyFile, why)
}

func acceptKey(ctx context.Context, s *store.Store, dir, keyFile, why string) (string, error) {
	if err := access.Missing(ctx, s, keyFile); err != nil {
		return "", err
	}
	sealer, err := access.OpenSealer(keyFile)
	if err != nil {
		return "", err
	}
	log := audit.New(s, audit.Options{})
	if err := sealer.AcceptKey(ctx, log, why); err != nil {
		return "", err
	}
	// What was signed before is of another record now: nothing goes on from it.
	if err := errors.Join(audit.ForgetBeside(dir), access.ForgetPlainKey(dir)); err != nil {
		return "", err
	}
	keys, err := log.Keys(ctx)
	if err != nil || len(keys) == 0 {
		return "", err
	}
	return keys[len(keys)-1].Key, nil
}

// AcceptLoss goes on with records of which a part is missing, as a person says: it is
// entered, with what was on hold. Another key signs them: witnesses of what is lost would deny them.
func AcceptLoss(ctx context.Context, dir, keyFile, why string) (string, error) {
	_, missing := folder.Look(dir)
	if errors.Is(missing, folder.ErrNone) {
		return "", missing
	}
	lock, err := folder.Lock(dir)
	if err != nil {
		return "", err
	}
	defer func() { _ = lock.Close() }()
	if st, err := os.Stat(filepath.Join(dir, store.File)); err != nil || st.Size() == 0 {
		return "", fmt.Errorf("there is nothing left to go on with in %s: %w", dir, errors.Join(missing, err))
	}
	s, err := store.Open(dir)
	if err != nil {
		return "", err
	}
	defer func() { _ = s.Close() }()
	holds, herr := folder.Holds(dir)
	have, err := s.LedgerLength(ctx)
	if err == nil {
		err = s.Sound(ctx)
	}
	if err = errors.Join(err, herr); err != nil {
		return "", err
	}
	told := fmt.Sprintf("the records end at entry %d; what came after it is lost", have)
	err = audit.New(s, audit.Options{}).Write(ctx, func(tx *audit.Tx) error {
		return tx.Record(ledger.Entry{Actor: audit.Service, Action: "records.loss-accepted", Note: told + ": " + why})
	})
	if err != nil {
		return "", err
	}
	if _, err := acceptKey(ctx, s, dir, keyFile, told+": "+why); err != nil {
		if !errors.Is(err, access.ErrKeyMissing) {
			return "", err
		}
		told += "; the key of the sealed secrets is missing, too: oaken-latchd rotate-key --lost"
	}
	for i := range holds {
		holds[i].Entries, holds[i].Lost = 0, true
	}
	return told, errors.Join(folder.SetHolds(dir, holds), folder.Set(dir, folder.Closed))
}

// assemble puts the rooms together, each complete when it is made, and then starts what runs by itself.
func (s *Service) assemble(ctx context.Context, opt Options) error {
	keyFile := cmp.Or(opt.KeyFile, filepath.Join(opt.Dir, access.KeyFile))
	if err := access.Missing(ctx, s.store, keyFile); err != nil {
		return err
	}
	sealer, err := access.OpenSealer(keyFile)
	if err != nil {
		return err
	}
	s.sealer = sealer
	log, err := s.openLedger(ctx, opt)
	if err != nil {
		return err
	}
	witnesses := witness.New(log, opt.Witnesses, opt.Logger)
	s.Accounts, err = access.NewAccounts(
		s.store, log, access.Options{Idle: opt.Idle, Life: opt.Life, Second: opt.Second, Sealer: sealer},
	)
	if err != nil {
		return err
	}
	board := underway.New()
	s.Fleet = fleet.New(s.store, log, sealer)
	s.History = history.New(s.store, log, s.Fleet, board)
	s.Engine = engine.New(
		s.store, log, s.Fleet, s.History, board,
		engine.Options{Programs: opt.ProbePrograms, Notes: s.notes, Logger: opt.Logger},
	)
	var told func(int, string)
	if opt.Syslog != nil {
		told = opt.Syslog.Send
	}
	s.Archives = archive.New(
		s.store, log, s.Fleet, s.History, sealer,
		archive.Options{Dir: opt.Dir, Syslog: told, Below: opt.ArchivesBelow, Logger: opt.Logger},
	)
	approvals, reservations := approval.New(s.store, log), reservation.New(s.store, log)
	s.Desk = desk.New(s.store, log, desk.Rooms{
		History: s.History, Fleet: s.Fleet, Devices: s.Engine, Copies: s.Archives,
		Approvals: approvals, Reservations: reservations,
	})
	restorer := restore.New(s.store, log, s.History, s.Desk)
	s.Commits = commit.New(s.store, log, s.Accounts, s.Desk, s.Engine, opt.Logger)
	timing := outside.DefaultTiming
	if opt.LookEvery > 0 {
		timing.Silent, timing.Listened = opt.LookEvery, max(opt.LookEvery, timing.Listened)
	}
	s.Outside = outside.New(
		s.store, log, s.Fleet, s.History, outside.Options{Timing: timing, Clocks: s.Engine, Logger: opt.Logger},
	)
	s.Notifier = notify.New(s.store, log, sealer, opt.Logger)
	docs := &documents.Documents{
		Store: s.store, Log: log, Accounts: s.Accounts, Fleet: s.Fleet, History: s.History, Desk: s.Desk,
		Engine:    s.Engine,
		Approvals: approvals, Reservations: reservations, Witnesses: witnesses,
	}
	s.api = &api.API{
		Store: s.store, Log: log, Accounts: s.Accounts, Fleet: s.Fleet, History: s.History,
		Desk: s.Desk, Engine: s.Engine, Commits: s.Commits, Archives: s.Archives, Documents: docs,
		Approvals: approvals, Reservations: reservations, Restorer: restorer,
		Stencils:  stencils.New(s.store, log, s.History, s.Fleet, s.Desk),
		Decisions: &outside.Decisions{Store: s.store, Log: log, Restorer: restorer},
		Reports:   &report.Reports{Store: s.store, Log: log, Fleet: s.Fleet, History: s.History, Desk: s.Desk},
		Syslog:    opt.Syslog,
		Notifier:  s.Notifier, Witnesses: witnesses, Sealer: sealer, OIDC: opt.OIDC,
		Proxies: opt.Proxies, Console: opt.Console, Names: opt.Names, Logger: opt.Logger, Stopping: s.stopping,
	}
	s.handler = s.api.Handler()

	s.keeping.Go(func() { witnesses.Run(s.stopping) })
	s.keeping.Go(func() {
		log.Keep(
			s.stopping, witnesses.Signed,
			func(err error) { s.logger.Error("the ledger is not looked after", "error", err) },
		)
	})
	if !opt.Unwatched {
		s.Outside.Run(s.stopping)
		if err := s.Fleet.Watch(ctx); err != nil {
			return err
		}
	}
	if err := s.Engine.Recover(ctx); err != nil {
		return err
	}
	s.Commits.Run()
	s.Archives.Run(s.stopping)
	if err := s.Notifier.Run(s.stopping); err != nil {
		return err
	}
	s.keeping.Go(s.keepWatch)
	return nil
}

// openLedger gives the ledger, with what signs it and what hides secrets in it.
func (s *Service) openLedger(ctx context.Context, opt Options) (*audit.Log, error) {
	key, err := s.sealer.SigningKey(ctx, s.store, opt.Dir)
	if err != nil {
		return nil, err
	}
	redactKey, err := s.sealer.Kept(ctx, s.store, "veil") // so it is called in the records
	if err != nil {
		return nil, err
	}
	log := audit.New(
		s.store,
		audit.Options{
			Now: opt.Now, Redactor: redact.New(redactKey), Beside: opt.Dir, Witnesses: witness.Keys(opt.Witnesses),
		},
	)
	if err := log.UseKey(ctx, key); err != nil {
		if !store.Sick(err) {
			return nil, err
		}
		s.logger.Error("the ledger cannot be read as it should: nothing signs it until the next start", "error", err)
	}
	if opt.Signs != nil {
		opt.Signs(log.Key())
	}
	return log, nil
}

// Handler is what answers requests, for whoever brings a server of their own.
func (s *Service) Handler() http.Handler { return s.handler }

// MostConnections is how many connections are open at once, unless another number
// is set.
const MostConnections = 2048

// Serve answers requests on a listener until the context ends: with TLS where a
// certificate is given, and in the clear otherwise.
func (s *Service) Serve(ctx context.Context, l net.Listener, cert *Certificate) error {
	srv := &http.Server{
		Handler: s.handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
		ErrorLog: slog.NewLogLogger(s.logger.Handler(), slog.LevelDebug), // broken off handshakes and the like
	}
	url := "http://" + l.Addr().String()
	if cert != nil {
		url = "https://" + l.Addr().String()
	}
	s.listening.Store(&url)
	l = bound(l, cmp.Or(s.connections, MostConnections))
	done := make(chan error, 1)
	go func() {
		if cert == nil {
			done <- srv.Serve(l)
			return
		}
		srv.TLSConfig = cert.Config()
		done <- srv.ServeTLS(l, "", "")
	}()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
	}
	s.stop()
	sctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	if err := srv.Shutdown(sctx); err != nil {
		return srv.Close()
	}
	return nil
}

// Close stops the engine and closes the records. Commits on hold stay with
// their devices' own timers and are taken up at the next start.
func (s *Service) Close() error {
	s.stop()
	if s.Outside != nil {
		s.Outside.Stop()
	}
	if s.Notifier != nil {
		s.Notifier.Stop()
	}
	if s.Archives != nil {
		s.Archives.Stop()
	}
	if s.Commits != nil {
		s.Commits.Stop()
	}
	if s.Engine != nil {
		s.Engine.Stop()
	}
	if s.Fleet != nil {
		s.Fleet.Stop()
	}
	s.keeping.Wait()
	var err error
	if s.marked {
		if err = folder.Set(s.dir, folder.Closed); readOnly(err) || errors.Is(err, fs.ErrNotExist) {
			s.logger.Error("the data folder could not be marked as closed", "folder", s.dir, "error", err)
			err = nil
		}
	}
	return errors.Join(err, s.store.Close(), s.lock.Close())
}
