package stencils

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"oakenlatch/core/redact"
	"oakenlatch/core/schema"
	"oakenlatch/core/stencil"
	"oakenlatch/service/access"
	"oakenlatch/service/desk"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Stencils are for all devices: the secrets in them are seen by those who may see
// them on all devices.

// Cover gives what hides secrets in stencils, by what the schemas of all devices
// say of their lines.
func (s *Stencils) Cover(ctx context.Context) (stencil.Cover, error) {
	out := stencil.Cover{Redactor: s.log.Redactor}
	list, err := s.store.Devices(ctx, store.Everything)
	if err != nil {
		return out, err
	}
	sets := map[string]*schema.Schema{}
	for _, dev := range list {
		if dev.ModuleSet == "" || sets[dev.ModuleSet] != nil {
			continue
		}
		if sets[dev.ModuleSet], err = s.fleet.Schema(ctx, dev); err != nil {
			return out, err
		}
		out.Schemas = append(out.Schemas, sets[dev.ModuleSet])
	}
	return out, nil
}

// SecretShared names the shared values that are secret: they stand where a stencil
// sets secrets, or their names say so.
func (s *Stencils) SecretShared(ctx context.Context, c stencil.Cover) (map[string]bool, error) {
	out := map[string]bool{}
	list, err := s.store.Stencils(ctx)
	if err != nil {
		return nil, err
	}
	for _, s := range list {
		for name := range c.Covered(s.Text) {
			if name, shared := strings.CutPrefix(name, "@"); shared {
				out[name] = true
			}
		}
	}
	values, err := s.store.SharedValues(ctx)
	for _, v := range values {
		if schema.SecretName(v.Name) {
			out[v.Name] = true
		}
	}
	return out, err
}

// keepsCovered refuses a new version of a stencil that puts what was secret where
// everybody reads it, for those who may not see it.
func keepsCovered(p access.Person, c stencil.Cover, shared map[string]bool, text string, former []store.Stencil) error {
	if p.Grants.Everywhere(access.Reveal) {
		return nil
	}
	secret := map[string]bool{}
	for name := range shared {
		secret["@"+name] = true
	}
	var open map[string]bool
	for i, v := range former {
		maps.Copy(secret, c.Covered(v.Text))
		if i == 0 {
			open = c.Open(v.Text)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(c.Open(text))) {
		if secret[name] && !open[name] {
			return refusal.New(
				refusal.Forbidden, "nothing was saved; use another blank there",
				"{%s} is filled in with secrets, which account %s may not see, and would stand where "+
					"everybody reads it",
				name, p.Name,
			)
		}
	}
	return nil
}

// uncoversOn refuses to set a stencil's secrets on a device where a person may see
// secrets, for those who may not see them in the stencil.
func uncoversOn(p access.Person, dev store.Device, name string) error {
	if p.Grants.Everywhere(access.Reveal) || !p.Grants.May(access.Reveal, dev) {
		return nil
	}
	return refusal.New(
		refusal.Forbidden, "ask somebody who may see secrets on all devices",
		"stencil %s holds secrets that account %s may not see in it, and would on %s", name, p.Name, dev.Name,
	)
}

// sharesSecrets reports whether secret shared values stand where secrets do in a
// text, and did not in a former one.
func sharesSecrets(c stencil.Cover, shared map[string]bool, text, former string) bool {
	before := c.Covered(former)
	for blank := range c.Covered(text) {
		if name, is := strings.CutPrefix(blank, "@"); is && shared[name] && !before[blank] {
			return true
		}
	}
	return false
}

// liftItems gives what items of a shared value mean: a name is that of an item it
// has.
func (s *Stencils) liftItems(items, former []string) ([]string, error) {
	out := slices.Clone(items)
	for i, item := range items {
		if !strings.HasPrefix(item, redact.Prefix) {
			continue
		}
		at := slices.IndexFunc(former, func(f string) bool { return s.log.Redactor.Name(f) == item })
		if at < 0 {
			return nil, refusal.New(refusal.Invalid, "nothing was saved", "item %d: %v", i+1, redact.ErrUnknown)
		}
		out[i] = former[at]
	}
	return out, nil
}

// ShownItems gives the items of a shared value as they are shown to those who may
// not see secrets.
func (s *Stencils) ShownItems(items []string) []string {
	out := make([]string, len(items))
	for i, item := range items {
		out[i] = s.log.Redactor.Name(item)
	}
	return out
}

// liftValues gives what values for blanks mean on a device: a name is that of the
// value the blank has there, or of a secret of the device.
func (s *Stencils) liftValues(
	w desk.Work, c stencil.Cover, text string, values, former map[string]string,
) (map[string]string, error) {
	out := maps.Clone(values)
	covered := c.Covered(text)
	for name, v := range values {
		if !covered[name] || !strings.HasPrefix(v, redact.Prefix) {
			continue
		}
		if f, ok := former[name]; ok && s.log.Redactor.Name(f) == v {
			out[name] = f
			continue
		}
		lifted, err := s.desk.Lift(w)(v)
		if err != nil {
			return nil, fmt.Errorf("blank %s: %w", name, err)
		}
		out[name] = lifted
	}
	return out, nil
}
