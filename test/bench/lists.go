package main

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"testing/fstest"
	"time"

	"oakenlatch/core/guard"
	"oakenlatch/service"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/store"
	"oakenlatch/test/servicetest"
)

// What lists are measured on, beside a ledger of a million entries.
const (
	listedChanges = 50_000
	listedDevices = 2_000
)

// quick is how long what a console or a command line asks for all the time may take.
const quick = 10 * time.Millisecond

// listedPlaces makes the devices and people of some years, and a revision of each device, and gives the devices'
// numbers.
func listedPlaces(dir string) ([]int64, error) {
	ids := make([]int64, listedDevices)
	s, err := store.Open(dir)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	err = s.Write(context.Background(), func(tx *store.Tx) error {
		for i := range 40 {
			if err := tx.AddAccount(
				store.Account{Name: fmt.Sprintf("person%02d", i), Grants: servicetest.Operator.Texts(), Created: now},
			); err != nil {
				return err
			}
		}
		for i := range ids {
			d := store.Device{
				Name: fmt.Sprintf("device-%04d", i), Address: "192.0.2.1:830", Account: "x", Auth: "password",
				Secret: []byte{1}, HostKey: "k", Site: fmt.Sprintf("site-%02d", i%40), Role: "switch", Added: now,
			}
			if err := tx.AddDevice(d); err != nil {
				return err
			}
			made, err := tx.DeviceNamed(d.Name)
			if err != nil {
				return err
			}
			if err := tx.SetPlace(made.ID, d.Site, d.Role); err != nil {
				return err
			}
			ids[i] = made.ID
		}
		return nil
	})
	if err = errors.Join(err, s.Close()); err != nil {
		return nil, err
	}
	// What they hold does not matter here, but that it is numbered.
	db, err := sql.Open("sqlite", filepath.Join(dir, store.File))
	if err == nil {
		_, err = db.Exec(
			"INSERT INTO configs (digest, body) VALUES ('x', x'00'); INSERT INTO revisions (device, number, digest, " +
				"at, source) SELECT id, 1, 'x', '2026-01-01T00:00:00.000Z', 'first' FROM devices",
		)
		err = errors.Join(err, db.Close())
	}
	return ids, err
}

