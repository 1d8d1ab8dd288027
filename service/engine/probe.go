package engine

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"oakenlatch/core/advice"
	"oakenlatch/core/guard"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/service/refusal"
	"oakenlatch/service/spare"
	"oakenlatch/service/store"
)

// Limits of probes.
const (
	MaxProbes       = 32
	MaxProbeGrace   = 10 * time.Minute
	connectTimeout  = 5 * time.Second
	programTimeout  = 30 * time.Second
	programSays     = 300 // bytes of what a program says are kept
	betweenAttempts = 2 * time.Second
)

// prober runs one probe, never twice at once.
type prober struct {
	run   *run
	place int
	probe guard.Probe

	mu     sync.Mutex
	cancel context.CancelFunc // of the one under way
	turn   int
}

// perform starts the probe; its outcome comes back as an event. One under way
// gives way to one that is more than watching.
func (p *prober) perform(a guard.Action) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.cancel != nil {
		if a.Watch {
			return
		}
		p.cancel()
	}
	ctx, cancel := context.WithCancel(p.run.e.ctx)
	p.turn++
	turn := p.turn
	p.cancel = cancel
	p.run.e.wg.Go(func() {
		defer cancel()
		said, ok := p.try(ctx, a.Patient)
		p.mu.Lock()
		mine := p.turn == turn
		if mine {
			p.cancel = nil
		}
		p.mu.Unlock()
		if !mine || ctx.Err() != nil {
			return
		}
		ev := guard.Event{Kind: guard.ProbePassed, Probe: p.place, Err: said}
		if !ok {
			ev.Kind = guard.ProbeFailed
		}
		p.run.happened(ev)
	})
}

// try runs the probe, for as long as it may fail before that counts.
func (p *prober) try(ctx context.Context, patient bool) (said string, ok bool) {
	until := time.Now()
	if patient {
		until = until.Add(p.probe.Grace)
	}
	for {
		said, ok = p.once(ctx)
		if ok || !time.Now().Before(until) || !sleep(ctx, betweenAttempts) {
			return said, ok
		}
	}
}

func (p *prober) once(ctx context.Context) (said string, ok bool) {
	var err error
	switch p.probe.Kind {
	case guard.ProbeTCP:
		said, err = connect(ctx, p.probe.Address)
	case guard.ProbeState:
		said, err = p.state(ctx)
	default:
		said, err = p.program(ctx)
	}
	if err != nil {
		return err.Error(), false
	}
	return said, true
}

func connect(ctx context.Context, address string) (string, error) {
	conn, err := spare.Open(func() (net.Conn, error) {
		return (&net.Dialer{Timeout: connectTimeout}).DialContext(ctx, "tcp", address)
	})
	if err != nil {
		return "", err
	}
	return "the connection was taken", conn.Close()
}

// state reads a value from a device and compares it with what is wanted.
func (p *prober) state(ctx context.Context) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, operation)
	defer cancel()
	s, err := p.run.e.fleet.Dial(ctx, store.Everything, p.probe.Device)
	if err != nil {
		return "", err
	}
	defer part(s)
	path, want, err := stateTarget(s.Schema, p.probe)
	if err != nil {
		return "", err
	}
	got, err := s.Leaf(ctx, path)
	switch {
	case err != nil:
		return "", err
	case got == want:
		return "it is " + got, nil
	case got == "":
		return "", fmt.Errorf("it is not there, %s is wanted", want)
	}
	return "", fmt.Errorf("it is %s, %s is wanted", got, want)
}

// stateTarget reads a state probe by the device's schema.
func stateTarget(s *schema.Schema, p guard.Probe) (tree.Path, string, error) {
	path, err := tree.ParsePath(s, p.Path)
	if err != nil {
		return nil, "", err
	}
	n := path.Last()
	if n == nil || n.Kind != schema.Leaf {
		return nil, "", fmt.Errorf("%s is not a single value", p.Path)
	}
	want, err := s.Canonical(n.Type, p.Want, s.NameResolver(n.Module))
	if err != nil {
		return nil, "", fmt.Errorf("%s: %w", p.Path, err)
	}
	return path, want, nil
}

