package fleet

import (
	"context"
	"errors"
	"math/rand/v2"
	"sync"
	"time"

	"oakenlatch/core/advice"
	"oakenlatch/netconf"
	"oakenlatch/service/store"
)

// Watching keeps one idle session to each trusted device: a device that goes
// is noticed, and reading one needs no new connection. Proofs of management access
// never use it.

// How devices are watched.
const (
	together      = 32 // devices that are connected to at once
	standingReply = 5 * time.Second
	firstRetry    = 5 * time.Second
	lastRetry     = 5 * time.Minute
	sign          = time.Minute // between signs of life on an idle session
)

type watching struct {
	ctx  context.Context
	stop context.CancelFunc
	wg   sync.WaitGroup
	dial chan struct{} // one of the places to connect from

	mu       sync.Mutex
	watched  map[string]bool
	standing map[string]*Session
}

// Watch begins to watch all trusted devices, and those trusted later.
func (f *Fleet) Watch(ctx context.Context) error {
	w := &watching{dial: make(chan struct{}, together), watched: map[string]bool{}, standing: map[string]*Session{}}
	w.ctx, w.stop = context.WithCancel(context.Background())
	list, err := f.store.Devices(ctx, store.Everything)
	if err != nil {
		w.stop()
		return err
	}
	f.mu.Lock()
	f.watching = w
	f.mu.Unlock()
	for _, d := range list {
		f.watch(d)
	}
	return nil
}

// Stop ends all watching.
func (f *Fleet) Stop() {
	if w := f.watched(); w != nil {
		w.stop()
		w.wg.Wait()
	}
}

func (f *Fleet) watched() *watching {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.watching
}

// watch begins to watch a device, once.
func (f *Fleet) watch(d store.Device) {
	w := f.watched()
	if w == nil || d.HostKey == "" {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.watched[d.Name] || w.ctx.Err() != nil {
		return
	}
	w.watched[d.Name] = true
	w.wg.Go(func() { f.stand(w, d.Name) })
}

// stand keeps a session to a device until watching ends.
func (f *Fleet) stand(w *watching, name string) {
	retry := firstRetry
	for {
		select {
		case w.dial <- struct{}{}:
		case <-w.ctx.Done():
			return
		}
		s, err := f.open(w.ctx, store.Everything, name, sign)
		var ear *Session
		if err == nil {
			ear = f.listen(w.ctx, s)
		}
		<-w.dial
		if err == nil {
			retry = firstRetry
			w.put(name, s)
			f.stood(name)
			w.wait(s, ear)
			w.put(name, nil)
		}
		var trouble *Error
		if errors.As(err, &trouble) && trouble.Kind == BadLogin {
			retry = lastRetry // devices shut accounts out that try too often
		}
		select {
		case <-w.ctx.Done():
			return
		case <-time.After(retry/2 + rand.N(retry)):
			retry = min(2*retry, lastRetry)
		}
	}
}

// wait waits until one of the sessions to a device ends, or watching does, and
// ends the other.
func (w *watching) wait(s, ear *Session) {
	var eared <-chan struct{}
	if ear != nil {
		eared = ear.Done()
		defer ear.Abort()
	}
	defer s.Abort()
	select {
	case <-s.Done():
	case <-eared:
	case <-w.ctx.Done():
	}
}

// OnStanding sets who hears that a session stands to a device, anew: it may
// have been changed meanwhile. They must not be held up.
func (f *Fleet) OnStanding(hear func(device string)) {
	f.listeners.mu.Lock()
	defer f.listeners.mu.Unlock()
	f.listeners.stands = hear
}

func (f *Fleet) stood(device string) {
	f.listeners.mu.Lock()
	hear := f.listeners.stands
	f.listeners.mu.Unlock()
	if hear != nil {
		hear(device)
	}
}

func (w *watching) put(name string, s *Session) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if s == nil {
		delete(w.standing, name)
	} else {
		w.standing[name] = s
	}
}

// Standing reports on how many devices are watched now.
func (f *Fleet) Standing() int {
	w := f.watched()
	if w == nil {
		return 0
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	return len(w.standing)
}

// Stands reports whether a session on a device is the one that stands to it.
func (f *Fleet) Stands(name, sessionID string) bool {
	w := f.watched()
	if w == nil {
		return false
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	s := w.standing[name]
	return s != nil && s.SessionID == sessionID
}

// standing gives the session that stands to a device, nil if none does.
func (f *Fleet) standing(ctx context.Context, reach store.Reach, name string) *Session {
	w := f.watched()
	if w == nil {
		return nil
	}
	w.mu.Lock()
	s := w.standing[name]
	w.mu.Unlock()
	if s == nil || s.Err() != nil {
		return nil
	}
	d, err := f.store.Device(ctx, reach, name)
	if err != nil {
		return nil
	}
	if d.HostKey != s.Device.HostKey || d.Address != s.Device.Address || d.ModuleSet != s.Device.ModuleSet {
		s.Abort() // it is another device now
		return nil
	}
	now := *s
	now.Device = d
	return &now
}

// Reading asks a device something, through the session that stands to it or
// else a new one. What ask does must change nothing: it may be done twice.
func (f *Fleet) Reading(
	ctx context.Context, reach store.Reach, name string, ask func(context.Context, *Session) error,
) error {
	return f.named(ctx, reach, name, f.reading(ctx, reach, name, ask))
}

// named has an error tell which device it is about, where what was done with that
// took longer than there was time for, wherever it was just then.
func (f *Fleet) named(ctx context.Context, reach store.Reach, name string, err error) error {
	var fe *Error
	if err == nil || ctx.Err() == nil || errors.As(err, &fe) {
		return err
	}
	e := &Error{
		Device: name, Address: "?", Kind: Unreachable, Msg: "it was not done with in time",
		Next: advice.Words("try again; it, or this service, may be busy"), Err: err,
	}
	if d, err := f.store.Device(context.WithoutCancel(ctx), reach, name); err == nil {
		e.Address = d.Address
	}
	return e
}

func (f *Fleet) reading(
	ctx context.Context, reach store.Reach, name string, ask func(context.Context, *Session) error,
) error {
	if s := f.standing(ctx, reach, name); s != nil {
		short, cancel := context.WithTimeout(ctx, standingReply)
		err := ask(short, s)
		late := short.Err() != nil
		cancel()
		var none *netconf.NoReplyError
		switch {
		case err == nil:
			f.note(ctx, s.Device, nil)
			return nil
		case ctx.Err() != nil, !late && !errors.As(err, &none) && !errors.Is(err, netconf.ErrClosed):
			return err
		}
		s.Abort() // it is broken, or too slow to be sure
	}
	s, err := f.Dial(ctx, reach, name)
	if err != nil {
		return err
	}
	defer func() { _ = s.Close(context.WithoutCancel(ctx)) }()
	return ask(ctx, s)
}
