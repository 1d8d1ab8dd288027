package test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"oakenlatch/netconf"
	"oakenlatch/test/netconfd"
)

// Lists and leaf-lists whose order matters, on a device that refuses every name of
// a neighbour: whatever goes in is kept as it was to be, or taken back.
func TestNetconfdOrder(t *testing.T) {
	t.Parallel()
	for name, start := range map[string]func(testing.TB) *netconfd.Server{
		"candidate": netconfd.Start, "running": netconfd.StartRunning,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d := start(t)
			s := newStage(t)
			s.Do(
				"admin", 0, "device", "add", "reef", "--address", d.Address, "--user", d.User, "--key-file",
				s.File("reef-key", string(d.PrivateKey)),
			)
			s.Do("admin", 0, "device", "trust", "reef", "--fingerprint", ssh.FingerprintSHA256(d.HostKey))
			order := func() (search, servers string) {
				out, _ := s.Latch("mara", "config", "reef", "/system/dns-resolver")
				var a, b []string
				for _, line := range strings.Split(out, "\n") {
					if text, ok := strings.CutPrefix(strings.TrimSpace(line), "search: "); ok {
						a = append(a, text)
					}
					if text, ok := strings.CutPrefix(strings.TrimSpace(line), "server ["); ok {
						b = append(b, strings.TrimSuffix(text, "]"))
					}
				}
				return strings.Join(a, " "), strings.Join(b, " ")
			}
			is := func(search, servers string) {
				t.Helper()
				a, b := order()
				assert.Equal(t, search, a)
				assert.Equal(t, servers, b)
			}
			keep := func(n string) {
				t.Helper()
				s.Do("mara", 0, "commit", n, "--hold", "2m")
				s.Do("mara", 0, "confirm", n)
			}
			resolver := "reef /system/dns-resolver/"
			server := func(n, address string) string {
				return resolver + "server=" + n + "/udp-and-tcp/address " + address
			}
			n := s.Open("mara", resolver+"search a.example", server("s1", "203.0.113.1"))
			for _, more := range []string{"b.example", "c.example", "d.example"} {
				s.Do("mara", 0, "put", n, "reef", "/system/dns-resolver/search", more, "--add")
			}
			for _, more := range []string{"s2 203.0.113.2", "s3 203.0.113.3"} {
				key, address, _ := strings.Cut(more, " ")
				s.Do("mara", 0, "put", n, "reef", "/system/dns-resolver/server="+key+"/udp-and-tcp/address", address)
			}
			keep(n)
			is("a.example b.example c.example d.example", "s1 s2 s3")

			// Moved, deleted and inserted in the middle, several in one edit; reverted by
			// a word, by the deadline, and undone.
			n = s.Open("mara", server("s4", "203.0.113.4"))
			s.Do("mara", 0, "move", n, "reef", "/system/dns-resolver/server=s4", "before", "s2")
			s.Do("mara", 0, "move", n, "reef", "/system/dns-resolver/server=s3", "first")
			s.Do("mara", 0, "delete", n, "reef", "/system/dns-resolver/search=b.example")
			s.Do("mara", 0, "move", n, "reef", "/system/dns-resolver/search=d.example", "first")
			s.Do("mara", 0, "put", n, "reef", "/system/dns-resolver/search", "e.example", "--add")
			s.Do("mara", 0, "move", n, "reef", "/system/dns-resolver/search=e.example", "after", "a.example")
			s.Do("mara", 0, "commit", n, "--hold", "2m")
			is("d.example a.example e.example c.example", "s3 s1 s4 s2")
			s.Do("mara", 0, "revert", n, "--yes")
			is("a.example b.example c.example d.example", "s1 s2 s3")
			assert.Contains(
				t, s.Do("mara", 5, "commit", n, "--hold", "10s", "--wait"),
				"read back, it holds its former configuration",
			)
			is("a.example b.example c.example d.example", "s1 s2 s3")
			keep(n)
			is("d.example a.example e.example c.example", "s3 s1 s4 s2")
			undo := strings.Fields(s.Do("mara", 0, "undo", n))
			require.NotEmpty(t, undo)
			back := ""
			for _, word := range undo {
				if word = strings.Trim(word, ":,."); word != n && strings.Trim(word, "0123456789") == "" && word != "" {
					back = word
					break
				}
			}
			keep(back)
			is("a.example b.example c.example d.example", "s1 s2 s3")

			// Somebody else moves one; it is pushed back.
			other := session(t, d)
			target := netconf.Candidate
			if name == "running" {
				target = netconf.Running
			}
			require.NoError(t, other.EditConfig(t.Context(), netconf.EditConfig{
				Target: target,
				Config: []byte(
					`<system xmlns="` + systemNS + `"><dns-resolver><search xmlns:nc="` + netconf.BaseNS +
						`" nc:operation="delete">a.example</search></dns-resolver></system>`,
				),
			}))
			if name == "candidate" {
				require.NoError(t, other.Commit(t.Context()))
			}
			require.NoError(t, other.EditConfig(t.Context(), netconf.EditConfig{
				Target: target,
				Config: []byte(
					`<system xmlns="` + systemNS + `"><dns-resolver><search>a.example</search></dns-resolver></system>`,
				),
			}))
			if name == "candidate" {
				require.NoError(t, other.Commit(t.Context()))
			}
			is("b.example c.example d.example a.example", "s1 s2 s3")
			n = s.Open("mara", "reef /system/contact Reef office")
			s.Do("mara", 0, "move", n, "reef", "/system/dns-resolver/search=a.example", "first")
			keep(n)
			is("a.example b.example c.example d.example", "s1 s2 s3")

			// Lists at the very top: no node stands around them that could be replaced.
			top := func() (out string) {
				text, _ := s.Latch("mara", "config", "reef")
				for _, line := range strings.Split(text, "\n") {
					if word, ok := strings.CutPrefix(line, "step ["); ok {
						out += strings.TrimSuffix(word, "]") + " "
					}
					if word, ok := strings.CutPrefix(line, "note: "); ok {
						out += word + " "
					}
				}
				return strings.TrimSpace(out)
			}
			n = s.Open("mara", "reef /step=one/text first", "reef /step=two/text second", "reef /step=three/text third")
			for _, note := range []string{"ebb", "flood", "slack"} {
				s.Do("mara", 0, "put", n, "reef", "/note", note, "--add")
			}
			keep(n)
			assert.Equal(t, "one two three ebb flood slack", top())
			n = s.Open("mara")
			s.Do("mara", 0, "delete", n, "reef", "/step=one")
			s.Do("mara", 0, "delete", n, "reef", "/note=flood")
			s.Do("mara", 0, "commit", n, "--hold", "2m")
			assert.Equal(t, "two three ebb slack", top())
			// This server's own way back from a confirmed commit puts both at the end.
			s.Do("mara", 0, "revert", n, "--yes")
			assert.Equal(t, "one two three ebb flood slack", top())
			assert.Contains(
				t, s.Do("mara", 5, "commit", n, "--hold", "10s", "--wait"),
				"read back, it holds its former configuration",
			)
			assert.Equal(t, "one two three ebb flood slack", top())
			// This server carries out no other order at the top in any form: nothing of
			// what was tried is left there.
			n = s.Open("mara", "reef /step=four/text fourth")
			s.Do("mara", 0, "move", n, "reef", "/step=four", "after", "one")
			s.Do("mara", 0, "move", n, "reef", "/note=slack", "first")
			assert.Contains(t, s.Do("mara", 3, "commit", n, "--hold", "2m"), "Nothing of it is on any device")
			assert.Equal(t, "one two three ebb flood slack", top())
			assert.Contains(t, s.Do("mara", 0, "config", "reef"), "d.example", "all else stands")
		})
	}
}

