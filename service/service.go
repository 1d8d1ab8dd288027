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
	"syscall"
	"time"

	"oakenlatch/core/veil"
	"oakenlatch/service/access"
	"oakenlatch/service/api"
	"oakenlatch/service/archive"
	"oakenlatch/service/audit"
	"oakenlatch/service/desk"
	"oakenlatch/service/engine"
	"oakenlatch/service/fleet"
	"oakenlatch/service/history"
	"oakenlatch/service/outside"
	"oakenlatch/service/report"
	"oakenlatch/service/store"
	"oakenlatch/service/tell"
)

// Options say where a service keeps its records and what it serves.
type Options struct {
	Dir         string        // data folder, made if it is not there
	SpareRoom   int64         // bytes that are kept free beside the records; none if 0
	Connections int           // open at once; MostConnections if 0
	Idle, Life  time.Duration // of sessions, unused and at all; the usual if 0

	Proxies []net.IPNet // that stand before us and are believed who asks

	OIDC *access.OIDC // who vouches for people beside us; nil is nobody

	KeyFile string // of the key that seals secrets; seal.key in the data folder if ""
	Console fs.FS
	Logger  *slog.Logger
	Now     func() time.Time // time.Now if nil

	ProbePrograms string // folder of the programs that may be run as probes; "" allows none
	Unwatched     bool   // keep no sessions to idle devices, and look for no outside changes

	LookEvery time.Duration // devices that tell of no events are read so often; the usual if 0

	Syslog func(severity int, text string) // told of copies; nil is not
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
	Teller   *tell.Teller

	store   *store.Store
	lock    *os.File
	handler http.Handler
	logger  *slog.Logger

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
	if err := os.MkdirAll(opt.Dir, 0o700); err != nil {
		return nil, fmt.Errorf("data folder: %w", err)
	}
	s := &Service{logger: opt.Logger, connections: opt.Connections}
	s.stopping, s.stop = context.WithCancel(context.Background())
	var err error
	if s.lock, err = Lock(opt.Dir); err != nil {
		return nil, err
	}
	if s.store, err = store.Open(opt.Dir); err != nil {
		return nil, errors.Join(err, s.lock.Close())
	}
	if opt.SpareRoom > 0 {
		s.store.KeepSpare(opt.Dir, opt.SpareRoom)
	}
	if err := s.assemble(ctx, opt); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

func (s *Service) assemble(ctx context.Context, opt Options) error {
	log := audit.New(s.store, opt.Now)
	if opt.KeyFile == "" {
		opt.KeyFile = filepath.Join(opt.Dir, access.KeyFile)
	}
	if err := access.Missing(ctx, s.store, opt.KeyFile); err != nil {
		return err
	}
	sealer, err := access.OpenSealer(opt.KeyFile)
	if err != nil {
		return err
	}
	key, err := sealer.SigningKey(ctx, s.store, opt.Dir)
	if err != nil {
		return err
	}
	if err := log.UseKey(ctx, key); err != nil {
		return err
	}
	s.keeping.Go(func() {
		log.Keep(s.stopping, func(err error) { s.logger.Error("the ledger is not looked after", "error", err) })
	})
	veilKey, err := sealer.Kept(ctx, s.store, "veil")
	if err != nil {
		return err
	}
	log.Veil = veil.New(veilKey)
	if s.Accounts, err = access.NewAccounts(s.store, log); err != nil {
		return err
	}
	s.Accounts.Idle, s.Accounts.Life = cmp.Or(opt.Idle, s.Accounts.Idle), cmp.Or(opt.Life, s.Accounts.Life)
	s.Fleet = fleet.New(s.store, log, sealer)
	s.History = history.New(s.store, log, s.Fleet)
	s.Desk = desk.New(s.store, log, s.History, s.Fleet)
	s.Engine = engine.New(s.store, log, s.Fleet, s.History, opt.Logger)
	s.Engine.Programs = opt.ProbePrograms
	s.Engine.Due = func(ctx context.Context, change int64, actor string, o engine.Order) ([]engine.Work, error) {
		if err := s.Accounts.Still(ctx, actor, access.Commit, change); err != nil {
			return nil, err
		}
		parts, _, err := s.Desk.Due(ctx, change, actor, desk.Wish{Digest: o.Preview, Cuts: o.CutOff})
		return api.Works(parts), err
	}
	s.Desk.TryOut, s.Desk.Held, s.History.Held, s.History.Holder = s.Engine.TryOut, s.Engine.Holder, s.Engine.Making, s.Engine.Holder
	s.Outside = outside.New(s.store, log, s.Fleet, s.History, opt.Logger)
	s.Outside.Clock = func(ctx context.Context, d store.Device) error {
		_, err := s.Engine.Clock(ctx, d)
		return err
	}
	if opt.LookEvery > 0 {
		s.Outside.Tempo.Silent, s.Outside.Tempo.Listened = opt.LookEvery, max(opt.LookEvery, s.Outside.Tempo.Listened)
	}
	if !opt.Unwatched {
		s.Outside.Run(s.stopping)
		if err := s.Fleet.Watch(ctx); err != nil {
			return err
		}
	}
	if err := s.Engine.Recover(ctx); err != nil {
		return err
	}
	s.Archives = archive.New(s.store, log, s.Fleet, s.History, sealer, opt.Dir, opt.Logger)
	s.Archives.Syslog = opt.Syslog
	s.Desk.Copy = s.Archives.Tree
	s.Archives.Run(s.stopping)
	s.Teller = tell.New(s.store, log, sealer, opt.Logger)
	if err := s.Teller.Run(s.stopping); err != nil {
		return err
	}
	a := &api.API{
		Store: s.store, Log: log, Accounts: s.Accounts, Fleet: s.Fleet, History: s.History,
		Desk: s.Desk, Engine: s.Engine, Archives: s.Archives, Decisions: &outside.Decisions{Store: s.store, Log: log, Desk: s.Desk},
		Reports: &report.Reports{Store: s.store, Log: log, Fleet: s.Fleet, History: s.History, Desk: s.Desk}, Teller: s.Teller, Sealer: sealer, OIDC: opt.OIDC, Proxies: opt.Proxies, Console: opt.Console, Logger: opt.Logger, Stopping: s.stopping,
	}
	s.handler = a.Handler()
	return nil
}

// Lock makes sure that no second service uses a data folder. The lock ends
// with the process, however it ends.
func Lock(dir string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("data folder: %w", err)
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return nil, errors.Join(fmt.Errorf("data folder %s is in use by another oaken-latchd; stop it or give another folder with --data", dir), f.Close())
	}
	return f, nil
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
	if s.Teller != nil {
		s.Teller.Stop()
	}
	if s.Archives != nil {
		s.Archives.Stop()
	}
	if s.Engine != nil {
		s.Engine.Stop()
	}
	if s.Fleet != nil {
		s.Fleet.Stop()
	}
	s.keeping.Wait()
	return errors.Join(s.store.Close(), s.lock.Close())
}
