package netconf

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"oakenlatch/core/markup"
)

// ClientOptions tune a client; the zero value is ready to use.
type ClientOptions struct {
	MaxMessage   int           // bytes of one message, DefaultMaxMessage if 0
	HelloTimeout time.Duration // for the exchange of hellos, 30 s if 0
	OnlyBase10   bool          // announce base:1.0 only: the old framing
	Traffic      *Traffic      // counted here, if it is there

	// Notify hears the events of a session that subscribed (see Subscribe), one
	// after another. Replies wait for it: it must not.
	Notify func(Notification)
}

// Traffic counts what was asked of devices.
type Traffic struct {
	Sessions atomic.Int64 // that came to be
	Calls    atomic.Int64 // sent
}

// Client is one NETCONF session with a device.
type Client struct {
	Capabilities Capabilities
	SessionID    string // as the device named it
	Local        string // our end of the connection, HOST:PORT; "" where it is no network's

	rwc     io.ReadWriteCloser
	frames  *framer
	traffic *Traffic
	notify  func(Notification)

	mu      sync.Mutex
	next    uint64
	waiting map[string]*call
	order   []string // message-ids outstanding, oldest first
	err     error    // why the session ended
	done    chan struct{}
}

type call struct {
	reply chan *markup.Element
	fail  chan error
}

// NoReplyError is a call that was sent and whose reply never came: the device
// may have carried it out or not.
type NoReplyError struct {
	Op  string
	Err error
}

func (e *NoReplyError) Error() string { return fmt.Sprintf("no reply to %s: %v", e.Op, e.Err) }
func (e *NoReplyError) Unwrap() error { return e.Err }

// ErrClosed is wrapped by errors of calls on a session that has ended.
var ErrClosed = errors.New("the NETCONF session has ended")

// afterHello is a pause before the first rpc: there are servers that lose one
// that arrives within milliseconds of the client's hello.
const afterHello = 50 * time.Millisecond

// NewClient exchanges hellos over a transport and starts the session. The
// transport is closed with it, or at once where this fails.
func NewClient(ctx context.Context, rwc io.ReadWriteCloser, opt ClientOptions) (*Client, error) {
	if opt.HelloTimeout == 0 {
		opt.HelloTimeout = 30 * time.Second
	}
	ctx, cancel := context.WithTimeout(ctx, opt.HelloTimeout)
	defer cancel()
	c := &Client{
		rwc: rwc, frames: newFramer(rwc, opt.MaxMessage),
		waiting: map[string]*call{}, done: make(chan struct{}), traffic: opt.Traffic, notify: opt.Notify,
	}
	if c.traffic == nil {
		c.traffic = &Traffic{}
	}
	caps := []string{CapBase10, CapBase11}
	if opt.OnlyBase10 {
		caps = caps[:1]
	}
	result := make(chan error, 1)
	go func() { result <- c.greet(caps) }()
	select {
	case err := <-result:
		if err != nil {
			_ = rwc.Close()
			return nil, err
		}
	case <-ctx.Done():
		_ = rwc.Close()
		if err := <-result; err != nil { // of a connection that is closed: the time is over, whatever it says
			return nil, fmt.Errorf("the device sent no hello: %w", ctx.Err())
		}
		return nil, fmt.Errorf("the device sent its hello too late: %w", ctx.Err())
	}
	c.traffic.Sessions.Add(1)
	go c.receive()
	select {
	case <-time.After(afterHello):
	case <-ctx.Done():
	}
	return c, nil
}

func (c *Client) greet(caps []string) error {
	// Both sides send at once (RFC 6241 section 8.1); a peer that only reads
	// after it has written must not block us.
	sent := make(chan error, 1)
	go func() { sent <- c.frames.write(hello(caps, 0)) }()
	msg, err := c.frames.read()
	if err != nil {
		return fmt.Errorf("the device sent no hello: %w", err)
	}
	if err := <-sent; err != nil {
		return fmt.Errorf("hello could not be sent: %w", err)
	}
	c.Capabilities, c.SessionID, err = parseHello(msg)
	if err != nil {
		return err
	}
	if c.SessionID == "" {
		return errors.New("the device's hello has no session-id")
	}
	if c.Capabilities.Has(CapBase11) && Capabilities(caps).Has(CapBase11) {
		c.frames.chunks()
	}
	return nil
}

// receive hands replies to the calls that wait for them until the session ends.
func (c *Client) receive() {
	for {
		msg, err := c.frames.read()
		if err != nil {
			if errors.Is(err, io.EOF) {
				err = errors.New("the device closed it")
			}
			c.end(err)
			return
		}
		if id, ok := plainOK(msg); ok {
			c.hand(id, okReply)
			continue
		}
		el, err := markup.Parse(msg, markup.Limits{Bytes: c.frames.max, Closed: base("data")})
		if err != nil {
			c.end(fmt.Errorf("the device sent something that is not XML: %w", err))
			return
		}
		if n, ok := notificationIn(el); ok && c.notify != nil {
			c.notify(n)
		}
		if el.Name != base("rpc-reply") {
			continue // a notification, or something newer than us
		}
		c.deliver(el)
	}
}

