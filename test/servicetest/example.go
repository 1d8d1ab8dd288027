package servicetest

import (
	"context"
	"fmt"
	"os"
	"testing"
)

// Outside is what a room stands on in an example, which no test gives it: whatever fails panics.
type Outside struct {
	testing.TB // nil: what is not here is not asked for

	cleanups []func()
}

// Helper does nothing.
func (o *Outside) Helper() {}

// Context never ends.
func (o *Outside) Context() context.Context { return context.Background() }

// Cleanup is done by End, the last first.
func (o *Outside) Cleanup(f func()) { o.cleanups = append(o.cleanups, f) }

// Name tells what it is.
func (o *Outside) Name() string { return "Example" }

// Errorf panics.
func (o *Outside) Errorf(format string, a ...any) { panic(fmt.Sprintf(format, a...)) }

// FailNow panics.
func (o *Outside) FailNow() { panic("the room of the example did not come about") }

// Logf does nothing.
func (o *Outside) Logf(string, ...any) {}

// TempDir makes a folder that End removes.
func (o *Outside) TempDir() string {
	dir, err := os.MkdirTemp("", "oaken-latch-example-")
	if err != nil {
		panic(err)
	}
	o.Cleanup(func() { _ = os.RemoveAll(dir) })
	return dir
}

// End ends it.
func (o *Outside) End() {
	for i := len(o.cleanups) - 1; i >= 0; i-- {
		o.cleanups[i]()
	}
}
