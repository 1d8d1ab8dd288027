// Package stencils keeps pieces of configuration with blanks, stages them on devices, and follows: who changes one gets
// a change for the devices that use it.
package stencils

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"oakenlatch/core/advice"
	"oakenlatch/core/clip"
	"oakenlatch/core/ledger"
	"oakenlatch/core/schema"
	"oakenlatch/core/stencil"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/desk"
	"oakenlatch/service/fleet"
	"oakenlatch/service/history"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Stencils keeps them.
type Stencils struct {
	store   *store.Store
	log     *audit.Log
	history *history.History
	fleet   *fleet.Fleet
	desk    *desk.Desk
}

// New gives stencils that are staged at a desk.
func New(s *store.Store, log *audit.Log, h *history.History, f *fleet.Fleet, d *desk.Desk) *Stencils {
	return &Stencils{store: s, log: log, history: h, fleet: f, desk: d}
}

// Versions gives a stencil's newest version and its history, newest first.
func (s *Stencils) Versions(ctx context.Context, name string) ([]store.Stencil, error) {
	all, err := s.store.StencilVersions(ctx, name)
	if err == nil && len(all) == 0 {
		err = refusal.New(refusal.NotFound, "list them", "there is no stencil %q", name).Do(advice.ListStencils)
	}
	return all, err
}

// sharedNow gives all shared values as they are now.
func (s *Stencils) sharedNow(ctx context.Context) (map[string][]string, error) {
	list, err := s.store.SharedValues(ctx)
	out := map[string][]string{}
	for _, v := range list {
		if len(v.Items) > 0 {
			out[v.Name] = v.Items
		}
	}
	return out, err
}

// Save keeps a new version of a stencil, and opens a change with a part
// for every device that uses it. blanks are values for blanks that are new;
// from is the version it was made of, 0 where that does not matter.
func (s *Stencils) Save(
	ctx context.Context, p access.Person, name, text, note string, blanks map[string]string, from int64,
) (store.Stencil, Follow, error) {
	v := store.Stencil{Name: name, Text: text, Note: strings.TrimSpace(note), Actor: p.Name, At: s.log.Now()}
	if !stencil.Name(name) {
		return v, Follow{}, refusal.New(
			refusal.Invalid, "use 1 to 63 letters, digits, - and _, a letter first", "%q is no name for a stencil",
			name,
		)
	}
	all, err := s.store.StencilVersions(ctx, name)
	if err != nil {
		return v, Follow{}, err
	}
	for _, x := range all {
		if err := othersToo(p, "stencil "+name, x.Actor); err != nil {
			return v, Follow{}, err
		}
	}
	cover, err := s.Cover(ctx)
	if err != nil {
		return v, Follow{}, err
	}
	text, err = cover.Lift(text, texts(all)...)
	var st *stencil.Stencil
	if err == nil {
		st, err = stencil.Parse(text)
	}
	if err != nil {
		return v, Follow{}, refusal.New(refusal.Invalid, "nothing was saved", "stencil %s: %v", name, err)
	}
	v.Text = text
	if len(all) > 0 && all[0].Text == text {
		return v, Follow{}, refusal.New(
			refusal.Conflict, "", "stencil %s is so already (version %d)", name, all[0].Version,
		)
	}
	if from != 0 && (len(all) == 0 || all[0].Version != from) {
		return v, Follow{}, refusal.New(
			refusal.Moved, "nothing was saved; look at it",
			"stencil %s is no longer version %d: %s saved version %d at %s", name, from, all[0].Actor, all[0].Version,
			all[0].At.Format(time.RFC3339),
		).Do(advice.ShowStencil, name)
	}
	shared, err := s.sharedNow(ctx)
	if err != nil {
		return v, Follow{}, err
	}
	secret, err := s.SecretShared(ctx, cover)
	if err != nil {
		return v, Follow{}, err
	}
	if err := keepsCovered(p, cover, secret, text, all); err != nil {
		return v, Follow{}, err
	}
	version := int64(1)
	if len(all) > 0 {
		version = all[0].Version + 1
	}
	used, err := s.store.InForce(ctx, name)
	if err != nil {
		return v, Follow{}, err
	}
	var plan []restage
	for _, b := range used {
		values := maps.Clone(b.Blanks)
		for _, x := range st.Blanks() {
			if _, has := values[x.Name]; !has && !x.Shared && blanks[x.Name] != "" {
				values[x.Name] = blanks[x.Name]
			}
		}
		maps.DeleteFunc(values, func(n, _ string) bool {
			return !slices.ContainsFunc(st.Blanks(), func(x stencil.Blank) bool { return x.Name == n })
		})
		dev, err := s.user(ctx, p, b)
		if err != nil {
			return v, Follow{}, err
		}
		if len(all) > 0 && sharesSecrets(cover, secret, text, all[0].Text) {
			if err := uncoversOn(p, dev, name); err != nil {
				return v, Follow{}, err
			}
		}
		plan = append(
			plan, restage{old: b, st: st, text: text, cover: cover, version: version, values: values, shared: shared},
		)
	}
	follow, err := s.follow(ctx, p, fmt.Sprintf(
		"Stencil %s, version %d", name, version,
	), plan, func(tx *audit.Tx) error {
		if v, err = tx.AddStencil(v); err != nil {
			return err
		}
		if v.Version != version {
			return refusal.New(
				refusal.Moved, "nothing was saved; look at it and save again",
				"stencil %s was saved by somebody else just now", name,
			)
		}
		return tx.Record(
			ledger.Entry{
				Actor: p.Name, Action: "stencil.save", After: fmt.Sprintf("%s version %d", name, v.Version),
				Note: v.Note,
			},
		)
	})
	return v, follow, err
}

