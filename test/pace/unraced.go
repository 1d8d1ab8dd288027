//go:build !race

package pace

// Raced says that the race detector is on, which makes computing some ten times slower.
const Raced = false