// okReply is what a plain <ok/> reads to. Nobody changes it.
var okReply = func() *markup.Element {
	el, err := markup.Parse([]byte(`<rpc-reply xmlns="`+BaseNS+`"><ok/></rpc-reply>`), markup.Limits{})
	if err != nil {
		panic(err) // it is a constant
	}
	return el
}()

func (c *Client) deliver(el *markup.Element) {
	id, ok := el.Attr("", "message-id")
	if !ok {
		c.mu.Lock()
		if len(c.order) > 0 {
			id = c.order[0] // an error without id answers the oldest rpc outstanding
		}
		c.mu.Unlock()
	}
	c.hand(id, el)
}

// hand gives a reply to the call that waits for it.
func (c *Client) hand(id string, el *markup.Element) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if w := c.waiting[id]; w != nil {
		w.reply <- el
		c.forget(id)
	}
}

// forget drops a call; c.mu is held.
func (c *Client) forget(id string) {
	delete(c.waiting, id)
	for i, have := range c.order {
		if have == id {
			c.order = append(c.order[:i], c.order[i+1:]...)
			break
		}
	}
}

// end closes the session for a reason; calls outstanding get it.
func (c *Client) end(err error) {
	c.mu.Lock()
	if c.err == nil {
		c.err = fmt.Errorf("%w: %w", ErrClosed, err)
		close(c.done)
	}
	for id, w := range c.waiting {
		w.fail <- c.err
		delete(c.waiting, id)
	}
	c.order = nil
	c.mu.Unlock()
	_ = c.rwc.Close()
}

// Done is closed when the session has ended, for whatever reason.
func (c *Client) Done() <-chan struct{} { return c.done }

// Err says why the session ended; nil while it goes on.
func (c *Client) Err() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.err
}

// Abort ends the session without a word to the device.
func (c *Client) Abort() { c.end(errors.New("aborted")) }

// Close asks the device to end the session (RFC 6241 section 7.8) and ends it,
// whatever the answer.
func (c *Client) Close(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	_, err := c.call(ctx, "close-session", nil)
	c.end(errors.New("closed"))
	if Refused(err) {
		return err
	}
	return nil
}

// Call sends an operation, given as the content of the rpc element, and gives
// the rpc-reply. name is for error messages.
func (c *Client) Call(ctx context.Context, name string, content []byte) (*markup.Element, error) {
	return opened(c.send(ctx, name, content))
}

// call sends an operation of the base namespace with the given body writer.
func (c *Client) call(ctx context.Context, op string, body func(*markup.Writer)) (*markup.Element, error) {
	w := &markup.Writer{}
	w.Start(base(op))
	if body != nil {
		body(w)
	}
	w.End()
	return c.send(ctx, op, w.Bytes())
}

func (c *Client) send(ctx context.Context, op string, content []byte) (*markup.Element, error) {
	if err := ctx.Err(); err != nil {
		return nil, fmt.Errorf("%s not sent: %w", op, err)
	}
	w := call{reply: make(chan *markup.Element, 1), fail: make(chan error, 1)}
	c.mu.Lock()
	if c.err != nil {
		c.mu.Unlock()
		return nil, fmt.Errorf("%s not sent: %w", op, c.err)
	}
	c.next++
	id := strconv.FormatUint(c.next, 10)
	c.waiting[id] = &w
	c.order = append(c.order, id)
	c.mu.Unlock()
	c.traffic.Calls.Add(1)

	msg := make([]byte, 0, len(content)+160)
	msg = append(msg, `<?xml version="1.0" encoding="UTF-8"?><rpc xmlns="`+BaseNS+`" message-id="`+id+`">`...)
	msg = append(msg, content...)
	msg = append(msg, "</rpc>"...)
	// The write may block on a peer that reads no more. The context must end the
	// call then, and with half a message sent the session is of no use any more.
	stop := context.AfterFunc(ctx, func() { c.end(fmt.Errorf("%s could not be sent whole: %w", op, ctx.Err())) })
	err := c.frames.write(msg)
	stop()
	if err != nil {
		c.end(err)
	}
	select {
	case el := <-w.reply:
		errs, _ := parseRPCErrors(el)
		if len(errs) > 0 {
			return el, errs
		}
		return el, nil
	case err := <-w.fail:
		return nil, &NoReplyError{op, err}
	case <-ctx.Done():
		c.mu.Lock()
		c.forget(id)
		c.mu.Unlock()
		return nil, &NoReplyError{op, ctx.Err()}
	}
}
