package netconf

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
)

// DialOptions say how to reach a device.
type DialOptions struct {
	Client    ssh.ClientConfig // account, authentication and host key check
	NETCONF   ClientOptions
	Timeout   time.Duration // for TCP, SSH and hello together, 30 s if 0
	Keepalive time.Duration // between checks that the peer lives, 10 s if 0; negative: none
}

// Dial opens a NETCONF session over SSH (RFC 6242 section 3). The errors keep
// their causes: net errors, host key errors, ssh authentication errors.
func Dial(ctx context.Context, address string, opt DialOptions) (*Client, error) {
	if opt.Timeout == 0 {
		opt.Timeout = 30 * time.Second
	}
	ctx, cancel := context.WithTimeout(ctx, opt.Timeout)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, err
	}
	// The handshake knows no context: closing the connection ends it.
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	c, err := overSSH(ctx, conn, address, opt)
	if !stop() && err == nil {
		c.Abort()
		err = ctx.Err()
	}
	if err != nil {
		_ = conn.Close()
		if ctx.Err() != nil {
			err = fmt.Errorf("no answer within %s: %w", opt.Timeout, errors.Join(ctx.Err(), err))
		}
		return nil, err
	}
	return c, nil
}

func overSSH(ctx context.Context, conn net.Conn, address string, opt DialOptions) (*Client, error) {
	sconn, chans, reqs, err := ssh.NewClientConn(conn, address, &opt.Client)
	if err != nil {
		return nil, err
	}
	client := ssh.NewClient(sconn, chans, reqs)
	t, err := openSubsystem(client)
	if err != nil {
		_ = client.Close()
		return nil, err
	}
	c, err := NewClient(ctx, t, opt.NETCONF)
	if err != nil {
		return nil, err
	}
	c.Local = conn.LocalAddr().String()
	if opt.Keepalive >= 0 {
		if opt.Keepalive == 0 {
			opt.Keepalive = 10 * time.Second
		}
		go keepalive(client, c, opt.Keepalive)
	}
	return c, nil
}

// keepalive asks the SSH peer for a sign of life (any answer to a global
// request will do, RFC 4254 section 4) and ends the session without one.
func keepalive(client *ssh.Client, c *Client, every time.Duration) {
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		select {
		case <-c.Done():
			return
		case <-tick.C:
		}
		answer := make(chan error, 1)
		go func() {
			_, _, err := client.SendRequest("keepalive@openssh.com", true, nil)
			answer <- err
		}()
		select {
		case err := <-answer:
			if err != nil {
				c.end(fmt.Errorf("the connection broke: %w", err))
				return
			}
		case <-time.After(3 * every):
			c.end(fmt.Errorf("the device gave no sign of life for %s", 3*every))
			return
		case <-c.Done():
			return
		}
	}
}

// subsystem is the netconf subsystem's channel as a transport.
type subsystem struct {
	io.Reader
	io.Writer
	client *ssh.Client
	once   sync.Once
}

func (s *subsystem) Close() error {
	var err error
	s.once.Do(func() { err = s.client.Close() })
	return err
}

func openSubsystem(client *ssh.Client) (*subsystem, error) {
	session, err := client.NewSession()
	if err != nil {
		return nil, err
	}
	in, err := session.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := session.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := session.RequestSubsystem("netconf"); err != nil {
		return nil, fmt.Errorf("the device's SSH server offers no netconf subsystem: %w", err)
	}
	return &subsystem{Reader: out, Writer: in, client: client}, nil
}
