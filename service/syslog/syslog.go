// Package syslog sends lines to a syslog receiver (RFC 5424), over UDP (RFC
// 5426), TCP with octet counting (RFC 6587 section 3.4.1), or the machine's own
// socket. It never holds up what it tells of: what cannot be sent is dropped
// and counted.
package syslog

import (
	"fmt"
	"net"
	"net/url"
	"os"
	"strings"
	"sync/atomic"
	"time"
)

// facility is that of log audit (RFC 5424 section 6.2.1).
const facility = 13

// waiting is how many lines may wait to be sent.
const waiting = 1024

// Sender sends lines.
type Sender struct {
	network, address string
	host             string
	lines            chan string
	dropped          atomic.Int64
	done             chan struct{}
}

// New gives a sender to udp://HOST:PORT, tcp://HOST:PORT or unix:///PATH.
func New(to string) (*Sender, error) {
	u, err := url.Parse(to)
	if err != nil {
		return nil, err
	}
	s := &Sender{network: u.Scheme, address: u.Host, lines: make(chan string, waiting), done: make(chan struct{})}
	switch u.Scheme {
	case "udp", "tcp":
		if _, _, err := net.SplitHostPort(u.Host); err != nil {
			return nil, fmt.Errorf("%q is no syslog receiver: %w", to, err)
		}
	case "unix":
		s.network, s.address = "unixgram", u.Path
	default:
		return nil, fmt.Errorf("%q is no syslog receiver; write udp://HOST:PORT, tcp://HOST:PORT or unix:///dev/log", to)
	}
	if s.host, err = os.Hostname(); err != nil || s.host == "" {
		s.host = "-"
	}
	go s.send()
	return s, nil
}

// Line is a line as RFC 5424 section 6 has it, in UTF-8 with its mark.
func Line(host string, severity int, at time.Time, text string) string {
	text = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, text)
	return fmt.Sprintf("<%d>1 %s %s oaken-latchd %d archive - \ufeff%s", facility*8+severity, at.UTC().Format("2006-01-02T15:04:05.000Z"), host, os.Getpid(), text)
}

// Send sends a line of a severity (RFC 5424 section 6.2.1) when it can.
func (s *Sender) Send(severity int, text string) {
	select {
	case s.lines <- Line(s.host, severity, time.Now(), text):
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
	var conn net.Conn
	for line := range s.lines {
		if s.network == "tcp" {
			line = fmt.Sprintf("%d %s", len(line), line)
		}
		for try := 0; ; try++ {
			var err error
			if conn == nil {
				conn, err = net.DialTimeout(s.network, s.address, 5*time.Second)
			}
			if err == nil {
				_ = conn.SetWriteDeadline(time.Now().Add(5 * time.Second))
				_, err = conn.Write([]byte(line))
			}
			if err == nil {
				break
			}
			if conn != nil {
				_ = conn.Close()
			}
			if conn = nil; try > 0 {
				s.dropped.Add(1)
				break
			}
		}
	}
	if conn != nil {
		_ = conn.Close()
	}
}
