package engine_test

import (
	"context"
	"fmt"
	"time"

	"oakenlatch/core/guard"
	"oakenlatch/service/engine"
	"oakenlatch/service/order"
	"oakenlatch/test/servicetest"
)

// A commit that nobody confirms: it is active on hold, and when a person says so, or the time is over, the device
// holds again what it held before.
func Example() {
	o := &servicetest.Outside{}
	defer o.End()
	r := servicetest.New(o, "saltern-quay")
	r.Close()
	r.Timing = engine.Timing{Effect: 200 * time.Millisecond, Pause: 200 * time.Millisecond, Watch: time.Second}
	r.Open()
	ctx := context.Background()
	must := func(err error) {
		if err != nil {
			panic(err)
		}
	}

	// What is to be on the device: a change, staged and looked at.
	const contact = "/system/contact"
	change, err := r.Desk.Open(ctx, servicetest.Mara, "Quay office moved", "")
	must(err)
	_, err = r.Put(servicetest.Mara, change.Number, "saltern-quay", contact, "Quay office")
	must(err)

	must(r.Engine.Begin(ctx, order.Start{
		Actor: "mara", Change: change.Number, Order: order.Order{Hold: time.Minute},
		Works: r.Ready("mara", change.Number),
	}))
	r.Until(change.Number, guard.Awaiting)
	fmt.Println("on hold:", r.Value("saltern-quay", contact))

	must(r.Engine.Say(ctx, change.Number, guard.Event{Kind: guard.SayRevert, By: "mara"}))
	r.Until(change.Number, guard.Done)
	state, _, err := r.Engine.Last(ctx, change.Number)
	fmt.Println(state.Outcome, err)
	fmt.Println("again:", r.Value("saltern-quay", contact))
	// Output:
	// on hold: Quay office
	// reverted <nil>
	// again: Harbour office, ext. 12
}
