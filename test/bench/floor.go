package main

import (
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"io"
	"net"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
)

// floor is bare SSH on loopback, both ends on this machine: what nothing that
// goes over SSH can be faster than.
type floor struct {
	address string
	client  ssh.ClientConfig
}

func newFloor() (*floor, error) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		return nil, err
	}
	cfg := &ssh.ServerConfig{
		PasswordCallback: func(ssh.ConnMetadata, []byte) (*ssh.Permissions, error) { return nil, nil },
	}
	cfg.AddHostKey(signer)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go echo(conn, cfg)
		}
	}()
	return &floor{
		l.Addr().String(),
		ssh.ClientConfig{
			User: "u", Auth: []ssh.AuthMethod{ssh.Password("p")}, HostKeyCallback: ssh.FixedHostKey(signer.PublicKey()),
		},
	}, nil
}

// echo serves a connection whose channels give back what they get.
func echo(conn net.Conn, cfg *ssh.ServerConfig) {
	_, chans, reqs, err := ssh.NewServerConn(conn, cfg)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(reqs)
	for nc := range chans {
		ch, requests, err := nc.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range requests {
				_ = r.Reply(true, nil)
			}
		}()
		go func() { _, _ = io.Copy(ch, ch) }()
	}
}

// line is an open channel.
type line struct {
	client *ssh.Client
	ch     ssh.Channel
}

func (f *floor) connect() (*line, error) {
	c, err := ssh.Dial("tcp", f.address, &f.client)
	if err != nil {
		return nil, err
	}
	ch, requests, err := c.OpenChannel("session", nil)
	if err != nil {
		return nil, err
	}
	go ssh.DiscardRequests(requests)
	if ok, err := ch.SendRequest("subsystem", true, ssh.Marshal(struct{ Name string }{"netconf"})); err != nil || !ok {
		return nil, errors.Join(errors.New("no subsystem"), err)
	}
	return &line{c, ch}, nil
}

// trip is one round trip with a short message.
func (l *line) trip() error {
	var message [64]byte
	if _, err := l.ch.Write(message[:]); err != nil {
		return err
	}
	_, err := io.ReadFull(l.ch, message[:])
	return err
}

// together does a number of things, so many at once, and gives the time it took.
func together(n, atOnce int, do func(i int) error) (took time.Duration, err error) {
	var wg sync.WaitGroup
	var mu sync.Mutex
	places := make(chan struct{}, atOnce)
	began := time.Now()
	for i := range n {
		places <- struct{}{}
		wg.Go(func() {
			e := do(i)
			<-places
			mu.Lock()
			defer mu.Unlock()
			err = errors.Join(err, e)
		})
	}
	wg.Wait()
	return time.Since(began), err
}

// connects times that many connects, 64 at once.
func (f *floor) connects(n int) (time.Duration, error) {
	lines := make([]*line, n)
	took, err := together(n, 64, func(i int) (err error) {
		if lines[i], err = f.connect(); err == nil {
			err = lines[i].trip()
		}
		return err
	})
	for _, l := range lines {
		if l != nil {
			_ = l.client.Close()
		}
	}
	return took, err
}

// trips times round trips on one line, one after another.
func (f *floor) trips(n int) (time.Duration, error) {
	l, err := f.connect()
	if err != nil {
		return 0, err
	}
	defer func() { _ = l.client.Close() }()
	began := time.Now()
	for range n {
		if err := l.trip(); err != nil {
			return 0, err
		}
	}
	return time.Since(began), nil
}

// needs times what a number of connects and round trips cost, bare.
func (f *floor) needs(connects, trips int) (time.Duration, error) {
	a, err := f.connects(connects)
	if err != nil {
		return 0, err
	}
	b, err := f.trips(trips)
	return a + b, err
}
