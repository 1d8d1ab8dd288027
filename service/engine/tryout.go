package engine

import (
	"context"
	"errors"
	"fmt"

	"oakenlatch/core/diff"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
	"oakenlatch/service/fleet"
	"oakenlatch/service/store"
)

// TryOut has a device judge a result without committing it: it is written to
// its candidate, validated, compared with what was asked for, and discarded.
// said is what speaks against it, "" for nothing. A device without a candidate
// is asked to test the edit only (RFC 6241 section 8.6).
func (e *Engine) TryOut(ctx context.Context, device store.Device, running, result *tree.Node) (said string, err error) {
	if n := e.Holder(device.ID); n != 0 {
		return "", fmt.Errorf("the commit of change %d is under way on it", n)
	}
	s, err := e.fleet.Dial(ctx, store.Everything, device.Name)
	if err != nil {
		return "", err
	}
	defer part(s)
	caps, d := s.Capabilities, diff.Compare(running, result)
	if direct(s) {
		if !caps.Has(netconf.CapValidate11) {
			return "", errors.New("it has neither a candidate nor :validate:1.1, so only a commit tells")
		}
		return objection(write(ctx, s, netconf.Running, d.Edits(), trying))
	}
	if !caps.Has(netconf.CapValidate11) && !caps.Has(netconf.CapValidate10) {
		return "", errors.New("it has no :validate, so only a commit tells")
	}
	if err := lockOne(ctx, s, netconf.Candidate); err != nil {
		return "", err
	}
	now, err := s.Read(ctx, netconf.Running)
	if err != nil {
		return "", err
	}
	if !tree.Same(now, running) {
		return "", errors.New("it moved on just now; preview again")
	}
	if err := foreignEdits(ctx, s, now); err != nil {
		return "", err
	}
	said, err = e.candidateSays(ctx, s, d)
	dctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), operation)
	defer cancel()
	return said, errors.Join(err, s.Wrap("discarding what was tried out", s.DiscardChanges(dctx)))
}

// candidateSays writes edits to the candidate and hears what the device makes
// of them.
func (e *Engine) candidateSays(ctx context.Context, s *fleet.Session, d *diff.Difference) (string, error) {
	if said, err := objection(write(ctx, s, netconf.Candidate, d.Edits(), going)); said != "" || err != nil {
		return said, err
	}
	vctx, cancel := context.WithTimeout(ctx, operation)
	defer cancel()
	if said, err := objection(
		s.Wrap("validating", s.Validate(vctx, netconf.Source{Datastore: netconf.Candidate})),
	); said != "" || err != nil {
		return said, err
	}
	got, err := s.Read(ctx, netconf.Candidate)
	if err != nil {
		return "", err
	}
	if off := diff.Compare(d.New.WithoutDefaults(), got.WithoutDefaults()); !off.Empty() && !diff.OrderOnly(off) {
		return "it made something else of the edits, first at " + off.Items()[0].Path, nil
	}
	return "", nil
}

// objection tells a device's no from trouble in asking it.
func objection(err error) (string, error) {
	if err != nil && netconf.Refused(err) {
		return brief(err), nil
	}
	return "", err
}
