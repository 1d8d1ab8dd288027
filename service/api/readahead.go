package api

import (
	"context"
	"errors"

	"oakenlatch/service/access"
)

// ReadAhead reads what people need to decide about what is under way, as they would ask
// for it: who they are, the devices, and how it stands. What was read last is known where the disk
// of the records cannot be read any more (service/store).
func (a *API) ReadAhead(ctx context.Context) error {
	people, err := a.Accounts.ReadAhead(ctx)
	running := a.Engine.Running()
	if err != nil || len(running) == 0 || len(people) == 0 {
		return err
	}
	errs := []error{}
	all := access.Person{Grants: access.Grants{{Role: access.Read}}} // what each of them sees is part of that
	if _, err := a.Documents.Devices(ctx, all); err != nil {
		errs = append(errs, err)
	}
	for _, p := range people {
		p = p.Acting(access.Read)
		for number := range running {
			ch, err := a.Desk.Get(ctx, p, number)
			if err != nil {
				continue // not theirs to see
			}
			_, err = a.Documents.Change(ctx, p, ch.Number)
			errs = append(errs, err)
		}
		_, err := a.Documents.Attention(ctx, p)
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}
