package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"time"

	"oakenlatch/core/guard"
	"oakenlatch/service"
	"oakenlatch/service/access"
	"oakenlatch/service/desk"
	"oakenlatch/service/fleet"
	"oakenlatch/service/order"
	"oakenlatch/service/store"
	"oakenlatch/test/servicetest"
)

// fleetBench is a service in this process and lab devices in another.
type fleetBench struct {
	*bench
	ctx     context.Context
	floor   *floor
	service *service.Service
	names   []string
	lab     *exec.Cmd
}

type fleetPart struct {
	devices int
	run     func(*fleetBench) error
}

func (b *bench) fleet() error {
	return b.fleetParts(
		fleetPart{100, (*fleetBench).commits}, fleetPart{100, (*fleetBench).crowded},
		fleetPart{2000, (*fleetBench).watched},
	)
}

// crowd measures what people wait for beside a large commit, and nothing else.
func (b *bench) crowd() error { return b.fleetParts(fleetPart{100, (*fleetBench).crowded}) }

func (b *bench) fleetParts(parts ...fleetPart) error {
	build := exec.Command("go", "build", "-o", filepath.Join(b.dir, "oaken-latchd"), "oakenlatch/cmd/oaken-latchd")
	if out, err := build.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	for _, part := range parts {
		f := &fleetBench{bench: b, ctx: context.Background()}
		err := f.start(part.devices)
		if err == nil {
			err = part.run(f)
		}
		f.stop()
		if err != nil {
			return err
		}
	}
	return nil
}

func (f *fleetBench) start(devices int) (err error) {
	if f.floor, err = newFloor(); err != nil {
		return err
	}
	f.lab = exec.Command(filepath.Join(f.dir, "oaken-latchd"), "lab", "--devices", fmt.Sprint(devices))
	out, err := f.lab.StdoutPipe()
	if err != nil {
		return err
	}
	if err := f.lab.Start(); err != nil {
		return err
	}
	dir, err := os.MkdirTemp(f.dir, "data")
	if err != nil {
		return err
	}
	f.service, err = service.Open(
		f.ctx, service.Options{Dir: dir, Make: true, Logger: slog.New(slog.DiscardHandler), Unwatched: true},
	)
	if err != nil {
		return err
	}
	if err := f.service.Accounts.Add(
		f.ctx, "bench", "mara", "the bench's own password", servicetest.Operator,
	); err != nil {
		return err
	}
	lines := bufio.NewScanner(out)
	for lines.Scan() && lines.Text() != "ready" {
		w := strings.Fields(lines.Text())
		if err := f.service.Fleet.Add(
			f.ctx, "mara", fleet.NewDevice{Name: w[0], Address: w[1], Account: w[2], Password: w[3]},
		); err != nil {
			return err
		}
		f.names = append(f.names, w[0])
	}
	go func() { _, _ = io.Copy(io.Discard, out) }()
	_, err = together(len(f.names), 16, func(i int) error {
		key, err := f.service.Fleet.ScanHostKey(f.ctx, store.Everything, f.names[i])
		if err != nil {
			return err
		}
		_, err = f.service.Fleet.Trust(f.ctx, store.Everything, "mara", f.names[i], key.Fingerprint)
		return err
	})
	return errors.Join(err, f.readAll(16))
}

func (f *fleetBench) stop() {
	if f.service != nil {
		_ = f.service.Close()
	}
	_ = f.lab.Process.Kill()
	_ = f.lab.Wait()
}

func (f *fleetBench) readAll(atOnce int) error {
	_, err := together(len(f.names), atOnce, func(i int) error {
		_, err := f.service.History.Read(f.ctx, store.Everything, f.names[i], "mara")
		return err
	})
	return err
}

// traffic gives the sessions and calls a piece of work took.
func (f *fleetBench) traffic(work func() error) (took time.Duration, sessions, calls int, err error) {
	t := &f.service.Fleet.Traffic
	s, c := t.Sessions.Load(), t.Calls.Load()
	began := time.Now()
	err = work()
	return time.Since(began), int(t.Sessions.Load() - s), int(t.Calls.Load() - c), err
}

