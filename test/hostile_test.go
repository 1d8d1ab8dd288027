package test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"oakenlatch/netconf"
	"oakenlatch/service/fleet"
	"oakenlatch/service/store"
	"oakenlatch/test/pace"
	"oakenlatch/test/servicetest"
	"oakenlatch/test/sshpeer"
)

// speak answers each message of a client as a hostile device does; it ends when the
// client goes.
type speak func(ch ssh.Channel, message string) bool

// hostile listens as a device that says hello as it is told and then speaks.
func hostile(t *testing.T, hello func(io.Writer), s speak) string {
	t.Helper()
	cfg := &ssh.ServerConfig{
		PasswordCallback: func(ssh.ConnMetadata, []byte) (*ssh.Permissions, error) { return nil, nil },
	}
	address, _ := sshpeer.Listen(t, cfg, func(c net.Conn, cfg *ssh.ServerConfig) {
		defer func() { _ = c.Close() }()
		_, channels, requests, err := ssh.NewServerConn(c, cfg)
		if err != nil {
			return
		}
		go ssh.DiscardRequests(requests)
		for n := range channels {
			ch, reqs, err := n.Accept()
			if err != nil {
				return
			}
			go func() {
				for r := range reqs {
					_ = r.Reply(true, nil)
				}
			}()
			hello(ch)
			buf, all := make([]byte, 64<<10), ""
			for {
				n, err := ch.Read(buf)
				if err != nil {
					return
				}
				all += string(buf[:n])
				for {
					message, rest, ok := strings.Cut(all, "]]>]]>")
					if !ok {
						break
					}
					all = rest
					if !strings.Contains(message, "<hello") && !s(ch, message) {
						return
					}
				}
			}
		}
	})
	return address
}

// id is the message-id of a request, for an answer.
func id(message string) string {
	_, after, _ := strings.Cut(message, `message-id="`)
	text, _, _ := strings.Cut(after, `"`)
	return text
}

func helloOf(caps ...string) func(io.Writer) {
	return func(w io.Writer) {
		var b strings.Builder
		b.WriteString(
			`<hello xmlns="` + netconf.BaseNS +
				`"><capabilities><capability>urn:ietf:params:netconf:base:1.0</capability>`,
		)
		for _, c := range caps {
			b.WriteString("<capability>" + c + "</capability>")
		}
		_, _ = io.WriteString(w, b.String()+"</capabilities><session-id>1</session-id></hello>]]>]]>")
	}
}

// endless writes for ever, until nobody reads any more.
func endless(w io.Writer, text string) bool {
	chunk := []byte(strings.Repeat(text, 1+(64<<10)/len(text)))
	for {
		if _, err := w.Write(chunk); err != nil {
			return false
		}
	}
}

