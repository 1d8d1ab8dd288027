// Package underway tells which commit has which device to itself. The engine enters it; what reads devices, keeps
// revisions or shows them asks.
package underway

import (
	"sync"

	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
)

// Commit is a commit that is under way, or about to begin.
type Commit interface {
	// Change is the number of the change it commits.
	Change() int64

	// Active reports whether it is not over yet.
	Active() bool

	// Trees gives what it found on a device and what it makes of it, by the modules that the
	// device hands out; nil where it is not prepared there yet.
	Trees(device int64, by *schema.Schema) (base, result *tree.Node)
}

// Board is who has which device. Its methods may be used from many goroutines.
type Board struct {
	mu sync.Mutex
	on map[int64]Commit // by device
}

// New gives a board on which no commit is under way.
func New() *Board { return &Board{on: map[int64]Commit{}} }

// Take gives a commit all of these devices, or none: then it gives the place of the one that
// another has, and that other.
func (b *Board) Take(c Commit, devices ...int64) (place int, by Commit) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for i, d := range devices {
		if have := b.on[d]; have != nil && have.Active() {
			return i, have
		}
	}
	for _, d := range devices {
		b.on[d] = c
	}
	return -1, nil
}

// Pass hands a device on to another commit, whoever has it.
func (b *Board) Pass(device int64, to Commit) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.on[device] = to
}

// Release takes a device from a commit, if it is still the one that has it.
func (b *Board) Release(device int64, c Commit) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.on[device] == c {
		delete(b.on, device)
	}
}

// On gives the commit that has a device, nil where none has.
func (b *Board) On(device int64) Commit {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.on[device]
}

// Holder gives the change whose commit is under way on a device, 0 if none.
func (b *Board) Holder(device int64) int64 {
	if c := b.On(device); c != nil && c.Active() {
		return c.Change()
	}
	return 0
}

// Making gives what a commit under way found on a device and what it makes of
// it, by the modules that it hands out; nil if none is, or it is not prepared yet.
func (b *Board) Making(device int64, by *schema.Schema) (base, result *tree.Node) {
	if c := b.On(device); c != nil && c.Active() {
		return c.Trees(device, by)
	}
	return nil, nil
}
