package cli

import (
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"oakenlatch/core/ledger"
	"oakenlatch/wire"
)

// keyFlag is a flag with a key, or a file that holds one; it may be given several times.
func keyFlag(fs *flag.FlagSet, name, usage string) *list {
	out := &list{}
	fs.Var(out, name, usage+": the key, or a file with it; may be given several times")
	return out
}

// keys reads what such a flag was given, each checked.
func keys(given list, check func(string) error) ([]string, error) {
	var out []string
	for _, text := range given {
		if body, err := os.ReadFile(text); err == nil {
			text = strings.TrimSpace(string(body))
		}
		if err := check(text); err != nil {
			return nil, wrongUse("%v", err)
		}
		out = append(out, text)
	}
	return out, nil
}

func auditVerify(a *app, fs *flag.FlagSet) func([]string) error {
	against := fs.String("checkpoint", "", "a checkpoint that was stored elsewhere: a file of latch audit checkpoint")
	file := fs.String("file", "", "check a file of latch audit export --format jsonl by itself, without the service")
	own := keyFlag(fs, "key", "with --file: what signs the record (latch audit key)")
	witnesses := keyFlag(fs, "witness", "with --file: who vouches for it")
	return func([]string) error {
		text := ""
		if *against != "" {
			body, err := a.read(*against)
			if err != nil {
				return err
			}
			text = string(body)
		}
		if *file == "" && len(*own)+len(*witnesses) > 0 {
			return wrongUse("--key and --witness go with --file: the service knows its own")
		}
		var v wire.Verified
		var err error
		switch {
		case *file != "":
			v, err = verifyFile(*file, text, *own, *witnesses)
		case text != "":
			v, err = a.api().VerifyAgainst(a.ctx, wire.Against{Checkpoint: text})
		default:
			v, err = a.api().VerifyAudit(a.ctx)
		}
		if err != nil {
			return err
		}
		if err := a.show(v, func() { a.verified(v) }); err != nil {
			return err
		}
		return answered(v.Answer)
	}
}

// answered gives the exit status of one of the three answers.
func answered(answer string) error {
	switch answer {
	case wire.Vouched:
		return nil
	case wire.Consistent:
		return &exit{status: Unvouched}
	}
	return &exit{status: AnswerNo}
}

func (a *app) verified(v wire.Verified) {
	switch v.Answer {
	case wire.Vouched:
		a.printf("The record is what was seen from outside, up to entry %d of %d.\n", v.Vouched, v.Last)
		a.printf(
			"  seen by %s, %s\n", strings.Join(slices.Sorted(slices.Values(v.VouchedBy)), ", "),
			whenOr(v.VouchedAt, "at a time that is not known"),
		)
		if v.Vouched < v.Last {
			a.printf(
				"  behind it %s consistent in themselves: nobody outside vouches for those yet.\n",
				count(int(v.Last-v.Vouched), "entry is", "entries are"),
			)
		}
	case wire.Consistent:
		a.printf(
			"The record is consistent in itself: %s. Nobody outside vouches for it.\n",
			count(int(v.Entries), "entry", "entries"),
		)
		a.printf("  Whoever can write to the database and to what lies beside it could have rewritten all of it.\n")
		a.printf(
			"  Next: have it watched over from outside (latch witness), or keep a checkpoint elsewhere: latch audit " +
				"checkpoint > checkpoint.txt\n",
		)
	default:
		what := count(int(v.Wrong), "finding", "findings")
		if len(v.Findings) > 0 && v.Findings[0].Seq > 0 {
			what = fmt.Sprintf("first at entry %d; %s", v.Findings[0].Seq, what)
		}
		a.printf("%s %s:\n", a.paint(alarm, "The record was altered,"), what)
		for _, f := range v.Findings {
			a.printf("  %s\n", f.String())
		}
		if int64(len(v.Findings)) < v.Wrong {
			a.printf("  and %d more\n", v.Wrong-int64(len(v.Findings)))
		}
		if v.Vouched > 0 {
			a.printf(
				"Up to entry %d it is what %s saw.\n", v.Vouched,
				strings.Join(slices.Sorted(slices.Values(v.VouchedBy)), ", "),
			)
		}
	}
	if v.Held > 0 {
		a.printf(
			"It is as it was signed at entry %d, %s, with key %s.\n", v.Held,
			whenOr(v.HeldAt, "at a time that is not known"), v.Key,
		)
	}
	for _, w := range v.Witnesses {
		if w.Trouble != "" && !w.Denies {
			a.printf("  note: witness %s did not sign it as it is now: %s\n", w.Name, w.Trouble)
		}
	}
	for _, n := range v.Notes {
		a.printf("  note: %s\n", n)
	}
	for _, seq := range v.ClockBack {
		a.printf("  note: the service's clock had been set back before entry %d: latch audit show %d\n", seq, seq)
	}
}

