package restore

import (
	"context"
	"fmt"
	"strings"

	"oakenlatch/core/advice"
	"oakenlatch/core/codec"
	"oakenlatch/core/transplant"
	"oakenlatch/core/tree"
	"oakenlatch/service/access"
	"oakenlatch/service/desk"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Import stages a configuration from a file, whole or parts of it, as a restore
// does. The file tells by its content what it is; where it also tells what it
// is from, and that is another device or another box, that is said.
func (rs *Restorer) Import(
	ctx context.Context, p access.Person, b Bring, name string, text []byte, from Origin,
) (store.Change, []Brought, error) {
	if len(b.Devices) != 1 {
		return store.Change{}, nil, refusal.New(
			refusal.Invalid, "name the device it is for", "a file is imported onto one device",
		)
	}
	dev, err := rs.desk.Device(ctx, p.Reach(), b.Devices[0])
	if err != nil {
		return store.Change{}, nil, err
	}
	var notes []string
	b.Text = &schemaText{name: name, read: func(w desk.Work) (*tree.Node, codec.Format, error) {
		doc, err := codec.Decoder{Schema: w.Schema, Strict: true, Lift: rs.desk.Lift(w)}.Read(text)
		if err != nil {
			return nil, "", fmt.Errorf("%s, read as %s: %w", name, codec.Recognise(text), err)
		}
		notes = from.compare(dev, doc)
		return doc.Content.ConfigOnly(), doc.Format, nil
	}}
	c, out, err := rs.Restore(ctx, p, b)
	if err == nil && len(out) > 0 {
		out[0].Notes = append(notes, out[0].Notes...)
	}
	return c, out, err
}

// Origin is what is known of a file beside its content: what a bundle tells.
type Origin struct {
	Device, Model, Serial, Time string
}

// compare tells where a file is from, and warns where that is not the device it
// goes onto.
func (o Origin) compare(d store.Device, doc *codec.Document) []string {
	var notes []string
	if in := doc.Instance; in != nil {
		if o.Device == "" {
			o.Device = in.Name
		}
		if o.Time == "" {
			o.Time = in.Timestamp
		}
	}
	if o == (Origin{}) {
		return []string{fmt.Sprintf("%s file; it does not tell what it is from", doc.Format)}
	}
	text := fmt.Sprintf("%s file of %s", doc.Format, o.Device)
	if o.Time != "" {
		text += ", as of " + o.Time
	}
	if o.Model+o.Serial != "" {
		text += ", " + strings.TrimSpace(o.Model+" "+o.Serial)
	}
	notes = append(notes, text)
	switch {
	case o.Device != "" && o.Device != d.Name:
		notes = append(
			notes,
			fmt.Sprintf(
				"Warning: it is from %s and goes onto %s: names and addresses in it are the other's; carrying "+
					"it over keeps those apart",
				o.Device, d.Name,
			),
		)
	case o.Serial != "" && d.Serial != "" && o.Serial != d.Serial:
		notes = append(
			notes,
			fmt.Sprintf(
				"Warning: it is from the box %s %s; in its place stands %s %s now", o.Model, o.Serial, d.Model,
				d.Serial,
			),
		)
	}
	return notes
}

// Carried is what carrying came to: what is the device's own, beside what was
// staged.
type Carried struct {
	Brought
	Own []transplant.Own
}

// Carry stages one device's configuration on another, with what is its own left
// as it is.
func (rs *Restorer) Carry(
	ctx context.Context, p access.Person, b Bring, from, place, onto string,
) (store.Change, Carried, error) {
	var out Carried
	source, err := rs.desk.Device(ctx, p.Reach(), from)
	if err != nil {
		return store.Change{}, out, err
	}
	if from == onto {
		return store.Change{}, out, refusal.New(
			refusal.Invalid, "to bring back what it was, restore it", "%s is carried onto itself", from,
		).Do(advice.Restore, from)
	}
	r, err := rs.desk.From(ctx, p, source, place)
	if err != nil {
		return store.Change{}, out, err
	}
	b.Devices = []string{onto}
	b.Text = &schemaText{name: from + "@" + place, read: func(w desk.Work) (*tree.Node, codec.Format, error) {
		n := r.Running
		if err := desk.Uncovers(p, source, w.Device, n); err != nil {
			return nil, "", err
		}
		if w.Schema != r.Schema {
			text := desk.WholeXML(r.Schema, n)
			if n, err = (codec.Decoder{Schema: w.Schema, Strict: true}).ParseTree(text); err != nil {
				return nil, "", fmt.Errorf("what %s holds does not fit here: %w", from, err)
			}
		}
		now, err := rs.history.Known(ctx, p.Reach(), onto)
		if err != nil {
			return nil, "", err
		}
		n, out.Own, err = transplant.Onto(n, now.Running)
		return n, codec.FormatXML, err
	}}
	if b.Title == "" {
		b.Title = fmt.Sprintf("Carry %s from %s to %s", place, from, onto)
	}
	c, list, err := rs.Restore(ctx, p, b)
	if len(list) == 1 {
		out.Brought = list[0]
	}
	return c, out, err
}
