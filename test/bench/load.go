package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"sync"
	"time"

	"oakenlatch/client"
	"oakenlatch/core/guard"
	"oakenlatch/service/access"
	"oakenlatch/service/desk"
	"oakenlatch/service/order"
	"oakenlatch/service/store"
	"oakenlatch/test/servicetest"
	"oakenlatch/wire"
)

// How many people work at once, and on how many devices the commit beside them is.
const (
	loadPeople  = 8
	loadDevices = 50
)

// load measures how long requests of people take, one in a hundred of them, while a
// commit on 50 devices runs; the yardstick is the same without it.
func (f *fleetBench) crowded() error {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancel(f.ctx)
	served := make(chan error, 1)
	go func() { served <- f.service.Serve(ctx, l, nil) }()
	defer func() { stop(); <-served }()
	token, _, _, err := f.service.Accounts.Login(f.ctx, "mara", "the bench's own password", "bench", access.Site{})
	if err != nil {
		return err
	}
	asked, err := client.New(client.Options{Server: "http://" + l.Addr().String(), Token: token})
	if err != nil {
		return err
	}
	people := &crowd{api: asked, names: f.names}
	if err := people.open(f.ctx); err != nil {
		return err
	}
	quiet, err := people.during(f.ctx, func() error { time.Sleep(6 * time.Second); return nil })
	if err != nil {
		return err
	}
	mara := access.Person{Name: "mara", Grants: servicetest.Operator}
	busy, err := people.during(f.ctx, func() error {
		for round := range 3 {
			c, err := f.service.Desk.Open(f.ctx, mara, "load", "")
			if err != nil {
				return err
			}
			value := fmt.Sprintf("load %d", round)
			if _, err := f.service.Desk.Stage(
				f.ctx, mara, c.Number, f.names[:loadDevices],
				desk.Act{Op: "put", Path: "/system/contact", Value: &value},
			); err != nil {
				return err
			}
			ready, err := f.service.Desk.Ready(f.ctx, store.Everything, c.Number, "mara", order.Order{})
			if err != nil {
				return err
			}
			if err := f.service.Engine.Begin(
				f.ctx,
				order.Start{
					Actor: "mara", Change: c.Number, Order: order.Order{Hold: 10 * time.Minute}, Works: ready.Works,
				},
			); err != nil {
				return err
			}
			if err := f.until(c.Number, func(s guard.State) bool { return s.Phase == guard.Awaiting }); err != nil {
				return err
			}
			if err := f.service.Engine.Say(
				f.ctx, c.Number, guard.Event{Kind: guard.SayConfirm, By: "mara"},
			); err != nil {
				return err
			}
			if err := f.until(
				c.Number, func(s guard.State) bool { return s.Outcome == guard.Confirmed && s.Phase == guard.Done },
			); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	fmt.Printf(
		"load: %d people; quiet %d requests, median %s, p99 %s; beside a commit on %d devices %d requests, median "+
			"%s, p99 %s\n",
		loadPeople, len(quiet), at(quiet, 50), at(quiet, 99), loadDevices, len(busy), at(busy, 50), at(busy, 99),
	)
	f.ratio("load-p99", at(busy, 99).Seconds()/at(quiet, 99).Seconds(), 10)
	return nil
}

func at(list []time.Duration, percent int) time.Duration {
	if len(list) == 0 {
		return 0
	}
	return list[min(len(list)-1, len(list)*percent/100)]
}

// crowd is people who look, search and stage, each one thing after the other.
type crowd struct {
	api    *client.Client
	names  []string
	change int64
}

// open opens the change that the crowd writes notes at.
func (c *crowd) open(ctx context.Context) error {
	change, err := c.api.OpenChange(ctx, wire.NewChange{Title: "what the crowd stages"})
	c.change = change.Number
	return err
}

// act does one of the things that people do.
func (c *crowd) act(ctx context.Context, who, i int) (err error) {
	name := c.names[(who*7+i)%len(c.names)]
	switch i % 6 {
	case 0:
		_, err = c.api.GetDevice(ctx, name)
	case 1:
		_, err = c.api.SearchAudit(ctx, client.SearchAuditQuery{Search: "device:" + name})
	case 2:
		_, err = c.api.ListChanges(ctx, client.ListChangesQuery{})
	case 3:
		_, err = c.api.DeviceConfig(ctx, name, client.DeviceConfigQuery{From: "rev:1"})
	case 4:
		_, err = c.api.DeviceTimeline(ctx, name)
	case 5:
		_, err = c.api.AddNote(ctx, c.change, wire.NewNote{Text: fmt.Sprintf("note %d of %d", i, who)})
	}
	return err
}

// during has people work for as long as something else takes, and gives how long
// each of their requests took, the shortest first.
func (c *crowd) during(ctx context.Context, do func() error) ([]time.Duration, error) {
	over := make(chan struct{})
	var mu sync.Mutex
	var all []time.Duration
	var failed error
	var wg sync.WaitGroup
	for who := range loadPeople {
		wg.Go(func() {
			for i := 0; ; i++ {
				select {
				case <-over:
					return
				default:
				}
				began := time.Now()
				err := c.act(ctx, who, i)
				took := time.Since(began)
				mu.Lock()
				all = append(all, took)
				failed = errors.Join(failed, err)
				mu.Unlock()
				if err != nil {
					return
				}
				time.Sleep(20 * time.Millisecond) // they think, too
			}
		})
	}
	err := do()
	close(over)
	wg.Wait()
	slices.Sort(all)
	return all, errors.Join(err, failed)
}