// commits measures a commit on all devices: the word to holding, confirm to
// kept and settled, how far apart the confirms are, and the journal's share.
func (f *fleetBench) commits() error {
	mara := access.Person{Name: "mara", Grants: servicetest.Operator}
	best := struct{ hold, keep, spread, journal float64 }{1e9, 1e9, 1e9, 1e9}
	var told []string
	for round := range 6 {
		c, err := f.service.Desk.Open(f.ctx, mara, "bench", "")
		if err != nil {
			return err
		}
		value := fmt.Sprintf("round %d", round)
		if _, err := f.service.Desk.Stage(
			f.ctx, mara, c.Number, f.names, desk.Act{Op: "put", Path: "/system/contact", Value: &value},
		); err != nil {
			return err
		}
		ready, err := f.service.Desk.Ready(f.ctx, store.Everything, c.Number, "mara", order.Order{})
		if err != nil {
			return err
		}
		runtime.GC()
		journal := f.service.Engine.JournalTime()
		hold, s1, c1, err := f.traffic(func() error {
			if err := f.service.Engine.Begin(
				f.ctx,
				order.Start{
					Actor: "mara", Change: c.Number, Order: order.Order{Hold: 10 * time.Minute}, Works: ready.Works,
				},
			); err != nil {
				return err
			}
			return f.until(
				c.Number, func(s guard.State) bool { return s.Phase == guard.Probing || s.Phase == guard.Awaiting },
			)
		})
		if err != nil {
			return err
		}
		proved, _, _, err := f.traffic(func() error {
			return f.until(c.Number, func(s guard.State) bool { return s.Phase == guard.Awaiting })
		})
		if err != nil {
			return err
		}
		keep, s2, c2, err := f.traffic(func() error {
			if err := f.service.Engine.Say(
				f.ctx, c.Number, guard.Event{Kind: guard.SayConfirm, By: "mara"},
			); err != nil {
				return err
			}
			return f.until(
				c.Number, func(s guard.State) bool { return s.Outcome == guard.Confirmed && s.Phase == guard.Done },
			)
		})
		if err != nil {
			return err
		}
		share := (f.service.Engine.JournalTime() - journal).Seconds() / (hold + proved + keep).Seconds()
		spread, err := f.spread(c.Number)
		if err != nil {
			return err
		}
		holdFloor, err := f.floor.needs(s1, c1)
		if err != nil {
			return err
		}
		keepFloor, err := f.floor.needs(s2, c2)
		if err != nil {
			return err
		}
		many, err := f.floor.trips(50 * len(f.names))
		if err != nil {
			return err
		}
		spreadFloor := many / 50 // one round trip for each
		told = append(told, fmt.Sprintf(
			"round %d: holding %s of %s (%d sessions, %d calls), proved %s later; kept %s of %s (%d, %d); confirms "+
				"within %s of %s; journal %.1f %%",
			round, hold.Round(time.Millisecond), holdFloor.Round(time.Millisecond), s1, c1,
			proved.Round(time.Millisecond), keep.Round(time.Millisecond), keepFloor.Round(time.Millisecond), s2, c2,
			spread.Round(10*time.Microsecond), spreadFloor.Round(10*time.Microsecond), 100*share,
		))
		best.hold, best.keep = min(
			best.hold, hold.Seconds()/holdFloor.Seconds(),
		), min(best.keep, keep.Seconds()/keepFloor.Seconds())
		best.spread, best.journal = min(best.spread, spread.Seconds()/spreadFloor.Seconds()), min(best.journal, share)
	}
	for _, line := range told {
		fmt.Println(line)
	}
	f.ratio("commit-100-holding", best.hold, 3)
	f.ratio("confirm-100-settled", best.keep, 3)
	f.ratio("confirm-100-spread", best.spread, 1.5)
	f.ratio("journal-share", best.journal, 0.1)
	return nil
}

// spread is the time from the first device that took the confirm to the last.
func (f *fleetBench) spread(change int64) (time.Duration, error) {
	_, steps, err := f.service.Engine.Last(f.ctx, change)
	var first, last time.Time
	for _, e := range steps {
		if e.Kind != guard.ConfirmTaken {
			continue
		}
		if first.IsZero() || e.At.Before(first) {
			first = e.At
		}
		if e.At.After(last) {
			last = e.At
		}
	}
	return last.Sub(first), err
}

func (f *fleetBench) until(change int64, enough func(guard.State) bool) error {
	for {
		s, changed, running := f.service.Engine.Status(change)
		switch {
		case running && enough(s):
			return nil
		case !running:
			s, _, err := f.service.Engine.Last(f.ctx, change)
			if err == nil && !enough(s) {
				err = fmt.Errorf("it ended otherwise: %s %s", s.Outcome, s.Reason)
			}
			return err
		}
		<-changed
	}
}

// watched measures devices that are connected, watched and idle, and reading
// all of them.
func (f *fleetBench) watched() error {
	before := memory()
	looking, stop := context.WithCancel(f.ctx)
	defer stop()
	f.service.Outside.Run(looking)
	if err := f.service.Fleet.Watch(f.ctx); err != nil {
		return err
	}
	for f.heard() < len(f.names) {
		time.Sleep(100 * time.Millisecond)
	}
	for calls := int64(-1); calls != f.service.Fleet.Traffic.Calls.Load(); time.Sleep(2 * time.Second) {
		calls = f.service.Fleet.Traffic.Calls.Load() // each is read once, as it may have changed before
	}
	after := memory()
	each := float64(after-before) / float64(len(f.names))
	fmt.Printf("%d devices watched: %.1f KB each on this side\n", len(f.names), each/1e3)
	f.ratio("watched-memory", each/1e3, 150)
	const idle = 20 * time.Second
	used, calls := cpu(), f.service.Fleet.Traffic.Calls.Load()
	time.Sleep(idle)
	f.ratio("watched-cpu", (cpu()-used).Seconds()/idle.Seconds(), 0.02)
	f.ratio("watched-calls", float64(f.service.Fleet.Traffic.Calls.Load()-calls)/float64(len(f.names)), 0.01)

	ratio := 1e9
	for range 3 {
		bare, err := f.floor.connects(len(f.names))
		if err != nil {
			return err
		}
		began := time.Now()
		if err := f.readAll(64); err != nil {
			return err
		}
		took := time.Since(began)
		fmt.Printf(
			"all %d read in %s, as many bare connects in %s\n", len(f.names), took.Round(time.Millisecond),
			bare.Round(time.Millisecond),
		)
		ratio = min(ratio, took.Seconds()/bare.Seconds())
	}
	f.ratio("fleet-read", ratio, 1/0.7)
	return f.exported()
}

// heard counts the devices that are listened to.
func (f *fleetBench) heard() (n int) {
	for _, name := range f.names {
		if _, on := f.service.Fleet.Listening(name); on {
			n++
		}
	}
	return n
}

// memory is what this process holds, after a collection.
func memory() uint64 {
	var m runtime.MemStats
	runtime.GC()
	runtime.GC()
	runtime.ReadMemStats(&m)
	return m.HeapInuse + m.StackInuse
}

// cpu is the processor time this process has used.
func cpu() time.Duration {
	var r syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &r); err != nil {
		return 0
	}
	return time.Duration(r.Utime.Nano() + r.Stime.Nano())
}
