package desk

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"oakenlatch/core/clip"
	"oakenlatch/core/codec"
	"oakenlatch/core/ledger"
	"oakenlatch/core/lifecycle"
	"oakenlatch/core/markup"
	"oakenlatch/core/schema"
	"oakenlatch/core/stencil"
	"oakenlatch/core/tree"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Stencil gives a stencil's newest version and its history, newest first.
func (d *Desk) Stencil(ctx context.Context, name string) ([]store.Stencil, error) {
	all, err := d.store.StencilVersions(ctx, name)
	if err == nil && len(all) == 0 {
		err = refusal.New(refusal.NotFound, "list them with: latch stencils", "there is no stencil %q", name)
	}
	return all, err
}

// sharedNow gives all shared values as they are now.
func (d *Desk) sharedNow(ctx context.Context) (map[string][]string, error) {
	list, err := d.store.SharedValues(ctx)
	out := map[string][]string{}
	for _, v := range list {
		if len(v.Items) > 0 {
			out[v.Name] = v.Items
		}
	}
	return out, err
}

// Follow is the change that a new version of something opened for the devices
// that use it; zero where none does.
type Follow struct {
	Change  int64
	Devices []string
	Same    []string // devices that use it and hold all of it already
	Notes   []string
}

// SaveStencil keeps a new version of a stencil, and opens a change with a part
// for every device that uses it. blanks are values for blanks that are new;
// from is the version it was made of, 0 where that does not matter.
func (d *Desk) SaveStencil(
	ctx context.Context, p access.Person, name, text, note string, blanks map[string]string, from int64,
) (store.Stencil, Follow, error) {
	v := store.Stencil{Name: name, Text: text, Note: strings.TrimSpace(note), Actor: p.Name, At: d.log.Now()}
	if !stencil.Name(name) {
		return v, Follow{}, refusal.New(
			refusal.Invalid, "use 1 to 63 letters, digits, - and _, a letter first", "%q is no name for a stencil",
			name,
		)
	}
	all, err := d.store.StencilVersions(ctx, name)
	if err != nil {
		return v, Follow{}, err
	}
	for _, x := range all {
		if err := othersToo(p, "stencil "+name, x.Actor); err != nil {
			return v, Follow{}, err
		}
	}
	cover, err := d.Cover(ctx)
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
			refusal.Moved, fmt.Sprintf("nothing was saved; look at it with: latch stencil show %s", name),
			"stencil %s is no longer version %d: %s saved version %d at %s", name, from, all[0].Actor, all[0].Version,
			all[0].At.Format(time.RFC3339),
		)
	}
	shared, err := d.sharedNow(ctx)
	if err != nil {
		return v, Follow{}, err
	}
	secret, err := d.SecretShared(ctx, cover)
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
	used, err := d.store.InForce(ctx, name)
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
		dev, err := d.user(ctx, p, b)
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
	follow, err := d.follow(ctx, p, fmt.Sprintf(
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
func (d *Desk) SaveShared(
	ctx context.Context, p access.Person, name string, items []string, note string,
) (store.Shared, Follow, error) {
	v := store.Shared{Name: name, Items: items, Note: strings.TrimSpace(note), Actor: p.Name, At: d.log.Now()}
	if !stencil.Name(name) {
		return v, Follow{}, refusal.New(
			refusal.Invalid, "use 1 to 63 letters, digits, - and _, a letter first", "%q is no name for a shared value",
			name,
		)
	}
	if len(items) == 0 || len(items) > 10_000 || slices.Contains(items, "") {
		return v, Follow{}, refusal.New(refusal.Invalid, "", "a shared value has 1 to 10000 items, none of them empty")
	}
	had, err := d.store.SharedValues(ctx)
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
	shared, err := d.sharedNow(ctx)
	if err != nil {
		return v, Follow{}, err
	}
	if items, err = d.liftItems(items, shared[name]); err != nil {
		return v, Follow{}, err
	}
	v.Items = items
	cover, err := d.Cover(ctx)
	if err != nil {
		return v, Follow{}, err
	}
	secret, err := d.SecretShared(ctx, cover)
	if err != nil {
		return v, Follow{}, err
	}
	told := items
	if secret[name] || schema.SecretName(name) {
		told = d.ShownItems(items)
	}
	if slices.Equal(shared[name], items) {
		return v, Follow{}, refusal.New(refusal.Conflict, "", "shared value %s is so already", name)
	}
	shared[name] = items
	used, err := d.store.InForce(ctx, "")
	if err != nil {
		return v, Follow{}, err
	}
	var plan []restage
	for _, b := range used {
		text, err := d.versionText(ctx, b.Stencil, b.Version)
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
	follow, err := d.follow(ctx, p, "Shared value "+name, plan, func(tx *audit.Tx) error {
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

func (d *Desk) versionText(ctx context.Context, name string, version int64) (string, error) {
	all, err := d.store.StencilVersions(ctx, name)
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

// restage is a device on which a stencil is to set something else.
type restage struct {
	old     store.Binding // in force so far; its Filled is nil where there is none
	st      *stencil.Stencil
	text    string // that of the version
	cover   stencil.Cover
	version int64
	values  map[string]string
	shared  map[string][]string
	again   bool // set all of it, also what was changed by hand since
}

// user gives the device that uses a stencil, where a person may stage on it: what
// they change of the stencil is staged on all that use it.
func (d *Desk) user(ctx context.Context, p access.Person, b store.Binding) (store.Device, error) {
	dev, err := d.store.DeviceByID(ctx, p.Reach(), b.Device)
	if errors.Is(err, store.ErrNotFound) {
		return dev, refusal.New(
			refusal.Forbidden, "nothing was saved; ask somebody who may, or save it under another name",
			"stencil %s is used on devices on which account %s may not stage", b.Stencil, p.Name,
		)
	}
	return dev, err
}

// follow saves something and stages what follows from it in a new change.
func (d *Desk) follow(
	ctx context.Context, p access.Person, title string, plan []restage, save func(tx *audit.Tx) error,
) (Follow, error) {
	var out Follow
	var staged []boundLoad
	var names []string
	byName := map[string][]restage{} // a device may use several stencils that hold a shared value
	for _, r := range plan {
		dev, err := d.user(ctx, p, r.old)
		if err != nil {
			return out, err
		}
		names = append(names, dev.Name)
		byName[dev.Name] = append(byName[dev.Name], r)
	}
	if len(names) > 0 {
		err := each(names, func(device string) error {
			w, err := d.lastKnown(ctx, p, device)
			if err != nil {
				return err
			}
			for _, r := range byName[device] {
				part := w
				one, err := d.restaged(&part, p, r)
				if err != nil {
					return err
				}
				staged = append(staged, one)
				w.Mine = one.load.Difference.New
				for _, n := range one.load.Notes {
					out.Notes = append(out.Notes, device+": "+n)
				}
			}
			if tree.Same(w.Former, w.Mine) {
				out.Same = append(out.Same, device)
			} else {
				out.Devices = append(out.Devices, device)
			}
			return nil
		})
		if err != nil {
			return Follow{}, err
		}
	}
	return out, d.log.Write(ctx, func(tx *audit.Tx) error {
		if err := save(tx); err != nil || len(staged) == 0 {
			return err
		}
		c, err := tx.AddChange(store.Change{Title: title, Author: p.Name, State: lifecycle.Draft, Opened: d.log.Now()})
		if err != nil {
			return err
		}
		if len(out.Devices) > 0 {
			out.Change = c.Number
		} else if err := tx.SetState(
			c.Number, lifecycle.Dropped, "every device holds all of it already", d.log.Now(),
		); err != nil {
			return err
		}
		if err := tx.Record(
			ledger.Entry{Actor: p.Name, Action: "change.open", Change: c.Number, Note: title},
		); err != nil {
			return err
		}
		for i := range staged {
			if err := d.stageBound(tx, &staged[i], c.Number); err != nil {
				return err
			}
		}
		return nil
	})
}

// lastKnown gives the start of a part: from the device as it is now or, where
// it cannot be reached, as it was last known.
func (d *Desk) lastKnown(ctx context.Context, p access.Person, device string) (Work, error) {
	r, err := d.history.Read(ctx, p.Reach(), device, p.Name)
	if err != nil || r.Trial {
		if r, err = d.history.Known(ctx, p.Reach(), device); err != nil {
			return Work{}, err
		}
	}
	return *newPart(r.Device, r.Schema, r.Revision, r.Running), nil
}

// boundLoad is what a stencil comes to on one device.
type boundLoad struct {
	w       *Work
	load    Loaded
	binding store.Binding
}

// restaged puts what a stencil sets in the place of what it set before, and
// says of what was changed by hand since what becomes of it.
func (d *Desk) restaged(w *Work, p access.Person, r restage) (boundLoad, error) {
	set := tree.Empty
	var err error
	if r.st != nil {
		if set, err = r.st.Read(w.Schema, r.values, r.shared); err != nil {
			return boundLoad{}, refusal.New(
				refusal.Invalid, "", "%s: stencil %s: %v", w.Device.Name, r.old.Stencil,
				r.cover.Error(err, r.text, r.values, r.shared),
			)
		}
	}
	before := tree.Empty
	if r.old.Filled != nil {
		if before, err = (codec.Decoder{Schema: w.Schema}).ParseTree(r.old.Filled); err != nil {
			return boundLoad{}, err
		}
	}
	next, err := stencil.Restage(before, set, w.Mine, r.again)
	if err != nil {
		return boundLoad{}, refusal.New(refusal.Invalid, "", "%s: %v", w.Device.Name, err)
	}
	source := fmt.Sprintf("stencil %s version %d", r.old.Stencil, r.version)
	out := boundLoad{w: w, load: d.loaded(w, p, 0, Load{Mode: Merge, Name: source}, next)}
	out.load.Edit.Mode = "stencil"
	out.load.Notes = nil
	for _, s := range stencil.Strayed(d.log.Redactor.Tree(before), d.log.Redactor.Tree(w.Mine)) {
		took := "it is left as it is"
		if setsAgain(w, s, next) {
			took = "the stencil sets it again"
		}
		out.load.Notes = append(
			out.load.Notes,
			fmt.Sprintf(
				"%s was changed by hand since the stencil set it (%s → %s): %s", s.Path, s.Set, orGone(s), took,
			),
		)
	}
	out.binding = store.Binding{
		Stencil: r.old.Stencil, Device: w.Device.ID, Version: r.version, Blanks: r.values, Actor: p.Name,
		At: d.log.Now(),
	}
	if r.st != nil {
		out.binding.Filled = codec.XML(w.Schema, set, markup.Name{Space: codec.NetconfNS, Local: "config"})
	}
	return out, nil
}

// setsAgain reports whether a place that was changed by hand is another one in
// the result.
func setsAgain(w *Work, s stencil.Standing, next *tree.Node) bool {
	p, err := tree.ParsePath(w.Schema, s.Path)
	return err == nil && !tree.Same(w.Mine.At(p), next.At(p))
}

func orGone(s stencil.Standing) string {
	if s.Gone {
		return "gone"
	}
	return s.Now
}

func (d *Desk) stageBound(tx *audit.Tx, b *boundLoad, change int64) error {
	b.load.Edit.Change = change
	if err := d.stageLoad(tx, b.w, &b.load, ""); err != nil {
		return err
	}
	b.binding.Change, b.binding.Edit = change, b.load.Edit.ID
	return tx.AddBinding(b.binding)
}

// Bind stages what a stencil sets on devices, with their values for its blanks.
func (d *Desk) Bind(
	ctx context.Context, p access.Person, number int64, name string, devices []string, values map[string]string,
) ([]Loaded, error) {
	all, err := d.Stencil(ctx, name)
	if err != nil {
		return nil, err
	}
	st, err := stencil.Parse(all[0].Text)
	if err != nil {
		return nil, refusal.New(refusal.Conflict, "", "stencil %s is retired or cannot be read: %v", name, err)
	}
	shared, err := d.sharedNow(ctx)
	if err != nil {
		return nil, err
	}
	if values == nil {
		values = map[string]string{}
	}
	cover, err := d.Cover(ctx)
	if err != nil {
		return nil, err
	}
	return d.bind(
		ctx, p, number, devices,
		restage{
			old: store.Binding{Stencil: name}, st: st, text: all[0].Text, cover: cover, version: all[0].Version,
			values: values, shared: shared, again: true,
		},
	)
}

// Unbind stages that what a stencil set on devices goes. What was changed by
// hand since stays.
func (d *Desk) Unbind(
	ctx context.Context, p access.Person, number int64, name string, devices []string,
) ([]Loaded, error) {
	return d.bind(ctx, p, number, devices, restage{old: store.Binding{Stencil: name}})
}

func (d *Desk) bind(ctx context.Context, p access.Person, number int64, devices []string, r restage) ([]Loaded, error) {
	c, err := d.Own(ctx, p, number)
	if err != nil {
		return nil, err
	}
	staged, err := d.store.BindingsOf(ctx, number)
	if err != nil {
		return nil, err
	}
	inForce, err := d.store.InForce(ctx, r.old.Stencil)
	if err != nil {
		return nil, err
	}
	secret, err := d.SecretShared(ctx, r.cover)
	if err != nil {
		return nil, err
	}
	holds := r.cover.HoldsSecrets(r.text) || sharesSecrets(r.cover, secret, r.text, "")
	var all []boundLoad
	err = each(devices, func(device string) error {
		w, err := d.work(ctx, p.Reach(), c, device, p.Name)
		if err == nil {
			err = w.fits()
		}
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
		if mine.values, err = d.liftValues(w, r.cover, r.text, r.values, mine.old.Blanks); err != nil {
			return refusal.New(refusal.Invalid, "nothing was staged", "%s: stencil %s: %v", device, r.old.Stencil, err)
		}
		one, err := d.restaged(&w, p, mine)
		all = append(all, one)
		return err
	})
	if err != nil {
		return nil, err
	}
	var out []Loaded
	err = d.edit(ctx, p, number, func(tx *audit.Tx) error {
		for i := range all {
			if err := d.stageBound(tx, &all[i], number); err != nil {
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
func (d *Desk) Uses(ctx context.Context, p access.Person, name string) ([]Use, error) {
	list, err := d.store.InForce(ctx, name)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	cover, err := d.Cover(ctx)
	if err != nil {
		return nil, err
	}
	newest := map[string]int64{}
	stencils, err := d.store.Stencils(ctx)
	if err != nil {
		return nil, err
	}
	for _, s := range stencils {
		newest[s.Name] = s.Version
	}
	var out []Use
	for _, b := range list {
		dev, err := d.store.DeviceByID(ctx, p.Reach(), b.Device)
		if store.OutOfReach(err) {
			continue // not the person's to see
		}
		if err != nil {
			return nil, err
		}
		u := Use{Binding: b, DeviceName: dev.Name, Newest: newest[b.Stencil]}
		now, err := d.history.Known(ctx, p.Reach(), dev.Name)
		if err != nil {
			return nil, err
		}
		set, err := codec.Decoder{Schema: now.Schema}.ParseTree(b.Filled)
		if err != nil {
			return nil, err
		}
		if !p.Grants.May(access.Reveal, dev) {
			text, err := d.versionText(ctx, b.Stencil, b.Version)
			if err != nil {
				return nil, err
			}
			u.Blanks = cover.Values(text, b.Blanks)
			set, now.Running = d.log.Redactor.Tree(set), d.log.Redactor.Tree(now.Running)
		}
		u.Strayed = stencil.Strayed(set, now.Running)
		out = append(out, u)
	}
	return out, nil
}
