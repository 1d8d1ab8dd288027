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
	if _, err := a.deviceDocs(&call{ctx: ctx, person: all}); err != nil {
		errs = append(errs, err)
	}
	for _, p := range people {
		c := &call{ctx: ctx, person: p.Acting(access.Read)}
		_, err := a.Store.SharedWith(c.ctx, p.Name)
		errs = append(errs, err)
		for number := range running {
			ch, err := a.Desk.Get(c.ctx, p, number)
			if err != nil {
				continue // not theirs to see
			}
			_, err = a.changeDoc(c, ch)
			errs = append(errs, err)
		}
	}
	_, err = a.Desk.List(ctx, people[0])
	return errors.Join(append(errs, err)...)
}
