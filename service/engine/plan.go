package engine

import (
	"context"
	"fmt"
	"time"

	"oakenlatch/core/advice"
	"oakenlatch/core/guard"
	"oakenlatch/service/fleet"
	"oakenlatch/service/order"
	"oakenlatch/service/refusal"
)

// Plan works an order out, or says why it cannot be done.
func (e *Engine) Plan(ctx context.Context, change int64, o order.Order, works []order.Work) (guard.Plan, error) {
	p := guard.Plan{
		Hold: o.Hold, Probes: o.Probes, ByProbes: o.ByProbes, RevertOnProbe: o.RevertOnProbe, Ahead: o.Ahead,
	}
	if o.Hold < MinHold || o.Hold > MaxHold {
		return p, refusal.New(
			refusal.Invalid, "give it like 10m", "a hold lasts from %s to %d days, not %s", MinHold,
			MaxHold/(24*time.Hour), o.Hold,
		)
	}
	if o.Ahead < 0 || o.Ahead > MaxAhead {
		return p, refusal.New(
			refusal.Invalid, "prepare it closer to its hour: its devices are locked for others meanwhile",
			"a change stays prepared for up to %s, not for %s", MaxAhead, o.Ahead,
		)
	}
	if len(works) == 0 {
		return p, refusal.New(
			refusal.Invalid, "stage something",
			"change %d is empty", change,
		).Do(advice.Stage, change)
	}
	wave := map[string]int{}
	for i, names := range o.Waves {
		for _, name := range names {
			if _, twice := wave[name]; twice {
				return p, refusal.New(refusal.Invalid, "", "%s is named in two waves", name)
			}
			wave[name] = i
		}
	}
	for _, w := range works {
		g := fleet.GuardOf(w.Device.Capabilities)
		if g.Keeper == "" {
			return p, refusal.New(
				refusal.Conflict, "take its part out of the change, or see what the device can do",
				"%s cannot be changed: %s", w.Device.Name, g.Why,
			).Do(advice.ShowDevice, w.Device.Name)
		}
		d := guard.PlannedDevice{Name: w.Device.Name, Keeper: g.Keeper, Wave: len(o.Waves), NoSave: w.Device.NoSave}
		if n, named := wave[w.Device.Name]; named {
			d.Wave = n
			delete(wave, w.Device.Name)
		}
		if o.Save != nil {
			d.NoSave = !*o.Save
		}
		p.Devices = append(p.Devices, d)
	}
	for name := range wave {
		return p, refusal.New(refusal.Invalid, "", "change %d has no part on %q, which is to go first", change, name)
	}
	return p, e.checkProbes(ctx, o.Probes)
}

// PlanText tells a plan in words.
func PlanText(p guard.Plan) string {
	text := fmt.Sprintf("on hold for %s", p.Hold)
	if p.Ahead > 0 {
		text = fmt.Sprintf("prepared ahead, for up to %s, then ", p.Ahead) + text
	}
	if p.ByProbes {
		text += ", confirmed by its probes"
	}
	if p.RevertOnProbe {
		text += ", reverted when a probe fails"
	}
	for _, probe := range p.Probes {
		text += "; probe " + probe.String()
	}
	return text
}
