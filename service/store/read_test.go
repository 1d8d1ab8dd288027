package store

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What is remembered is bounded, in questions and in rows; what was read before something made
// all be forgotten is not remembered after it.
func TestMemory(t *testing.T) {
	t.Parallel()
	var m memory
	for i := range 3 * mostKnown {
		m.put(fmt.Sprint(i), i, 1, 0)
	}
	assert.Len(t, m.known, mostKnown)
	v, ok := m.get(fmt.Sprint(3*mostKnown - 1))
	assert.True(t, ok, "the newest is there")
	assert.Equal(t, 3*mostKnown-1, v)
	for i := range 100 {
		m.put(fmt.Sprint("long ", i), i, mostKnownRows/10, 0)
	}
	assert.LessOrEqual(t, m.rows, mostKnownRows)
	sum := 0
	for _, r := range m.known {
		sum += r.rows
	}
	assert.Equal(t, m.rows, sum)
	m.put("too long", 1, mostKnownRows, 0)
	_, ok = m.get("too long")
	assert.False(t, ok)

	since := m.since()
	s := &Store{}
	fewer := s.Fewer()
	s.memory.put("token", "mara", 1, 0)
	s.memory.forget()
	select {
	case <-fewer:
	default:
		assert.Fail(t, "that somebody may do less is told")
	}
	s.memory.put("token", "mara", 1, since) // it was read before
	_, ok = s.memory.get("token")
	assert.False(t, ok)
	assert.Zero(t, s.memory.rows)
}
