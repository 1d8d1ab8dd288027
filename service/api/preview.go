package api

import (
	"slices"
	"strings"

	"oakenlatch/core/lifecycle"
	"oakenlatch/service/desk"
	"oakenlatch/service/documents"
	"oakenlatch/service/refusal"
)

// forms are the renderings of a part beside the readable one.
var forms = []string{"", "lines", "unified", "edit-config", "yang-patch", "yang-patch-json", "outline", "xml", "json"}

func (a *API) preview(c *call) (any, error) {
	ch, err := a.visible(c)
	if err != nil {
		return nil, err
	}
	context, err := contextParam(c)
	if err != nil {
		return nil, err
	}
	as := c.QueryParam("as")
	if !slices.Contains(forms, as) {
		return nil, refusal.New(
			refusal.Invalid, "give one of"+strings.Join(forms, " "), "%q is no form of a preview", as,
		)
	}
	look := documents.Look{Context: context, As: as, Path: c.QueryParam("path")}
	switch ch.State {
	case lifecycle.Draft, lifecycle.Failed, lifecycle.Reverted, lifecycle.Scheduled:
	default:
		return a.page(c).Done(ch, look)
	}
	opt := desk.Options{
		Device: c.QueryParam("device"), By: c.QueryParam("by"), TryOut: c.QueryParam("validate") == "true",
	}
	verdicts, seen, err := a.Desk.Preview(c.ctx, c.person, ch.Number, opt)
	if err != nil {
		return nil, err
	}
	return a.page(c).Preview(ch.Number, verdicts, seen, look)
}