// A device that means harm: without end, without bottom, with sizes that are not so,
// with answers to other questions, with modules that explode, or with nothing. It is
// given up, in time and in bounds, with an error that names it; and a device beside it
// is read and written to meanwhile as ever.
func TestHostileDevices(t *testing.T) {
	pace.Long(t)
	r := servicetest.New(t, "saltern-quay")
	reply := func(ch io.Writer, message, body string) bool {
		_, err := fmt.Fprintf(
			ch, `<rpc-reply xmlns="%s" message-id="%s">%s</rpc-reply>]]>]]>`, netconf.BaseNS, id(message), body,
		)
		return err == nil
	}
	quiet := func(ssh.Channel, string) bool { return true }
	monitored := []string{
		netconf.CapCandidate,
		"urn:ietf:params:xml:ns:yang:ietf-netconf-monitoring?module=ietf-netconf-monitoring&amp;revision=2010-10-04",
		"urn:evil?module=evil",
	}
	module := func(text string) speak {
		return func(ch ssh.Channel, message string) bool {
			if strings.Contains(message, "get-schema") {
				return reply(
					ch, message,
					`<data xmlns="urn:ietf:params:xml:ns:yang:ietf-netconf-monitoring"><![CDATA[`+text+`]]></data>`,
				)
			}
			return reply(ch, message, `<data><evil xmlns="urn:evil"><a/></evil></data>`)
		}
	}
	var laughs strings.Builder
	laughs.WriteString(
		"module evil { namespace \"urn:evil\"; prefix e; grouping g0 { leaf a { type string; } leaf b { type " +
			"string; } } ",
	)
	for i := range 60 {
		fmt.Fprintf(
			&laughs, "grouping g%d { container x%d { uses g%d; } container y%d { uses g%d; } } ", i+1, i, i, i, i,
		)
	}
	laughs.WriteString("container evil { uses g60; } }")
	cases := map[string]struct {
		hello func(io.Writer)
		speak speak
		fine  bool // it is harmless after all: what it says is carried
	}{
		"endless hello": {
			hello: func(w io.Writer) {
				_, _ = io.WriteString(w, "<hello>")
				endless(w, "<capability>urn:x</capability>")
			},
			speak: quiet,
		},
		"endless name": {hello: func(w io.Writer) { _, _ = io.WriteString(w, "<"); endless(w, "a") }, speak: quiet},
		"no hello":     {hello: func(io.Writer) {}, speak: quiet},
		"no answer":    {hello: helloOf(), speak: quiet},
		"endless answer": {hello: helloOf(), speak: func(ch ssh.Channel, m string) bool {
			_, _ = io.WriteString(ch, `<rpc-reply message-id="`+id(m)+`"><data>`)
			return endless(ch, "<x>y</x>")
		}},
		"endless text": {hello: helloOf(), speak: func(ch ssh.Channel, m string) bool {
			_, _ = io.WriteString(ch, `<rpc-reply message-id="`+id(m)+`"><data><x>`)
			return endless(ch, "word ")
		}},
		"no bottom": {hello: helloOf(), speak: func(ch ssh.Channel, m string) bool {
			return reply(ch, m, "<data>"+strings.Repeat("<a>", 2_000_000)+"</data>")
		}},
		"bottom": {hello: helloOf(), speak: func(ch ssh.Channel, m string) bool {
			return reply(ch, m, "<data>"+strings.Repeat("<a>", 100_000)+strings.Repeat("</a>", 100_000)+"</data>")
		}},
		"entities": {hello: helloOf(), speak: func(ch ssh.Channel, m string) bool {
			_, err := io.WriteString(
				ch,
				`<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]><rpc-reply message-id="`+id(m)+
					`"><data>&b;</data></rpc-reply>]]>]]>`,
			)
			return err == nil
		}},
		"another question": {
			hello: helloOf(),
			speak: func(ch ssh.Channel, m string) bool { return reply(ch, `message-id="77777"`, "<data/>") },
		},
		"many answers": {hello: helloOf(), speak: func(ch ssh.Channel, _ string) bool {
			for i := range 5000 {
				if !reply(ch, fmt.Sprintf(`message-id="%d"`, 90000+i), "<ok/>") {
					return false
				}
			}
			return true
		}},
		"a long error": {hello: helloOf(), speak: func(ch ssh.Channel, m string) bool {
			return reply(
				ch, m,
				"<rpc-error><error-type>rpc</error-type><error-tag>operation-failed</error-tag><error-severity>error</error-severity><error-message>"+strings.Repeat("very ", 2_000_000)+"</error-message></rpc-error>",
			)
		}},
		"no XML": {hello: helloOf(), speak: func(ch ssh.Channel, m string) bool {
			_, err := ch.Write([]byte("\x00\xff\xfe]]>]]>"))
			return err == nil
		}},
		"a module that doubles": {hello: helloOf(monitored...), speak: module(laughs.String()), fine: true},
		"a module without bottom": {
			hello: helloOf(monitored...), speak: module("module evil " + strings.Repeat("{ container c ", 300_000)),
			fine: true,
		},
		"a module of itself": {
			hello: helloOf(monitored...),
			speak: module(
				`module evil { namespace "urn:evil"; prefix e; import evil { prefix x; } include evil; typedef t { type t; } grouping g { uses g; } container evil { uses g; leaf a { type t; } } }`,
			),
			fine: true,
		},
		"chunks that are not": {hello: helloOf("urn:ietf:params:netconf:base:1.1"), speak: quiet},
	}
	names := []string{}
	for what := range cases {
		names = append(names, what)
	}
	for i, what := range names {
		c := cases[what]
		address := hostile(t, c.hello, c.speak)
		if what == "chunks that are not" {
			address = hostileChunks(t)
		}
		name := fmt.Sprintf("evil-%d", i)
		require.NoError(
			t,
			r.Fleet.Add(
				t.Context(), "mara", fleet.NewDevice{Name: name, Address: address, Account: "u", Password: "password"},
			),
		)
		require.NoError(t, r.Trust(name))
	}
	runtime.GC()
	var before runtime.MemStats
	runtime.ReadMemStats(&before)
	type outcome struct {
		what string
		err  error
		took time.Duration
	}
	done := make(chan outcome, len(names))
	turns := make(chan struct{}, 4) // so many at once: what they hold is to fit a small machine
	for i, what := range names {
		go func() {
			turns <- struct{}{}
			defer func() { <-turns }()
			began := time.Now()
			patience := 15 * time.Second
			if cases[what].fine {
				patience = 90 * time.Second // it is read to its end, however busy the machine is
			}
			ctx, cancel := context.WithTimeout(context.Background(), patience)
			defer cancel()
			_, err := r.History.Read(ctx, store.Everything, fmt.Sprintf("evil-%d", i), "mara")
			done <- outcome{what, err, time.Since(began)}
		}()
	}
	// Meanwhile, beside them.
	n, err := r.Desk.Open(t.Context(), servicetest.Mara, "Beside them", "")
	require.NoError(t, err)
	reads := 0
	var most uint64
	var worst time.Duration
	for pending := len(names); pending > 0; {
		began := time.Now()
		_, err := r.History.Read(t.Context(), store.Everything, "saltern-quay", "mara")
		require.NoError(t, err)
		_, err = r.Put(servicetest.Mara, n.Number, "saltern-quay", "/system/contact", fmt.Sprint("read ", reads))
		require.NoError(t, err)
		worst = max(worst, time.Since(began))
		reads++
		var now runtime.MemStats
		runtime.ReadMemStats(&now)
		most = max(most, now.HeapAlloc)
		select {
		case o := <-done:
			pending--
			t.Logf("%-26s %6s %.160v", o.what, o.took.Round(time.Millisecond), o.err)
			if cases[o.what].fine {
				assert.NoError(t, o.err, o.what)
				continue
			}
			require.Error(t, o.err, o.what)
			assert.Contains(t, o.err.Error(), "evil-", o.what)
			assert.Less(t, len(o.err.Error()), 5000, "%s: an error is for a person", o.what)
		case <-time.After(200 * time.Millisecond):
		}
	}
	assert.Greater(t, reads, 3)
	t.Logf(
		"%d readings and edits beside them, the slowest took %s; at most %d MB more than before", reads,
		worst.Round(time.Millisecond), (most-min(most, before.HeapAlloc))>>20,
	)
	assert.Less(
		t, most-min(most, before.HeapAlloc), uint64(1200<<20), "a message is 64 MB at most, and four are read at once",
	)
	devices, err := r.Store.Devices(t.Context(), store.Everything)
	require.NoError(t, err)
	for _, d := range devices {
		assert.Less(t, len(d.Trouble), 5000)
	}
}

// hostileChunks says sizes that are not so, in chunked framing (RFC 6242 section 4.2).
func hostileChunks(t *testing.T) string {
	return hostile(t, helloOf("urn:ietf:params:netconf:base:1.1"), func(ch ssh.Channel, _ string) bool {
		_, _ = ch.Write(
			bytes.Join([][]byte{[]byte("\n#4294967295\n<rpc-reply>"), []byte("\n#0\n\n##\n"), []byte("\n#-5\n")}, nil),
		)
		return endless(ch, "x")
	})
}
