//go:build race

package lab

// raced says whether the race detector is in: it makes long tests ten times as long.
const raced = true