// SaveShared gives a shared value other items, and opens a change with a part
// for every device on which a stencil uses it.
func (s *Stencils) SaveShared(
	ctx context.Context, p access.Person, name string, items []string, note string,
) (store.Shared, Follow, error) {
	v := store.Shared{Name: name, Items: items, Note: strings.TrimSpace(note), Actor: p.Name, At: s.log.Now()}
	if !stencil.Name(name) {
		return v, Follow{}, refusal.New(
			refusal.Invalid, "use 1 to 63 letters, digits, - and _, a letter first", "%q is no name for a shared value",
			name,
		)
	}
	if len(items) == 0 || len(items) > 10_000 || slices.Contains(items, "") {
		return v, Follow{}, refusal.New(refusal.Invalid, "", "a shared value has 1 to 10000 items, none of them empty")
	}
	had, err := s.store.SharedValues(ctx)
	if err != nil {
		return v, Follow{}, err
	}
	for _, x := range had {
		if x.Name == name {
			if err := othersToo(p, "shared value "+name, x.Actor); err != nil {
				return v, Follow{}, err
			}
		}
	}
	shared, err := s.sharedNow(ctx)
	if err != nil {
		return v, Follow{}, err
	}
	if items, err = s.liftItems(items, shared[name]); err != nil {
		return v, Follow{}, err
	}
	v.Items = items
	cover, err := s.Cover(ctx)
	if err != nil {
		return v, Follow{}, err
	}
	secret, err := s.SecretShared(ctx, cover)
	if err != nil {
		return v, Follow{}, err
	}
	told := items
	if secret[name] || schema.SecretName(name) {
		told = s.ShownItems(items)
	}
	if slices.Equal(shared[name], items) {
		return v, Follow{}, refusal.New(refusal.Conflict, "", "shared value %s is so already", name)
	}
	shared[name] = items
	used, err := s.store.InForce(ctx, "")
	if err != nil {
		return v, Follow{}, err
	}
	var plan []restage
	for _, b := range used {
		text, err := s.versionText(ctx, b.Stencil, b.Version)
		if err != nil {
			return v, Follow{}, err
		}
		st, err := stencil.Parse(text)
		if err != nil {
			return v, Follow{}, err
		}
		if st.Uses(name) {
			plan = append(
				plan,
				restage{old: b, st: st, text: text, cover: cover, version: b.Version, values: b.Blanks, shared: shared},
			)
		}
	}
	follow, err := s.follow(ctx, p, "Shared value "+name, plan, func(tx *audit.Tx) error {
		if v, err = tx.AddShared(v); err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: p.Name, Action: "shared.save", Before: "",
				After: fmt.Sprintf("%s version %d: %s", name, v.Version, clip.To(strings.Join(told, ", "), 1000)),
				Note:  v.Note,
			},
		)
	})
	return v, follow, err
}

// othersToo refuses to write what somebody else wrote, and is there for the whole fleet, to a person who may
// not stage on all of it: who binds it next, on devices of theirs, would not know.
func othersToo(p access.Person, what, actor string) error {
	if actor == p.Name || p.Grants.Everywhere(access.Stage) {
		return nil
	}
	return refusal.New(
		refusal.Forbidden, "save it under another name, or ask somebody who may",
		"%s is %s's, and for all devices: account %s may not stage on all of them", what, actor, p.Name,
	)
}

func texts(list []store.Stencil) (out []string) {
	for _, v := range list {
		out = append(out, v.Text)
	}
	return out
}

func (s *Stencils) versionText(ctx context.Context, name string, version int64) (string, error) {
	all, err := s.store.StencilVersions(ctx, name)
	if err != nil {
		return "", err
	}
	for _, v := range all {
		if v.Version == version {
			return v.Text, nil
		}
	}
	return "", fmt.Errorf("stencil %s has no version %d", name, version)
}
