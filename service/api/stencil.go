package api

import (
	"fmt"

	"oakenlatch/core/stencil"
	"oakenlatch/service/access"
	"oakenlatch/service/desk"
	"oakenlatch/service/refusal"
	"oakenlatch/service/stencils"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// cover gives what hides the secrets in stencils from whoever asks.
func (a *API) cover(c *call) (stencil.Cover, error) {
	if c.person.Grants.Everywhere(access.Reveal) {
		return stencil.Cover{}, nil
	}
	return a.Stencils.Cover(c.ctx)
}

func (a *API) stencilDoc(c *call, cover stencil.Cover, v store.Stencil, device string) (wire.Stencil, error) {
	out := wire.Stencil{
		Name: v.Name, Version: v.Version, Text: cover.Text(v.Text), Note: v.Note, Actor: v.Actor, At: v.At,
		Blanks: []wire.Blank{},
	}
	blanks, err := a.Desk.Blanks(c.ctx, c.person, v.Text, device)
	for _, b := range blanks {
		out.Blanks = append(
			out.Blanks,
			wire.Blank{Name: b.Name, Shared: b.Shared, Lines: b.Lines, Type: b.Type, Values: b.Values, Help: b.Help},
		)
	}
	return out, err
}

func (a *API) stencils(c *call) (any, error) {
	list, err := a.Store.Stencils(c.ctx)
	if err != nil {
		return nil, err
	}
	uses, err := a.Stencils.Uses(c.ctx, c.person, "")
	if err != nil {
		return nil, err
	}
	cover, err := a.cover(c)
	if err != nil {
		return nil, err
	}
	out := make([]wire.Stencil, 0, len(list))
	for _, v := range list {
		doc, err := a.stencilDoc(c, cover, v, "")
		if err != nil {
			return nil, err
		}
		doc.Uses = useDocs(uses, v.Name)
		out = append(out, doc)
	}
	return out, nil
}

func useDocs(list []stencils.Use, stencil string) []wire.Use {
	var out []wire.Use
	for _, u := range list {
		if u.Stencil == stencil {
			out = append(
				out,
				wire.Use{
					Stencil: u.Stencil, Device: u.DeviceName, Version: u.Version, Newest: u.Newest, Change: u.Change,
					Blanks: u.Blanks, Strayed: u.Strayed,
				},
			)
		}
	}
	return out
}

func (a *API) stencil(c *call) (any, error) {
	all, err := a.Stencils.Versions(c.ctx, c.Param("name"))
	if err != nil {
		return nil, err
	}
	cover, err := a.cover(c)
	if err != nil {
		return nil, err
	}
	out, err := a.stencilDoc(c, cover, all[0], c.QueryParam("device"))
	if err != nil {
		return nil, err
	}
	c.Response().Header().Set("ETag", fmt.Sprintf(`"v%d"`, out.Version))
	for _, v := range all {
		out.Versions = append(
			out.Versions,
			wire.Version{Version: v.Version, Note: v.Note, Actor: v.Actor, At: v.At, Text: cover.Text(v.Text)},
		)
	}
	uses, err := a.Stencils.Uses(c.ctx, c.person, out.Name)
	out.Uses = useDocs(uses, out.Name)
	return out, err
}

func savedDoc(version int64, f stencils.Follow) wire.Saved {
	return wire.Saved{Version: version, Change: f.Change, Devices: f.Devices, Same: f.Same, Notes: f.Notes}
}

func (a *API) saveStencil(c *call) (any, error) {
	var in wire.NewStencil
	if err := c.read(&in); err != nil {
		return nil, err
	}
	var from int64
	if tag := ifTag(c); tag != "" {
		if _, err := fmt.Sscanf(tag, "v%d", &from); err != nil || from < 1 {
			return nil, refusal.New(refusal.Invalid, "take the ETag of the stencil", "%q is no tag of a stencil", tag)
		}
	}
	v, f, err := a.Stencils.Save(c.ctx, c.person, c.Param("name"), in.Text, in.Note, in.Blanks, from)
	return savedDoc(v.Version, f), err
}

func (a *API) bind(c *call) (any, error) {
	var in wire.Bind
	if err := c.read(&in); err != nil {
		return nil, err
	}
	var list []desk.Loaded
	var err error
	if in.Off {
		list, err = a.Stencils.Unbind(c.ctx, c.person, in.Change, c.Param("name"), in.Devices)
	} else {
		list, err = a.Stencils.Bind(c.ctx, c.person, in.Change, c.Param("name"), in.Devices, in.Blanks)
	}
	if err != nil {
		return nil, err
	}
	return a.page(c).Loaded(list), nil
}

func (a *API) shared(c *call) (any, error) {
	list, err := a.Store.SharedValues(c.ctx)
	if err != nil {
		return nil, err
	}
	var secret map[string]bool
	if !c.person.Grants.Everywhere(access.Reveal) {
		cover, err := a.Stencils.Cover(c.ctx)
		if err != nil {
			return nil, err
		}
		if secret, err = a.Stencils.SecretShared(c.ctx, cover); err != nil {
			return nil, err
		}
	}
	out := make([]wire.Shared, 0, len(list))
	for _, v := range list {
		if secret[v.Name] {
			v.Items = a.Stencils.ShownItems(v.Items)
		}
		out = append(
			out, wire.Shared{Name: v.Name, Version: v.Version, Items: v.Items, Note: v.Note, Actor: v.Actor, At: v.At},
		)
	}
	return out, err
}

func (a *API) saveShared(c *call) (any, error) {
	var in wire.NewShared
	if err := c.read(&in); err != nil {
		return nil, err
	}
	v, f, err := a.Stencils.SaveShared(c.ctx, c.person, c.Param("name"), in.Items, in.Note)
	return savedDoc(v.Version, f), err
}
