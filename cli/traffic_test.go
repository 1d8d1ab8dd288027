package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/flow"
	"oakenlatch/wire"
)

// What the client tells of traffic, in words a tired person reads; the exit
// status is the answer.
func TestTrafficCommands(t *testing.T) {
	t.Setenv("TZ", "UTC")
	moved := flow.Moved{
		Packets: "tcp from 198.51.0.0/16 port 8443", Example: "tcp from 198.51.0.1:50000 to 192.0.2.80:8443",
		Before: flow.Ruling{Rule: "rest", Action: "drop"}, After: flow.Ruling{Rule: "slip\u202e", Action: "accept"},
	}
	wide := flow.Change{
		Filter: "hall-in", On: []string{"hall0 ingress"}, Permitted: []flow.Moved{moved},
		Denied: []flow.Moved{
			{Packets: "udp IPv4", Example: "udp", Before: moved.After, After: flow.Ruling{Action: "drop"}},
		},
		More: true, DependsOn: []string{"tcp/window-size is 9"},
	}
	part := wire.PartPreview{
		Device: "hall", Edits: []wire.Edit{}, Read: true, Guard: wire.Guard{Guard: "device"}, Count: 1,
		Effects: []flow.Change{
			wide, {Filter: "b", NoEffect: true}, {Interface: "quay1", Direction: "egress", Trouble: "it is too large"},
		},
	}
	preview := wire.Preview{Against: "running", Change: wire.Change{
		Number: 7, Title: "Slip", State: "draft", Author: "mara",
	}, Parts: []wire.PartPreview{part}, Digest: "d", Expected: []wire.Expectation{
		{
			Number: 1, Line: "permit tcp port 8443", Place: "hall/hall-in",
			Answer: flow.Answer{Already: "partly", Part: []string{"tcp port 1"}, Delivered: true},
		},
		{
			Number: 2, Line: "deny udp",
			Answer: flow.Answer{
				Already: "not",
				Missing: []flow.Lack{
					{
						Packets: "udp IPv4", Example: "udp from a to b", Filter: "hall/hall-in",
						By: flow.Ruling{Rule: "x", Action: "accept"},
					},
				},
			},
		},
		{Number: 3, Line: "deny tcp", Answer: flow.Answer{Trouble: "there is no filter x"}},
	},
		Beside: []wire.SideEffect{
			{Device: "hall", Change: wide},
			{Device: "hall", Change: flow.Change{Interface: "quay1", Direction: "egress"}},
			{Device: "hall", Change: flow.Change{Filter: "b"}, AcceptedBy: "joss", AcceptedAt: at},
		}}
	filter := flow.Sheet{Name: "hall-in", Count: 3, Clean: []string{"old"}, Clashes: []flow.SheetClash{
		{First: "a", Second: "b", Example: "tcp from x"},
	}, Rules: []flow.SheetRule{
		{
			Name: "narrow", Path: "/n", Action: "accept", Fits: []string{"tcp port 1"}, Decides: []string{"tcp port 1"},
			Standing: "needed", Bits: 10,
		},
		{
			Name: "wide", Path: "/w", Action: "accept", Fits: []string{"any IPv4"}, Decides: []string{"udp IPv4"},
			Standing: "redundant", Bits: 90, More: true,
		},
		{Name: "old", Path: "/o", Action: "drop", Fits: []string{"tcp port 1"}, Standing: "never-reached", Bits: 10},
	}}
	traced := flow.Traced{
		Packets: "tcp", Answer: "partly", More: true,
		Parts: []flow.TracePart{
			{
				Packets: "tcp port 1", Permitted: true, Example: "tcp e",
				Way: []flow.TraceStep{
					{
						Filter: "hall/hall-in", By: flow.Ruling{Rule: "narrow", Action: "accept"},
						Not: []flow.Missed{{Rule: "z", Why: "it fits only port 2"}},
					},
				},
			},
		},
	}
	answers := map[string]any{
		"GET /changes/7/preview": preview, "POST /changes/7/expectations": preview.Expected[0],
		"GET /changes/7/expectations": preview.Expected, "DELETE /changes/7/expectations/2": struct{}{},
		"POST /changes/7/accept": struct{}{},
		"GET /devices/hall/filters": wire.Filters{
			Device: "hall", Filters: []flow.Sheet{{Name: "hall-in", Count: 3}, {Name: "spare", Count: 1}},
			Attached: []wire.Attachment{{Interface: "hall0", Direction: "ingress", Filters: []string{"hall-in"}}},
		},
		"GET /devices/hall/filters/hall-in": filter, "GET /trace": traced,
		"GET /filters/compare": wire.FilterComparison{A: "a/x", B: "b/x", Change: wide},
	}
	for line, want := range map[string]struct {
		status int
		asked  string
		shows  []string
	}{
		"preview 7": {AnswerNo, "", []string{
			"traffic, filter hall-in (on hall0 ingress):",
			"newly permitted: tcp from 198.51.0.0/16 port 8443\n      e.g. tcp from 198.51.0.1:50000 to " +
				"192.0.2.80:8443: accept by rule slip\\u202e; before: drop by rule rest",
			"newly denied: udp IPv4", "no rule fits: drop; before: accept", "and more than is listed",
			"depends on: tcp/window-size is 9", "filter b: no effect: every packet is treated as before, proved",
			"traffic, interface quay1 egress: it is too large",
			"1. permit tcp port 8443  at hall/hall-in\n     delivered; a part of it is so already: tcp port 1",
			"2. deny udp\n     not delivered\n     missing: udp IPv4\n       e.g. udp from a to b: accept by rule x " +
				"in hall/hall-in",
			"not known: there is no filter x", "Side effect at filter hall-in of hall, which nobody expects:",
			"Side effect, accepted by joss", "latch expect drop 7 2", "latch expect accept 7 hall hall-in",
			"latch expect accept 7 hall 'quay1 egress'",
		}},
		"expect 7 permit tcp port 8443 --at hall/hall-in": {
			Done, `POST /changes/7/expectations {"line":"permit tcp port 8443","place":"hall/hall-in"}`,
			[]string{"Expectation 1 of change 7: permit tcp port 8443  at hall/hall-in"},
		},
		"expect list 7":   {Done, "", []string{"deny udp", "latch preview 7"}},
		"expect drop 7 2": {Done, "DELETE /changes/7/expectations/2", []string{"is removed"}},
		"expect accept 7 hall hall-in": {
			Done, `POST /changes/7/accept {"device":"hall","place":"hall-in"}`, []string{"is accepted, as it is now"},
		},
		"filter list hall --from rev:1": {
			Done, "GET /devices/hall/filters from=rev%3A1",
			[]string{"hall0 ingress", "nothing: it is attached nowhere"},
		},
		"filter show hall/hall-in": {Done, "", []string{
			"1. narrow  accept\n       fits     tcp port 1\n  2. wide  accept  redundant: without it all would be " +
				"done alike\n       fits     any IPv4\n       decides  udp IPv4\n       …",
			"3. old  drop  never reached", "rules a and b treat the same packets differently: tcp from x",
			"These can all go, and every packet is treated as before, proved: old\n    latch delete CHANGE DEVICE /o",
		}},
		"filter show hall/hall-in --widest": {Done, "", []string{"1. wide  accept"}},
		"filter show hall":                  {WrongUse, "", []string{"write DEVICE/FILTER"}},
		"filter trace hall/hall-in tcp": {
			AnswerNo, "GET /trace packets=tcp&way=hall%2Fhall-in",
			[]string{
				"some of it is permitted, some is denied", "permitted: tcp port 1",
				"hall/hall-in: accept by rule narrow\n        not z: it fits only port 2", "and more parts",
			},
		},
		"filter compare a/x b/x": {
			AnswerNo, "GET /filters/compare a=a%2Fx&b=b%2Fx", []string{"b/x against a/x:", "newly permitted"},
		},
	} {
		k := &clerk{answers: answers}
		status, out, errOut := run(t, k.ServeHTTP, nil, strings.Fields(line)...)
		assert.Equal(t, want.status, status, "%s: %s", line, errOut)
		for _, text := range want.shows {
			assert.Contains(t, out+errOut, text, line)
		}
		if want.asked != "" {
			assert.Contains(t, strings.Join(k.asked, "\n"), want.asked, line)
		}
	}
}

