package netconf

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/markup"
)

type pipe struct {
	io.Reader
	io.Writer
}

func TestFraming(t *testing.T) {
	for _, chunked := range []bool{false, true} {
		var wire bytes.Buffer
		out := newFramer(&wire, 0)
		in := newFramer(&wire, 0)
		if chunked {
			out.chunks()
			in.chunks()
		}
		for _, msg := range []string{"<a/>", "x>y]]>]z", strings.Repeat("long ", 20000)} {
			require.NoError(t, out.write([]byte(msg)))
			got, err := in.read()
			require.NoError(t, err)
			assert.Equal(t, msg, string(got), "chunked %t", chunked)
		}
		_, err := in.read()
		require.ErrorIs(t, err, io.EOF)
	}
}

// The examples and the limits of RFC 6242 section 4.2.
func TestChunks(t *testing.T) {
	read := func(text string) (string, error) {
		f := newFramer(pipe{strings.NewReader(text), io.Discard}, 64)
		f.chunks()
		msg, err := f.read()
		return string(msg), err
	}
	got, err := read("\n#4\n<rpc\n#18\n message-id=\"102\"\n\n#1\n>\n##\n")
	require.NoError(t, err)
	assert.Equal(t, "<rpc message-id=\"102\"\n>", got)
	for text, want := range map[string]error{
		"":                  io.EOF,
		"\n":                io.ErrUnexpectedEOF,
		"\n#4\n<rp":         io.ErrUnexpectedEOF,
		"\n#4\n<rpc":        io.ErrUnexpectedEOF,
		"\n##\n":            ErrFraming, // no chunk at all
		"\n#0\n\n##\n":      ErrFraming,
		"\n#04\n<rpc\n##\n": ErrFraming,
		"\n#+4\n<rpc\n##\n": ErrFraming,
		"\n#x\n":            ErrFraming,
		"<rpc>":             ErrFraming,
		"\n#99999999999\n":  ErrFraming,
		"\n#4294967295\nx":  ErrTooLarge,
		"\n#60\n" + strings.Repeat("x", 60) + "\n#60\n": ErrTooLarge,
	} {
		_, err := read(text)
		require.ErrorIs(t, err, want, "%q", text)
	}
	f := newFramer(pipe{strings.NewReader(strings.Repeat("x", 100)), io.Discard}, 64)
	_, err = f.read()
	require.ErrorIs(t, err, ErrTooLarge, "without an end either")
}

func FuzzFrames(f *testing.F) {
	f.Add([]byte("\n#4\n<rpc\n##\n"), true)
	f.Add([]byte("<rpc/>]]>]]>"), false)
	f.Fuzz(func(t *testing.T, data []byte, chunked bool) {
		fr := newFramer(pipe{bytes.NewReader(data), io.Discard}, 1<<12)
		fr.chunked = chunked
		for range 100 {
			msg, err := fr.read()
			if err != nil {
				return
			}
			require.LessOrEqual(t, len(msg), 1<<12)
		}
	})
}

// device is a peer that answers each rpc with what a function says: messages
// with NUL between them, nothing, or by hanging up.
func device(t *testing.T, answer func(id string, op *markup.Element) string) *Client {
	t.Helper()
	near, far := net.Pipe()
	go func() {
		f := newFramer(far, 0)
		_ = f.write(hello([]string{CapBase10, CapBase11}, 7))
		if _, err := f.read(); err != nil {
			return
		}
		f.chunks()
		for {
			msg, err := f.read()
			if err != nil {
				return
			}
			el, err := markup.Parse(msg, markup.Limits{})
			if err != nil {
				return
			}
			id, _ := el.Attr("", "message-id")
			switch text := answer(id, el.Children[0]); text {
			case "":
			case "hang up":
				_ = far.Close()
				return
			default:
				for _, msg := range strings.Split(text, "\x00") {
					_ = f.write([]byte(msg))
				}
			}
		}
	}()
	c, err := NewClient(t.Context(), near, ClientOptions{})
	require.NoError(t, err)
	t.Cleanup(c.Abort)
	return c
}

func reply(id, content string) string {
	return fmt.Sprintf(`<rpc-reply message-id="%s" xmlns="%s">%s</rpc-reply>`, id, BaseNS, content)
}

