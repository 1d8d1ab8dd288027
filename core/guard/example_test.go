package guard_test

import (
	"fmt"
	"time"

	"oakenlatch/core/guard"
)

// A commit on one device that nobody confirms: every event is given to Step,
// and what comes back is to be done.
func Example() {
	at := time.Date(2026, 11, 23, 2, 0, 0, 0, time.UTC)
	s := guard.New(
		guard.Plan{
			Hold: time.Minute, Devices: []guard.PlannedDevice{{Name: "northmole-harbour", Keeper: guard.ByDevice}},
		},
	)
	for _, e := range []guard.Event{
		{Kind: guard.Start, At: at},
		{Kind: guard.Prepared, At: at},
		{Kind: guard.Applied, At: at},
		{Kind: guard.Seen, Found: guard.FoundResult, At: at}, // it is proved that the device is reached
		{Kind: guard.Tick, At: at.Add(time.Minute)},          // the hold is over
		{Kind: guard.CancelDone, At: at.Add(time.Minute)},
		{Kind: guard.Seen, Found: guard.FoundBase, At: at.Add(time.Minute)},
	} {
		var actions []guard.Action
		s, actions = guard.Step(s, e)
		fmt.Printf("%-11s -> %s:", e.Kind, s.Phase)
		for _, a := range actions {
			fmt.Printf(" %s", a.Kind)
		}
		fmt.Println()
	}
	fmt.Println(s.Outcome, "because", s.Reason)
	// Output:
	// start       -> preparing: prepare
	// prepared    -> applying: commit
	// applied     -> probing: look
	// seen        -> awaiting:
	// tick        -> reverting: cancel
	// cancel-done -> reverting: look
	// seen        -> done: conclude
	// reverted because the hold ended at 2026-11-23T02:01:00Z without a confirm
}