// whenOr is a time, or a text where there is none.
func whenOr(t time.Time, none string) string {
	if t.IsZero() {
		return none
	}
	return when(t)
}

// verifyFile checks an exported ledger, perhaps against a checkpoint.
func verifyFile(name, checkpoint string, ownKeys, witnesses list) (out wire.Verified, err error) {
	f, err := os.Open(name)
	if err != nil {
		return out, wrongUse("%v", err)
	}
	defer func() { _ = f.Close() }()
	var words []ledger.Word
	note := ""
	if checkpoint != "" {
		w, how, err := wordOf(checkpoint, ownKeys, witnesses)
		if err != nil {
			return out, err
		}
		words, note = append(words, w), how
	}
	v := ledger.NewVerifier(words)
	if note != "" {
		v.Notes = append(v.Notes, note)
	}
	for dec := json.NewDecoder(f); ; {
		var e ledger.Entry
		if err := dec.Decode(&e); err == io.EOF {
			break
		} else if err != nil {
			return out, wrongUse("%s, behind entry %d: %v", name, v.Last().Seq, err)
		}
		v.Next(e)
	}
	v.End()
	return wire.VerifiedOf(v), nil
}

// wordOf reads a checkpoint that somebody kept; how says what it rests on.
func wordOf(text string, ownKeys, witnesses list) (w ledger.Word, how string, err error) {
	own, err := keys(ownKeys, ledger.CheckKey)
	if err != nil {
		return w, "", err
	}
	others, err := keys(witnesses, ledger.CheckWitness)
	if err != nil {
		return w, "", err
	}
	const kept = "who stored the checkpoint"
	if strings.HasPrefix(strings.TrimSpace(text), "{") { // of a release before the tree
		c, err := ledger.ParseChained([]byte(text))
		if err != nil {
			return w, "", wrongUse("the checkpoint: %v", err)
		}
		w = ledger.WordOfChained(c)
		w.Whose = []string{kept}
		return w, "the checkpoint is signed with key " + c.Key + ": see that it is the one you trust", nil
	}
	if len(own) == 0 {
		claim, err := ledger.Claim([]byte(text))
		if err != nil {
			return w, "", wrongUse("the checkpoint: %v", err)
		}
		w = ledger.WordOf(claim, time.Time{})
		w.Whose = []string{kept}
		return w, "who signed the checkpoint was not looked at: give the record's key with --key", nil
	}
	c, err := ledger.OpenCheckpoint([]byte(text), own, others)
	if err != nil {
		return w, "", &exit{AnswerNo, fmt.Errorf("the checkpoint: %w", err)}
	}
	w = ledger.WordOf(c, time.Time{})
	w.Whose = append(w.Whose, kept)
	return w, "", nil
}

func auditCheckpoint(a *app, _ *flag.FlagSet) func([]string) error {
	return func([]string) error {
		c, err := a.api().SignCheckpoint(a.ctx)
		if err != nil {
			return err
		}
		return a.show(c, func() { _ = a.exact(c.Checkpoint) })
	}
}