func TestReplies(t *testing.T) {
	c := device(t, func(id string, op *markup.Element) string {
		switch op.Name.Local {
		case "lock":
			return reply(id,
				`<rpc-error><error-type>protocol</error-type><error-tag>lock-denied</error-tag><error-severity>error</error-severity><error-app-tag>held</error-app-tag><error-path xmlns:x="urn:x">/x:a</error-path><error-message xml:lang="en">
				Lock failed, held by another </error-message><error-info><session-id>454</session-id></error-info></rpc-error>`+
					`<rpc-error><error-type>application</error-type><error-tag>in-use</error-tag><error-severity>error</error-severity></rpc-error>`)
		case "commit":
			return reply(
				id,
				`<rpc-error><error-type>application</error-type><error-tag>x</error-tag><error-severity>warning</error-severity></rpc-error><ok/>`,
			)
		case "unlock": // an error that does not say whose it is
			return `<rpc-reply xmlns="` + BaseNS +
				`"><rpc-error><error-type>rpc</error-type><error-tag>malformed-message</error-tag><error-severity>error</error-severity></rpc-error></rpc-reply>`
		case "get":
			return reply(id, "<no-data/>")
		}
		return reply(id, "<ok/>")
	})
	err := c.Lock(t.Context(), Running)
	var errs RPCErrors
	require.ErrorAs(t, err, &errs)
	require.Len(t, errs, 2)
	assert.Equal(t, RPCError{
		Type: "protocol", Tag: "lock-denied", Severity: "error", AppTag: "held", Path: "/x:a",
		Message: "Lock failed, held by another", Info: `<session-id xmlns="` + BaseNS + `">454</session-id>`,
	}, errs[0])
	assert.Equal(t, "454", errs[0].SessionID())
	assert.True(t, Tagged(err, "in-use"))
	require.NoError(t, c.Commit(t.Context()), "a warning is no refusal")
	assert.True(t, Tagged(c.Unlock(t.Context(), Running), "malformed-message"))
	_, err = c.Get(t.Context(), nil)
	require.ErrorContains(t, err, "no data")
}

// Replies in another order than the calls find their callers.
func TestOutOfOrder(t *testing.T) {
	var mu sync.Mutex
	var held []string
	c := device(t, func(id string, op *markup.Element) string {
		mu.Lock()
		defer mu.Unlock()
		if held = append(held, reply(id, "<data>"+op.Name.Local+"</data>")); len(held) < 2 {
			return ""
		}
		return held[1] + "\x00" + held[0]
	})
	var wg sync.WaitGroup
	for _, op := range []string{"get", "get-config"} {
		wg.Go(func() {
			el, err := opened(c.call(t.Context(), op, nil))
			if assert.NoError(t, err) {
				assert.Equal(t, op, el.Find("data").Value())
			}
		})
	}
	wg.Wait()
}

// A call that was sent and not answered is unknown, never failed.
func TestNoReply(t *testing.T) {
	c := device(t, func(_ string, op *markup.Element) string {
		if op.Name.Local == "commit" {
			return "hang up"
		}
		return ""
	})
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	err := c.Lock(ctx, Running)
	var none *NoReplyError
	require.ErrorAs(t, err, &none)
	require.ErrorIs(t, err, context.DeadlineExceeded)
	assert.False(t, Refused(err))
	err = c.Commit(t.Context())
	require.ErrorAs(t, err, &none)
	require.ErrorIs(t, err, ErrClosed)
	err = c.Commit(t.Context())
	assert.False(t, errors.As(err, &none), "what was never sent is not unknown: %v", err)
	require.ErrorIs(t, err, ErrClosed)
}