// Filters in files are asked about as those of devices are, without a service.
func TestFiltersInFiles(t *testing.T) {
	filters := func(from string) string {
		return "acls\n  acl [hall-in]\n    aces\n      ace [office]\n        matches\n          ipv4\n            " +
			"source-ipv4-network: " + from + "\n        actions\n          forwarding: accept\n" +
			"      ace [again]\n        matches\n          ipv4\n            source-ipv4-network: " + from +
			"\n        actions\n          forwarding: drop\n" +
			"  attachment-points\n    interface [hall0]\n      ingress\n        acl-sets\n          acl-set [hall-in]\n"
	}
	dir := t.TempDir()
	for name, text := range map[string]string{
		"old": filters("198.51.100.0/24"), "new:er": filters("198.51.100.0/25"), "broken": "acls\n  acl [x\n",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	for line, want := range map[string]struct {
		status int
		shows  string
	}{
		"filter list DIR/old":            {Done, "hall-in  2 rules  hall0 ingress"},
		"filter show DIR/old:hall-in":    {Done, "2. again  drop  never reached"},
		"filter show DIR/new:er:hall-in": {Done, "from 198.51.100.0/25"},
		"filter trace DIR/old:hall-in,DIR/new:er:hall-in tcp from 198.51.100.200": {
			AnswerNo, "new:er:hall-in: no rule fits: drop\n        not again: it fits only from 198.51.100.0/25",
		},
		"filter trace DIR/old:hall-in tcp from 198.51.100.7": {Done, "permitted, all of it"},
		"filter trace DIR/old:hall-in tcq": {
			WrongUse, "the packets go wrong at column 1",
		},
		"filter compare DIR/old:hall-in DIR/new:er:hall-in": {
			AnswerNo, "newly denied: any from 198.51.100.128/25",
		},
		"filter compare DIR/old:hall-in DIR/old:hall-in": {
			Done, "treat every packet alike, proved",
		},
		"filter show DIR/old:none": {
			WrongUse, `there is no filter "none" in DIR/old: it has hall-in`,
		},
		"filter show DIR/broken:x": {
			WrongUse, "broken (read as outline)",
		},
		"filter compare DIR/old:hall-in gannet": {
			WrongUse, "write DEVICE/FILTER, DEVICE@PLACE/FILTER, or FILE:FILTER",
		},
	} {
		args := strings.Fields(strings.ReplaceAll(line, "DIR", dir))
		args = append(args[:2:2], append([]string{"--modules", "../lab/modules"}, args[2:]...)...)
		status, out, errOut := run(t, nil, nil, args...)
		assert.Equal(t, want.status, status, "%s: %s", line, errOut)
		assert.Contains(t, out+errOut, strings.ReplaceAll(want.shows, "DIR", dir), line)
	}
}
