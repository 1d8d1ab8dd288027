//go:build !race

package desk_test

// raced says whether the race detector is in: it makes long tests ten times as long.
const raced = false