func auditKey(a *app, _ *flag.FlagSet) func([]string) error {
	return func([]string) error {
		named, err := a.api().ListRecordKeys(a.ctx)
		if err != nil {
			return err
		}
		return a.show(named, func() {
			for _, k := range named {
				if k.Now {
					a.printf("%s\n", k.Key)
				}
			}
			for _, k := range named {
				switch {
				case k.Now:
				case k.Leads:
					_, _ = fmt.Fprintf(
						a.err, "before: %s, from entry %d on; it signed the next one in\n", k.Key, k.Entry,
					)
				default:
					_, _ = fmt.Fprintf(
						a.err, "before: %s, from entry %d on; it did not sign the next one in: latch audit show %d\n",
						k.Key, k.Entry, k.Entry,
					)
				}
			}
		})
	}
}

func auditProve(a *app, fs *flag.FlagSet) func([]string) error {
	since := fs.String(
		"since", "", "prove instead that the record goes on from this checkpoint: a file of latch audit checkpoint",
	)
	to := fs.String("to", "-", "the file that is written; - is standard output")
	return func(args []string) error {
		var p wire.Proof
		switch {
		case (*since == "") == (len(args) == 0):
			return wrongUse("give the number of an entry, or --since FILE")
		case *since != "":
			text, err := a.read(*since)
			if err != nil {
				return err
			}
			if p, err = a.api().ProveExtension(a.ctx, wire.Against{Checkpoint: string(text)}); err != nil {
				return err
			}
		default:
			entry, err := numbered("an entry", args[0], "latch audit")
			if err != nil {
				return err
			}
			if p, err = a.api().ProveEntry(a.ctx, entry); err != nil {
				return err
			}
		}
		if *to == "-" {
			return a.show(p, func() { _ = a.exact(p.Proof) })
		}
		if _, err := a.keepFile(*to, strings.NewReader(p.Proof)); err != nil {
			return err
		}
		next := "latch audit check " + *to + " --key KEY"
		if *since != "" {
			next += " --since " + *since
		}
		return a.show(p, func() {
			a.printf(
				"%s: of a record of %s. Anybody checks it without this service: %s\n", *to,
				count(int(p.Entries), "entry", "entries"), next,
			)
		})
	}
}

// checked is what a check of a proof came to.
type checked struct {
	Answer  string        `json:"answer"`
	Entry   *ledger.Entry `json:"entry,omitempty"`
	From    int64         `json:"from,omitempty"` // entries of the checkpoint that the record goes on from
	Entries int64         `json:"entries"`        // of the record it is in
	Origin  string        `json:"origin"`
	Key     string        `json:"key,omitempty"` // that signed that record, of those that were given
	By      []witnessed   `json:"witnesses"`
	Why     string        `json:"why,omitempty"`
}

type witnessed struct {
	Name string    `json:"name"`
	At   time.Time `json:"at"`
}

// auditCheck needs no service: whoever was handed a proof can tell whether it holds.
func auditCheck(a *app, fs *flag.FlagSet) func([]string) error {
	own := keyFlag(fs, "key", "what signs the record, as its people told you (latch audit key)")
	witnesses := keyFlag(fs, "witness", "who is to have vouched for it")
	since := fs.String("since", "", "the checkpoint that the record is to go on from, as it was kept")
	return func(args []string) error {
		text, err := a.read(args[0])
		if err != nil {
			return err
		}
		trusted, err := keys(*own, ledger.CheckKey)
		if err != nil {
			return err
		}
		others, err := keys(*witnesses, ledger.CheckWitness)
		if err != nil {
			return err
		}
		out, checkpoint, err := a.proven(string(text), *since, trusted)
		if errors.Is(err, ledger.ErrAltered) {
			out.Answer, out.Why = wire.Altered, err.Error()
		} else if err != nil {
			return wrongUse("%s: %v", args[0], err)
		} else {
			out.whoSigned(checkpoint, trusted, others)
		}
		if err := a.show(out, func() { a.checked(args[0], out, len(others)) }); err != nil {
			return err
		}
		return answered(out.Answer)
	}
}

