package desk

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"strings"
	"unicode/utf8"

	"oakenlatch/core/ledger"
	"oakenlatch/core/lifecycle"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Share adds somebody to a change: they see it, stage in it, drop and commit,
// as its author does.
func (d *Desk) Share(ctx context.Context, p access.Person, number int64, account string) error {
	c, err := d.authored(ctx, p, number, "add people")
	if err != nil {
		return err
	}
	if account == c.Author {
		return refusal.New(refusal.Invalid, "", "%s is the author of change %d", account, number)
	}
	acc, err := d.store.Account(ctx, account)
	if errors.Is(err, store.ErrNotFound) {
		return refusal.New(refusal.NotFound, "", "there is no account %q", account)
	}
	if err != nil {
		return err
	}
	may, err := access.ParseGrants(acc.Grants)
	if err != nil {
		return err
	}
	if !may.Somewhere(access.Stage) || !acc.Closed.IsZero() {
		return refusal.New(refusal.Conflict, "", "%s may not stage anything", account)
	}
	return d.change(ctx, p, number, func(tx *audit.Tx) error {
		err := tx.AddCoworker(number, account, p.Name, d.log.Now())
		if errors.Is(err, store.ErrExists) {
			return refusal.New(refusal.Conflict, "", "%s works on change %d already", account, number)
		}
		if err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: p.Name, Action: "change.share", Change: number, After: account})
	})
}

// Unshare takes somebody off a change. What they staged stays.
func (d *Desk) Unshare(ctx context.Context, p access.Person, number int64, account string) error {
	if _, err := d.authored(ctx, p, number, "take people off"); err != nil {
		return err
	}
	return d.change(ctx, p, number, func(tx *audit.Tx) error {
		err := tx.DropCoworker(number, account)
		if errors.Is(err, store.ErrNotFound) {
			return refusal.New(refusal.NotFound, "", "%s was not added to change %d", account, number)
		}
		if err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: p.Name, Action: "change.unshare", Change: number, Before: account})
	})
}

// Rename gives a change another title and ticket.
func (d *Desk) Rename(ctx context.Context, p access.Person, number int64, title, ticket string) error {
	c, err := d.Own(ctx, p, number)
	if err != nil {
		return err
	}
	if title, ticket, err = Titled(title, ticket); err != nil {
		return err
	}
	return d.change(ctx, p, number, func(tx *audit.Tx) error {
		if err := tx.SetTitle(number, title, ticket, d.log.Now()); err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: p.Name, Action: "change.rename", Change: number, Before: c.Title + " (" + c.Ticket + ")",
				After: title + " (" + ticket + ")",
			},
		)
	})
}

const mostNote = 10_000

// Note writes a note down with a change, in whatever state that is. A draft is
// its people's; what is or was on devices, anybody may add to.
func (d *Desk) Note(ctx context.Context, p access.Person, number int64, text string) (store.Note, error) {
	n := store.Note{Change: number, Actor: p.Name, Text: strings.TrimSpace(text), At: d.log.Now()}
	c, coworkers, err := d.get(ctx, p, number)
	if err != nil {
		return n, err
	}
	if !works(c, p, coworkers) && !p.Administers() && (c.State == lifecycle.Draft || c.State == lifecycle.Dropped) {
		return n, refusal.New(refusal.Forbidden, "", "change %d belongs to %s", number, c.Author)
	}
	if n.Text == "" || utf8.RuneCountInString(n.Text) > mostNote {
		return n, refusal.New(refusal.Invalid, "", "a note has 1 to %d characters", mostNote)
	}
	return n, d.log.Write(ctx, func(tx *audit.Tx) error {
		if n, err = tx.AddNote(n); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: p.Name, Action: "change.note", Change: number, Note: n.Text})
	})
}

// Readdress says that a part moves its device's management to another address
// on purpose. The hold's proof of management access goes there, and once the change is
// kept the device is reached there. "" takes that back.
func (d *Desk) Readdress(ctx context.Context, p access.Person, number int64, device, to, seenAs string) error {
	if _, err := d.Own(ctx, p, number); err != nil {
		return err
	}
	dev, err := d.Device(ctx, p.Reach(), device)
	if err != nil {
		return err
	}
	if host, port, err := net.SplitHostPort(to); to != "" && (err != nil || host == "" || port == "") {
		return refusal.New(
			refusal.Invalid, "write it as HOST:PORT, e.g. 192.0.2.21:830", "%s: %q is no address", device, to,
		)
	}
	if _, _, err := Endpoint(seenAs); seenAs != "" && (err != nil || to == "") {
		return refusal.New(
			refusal.Invalid, "write it as ADDRESS or ADDRESS:PORT", "%s: %q is no address as packets have it", device,
			seenAs,
		)
	}
	return d.change(ctx, p, number, func(tx *audit.Tx) error {
		err := tx.MovePart(store.Part{Change: number, Device: dev.ID, MovesTo: to, MovesSeenAs: seenAs})
		if errors.Is(err, store.ErrNotFound) {
			return refusal.New(
				refusal.Conflict, "stage the new address first", "change %d has no part on %s", number, device,
			)
		}
		if err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: p.Name, Action: "part.readdress", Change: number, Device: device, Before: dev.Address, After: to,
				Note: seenAs,
			},
		)
	})
}

// Endpoint reads an address as packets have it, with or without a port; the
// port is NETCONF's (RFC 6242 section 6) where none is given.
func Endpoint(text string) (netip.Addr, uint16, error) {
	if a, err := netip.ParseAddr(text); err == nil {
		return a, 830, nil
	}
	ap, err := netip.ParseAddrPort(text)
	return ap.Addr(), ap.Port(), err
}
