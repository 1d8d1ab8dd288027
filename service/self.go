package service

import (
	"context"
	"fmt"
	"os"
	"slices"
	"syscall"
	"time"

	"oakenlatch/core/guard"
	"oakenlatch/service/control"
	"oakenlatch/service/spare"
	"oakenlatch/service/store"
)

// clockWorth is from when on it is worth a word that the clock was set.
const clockWorth = 5 * time.Second

// answers are what the programs on this machine are told.
func (s *Service) answers() control.Answers {
	return control.Answers{Dir: s.dir, State: s.state, Copy: func(ctx context.Context, file string) ([]byte, error) {
		return s.sealer.Text(), s.store.CopyInto(ctx, file)
	}}
}

// state is how the service is.
func (s *Service) state(ctx context.Context) control.State {
	now := s.now()
	out := control.State{Version: s.version, PID: os.Getpid(), Started: s.started, Now: now, Listens: s.listens()}
	// The one is by the clock on the wall, the other by one that nobody sets.
	if jumped := now.Round(0).Sub(s.started.Round(0)) - time.Since(s.started); jumped.Abs() > clockWorth {
		out.ClockJumped = jumped.Round(time.Second).String()
	}
	if err := s.store.Check(ctx); err != nil {
		out.Records = err.Error()
	}
	if err := s.store.Unread(); err != nil {
		out.Unread = err.Error()
	}
	out.Files, out.MostFiles = openFiles()
	for change, st := range s.Engine.Running() {
		out.Holds++
		if overdue(st, now) {
			out.Overdue = append(
				out.Overdue,
				fmt.Sprintf(
					"change %d, since %s: %s", change, st.Deadline.UTC().Format("2006-01-02 15:04:05 UTC"),
					standing(st),
				),
			)
		}
	}
	slices.Sort(out.Overdue)
	if list, err := s.store.Devices(ctx, store.Everything); err == nil {
		for _, d := range list {
			if d.Trouble != "" {
				out.Devices = append(out.Devices, d.Name+": "+d.Trouble)
			}
		}
	}
	out.Damaged = s.damaged()
	return out
}

// overdue reports whether a hold has ended, and its devices should have reverted a while
// ago.
func overdue(s guard.State, now time.Time) bool {
	return s.Outcome == guard.Undecided && !s.Deadline.IsZero() && now.Sub(s.Deadline) > time.Minute
}

// standing tells where the devices of a commit stand.
func standing(s guard.State) string {
	text := ""
	for _, d := range s.Devices {
		if text != "" {
			text += ", "
		}
		text += d.Name + " " + string(d.Standing)
	}
	return text
}

// openFiles is how many files are open, and how many may be.
func openFiles() (now, most int) {
	if list, err := os.ReadDir("/proc/self/fd"); err == nil {
		now = len(list)
	}
	var lim syscall.Rlimit
	if syscall.Getrlimit(syscall.RLIMIT_NOFILE, &lim) == nil {
		most = int(min(lim.Cur, 1<<30))
	}
	return now, most
}

func (s *Service) listens() string {
	if p := s.listening.Load(); p != nil {
		return *p
	}
	return ""
}

// readAheadEvery is how often what is under way is read, for when that cannot be done any more.
const readAheadEvery = 30 * time.Second

// newHold reports whether a commit is under way that was not when this was asked last.
func (s *Service) newHold(running map[int64]guard.State) (is bool) {
	now := map[int64]guard.Phase{}
	for change, st := range running {
		now[change] = st.Phase
		is = is || s.phases[change] != st.Phase
	}
	s.phases = now
	return is
}

// keepWatch says what somebody outside should know, once each.
func (s *Service) keepWatch() {
	tick := time.NewTicker(2 * time.Second)
	defer tick.Stop()
	spare.Keep()
	told, heard, noFiles := map[int64]bool{}, time.Time{}, false
	for {
		select {
		case <-s.stopping.Done():
			return
		case <-tick.C:
		}
		if short := !spare.Keep() && spare.Short(); short != noFiles {
			if noFiles = short; short {
				s.logger.Error(
					"no more files can be opened: those that were kept are given up for sessions to devices, and "+
						"new connections are closed until there are some",
					"next", "find out what has them open; raise LimitNOFILE= of its unit, or lower --connections",
				)
			} else {
				s.logger.Info("files can be opened again")
			}
		}
		running := s.Engine.Running()
		if (time.Since(heard) > readAheadEvery || s.newHold(running)) && s.store.Check(s.stopping) == nil {
			heard = time.Now()
			if err := s.api.ReadAhead(s.stopping); err != nil && s.stopping.Err() == nil {
				s.logger.Error("what is under way could not be read ahead, for when the disk fails", "error", err)
			}
		}
		for change, st := range running {
			if overdue(st, s.now()) && !told[change] {
				told[change] = true
				s.logger.Error(
					"a hold is overdue: its devices should have reverted", "change", change, "deadline",
					st.Deadline.UTC().Format(time.RFC3339), "devices", standing(st), "next",
					"look at the devices; how each stands is shown with the change",
				)
			}
		}
		for change := range told {
			if _, there := running[change]; !there {
				delete(told, change)
			}
		}
	}
}

// damaged tells what was found to be damaged.
func (s *Service) damaged() (out []string) {
	for _, d := range s.History.Damage() {
		out = append(out, d.Error()+"; "+d.Next().String())
	}
	return out
}
