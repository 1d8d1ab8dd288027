package guard_test

import (
	"fmt"
	"testing"
	"time"

	"oakenlatch/core/guard"
)

// BenchmarkStep takes a commit on 50 devices from its start until all are prepared.
func BenchmarkStep(b *testing.B) {
	at := time.Date(2026, 11, 23, 2, 0, 0, 0, time.UTC)
	plan := guard.Plan{Hold: time.Minute}
	for i := range 50 {
		plan.Devices = append(plan.Devices, guard.PlannedDevice{Name: fmt.Sprint("d", i), Keeper: guard.ByDevice})
	}
	b.ReportAllocs()
	for b.Loop() {
		s, _ := guard.Step(guard.New(plan), guard.Event{Kind: guard.Start, At: at})
		for i := range 50 {
			s, _ = guard.Step(s, guard.Event{Kind: guard.Prepared, Device: i, At: at})
		}
	}
}
