//go:build !race

package engine_test

// raced says whether the race detector is in: it makes everything slower.
const raced = false