// listed fills records with the changes of some years.
func listed(s *store.Store, ids []int64, now time.Time) error {
	rnd := rand.New(rand.NewPCG(2026, 20))
	for at := 0; at < listedChanges; at += 500 {
		if err := s.Write(context.Background(), func(tx *store.Tx) error {
			for i := range 500 {
				if err := oneListed(tx, rnd, at+i, ids, now); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return err
		}
	}
	return nil
}

// oneListed adds a change that was kept, but for some of the newest, which are drafts.
func oneListed(tx *store.Tx, rnd *rand.Rand, i int, ids []int64, now time.Time) error {
	person := fmt.Sprintf("person%02d", rnd.IntN(40))
	c, err := tx.AddChange(
		store.Change{
			Title: words(rnd, 4), Ticket: fmt.Sprintf("TF-%d", i/10), Author: person, State: "draft", Opened: now,
		},
	)
	if err != nil {
		return err
	}
	var parts []store.CommitPart
	var devices []guard.Device
	for range 1 + rnd.IntN(3) {
		place := rnd.IntN(len(ids))
		id, name := ids[place], fmt.Sprintf("device-%04d", place)
		if err := tx.SetPart(store.Part{Change: c.Number, Device: id, Base: 1}); err != nil {
			return err
		}
		if _, err := tx.AddEdit(
			store.Edit{
				Change: c.Number, Device: id, Op: "put", Path: "/system/contact", Value: words(rnd, 3), Actor: person,
				At: now,
			},
		); err != nil {
			return err
		}
		parts = append(parts, store.CommitPart{Device: id, Persist: "p"})
		devices = append(devices, guard.Device{Name: name, Keeper: guard.ByDevice, Standing: guard.IsConfirmed})
	}
	if i%50 == 0 {
		if err := tx.AddCoworker(c.Number, "bench", person, now); err != nil {
			return err
		}
	}
	if i%25 == 0 {
		if err := tx.AskApproval(store.ApprovalAsk{Change: c.Number, Actor: person, At: now}); err != nil {
			return err
		}
	}
	if i > listedChanges-2000 && i%4 == 0 {
		return nil // still a draft
	}
	state := guard.State{Phase: guard.Done, Outcome: guard.Confirmed, Devices: devices}
	k, err := tx.AddCommit(
		store.Commit{Change: c.Number, Actor: person, Hold: 10 * time.Minute, Started: now, State: state, Parts: parts},
	)
	if err != nil {
		return err
	}
	return errors.Join(tx.Journal(k.ID, nil, state, now), tx.SetState(c.Number, "confirmed", "", now))
}

// lists measures what consoles and command lines ask for again and again, on much of everything.
func (b *bench) lists() error {
	dir := filepath.Join(b.dir, "lists")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	s, err := service.Open(
		context.Background(),
		service.Options{
			Dir: dir, Make: true, Unwatched: true, Console: fstest.MapFS{}, Logger: slog.New(slog.DiscardHandler),
		},
	)
	if err != nil {
		return err
	}
	narrow, err := access.ParseGrants([]string{"read,audit@site=site-07"})
	if err != nil {
		return err
	}
	for name, may := range map[string]access.Grants{"bench": servicetest.Admin, "narrow": narrow} {
		if err := s.Accounts.Add(context.Background(), "bench", name, "the bench's own password", may); err != nil {
			return err
		}
	}
	if err := s.Close(); err != nil {
		return err
	}
	if err := b.fillLists(dir); err != nil {
		return err
	}
	if s, err = service.Open(
		context.Background(),
		service.Options{Dir: dir, Unwatched: true, Console: fstest.MapFS{}, Logger: slog.New(slog.DiscardHandler)},
	); err != nil {
		return err
	}
	defer func() { _ = s.Close() }()
	tokens := map[string]string{}
	for _, name := range []string{"bench", "narrow"} {
		if tokens[name], _, _, err = s.Accounts.Login(
			context.Background(), name, "the bench's own password", "bench", access.Site{},
		); err != nil {
			return err
		}
	}
	for _, c := range []struct {
		figure, account, path string
		goal                  float64
	}{
		{"list-changes-1", "bench", "/changes?limit=1", 1},
		{"list-changes-50", "bench", "/changes?limit=50", 1},
		{"list-changes-narrow", "narrow", "/changes?limit=50", 3},
		{"list-attention", "bench", "/attention", 1},
		{"list-attention-narrow", "narrow", "/attention", 3},
		{"list-complete-change", "bench", "/audit/complete?q=" + url.QueryEscape("change:12"), 1},
		{"list-complete-ticket", "bench", "/audit/complete?q=" + url.QueryEscape("ticket:TF-12"), 1},
		{"list-audit", "bench", "/audit?limit=50&q=" + url.QueryEscape("device:device-0007"), 1},
		{"list-change", "bench", "/changes/25000", 1},
	} {
		took, slow, err := timeOf(s.Handler(), tokens[c.account], c.path)
		if err != nil {
			return err
		}
		fmt.Printf(
			"%-28s %12s   one in twenty %12s\n", c.figure, took.Round(time.Microsecond), slow.Round(time.Microsecond),
		)
		b.ratio(c.figure, took.Seconds()/quick.Seconds(), c.goal)
	}
	return nil
}

// timeOf gives how long a request takes, the middle of many, and one in twenty longer.
func timeOf(h http.Handler, token, path string) (middle, slow time.Duration, err error) {
	var took []time.Duration
	for i := range 44 {
		req := httptest.NewRequest(http.MethodGet, "/api/v1"+path, nil)
		req.Header.Set("Authorization", "Bearer "+token)
		w := httptest.NewRecorder()
		begun := time.Now()
		h.ServeHTTP(w, req)
		if w.Code != http.StatusOK {
			return 0, 0, fmt.Errorf("%s answers %d: %s", path, w.Code, w.Body)
		}
		if i >= 4 {
			took = append(took, time.Since(begun))
		}
	}
	return percentile(took, 50), percentile(took, 95), nil
}

func (b *bench) fillLists(dir string) error {
	ids, err := listedPlaces(dir)
	if err != nil {
		return err
	}
	s, err := store.Open(dir)
	if err != nil {
		return err
	}
	defer func() { _ = s.Close() }()
	log := audit.New(s, audit.Options{})
	begun := time.Now()
	plain, err := openPlain(filepath.Join(b.dir, "plain-lists.db"))
	if err != nil {
		return err
	}
	defer func() { _ = plain.Close() }()
	if err := listed(s, ids, log.Now()); err != nil {
		return err
	}
	if err := fill(log, plain); err != nil {
		return err
	}
	err = errors.Join(s.IndexLedger(context.Background()), s.TidyWords(context.Background()))
	fmt.Printf(
		"%d entries, %d changes and %d devices took %s\n", entries, listedChanges, listedDevices,
		time.Since(begun).Round(time.Second),
	)
	return err
}
