// Package witness has the record vouched for from outside: each new checkpoint is brought to
// witnesses, which cosign it if it goes on from what they saw before (c2sp.org/tlog-witness).
package witness

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"oakenlatch/core/clip"
	"oakenlatch/core/ledger"
	"oakenlatch/service/audit"
	"oakenlatch/service/store"
)

// Outside is a witness as the settings name it.
type Outside struct {
	Key string // NAME+HASH+BASE64
	URL string // where it is asked
}

// Name is what it signs as.
func (o Outside) Name() string { return ledger.Name(o.Key) }

// Parse reads a witness as the settings write it: its key, a space, and where it is asked.
func Parse(text string) (Outside, error) {
	key, at, ok := strings.Cut(strings.TrimSpace(text), " ")
	at = strings.TrimRight(strings.TrimSpace(at), "/")
	u, err := url.Parse(at)
	if !ok || err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return Outside{}, fmt.Errorf(
			"%q is no witness: write its key and where it is asked, like NAME+HASH+BASE64 http://198.51.100.30:8660",
			text,
		)
	}
	if err := ledger.CheckWitness(key); err != nil {
		return Outside{}, err
	}
	return Outside{key, at}, nil
}

// Standing is how it stands with a witness.
type Standing struct {
	Name    string
	URL     string
	Size    int64     // entries that it vouches for
	At      time.Time // when it last did
	Trouble string    // why not of the newest; "" where it did
	Denies  bool      // it saw another record than this
}

// Witnesses has those outside sign checkpoints; nil has nobody.
type Witnesses struct {
	log    *audit.Log
	logger *slog.Logger
	client *http.Client
	list   []*one
}

// one is a witness that is asked.
type one struct {
	Outside
	newest chan store.SignedTree // the one to be brought, and nothing older

	asking sync.Mutex // one at a time

	mu       sync.Mutex
	standing Standing
}

// Keys gives the keys of those that the settings name: the log counts what is signed with them.
func Keys(list []Outside) []string {
	keys := make([]string, len(list))
	for i, o := range list {
		keys[i] = o.Key
	}
	return keys
}

// New gives those that the settings name.
func New(log *audit.Log, list []Outside, logger *slog.Logger) *Witnesses {
	w := &Witnesses{
		log: log, logger: logger,
		client: &http.Client{
			Timeout:       10 * time.Second,
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		},
	}
	for _, o := range list {
		w.list = append(
			w.list,
			&one{
				Outside: o, newest: make(chan store.SignedTree, 1),
				standing: Standing{Name: o.Name(), URL: o.URL, Trouble: "it was not asked yet"},
			},
		)
	}
	return w
}

// The pause before one that did not sign is asked again grows from the first to the second.
const (
	soon  = 2 * time.Second
	again = time.Minute
)

// Run brings checkpoints to all of them until ctx ends.
func (w *Witnesses) Run(ctx context.Context) {
	var all sync.WaitGroup
	for _, o := range w.list {
		all.Go(func() {
			var last store.SignedTree
			var retry <-chan time.Time
			pause := soon
			for {
				select {
				case <-ctx.Done():
					return
				case last = <-o.newest:
				case <-retry:
				}
				w.ask(ctx, o, last)
				if retry = nil; o.stands().Trouble == "" {
					pause = soon
				} else {
					retry, pause = time.After(pause), min(2*pause, again)
				}
			}
		})
	}
	all.Wait()
}

// Signed hears of a new checkpoint; it does not wait.
func (w *Witnesses) Signed(c store.SignedTree) {
	for _, o := range w.list {
		select {
		case <-o.newest:
		default:
		}
		select {
		case o.newest <- c:
		default:
		}
	}
}

// Ask brings a checkpoint to all of them now, and gives it with the signatures that came of it.
func (w *Witnesses) Ask(ctx context.Context, c store.SignedTree) store.SignedTree {
	if w == nil || c.Size == 0 {
		return c
	}
	lines := make([]string, len(w.list))
	var all sync.WaitGroup
	for i, o := range w.list {
		all.Go(func() { lines[i] = w.ask(ctx, o, c) })
	}
	all.Wait()
	for _, l := range lines {
		c.Note = string(ledger.AddSignatures([]byte(c.Note), l))
	}
	return c
}

// Standings tells how it stands with each.
func (w *Witnesses) Standings() (out []Standing) {
	if w == nil {
		return nil
	}
	for _, o := range w.list {
		out = append(out, o.stands())
	}
	return out
}

func (o *one) stands() Standing {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.standing
}

// denied is what a witness saw that this record is not.
type denied struct{ why string }

func (d *denied) Error() string { return d.why }

