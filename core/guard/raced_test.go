//go:build race

package guard_test

// raced says whether the race detector is in: it makes a walk ten times as long.
const raced = true