// program runs one of the operator's own programs, without a shell.
func (p *prober) program(ctx context.Context) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, programTimeout)
	defer cancel()
	file, err := p.run.e.programFile(p.probe.Program)
	if err != nil {
		return "", err
	}
	cmd := exec.CommandContext(ctx, file, p.probe.Args...)
	cmd.Env = []string{
		"PATH=/usr/local/bin:/usr/bin:/bin", "LANG=C.UTF-8", fmt.Sprintf("OAKEN_LATCH_CHANGE=%d", p.run.commit.Change),
	}
	cmd.Dir = filepath.Dir(file)
	cmd.WaitDelay = time.Second
	var out limited
	cmd.Stdout, cmd.Stderr = &out, &out
	err = cmd.Run()
	said := strings.TrimSpace(strings.ToValidUTF8(out.String(), "?"))
	switch {
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return "", fmt.Errorf("it did not end within %s and was stopped", programTimeout)
	case err != nil && said != "":
		return "", fmt.Errorf("%w: %s", err, said)
	case err != nil:
		return "", err
	case said == "":
		said = "it ended well"
	}
	return said, nil
}

// limited keeps the beginning of what is written to it.
type limited struct{ bytes.Buffer }

func (l *limited) Write(p []byte) (int, error) {
	if room := programSays - l.Len(); room > 0 {
		l.Buffer.Write(p[:min(room, len(p))])
	}
	return len(p), nil
}

// programFile finds a probe program. Only those in the folder that the service
// was started with may be run, whoever asks.
func (e *Engine) programFile(name string) (string, error) {
	if e.opt.Programs == "" {
		return "", refusal.New(
			refusal.Forbidden, "start the service with --probe-programs DIR and put the program there",
			"this service runs no programs as probes",
		)
	}
	if name != filepath.Base(name) || strings.HasPrefix(name, ".") {
		return "", refusal.New(
			refusal.Invalid, "give the name of a file in "+e.opt.Programs, "%q is not the name of a probe program",
			name,
		)
	}
	// Whole, as the program is run in its own folder.
	file, err := filepath.Abs(filepath.Join(e.opt.Programs, name))
	if err != nil {
		return "", err
	}
	st, err := os.Stat(file)
	if err != nil || !st.Mode().IsRegular() || st.Mode().Perm()&0o111 == 0 {
		return "", refusal.New(
			refusal.NotFound, "put it there, executable", "there is no program %s in %s", name, e.opt.Programs,
		)
	}
	return file, nil
}

// checkProbes says no to probes that could never pass.
func (e *Engine) checkProbes(ctx context.Context, probes []guard.Probe) error {
	if len(probes) > MaxProbes {
		return refusal.New(refusal.Invalid, "", "%d probes are too many, a commit takes %d", len(probes), MaxProbes)
	}
	for _, p := range probes {
		if p.Grace < 0 || p.Grace > MaxProbeGrace {
			return refusal.New(
				refusal.Invalid, "", "probe %s: it may fail for up to %s at first, not for %s", p, MaxProbeGrace,
				p.Grace,
			)
		}
		switch p.Kind {
		case guard.ProbeTCP:
			if host, port, err := net.SplitHostPort(p.Address); err != nil || host == "" || port == "" {
				return refusal.New(refusal.Invalid, "write it as HOST:PORT", "probe %s: %q is no address", p, p.Address)
			}
		case guard.ProbeState:
			d, err := e.store.Device(ctx, store.Everything, p.Device)
			if err != nil {
				return refusal.New(
					refusal.NotFound, "list them", "probe %s: there is no device %q", p, p.Device,
				).Do(advice.ListDevices)
			}
			s, err := e.fleet.Schema(ctx, d)
			if err != nil {
				return err
			}
			if _, _, err := stateTarget(s, p); err != nil {
				return refusal.New(refusal.Invalid, "", "probe %s: %v", p, err)
			}
		case guard.ProbeProgram:
			if _, err := e.programFile(p.Program); err != nil {
				return err
			}
		default:
			return refusal.New(refusal.Invalid, "give tcp, state or program", "%q is no kind of probe", p.Kind)
		}
	}
	return nil
}