// ask brings a checkpoint to a witness, and gives the lines that it signed it with.
func (w *Witnesses) ask(ctx context.Context, o *one, c store.SignedTree) string {
	o.asking.Lock()
	defer o.asking.Unlock()
	lines, err := w.bring(ctx, o, c)
	if ctx.Err() != nil {
		return ""
	}
	o.mu.Lock()
	before := o.standing
	var no *denied
	switch {
	case err == nil:
		o.standing = Standing{Name: before.Name, URL: before.URL, Size: c.Size, At: w.log.Now()}
	case errors.As(err, &no):
		o.standing.Trouble, o.standing.Denies = err.Error(), true
	case !before.Denies: // what it saw stays said until it signs again
		o.standing.Trouble = err.Error()
	}
	now := o.standing
	o.mu.Unlock()
	switch {
	case now.Denies && !before.Denies:
		w.logger.Error(
			"a witness saw another record than this one: it was altered, cut off, or an older one was put back",
			"witness", now.Name, "said", now.Trouble,
		)
		err := w.log.Write(ctx, func(tx *audit.Tx) error {
			return tx.Record(
				ledger.Entry{
					Actor: audit.Service, Action: "audit.denied", Outcome: ledger.Failed,
					Note: "witness " + now.Name + ": " + now.Trouble,
				},
			)
		})
		if err != nil {
			w.logger.Error("that a witness saw another record could not be entered", "error", err)
		}
	case now.Trouble != "" && now.Trouble != before.Trouble:
		w.logger.Warn(
			"a witness did not sign the newest checkpoint of the record; it is asked again", "witness", now.Name, "at",
			now.URL, "error", now.Trouble,
		)
	case now.Trouble == "" && before.Trouble != "":
		w.logger.Info("a witness vouches for the record", "witness", now.Name, "entries", now.Size)
	}
	return lines
}

// bring speaks the protocol: it says from where the checkpoint goes on, as the witness knows it.
func (w *Witnesses) bring(ctx context.Context, o *one, c store.SignedTree) (string, error) {
	old, told, newest := o.stands().Size, false, false
	for range 5 {
		if old > c.Size {
			if newer, err := w.log.Newest(ctx); err == nil && newer.Size >= old {
				c, newest = newer, true // it was brought a newer one meanwhile
				continue
			}
			return "", &denied{
				fmt.Sprintf(
					"it saw %d entries, and the record has %d: the end was cut off, or an older one put back", old,
					c.Size,
				),
			}
		}
		body, err := w.log.Extends(ctx, old, c)
		if err != nil {
			return "", err
		}
		status, answer, err := w.post(ctx, o.URL+"/add-checkpoint", body)
		if err != nil {
			return "", err
		}
		switch status {
		case http.StatusOK:
			lines, err := w.signed(ctx, o, c, answer)
			if newest {
				lines = "" // they are of another checkpoint than the one that is asked for
			}
			return lines, err
		case http.StatusConflict:
			size, err := strconv.ParseInt(strings.TrimSpace(answer), 10, 64)
			if err != nil || size < 0 {
				return "", fmt.Errorf("it answers with no number of entries: %.80q", answer)
			}
			if size == old {
				return "", &denied{fmt.Sprintf("it saw other %d entries than those of this record", size)}
			}
			old = size
		case http.StatusUnprocessableEntity:
			return "", &denied{fmt.Sprintf("the first %d entries are not those that it saw: %s", old, oneLine(answer))}
		case http.StatusForbidden:
			if told {
				return "", fmt.Errorf(
					"it does not believe the key that signs the record: %s. Start it with --log and that key",
					oneLine(answer),
				)
			}
			told = true
			list, err := w.log.Handovers(ctx)
			if err != nil {
				return "", err
			}
			for _, text := range list {
				if _, _, err := w.post(ctx, o.URL+"/add-key", text); err != nil {
					return "", err
				}
			}
			if len(list) == 0 {
				return "", fmt.Errorf(
					"it does not believe the key that signs the record: %s. Start it with --log and that key",
					oneLine(answer),
				)
			}
		case http.StatusNotFound:
			return "", fmt.Errorf(
				"it does not watch over this record; start it with --log and the record's key",
			)
		default:
			return "", fmt.Errorf("it answers %d %s: %s", status, http.StatusText(status), oneLine(answer))
		}
	}
	return "", errors.New("it does not come to an end with what it saw")
}

// signed looks whether what a witness answered is its signature, and keeps that.
func (w *Witnesses) signed(ctx context.Context, o *one, c store.SignedTree, lines string) (string, error) {
	claim, err := ledger.Claim([]byte(c.Note))
	if err != nil {
		return "", err
	}
	keys, err := w.log.Keys(ctx)
	if err != nil {
		return "", err
	}
	var own []string
	for _, k := range keys {
		own = append(own, k.Key)
	}
	seen, err := ledger.OpenCheckpoint(ledger.AddSignatures([]byte(c.Note), lines), own, []string{o.Key})
	if err != nil {
		return "", err
	}
	if len(seen.Witnesses) == 0 || seen.Size != claim.Size {
		return "", errors.New("what it signs with is not the key that the settings name")
	}
	if _, err := w.log.Cosigned(ctx, c, lines); err != nil && !errors.Is(err, store.ErrNotFound) {
		return "", err
	}
	return lines, nil
}

func (w *Witnesses) post(ctx context.Context, to string, body []byte) (int, string, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, to, bytes.NewReader(body))
	if err != nil {
		return 0, "", err
	}
	res, err := w.client.Do(req)
	if err != nil {
		return 0, "", err
	}
	defer func() { _ = res.Body.Close() }()
	text, err := io.ReadAll(io.LimitReader(res.Body, 1<<14))
	return res.StatusCode, string(text), err
}

// oneLine is what somebody else answered, as it may be told.
func oneLine(text string) string {
	return clip.Line(strings.ToValidUTF8(text, "?"), 200)
}
