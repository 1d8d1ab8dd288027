package stencils

import (
	"context"
	"slices"

	"oakenlatch/core/codec"
	"oakenlatch/core/stencil"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/desk"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Bind stages what a stencil sets on devices, with their values for its blanks.
func (s *Stencils) Bind(
	ctx context.Context, p access.Person, number int64, name string, devices []string, values map[string]string,
) ([]desk.Loaded, error) {
	all, err := s.Versions(ctx, name)
	if err != nil {
		return nil, err
	}
	st, err := stencil.Parse(all[0].Text)
	if err != nil {
		return nil, refusal.New(refusal.Conflict, "", "stencil %s is retired or cannot be read: %v", name, err)
	}
	shared, err := s.sharedNow(ctx)
	if err != nil {
		return nil, err
	}
	if values == nil {
		values = map[string]string{}
	}
	cover, err := s.Cover(ctx)
	if err != nil {
		return nil, err
	}
	return s.bind(
		ctx, p, number, devices,
		restage{
			old: store.Binding{Stencil: name}, st: st, text: all[0].Text, cover: cover, version: all[0].Version,
			values: values, shared: shared, again: true,
		},
	)
}

// Unbind stages that what a stencil set on devices goes. What was changed by
// hand since stays.
func (s *Stencils) Unbind(
	ctx context.Context, p access.Person, number int64, name string, devices []string,
) ([]desk.Loaded, error) {
	return s.bind(ctx, p, number, devices, restage{old: store.Binding{Stencil: name}})
}

func (s *Stencils) bind(
	ctx context.Context, p access.Person, number int64, devices []string, r restage,
) ([]desk.Loaded, error) {
	c, err := s.desk.Own(ctx, p, number)
	if err != nil {
		return nil, err
	}
	staged, err := s.store.BindingsOf(ctx, number)
	if err != nil {
		return nil, err
	}
	inForce, err := s.store.InForce(ctx, r.old.Stencil)
	if err != nil {
		return nil, err
	}
	secret, err := s.SecretShared(ctx, r.cover)
	if err != nil {
		return nil, err
	}
	holds := r.cover.HoldsSecrets(r.text) || sharesSecrets(r.cover, secret, r.text, "")
	var all []boundLoad
	err = desk.Each(devices, func(device string) error {
		w, err := s.desk.Workable(ctx, p, c, device, "")
		if err != nil {
			return err
		}
		mine := r
		for _, b := range append(slices.Clone(inForce), staged...) { // what this change set last, else what is in force
			if b.Stencil == r.old.Stencil && b.Device == w.Device.ID {
				mine.old = b
			}
		}
		if r.st == nil && mine.old.Filled == nil {
			return refusal.New(refusal.NotFound, "", "%s does not use stencil %s", device, r.old.Stencil)
		}
		if holds {
			if err := uncoversOn(p, w.Device, r.old.Stencil); err != nil {
				return err
			}
		}
		if mine.values, err = s.liftValues(w, r.cover, r.text, r.values, mine.old.Blanks); err != nil {
			return refusal.New(refusal.Invalid, "nothing was staged", "%s: stencil %s: %v", device, r.old.Stencil, err)
		}
		one, err := s.restaged(&w, p, mine)
		all = append(all, one)
		return err
	})
	if err != nil {
		return nil, err
	}
	var out []desk.Loaded
	err = s.desk.Edit(ctx, p, number, func(tx *audit.Tx) error {
		for i := range all {
			if err := s.stageBound(tx, &all[i], number); err != nil {
				return err
			}
			out = append(out, all[i].load)
		}
		return nil
	})
	return out, err
}

// Use is how a device stands to a stencil it uses.
type Use struct {
	store.Binding
	DeviceName string
	Newest     int64 // version
	Strayed    []stencil.Standing
}

// Uses tells for every device that uses a stencil what somebody changed by hand
// since, by what was last read of it, as a person may see it. "" is every stencil.
func (s *Stencils) Uses(ctx context.Context, p access.Person, name string) ([]Use, error) {
	list, err := s.store.InForce(ctx, name)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	cover, err := s.Cover(ctx)
	if err != nil {
		return nil, err
	}
	newest := map[string]int64{}
	stencils, err := s.store.Stencils(ctx)
	if err != nil {
		return nil, err
	}
	for _, s := range stencils {
		newest[s.Name] = s.Version
	}
	var out []Use
	for _, b := range list {
		dev, err := s.store.DeviceByID(ctx, p.Reach(), b.Device)
		if store.OutOfReach(err) {
			continue // not the person's to see
		}
		if err != nil {
			return nil, err
		}
		u := Use{Binding: b, DeviceName: dev.Name, Newest: newest[b.Stencil]}
		now, err := s.history.Known(ctx, p.Reach(), dev.Name)
		if err != nil {
			return nil, err
		}
		set, err := codec.Decoder{Schema: now.Schema}.ParseTree(b.Filled)
		if err != nil {
			return nil, err
		}
		if !p.Grants.May(access.Reveal, dev) {
			text, err := s.versionText(ctx, b.Stencil, b.Version)
			if err != nil {
				return nil, err
			}
			u.Blanks = cover.Values(text, b.Blanks)
			set, now.Running = s.log.Redactor.Tree(set), s.log.Redactor.Tree(now.Running)
		}
		u.Strayed = stencil.Strayed(set, now.Running)
		out = append(out, u)
	}
	return out, nil
}
