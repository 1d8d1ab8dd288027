// Package pace sets how long tests take: less with -short, side by side where they wait more than they compute.
package pace

import (
	"flag"
	"os"
	"runtime"
	"strconv"
	"testing"
)

// atOnce is how many tests that wait run at once, for each processor.
const atOnce = 4

// Waiting runs a package's tests, from its TestMain, where most of them wait for devices and clocks and not for the
// processor: more of them at once, unless -parallel says how many.
func Waiting(m *testing.M) {
	Parallel()
	os.Exit(m.Run())
}

// Parallel is what [Waiting] does before it runs them.
func Parallel() {
	flag.Parse()
	procs := runtime.GOMAXPROCS(0)
	if p := flag.Lookup("test.parallel"); p != nil && p.Value.String() == strconv.Itoa(procs) {
		_ = p.Value.Set(strconv.Itoa(atOnce * procs))
	}
}

// Long leaves a test out with -short.
func Long(t testing.TB) {
	t.Helper()
	if testing.Short() {
		t.Skip("it takes long: run without -short, or make test")
	}
}

// Rounds is how often something random is tried: a fiftieth with -short, at least once.
func Rounds(n int) int {
	if testing.Short() {
		return max(1, n/50)
	}
	return n
}
