package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"oakenlatch/core/advice"
	"oakenlatch/core/ledger"
	"oakenlatch/service/audit"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// askWitnesses is how long those outside are waited for where somebody wants to know.
const askWitnesses = 8 * time.Second

// vouched has those outside sign a checkpoint, as far as they answer.
func (a *API) vouched(ctx context.Context, c store.SignedTree) store.SignedTree {
	ctx, cancel := context.WithTimeout(ctx, askWitnesses)
	defer cancel()
	return a.Witnesses.Ask(ctx, c)
}

// verify checks the whole ledger: what witnesses saw counts, so that they are asked first.
func (a *API) verify(c *call) (any, error) {
	var elsewhere []string
	if c.Request().Method == http.MethodPost {
		var in wire.Against
		if err := c.read(&in); err != nil {
			return nil, err
		}
		elsewhere = append(elsewhere, in.Checkpoint)
	}
	signed, serr := a.Log.Checkpoint(c.ctx)
	if serr == nil {
		a.vouched(c.ctx, signed)
	}
	v, err := a.Log.Verify(c.ctx, elsewhere)
	if err != nil {
		return nil, err
	}
	switch {
	case errors.Is(serr, audit.ErrRewritten) && v.Wrong == 0:
		v.Find(0, "%v", serr)
	case serr != nil:
		v.Notes = append(v.Notes, fmt.Sprintf("what it is now was not signed, and not shown to witnesses: %v", serr))
	}
	witnesses := a.Documents.WitnessList()
	for _, w := range witnesses {
		if w.Denies {
			v.Find(0, "witness %s saw another record: %s", w.Name, w.Trouble)
		}
	}
	out := wire.VerifiedOf(v)
	out.Witnesses = witnesses
	return out, nil
}

func (a *API) checkpoint(c *call) (any, error) {
	signed, err := a.signedNow(c)
	if err != nil {
		return nil, err
	}
	return wire.Checkpoint{
		Checkpoint: signed.Note, Entries: signed.Size, At: signed.At, Witnesses: a.Documents.WitnessList(),
	}, nil
}

// signedNow signs what the record is now, here and outside.
func (a *API) signedNow(c *call) (store.SignedTree, error) {
	signed, err := a.Log.Checkpoint(c.ctx)
	if errors.Is(err, audit.ErrRewritten) {
		err = refusal.New(
			refusal.Conflict, "find out who could write to the database", "%v", err,
		).Do(advice.VerifyRecord)
	}
	if err != nil {
		return signed, err
	}
	return a.vouched(c.ctx, signed), nil
}

// prove gives a file with an entry that outsiders can check.
func (a *API) prove(c *call) (any, error) {
	e, err := a.entryOf(c)
	if err != nil {
		return nil, err
	}
	signed, err := a.signedNow(c)
	if err != nil {
		return nil, err
	}
	text, err := a.Log.Prove(c.ctx, e, signed)
	if err == nil {
		_, err = ledger.CheckProof(text)
	}
	if errors.Is(err, ledger.ErrAltered) {
		return nil, refusal.New(
			refusal.Conflict, "find out who could write to the database",
			"entry %d is not what was signed of it: %v", e.Seq, err,
		).Do(advice.VerifyRecord)
	}
	return wire.Proof{Proof: string(text), Entries: signed.Size}, err
}

// extends shows that the record goes on from a checkpoint.
func (a *API) extends(c *call) (any, error) {
	var in wire.Against
	if err := c.read(&in); err != nil {
		return nil, err
	}
	old, err := ledger.Claim([]byte(in.Checkpoint))
	if err != nil {
		return nil, refusal.New(
			refusal.Invalid, "take the checkpoint just as it was printed", "%v", err,
		).Do(advice.SignCheckpoint)
	}
	signed, err := a.signedNow(c)
	if err != nil {
		return nil, err
	}
	if old.Size > signed.Size {
		return nil, refusal.New(
			refusal.Conflict, "verify the record",
			"the checkpoint is of %d entries, and the record has %d: it is of another record, or the end of this one "+
				"was cut off",
			old.Size, signed.Size,
		).Do(advice.VerifyRecord)
	}
	text, err := a.Log.Extends(c.ctx, old.Size, signed)
	return wire.Proof{Proof: string(text), Entries: signed.Size}, err
}

func (a *API) recordKeys(c *call) (any, error) {
	out := []wire.RecordKey{}
	list, err := a.Log.Keys(c.ctx)
	for i, k := range list {
		out = append(out, wire.RecordKey{Key: k.Key, Entry: k.Seq, Now: i == len(list)-1, Leads: k.Trusted})
	}
	return out, err
}