// proven reads either kind of proof, and checks all but who signed it.
func (a *app) proven(text, since string, trusted []string) (out checked, checkpoint []byte, err error) {
	if since == "" {
		p, err := ledger.CheckProof([]byte(text))
		if p.Entry.Seq > 0 {
			out.Entry = &p.Entry
		}
		out.Entries, out.Origin = p.Claim.Size, p.Claim.Origin
		return out, p.Checkpoint, err
	}
	kept, err := a.read(since)
	if err != nil {
		return out, nil, err
	}
	open := func(text []byte) (ledger.Checkpoint, error) {
		if len(trusted) == 0 {
			return ledger.Claim(text)
		}
		c, err := ledger.OpenCheckpoint(text, trusted, nil)
		if err != nil {
			err = fmt.Errorf("%w: %w", ledger.ErrAltered, err)
		}
		return c, err
	}
	x, err := ledger.ReadExtends([]byte(text))
	if err != nil {
		return out, nil, err
	}
	old, oerr := open(kept)
	now, nerr := open(x.Checkpoint)
	if err := errors.Join(oerr, nerr); err != nil {
		return out, nil, err
	}
	out.From, out.Entries, out.Origin = old.Size, now.Size, now.Origin
	if old.Origin != now.Origin {
		return out, nil, fmt.Errorf(
			"%w: the checkpoints are of two records, %s and %s", ledger.ErrAltered, old.Origin, now.Origin,
		)
	}
	return out, x.Checkpoint, x.Check(old, now)
}

// whoSigned tells whether those signed a checkpoint who are trusted.
func (c *checked) whoSigned(checkpoint []byte, trusted, witnesses []string) {
	c.By = []witnessed{}
	if len(trusted) == 0 {
		c.Answer, c.Why = wire.Consistent, "who signed it was not looked at: give the record's key with --key"
		return
	}
	signed, err := ledger.OpenCheckpoint(checkpoint, trusted, witnesses)
	if err != nil {
		c.Answer, c.Why = wire.Altered, "its checkpoint is not signed with the key that was given: "+err.Error()
		return
	}
	c.Answer, c.Key = wire.Vouched, signed.Key
	for _, w := range signed.Witnesses {
		c.By = append(c.By, witnessed{ledger.Name(w.Key), w.At})
	}
	for _, w := range witnesses {
		if !hasWitness(signed, w) {
			c.Answer, c.Why = wire.Consistent, "witness "+ledger.Name(w)+" did not sign it"
		}
	}
}

func hasWitness(c ledger.Checkpoint, key string) bool {
	for _, w := range c.Witnesses {
		if w.Key == key {
			return true
		}
	}
	return false
}

func (a *app) checked(file string, c checked, witnesses int) {
	if c.Answer == wire.Altered {
		a.printf("%s %s\n", a.paint(alarm, file+" does not hold:"), c.Why)
		return
	}
	switch {
	case c.Entry != nil:
		e := c.Entry
		a.printf(
			"Entry %d is in the record %s, which had %s.\n", e.Seq, c.Origin,
			count(int(c.Entries), "entry", "entries"),
		)
		for _, row := range [][2]string{
			{"at", when(e.At)}, {"who", e.Actor}, {"what", strings.TrimSpace(e.Action + " " + string(e.Outcome))},
			{"device", e.Device}, {"path", e.Path}, {"before", e.Before}, {"after", e.After}, {"note", e.Note},
		} {
			if row[1] != "" {
				a.printf("  %-8s %s\n", row[0], strings.ReplaceAll(row[1], "\n", "\n           "))
			}
		}
	default:
		a.printf(
			"The record %s, of %d entries, goes on from the checkpoint of %d: nothing of that was rewritten.\n",
			c.Origin, c.Entries, c.From,
		)
	}
	if c.Key != "" {
		a.printf("It is signed with %s.\n", c.Key)
	}
	for _, w := range c.By {
		a.printf("Witness %s saw it at %s.\n", w.Name, when(w.At))
	}
	if c.Why != "" {
		a.printf("%s %s\n", a.paint(alarm, "But:"), c.Why)
	} else if witnesses == 0 {
		a.printf(
			"That rests on the key alone: who has that could sign another record. Ask for a witness, too: " +
				"--witness KEY\n",
		)
	}
}
