// Package syslog sends lines to a syslog receiver (RFC 5424), over UDP (RFC
// 5426), TCP with octet counting (RFC 6587 section 3.4.1), TLS (RFC 5425), or
// the machine's own socket.
package syslog

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"time"
)

// facility is that of log audit (RFC 5424 section 6.2.1).
const facility = 13

// The severities that are used (RFC 5424 section 6.2.1).
const (
	Error   = 3
	Warning = 4
	Notice  = 5
	Info    = 6
)

// waiting is how many lines may wait to be sent, and patience how long a
// receiver may take for each step.
const (
	waiting  = 1024
	patience = 5 * time.Second
)

// Message is one message.
type Message struct {
	Severity int
	At       time.Time
	ID       string      // MSGID: what kind of message it is
	Element  string      // the SD-ID of Data
	Data     [][2]string // structured data, in order; empty values are left out
	Text     string
}

// header keeps a text to what a field of the header may hold.
func header(text string, most int) string {
	text = strings.Map(func(r rune) rune {
		if r <= ' ' || r > '~' {
			return '_'
		}
		return r
	}, text)
	if text == "" {
		return "-"
	}
	return text[:min(len(text), most)]
}

// oneLine takes out what would act on whoever reads a log.
func oneLine(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(text, "\ufffd"))
}

