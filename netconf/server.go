package netconf

import (
	"errors"
	"fmt"
	"io"
	"net"
	"sort"
	"strconv"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"oakenlatch/core/markup"
)

// Handler carries out the operations of a server's sessions. Calls of one
// session come one after another, those of different sessions at once.
type Handler interface {
	// Operate gives the content of the rpc-reply; nil is <ok/>. An error that
	// is RPCErrors goes to the peer as it is.
	Operate(s *Session, op *markup.Element) ([]byte, error)
	// Closed is called once a session has ended, however it ended.
	Closed(s *Session)
}

// Opener is a Handler that wants to know of sessions that begin.
type Opener interface {
	Opened(s *Session)
}

// Server is the device's side of the protocol. It answers hello, close-session
// and kill-session itself.
type Server struct {
	Capabilities []string
	Handler      Handler
	MaxMessage   int

	mu       sync.Mutex
	last     uint32
	sessions map[uint32]*Session
}

// Session is one session of a server.
type Session struct {
	ID      uint32
	User    string
	Remote  string
	Started time.Time

	frames *framer
	rwc    io.ReadWriteCloser

	mu         sync.Mutex
	subscribed chan []byte // nil: is told of nothing
	ended      bool
	atEnd      sync.Once
	reason     string // why it ended, as RFC 6470 names it
}

// Reason is why the session ended, as RFC 6470 names it.
func (s *Session) Reason() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.reason == "" {
		return "dropped"
	}
	return s.reason
}

// AtEnd does something once for the end of a session, of which a handler may
// hear twice.
func (s *Session) AtEnd(f func()) { s.atEnd.Do(f) }

func (s *Session) because(reason string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.reason == "" {
		s.reason = reason
	}
}

// Drop ends the session by closing its transport.
func (s *Session) Drop() { _ = s.rwc.Close() }

// Sessions lists the sessions in order of their ids.
func (srv *Server) Sessions() []*Session {
	srv.mu.Lock()
	defer srv.mu.Unlock()
	out := make([]*Session, 0, len(srv.sessions))
	for _, s := range srv.sessions {
		out = append(out, s)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].ID < out[j].ID })
	return out
}

