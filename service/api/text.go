package api

import (
	"oakenlatch/core/check"
	"oakenlatch/core/codec"
	"oakenlatch/core/markup"
	"oakenlatch/core/redact"
	"oakenlatch/service/refusal"
	"oakenlatch/wire"
)

// textRead reads a configuration by the modules of a device, judges it, and writes it anew in another format. Nothing
// is staged, and no device is asked.
func (a *API) textRead(c *call) (any, error) {
	d, err := a.deviceParam(c)
	if err != nil {
		return nil, err
	}
	var in wire.NewText
	if err := c.read(&in); err != nil {
		return nil, err
	}
	s, err := a.Fleet.Schema(c.ctx, d)
	if err != nil {
		return nil, err
	}
	doc, err := codec.Decoder{Schema: s, Stands: redact.IsName}.Read([]byte(in.Text))
	if err != nil {
		return nil, refusal.New(
			refusal.Invalid, "correct the text there", "read as %s: %v", codec.Recognise([]byte(in.Text)), err,
		)
	}
	res := check.Document(s, doc.Content)
	out := wire.TextRead{
		Format: doc.Format, Values: doc.Content.Count(), Findings: append([]check.Finding{}, res.Findings...),
		Unread: append([]string{}, doc.Content.Undescribed()...), Unchecked: res.Unchecked, Reasons: res.Reasons,
	}
	switch in.As {
	case "", "outline":
		out.Text = codec.OutlineText(doc.Content)
	case "xml":
		out.Text = string(codec.XML(s, doc.Content, markup.Name{Space: codec.NetconfNS, Local: "config"}))
	case "json":
		out.Text = string(codec.JSON(s, doc.Content))
	default:
		return nil, refusal.New(refusal.Invalid, "give outline, xml or json", "%q is no format", in.As)
	}
	return out, nil
}