func TestSubtree(t *testing.T) {
	data := `<top xmlns="urn:t"><users><user><name>root</name><type>super</type><full>Charlie</full></user><user><name>fred</name><type>admin</type></user></users><other xmlns="urn:o"/></top>`
	for _, c := range []struct{ filter, want string }{
		{`<top xmlns="urn:t"/>`, data},
		{
			`<top xmlns="urn:t"><users><user><name>fred</name></user></users></top>`,
			`<top xmlns="urn:t"><users><user><name>fred</name><type>admin</type></user></users></top>`,
		},
		{
			`<top xmlns="urn:t"><users><user><name/></user></users></top>`,
			`<top xmlns="urn:t"><users><user><name>root</name></user><user><name>fred</name></user></users></top>`,
		},
		{
			`<top xmlns="urn:t"><users><user><name>root</name><type/></user></users></top>`,
			`<top xmlns="urn:t"><users><user><name>root</name><type>super</type></user></users></top>`,
		},
		{`<top xmlns="urn:t"><users><user><name>nobody</name></user></users></top>`, ``},
		{`<top xmlns="urn:t"><other xmlns="urn:o"/></top>`, `<top xmlns="urn:t"><other xmlns="urn:o"/></top>`},
		{`<top xmlns="urn:wrong"/>`, ``}, {``, ``},
	} {
		f, err := markup.Parse([]byte(`<filter>`+c.filter+`</filter>`), markup.Limits{})
		require.NoError(t, err)
		d, err := markup.Parse([]byte(`<data>`+data+`</data>`), markup.Limits{})
		require.NoError(t, err)
		w := &markup.Writer{}
		w.Start(markup.Name{Local: "data"})
		Subtree(w, f, d)
		w.End()
		got, err := markup.Parse(w.Bytes(), markup.Limits{})
		require.NoError(t, err)
		want, err := markup.Parse([]byte(`<data>`+c.want+`</data>`), markup.Limits{})
		require.NoError(t, err)
		assert.Equal(t, shape(want), shape(got), c.filter)
	}
}

// shape is an element without regard to how its namespaces are written.
func shape(e *markup.Element) string {
	s := e.Name.Space + " " + e.Name.Local + "=" + e.Text
	for _, c := range e.Children {
		s += "(" + shape(c) + ")"
	}
	return s
}

func TestModuleCapabilities(t *testing.T) {
	c := Capabilities{
		"urn:a?module=a&revision=2020-01-01&features=x,y", "urn:b?revision=1&amp;module=b&amp;deviations=c",
		CapStartup + "?x=y", " urn:d ",
	}
	assert.Equal(t, []ModuleCapability{
		{Namespace: "urn:a", Name: "a", Revision: "2020-01-01", Features: []string{"x", "y"}},
		{Namespace: "urn:b", Name: "b", Revision: "1", Deviations: []string{"c"}},
	}, c.Modules())
	assert.True(t, c.Has(CapStartup))
	assert.True(t, c.Has("urn:d"))
}

type refusing struct{}

func (refusing) Operate(*Session, *markup.Element) ([]byte, error) { return nil, nil }
func (refusing) Closed(*Session)                                   {}

// What a server does with peers that do not keep to the protocol.
func TestServerWithBadPeers(t *testing.T) {
	for name, c := range map[string]struct{ says, want string }{
		"not xml": {"]]>]]>", ""}, "no hello": {"<rpc/>]]>]]>", ""},
		"hello with session": {strings.Replace(string(hello([]string{CapBase10}, 3)), "\x00", "", 1) + "]]>]]>", ""},
		"broken rpc":         {string(hello([]string{CapBase10}, 0)) + "]]>]]><rpc>]]>]]>", "malformed-message"},
		"no message-id": {
			string(hello([]string{CapBase10}, 0)) + "]]>]]><rpc xmlns=\"" + BaseNS + "\"><get/></rpc>]]>]]>",
			"missing-attribute",
		},
		"two operations": {
			string(
				hello([]string{CapBase10}, 0),
			) + "]]>]]><rpc message-id=\"1\" xmlns=\"" + BaseNS + "\"><get/><get/></rpc>]]>]]>",
			"bad-element",
		},
		"kill nobody": {
			string(
				hello([]string{CapBase10}, 0),
			) + "]]>]]><rpc message-id=\"1\" xmlns=\"" + BaseNS +
				"\"><kill-session><session-id>9</session-id></kill-session></rpc>]]>]]>",
			"invalid-value",
		},
	} {
		t.Run(name, func(t *testing.T) {
			near, far := net.Pipe()
			srv := &Server{Capabilities: []string{CapBase10}, Handler: refusing{}}
			ended := make(chan struct{})
			go func() {
				_ = srv.Serve(far, "u", "r")
				close(ended)
			}()
			go func() { _, _ = io.WriteString(near, c.says) }()
			f := newFramer(near, 0)
			_, err := f.read() // its hello
			require.NoError(t, err)
			if c.want != "" {
				msg, err := f.read()
				require.NoError(t, err)
				assert.Contains(t, string(msg), "<error-tag>"+c.want+"</error-tag>")
				_ = near.Close()
			}
			select {
			case <-ended:
			case <-time.After(5 * time.Second):
				t.Fatal("the session goes on")
			}
			assert.Empty(t, srv.Sessions())
		})
	}
}