// Serve runs one session over a transport until it ends.
func (srv *Server) Serve(rwc io.ReadWriteCloser, user, remote string) error {
	defer func() { _ = rwc.Close() }()
	srv.mu.Lock()
	srv.last++
	s := &Session{
		ID: srv.last, User: user, Remote: remote, Started: time.Now().UTC(), rwc: rwc,
		frames: newFramer(rwc, srv.MaxMessage),
	}
	if srv.sessions == nil {
		srv.sessions = map[uint32]*Session{}
	}
	srv.sessions[s.ID] = s
	srv.mu.Unlock()
	defer func() {
		srv.mu.Lock()
		delete(srv.sessions, s.ID)
		srv.mu.Unlock()
		s.over()
		srv.Handler.Closed(s)
	}()
	if err := srv.greet(s); err != nil {
		return err
	}
	if o, ok := srv.Handler.(Opener); ok {
		o.Opened(s)
	}
	for {
		msg, err := s.frames.read()
		if err != nil {
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
		if over, err := srv.answer(s, msg); over || err != nil {
			return err
		}
	}
}

func (srv *Server) greet(s *Session) error {
	sent := make(chan error, 1)
	go func() { sent <- s.frames.write(hello(srv.Capabilities, s.ID)) }()
	msg, err := s.frames.read()
	if err != nil {
		return err
	}
	if err := <-sent; err != nil {
		return err
	}
	caps, sid, err := parseHello(msg)
	if err != nil {
		return err
	}
	if sid != "" {
		return errors.New("a client's hello must not hold a session-id") // RFC 6241 section 8.1
	}
	if caps.Has(CapBase11) && Capabilities(srv.Capabilities).Has(CapBase11) {
		s.frames.chunks()
	}
	return nil
}

// answer carries out one rpc; over is true where the session is to end.
func (srv *Server) answer(s *Session, msg []byte) (over bool, err error) {
	el, err := markup.Parse(msg, markup.Limits{Bytes: s.frames.max})
	if err != nil {
		return true, s.reply(nil, nil, RPCErrors{{Type: "rpc", Tag: "malformed-message", Message: err.Error()}})
	}
	if el.Name != base("rpc") {
		return true, s.reply(
			nil, nil,
			RPCErrors{{Type: "rpc", Tag: "malformed-message", Message: "expected <rpc>, got <" + el.Name.Local + ">"}},
		)
	}
	if _, ok := el.Attr("", "message-id"); !ok {
		return false, s.reply(el, nil, RPCErrors{{Type: "rpc", Tag: "missing-attribute",
			Info: "<bad-attribute>message-id</bad-attribute><bad-element>rpc</bad-element>"}})
	}
	if len(el.Children) != 1 {
		return false, s.reply(
			el, nil, RPCErrors{{Type: "protocol", Tag: "bad-element", Message: "an rpc holds exactly one operation"}},
		)
	}
	op := el.Children[0]
	switch op.Name {
	case base("close-session"):
		s.because("closed")
		return true, s.reply(el, nil, nil)
	case base("kill-session"):
		return false, s.reply(el, nil, srv.kill(s, op.Child(BaseNS, "session-id").Value()))
	}
	content, err := srv.Handler.Operate(s, op)
	return false, s.reply(el, content, err)
}

func (srv *Server) kill(s *Session, id string) error {
	n, err := strconv.ParseUint(id, 10, 32)
	srv.mu.Lock()
	victim := srv.sessions[uint32(n)]
	srv.mu.Unlock()
	if err != nil || victim == nil || victim == s {
		return RPCErrors{
			{
				Type: "protocol", Tag: "invalid-value",
				Message: fmt.Sprintf("session %q cannot be killed: it is your own or not there", id),
			},
		}
	}
	victim.because("killed")
	victim.Drop()
	// Gone means its locks are gone too (section 7.9).
	srv.Handler.Closed(victim)
	return nil
}

// reply sends an rpc-reply with the attributes of the rpc (section 4.2).
func (s *Session) reply(rpc *markup.Element, content []byte, err error) error {
	w := &markup.Writer{}
	var attrs []string
	if rpc != nil {
		for _, a := range rpc.Attrs {
			if a.Name.Space == "" {
				attrs = append(attrs, a.Name.Local, a.Value)
			}
		}
	}
	w.Start(base("rpc-reply"), attrs...)
	var errs RPCErrors
	switch {
	case errors.As(err, &errs):
		for _, e := range errs {
			writeRPCError(w, e)
		}
	case err != nil:
		writeRPCError(w, RPCError{Type: "application", Tag: "operation-failed", Message: err.Error()})
	case content == nil:
		w.Leaf(base("ok"), "")
	default:
		w.Raw(content)
	}
	w.End()
	return s.frames.write(w.Bytes())
}

// ServeSSH runs one SSH connection with any number of NETCONF sessions on its
// channels, until it ends (RFC 6242 section 4).
func (srv *Server) ServeSSH(conn net.Conn, cfg *ssh.ServerConfig) error {
	sconn, chans, reqs, err := ssh.NewServerConn(conn, cfg)
	if err != nil {
		_ = conn.Close()
		return err
	}
	defer func() { _ = sconn.Close() }()
	go answerGlobal(reqs)
	var wg sync.WaitGroup
	for nc := range chans {
		if nc.ChannelType() != "session" {
			_ = nc.Reject(ssh.UnknownChannelType, "only session channels")
			continue
		}
		ch, requests, err := nc.Accept()
		if err != nil {
			continue
		}
		wg.Go(func() { srv.channel(ch, requests, sconn) })
	}
	wg.Wait()
	return nil
}

func answerGlobal(reqs <-chan *ssh.Request) {
	for r := range reqs {
		if r.WantReply {
			_ = r.Reply(r.Type == "keepalive@openssh.com", nil)
		}
	}
}

func (srv *Server) channel(ch ssh.Channel, requests <-chan *ssh.Request, conn *ssh.ServerConn) {
	started := false
	for r := range requests {
		var sub struct{ Name string }
		ok := r.Type == "subsystem" && !started && ssh.Unmarshal(r.Payload, &sub) == nil && sub.Name == "netconf"
		if r.WantReply {
			_ = r.Reply(ok, nil)
		}
		if ok {
			started = true
			go func() {
				_ = srv.Serve(ch, conn.User(), conn.RemoteAddr().String())
			}()
		}
	}
	_ = ch.Close()
}
