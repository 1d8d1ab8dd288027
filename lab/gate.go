package lab

import (
	"net"
	"sync"
)

// gate is the path between a device and the management network. While it is
// shut nothing passes either way: packets are lost in silence, as they are
// when a configuration cuts management access, so peers see time-outs, not refusals.
type gate struct {
	mu   sync.Mutex
	cond *sync.Cond
	shut bool
}

func newGate() *gate {
	g := &gate{}
	g.cond = sync.NewCond(&g.mu)
	return g
}

func (g *gate) set(open bool) {
	g.mu.Lock()
	g.shut = !open
	g.mu.Unlock()
	g.cond.Broadcast()
}

func (g *gate) open() bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return !g.shut
}

// gated is a connection through the gate.
type gated struct {
	net.Conn
	gate   *gate
	closed bool // guarded by gate.mu
}

// wait blocks while the gate is shut, until the connection is closed.
func (c *gated) wait() error {
	c.gate.mu.Lock()
	defer c.gate.mu.Unlock()
	for c.gate.shut && !c.closed {
		c.gate.cond.Wait()
	}
	if c.closed {
		return net.ErrClosed
	}
	return nil
}

func (c *gated) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	if werr := c.wait(); werr != nil {
		return 0, werr
	}
	return n, err
}

func (c *gated) Write(p []byte) (int, error) {
	if err := c.wait(); err != nil {
		return 0, err
	}
	return c.Conn.Write(p)
}

func (c *gated) Close() error {
	c.gate.mu.Lock()
	c.closed = true
	c.gate.mu.Unlock()
	c.gate.cond.Broadcast()
	return c.Conn.Close()
}