// Line is a message as RFC 5424 section 6 has it, in UTF-8 with its mark.
func (m Message) Line(host string) string {
	var b strings.Builder
	fmt.Fprintf(
		&b, "<%d>1 %s %s oaken-latchd %d %s ", facility*8+m.Severity, m.At.UTC().Format("2006-01-02T15:04:05.000Z"),
		header(host, 255), os.Getpid(), header(m.ID, 32),
	)
	data := slices.DeleteFunc(slices.Clone(m.Data), func(d [2]string) bool { return d[1] == "" })
	if len(data) == 0 {
		b.WriteByte('-')
	} else {
		b.WriteString("[" + m.Element)
		for _, d := range data {
			fmt.Fprintf(
				&b, ` %s="%s"`, d[0], strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`).Replace(oneLine(d[1])),
			)
		}
		b.WriteByte(']')
	}
	b.WriteString(" \ufeff" + oneLine(m.Text))
	return b.String()
}

// Receiver is where lines go.
type Receiver struct {
	network, address string
	secure           *tls.Config
	host             string
}

// Parse reads udp://HOST:PORT, tcp://HOST:PORT, tls://HOST:PORT or
// unix:///PATH. secure is for TLS; nil trusts what the system does.
func Parse(to string, secure *tls.Config) (*Receiver, error) {
	u, err := url.Parse(to)
	if err != nil {
		return nil, err
	}
	r := &Receiver{network: u.Scheme, address: u.Host}
	switch u.Scheme {
	case "udp", "tcp", "tls":
		if host, port, err := net.SplitHostPort(u.Host); err != nil || host == "" || port == "" {
			return nil, fmt.Errorf("%q is no syslog receiver; write HOST:PORT behind %s://", to, u.Scheme)
		}
	case "unix":
		r.network, r.address = "unixgram", u.Path
	default:
		return nil, fmt.Errorf(
			"%q is no syslog receiver; write udp://HOST:PORT, tcp://HOST:PORT, tls://HOST:PORT or unix:///dev/log", to,
		)
	}
	if u.Scheme == "tls" {
		r.network, r.secure = "tcp", &tls.Config{MinVersion: tls.VersionTLS12}
		if secure != nil {
			r.secure = secure.Clone()
		}
	}
	if r.host, err = os.Hostname(); err != nil || r.host == "" {
		r.host = "-"
	}
	return r, nil
}

// Send sends messages over a connection of their own, and gives nil once the
// receiver has taken them, as far as that can be known: nothing in these protocols
// acknowledges a line, and what is written to a receiver that ends the connection is
// lost in silence. So the end is made known, and the receiver's own awaited: it has
// read all that was before. Over UDP nothing tells.
func (r *Receiver) Send(ctx context.Context, list ...Message) error {
	lines := make([]string, len(list))
	for i, m := range list {
		lines[i] = m.Line(r.host)
	}
	return r.send(ctx, lines)
}

func (r *Receiver) send(ctx context.Context, lines []string) (err error) {
	dialer := &net.Dialer{}
	dctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	var conn net.Conn
	if r.secure != nil {
		conn, err = (&tls.Dialer{NetDialer: dialer, Config: r.secure}).DialContext(dctx, r.network, r.address)
	} else {
		conn, err = dialer.DialContext(dctx, r.network, r.address)
	}
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close() }()
	defer context.AfterFunc(ctx, func() { _ = conn.Close() })()
	if err := r.deliver(conn, lines); err != nil {
		return cmp.Or(ctx.Err(), err)
	}
	return nil
}

func (r *Receiver) deliver(conn net.Conn, lines []string) error {
	for _, line := range lines {
		if r.network == "tcp" {
			line = fmt.Sprintf("%d %s", len(line), line)
		}
		_ = conn.SetWriteDeadline(time.Now().Add(patience))
		if _, err := conn.Write([]byte(line)); err != nil {
			return err
		}
	}
	if r.network != "tcp" {
		return nil
	}
	return ended(conn)
}

// ended says to a receiver that nothing more comes, and waits until it ends the
// connection, too. One that leaves it half open is taken to have read all.
func ended(conn net.Conn) error {
	plain := conn
	if secure, ok := conn.(*tls.Conn); ok {
		if err := secure.CloseWrite(); err != nil { // close_notify, RFC 5425 section 4.4
			return err
		}
		plain = secure.NetConn()
	}
	if tcp, ok := plain.(*net.TCPConn); ok {
		if err := tcp.CloseWrite(); err != nil {
			return err
		}
	}
	_ = conn.SetReadDeadline(time.Now().Add(patience))
	_, err := io.Copy(io.Discard, conn)
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return nil
	}
	return err
}

// Sender sends lines and never holds up what it tells of: what cannot be sent
// is dropped, counted and told.
type Sender struct {
	to      *Receiver
	lines   chan string
	dropped atomic.Int64
	done    chan struct{}
	tell    func(dropped int64, why error)
	told    time.Time // when it was told last that lines were dropped
}

// tellEvery is how often it is told at most that lines were dropped.
const tellEvery = time.Minute

// New gives a sender to a receiver as [Parse] takes it. tell is told, once a minute at most, how many lines were
// dropped so far and why the last of them were; nil is not.
func New(to string, tell func(dropped int64, why error)) (*Sender, error) {
	r, err := Parse(to, nil)
	if err != nil {
		return nil, err
	}
	if tell == nil {
		tell = func(int64, error) {}
	}
	s := &Sender{to: r, lines: make(chan string, waiting), done: make(chan struct{}), tell: tell}
	go s.send()
	return s, nil
}

// Send sends a line about archives, of a severity, when it can.
func (s *Sender) Send(severity int, text string) {
	m := Message{Severity: severity, At: time.Now(), ID: "archive", Text: text}
	select {
	case s.lines <- m.Line(s.to.host):
	default:
		s.dropped.Add(1)
	}
}

// Dropped counts the lines that could not be sent.
func (s *Sender) Dropped() int64 { return s.dropped.Load() }

// Close sends what waits, for a second at most.
func (s *Sender) Close() {
	close(s.lines)
	select {
	case <-s.done:
	case <-time.After(time.Second):
	}
}

func (s *Sender) send() {
	defer close(s.done)
	for line := range s.lines {
		list := []string{line}
		for more := true; more; { // what waits goes along
			select {
			case line, more = <-s.lines:
				if more {
					list = append(list, line)
				}
			default:
				more = false
			}
		}
		before := s.dropped.Load()
		err := s.to.send(context.Background(), list)
		if err != nil {
			s.dropped.Add(int64(len(list)))
		}
		s.droppedSince(before, err)
	}
}

// droppedSince tells that more lines were dropped than before, where that was not told just now.
func (s *Sender) droppedSince(before int64, err error) {
	dropped := s.dropped.Load()
	if dropped == before || time.Since(s.told) < tellEvery {
		return
	}
	s.told = time.Now()
	s.tell(dropped, cmp.Or(err, errors.New("too many lines waited")))
}