// What stands under a condition goes when a change makes that false, as it does on the
// device (RFC 7950 section 8.2), is told before, and comes back with it.
func TestNetconfdConditions(t *testing.T) {
	t.Parallel()
	for name, start := range map[string]func(testing.TB) *netconfd.Server{
		"candidate": netconfd.Start, "running": netconfd.StartRunning,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d := start(t)
			s := newStage(t)
			s.Do(
				"admin", 0, "device", "add", "reef", "--address", d.Address, "--user", d.User, "--key-file",
				s.File("reef-key", string(d.PrivateKey)),
			)
			s.Do("admin", 0, "device", "trust", "reef", "--fingerprint", ssh.FingerprintSHA256(d.HostKey))
			berth := func() string {
				out, _ := s.Latch("mara", "config", "reef", "/berth")
				return strings.Join(strings.Fields(out), " ")
			}
			n := s.Open("mara", "reef /berth/kind deep", "reef /berth/ramp/length 12", "reef /berth/ramp/unit metres")
			s.Do("mara", 0, "commit", n, "--hold", "2m")
			s.Do("mara", 0, "confirm", n)
			assert.Equal(t, "berth kind: deep ramp length: 12 unit: metres", berth())
			n = s.Open("mara", "reef /berth/kind flat")
			out := s.Do("mara", 0, "preview", n)
			assert.Contains(
				t, out,
				"hint /berth/ramp: goes as well: the device deletes it, as it is only allowed when ../kind = 'deep'",
			)
			s.Do("mara", 0, "commit", n, "--hold", "2m")
			assert.Equal(t, "berth kind: flat", berth())
			s.Do("mara", 0, "revert", n, "--yes")
			assert.Equal(t, "berth kind: deep ramp length: 12 unit: metres", berth())
			s.Do("mara", 0, "commit", n, "--hold", "2m")
			s.Do("mara", 0, "confirm", n)
			assert.Equal(t, "berth kind: flat", berth())
			// Its first revision is empty: what that asks for has to be said in so many words.
			out = s.Do("mara", 2, "restore", "reef", "rev:1")
			assert.Contains(t, out, "holds nothing: the device would be left without any configuration")
			assert.Contains(
				t, out,
				"latch restore reef rev:1 --path /berth; or, if all is meant to go, open a change and delete each of "+
					"/berth: latch delete CHANGE reef PATH",
			)
			assert.Contains(t, s.Do("mara", 0, "restore", "reef", "rev:1", "--path", "/berth"), "− berth")
			n = s.Open("mara", "reef /berth/ramp/length 9")
			assert.Contains(t, s.Do("mara", 1, "preview", n), "is set, but only allowed when ../kind = 'deep'")
		})
	}
}
