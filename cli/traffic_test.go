package cli

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"oakenlatch/core/flow"
	"oakenlatch/wire"
)

// What the client tells of traffic, in words a tired person reads; the exit
// status is the answer.
func TestTrafficCommands(t *testing.T) {
	t.Setenv("TZ", "UTC")
	moved := flow.Moved{Packets: "tcp from 198.51.0.0/16 port 8443", Example: "tcp from 198.51.0.1:50000 to 192.0.2.80:8443", Before: flow.Ruling{Rule: "rest", Action: "drop"}, After: flow.Ruling{Rule: "slip\u202e", Action: "accept"}}
	wide := flow.Change{Filter: "hall-in", On: []string{"hall0 ingress"}, Permitted: []flow.Moved{moved}, Denied: []flow.Moved{{Packets: "udp IPv4", Example: "udp", Before: moved.After, After: flow.Ruling{Action: "drop"}}}, More: true, DependsOn: []string{"tcp/window-size is 9"}}
	part := wire.PartPreview{Device: "hall", Edits: []wire.Edit{}, Read: true, Guard: wire.Guard{Guard: "device"}, Count: 1,
		Effects: []flow.Change{wide, {Filter: "b", NoEffect: true}, {Interface: "quay1", Direction: "egress", Trouble: "it is too large"}}}
	preview := wire.Preview{Against: "running", Change: wire.Change{Number: 7, Title: "Slip", State: "draft", Author: "mara"}, Parts: []wire.PartPreview{part}, Digest: "d", Expected: []wire.Expectation{
		{Number: 1, Line: "permit tcp port 8443", Place: "hall/hall-in", Answer: flow.Answer{Already: "partly", Part: []string{"tcp port 1"}, Delivered: true}},
		{Number: 2, Line: "deny udp", Answer: flow.Answer{Already: "not", Missing: []flow.Lack{{Packets: "udp IPv4", Example: "udp from a to b", Filter: "hall/hall-in", By: flow.Ruling{Rule: "x", Action: "accept"}}}}},
		{Number: 3, Line: "deny tcp", Answer: flow.Answer{Trouble: "there is no filter x"}}},
		Beside: []wire.SideEffect{{Device: "hall", Change: wide}, {Device: "hall", Change: flow.Change{Filter: "b"}, AcceptedBy: "joss", AcceptedAt: at}}}
	filter := wire.Filter{Name: "hall-in", Count: 3, Clean: []string{"old"}, Clashes: []wire.Clash{{First: "a", Second: "b", Example: "tcp from x"}}, Rules: []wire.Rule{
		{Name: "narrow", Path: "/n", Action: "accept", Fits: []string{"tcp port 1"}, Decides: []string{"tcp port 1"}, Standing: "needed", Bits: 10},
		{Name: "wide", Path: "/w", Action: "accept", Fits: []string{"any IPv4"}, Decides: []string{"udp IPv4"}, Standing: "redundant", Bits: 90, More: true}, {Name: "old", Path: "/o", Action: "drop", Fits: []string{"tcp port 1"}, Standing: "never-reached", Bits: 10}}}
	traced := wire.Traced{Packets: "tcp", Answer: "partly", More: true, Parts: []wire.TracePart{{Packets: "tcp port 1", Permitted: true, Example: "tcp e", Way: []wire.TraceStep{{Filter: "hall/hall-in", By: flow.Ruling{Rule: "narrow", Action: "accept"}, Not: []wire.Missed{{Rule: "z", Why: "it fits only port 2"}}}}}}}
	answers := map[string]any{
		"GET /changes/7/preview": preview, "POST /changes/7/expectations": preview.Expected[0], "GET /changes/7/expectations": preview.Expected, "DELETE /changes/7/expectations/2": struct{}{}, "POST /changes/7/accept": struct{}{},
		"GET /devices/hall/filters":         wire.Filters{Device: "hall", Filters: []wire.Filter{{Name: "hall-in", Count: 3}, {Name: "spare", Count: 1}}, Attached: []wire.Attachment{{Interface: "hall0", Direction: "ingress", Filters: []string{"hall-in"}}}},
		"GET /devices/hall/filters/hall-in": filter, "GET /trace": traced, "GET /filters/compare": wire.FilterComparison{A: "a/x", B: "b/x", Change: wide},
	}
	for line, want := range map[string]struct {
		status int
		asked  string
		shows  []string
	}{
		"preview 7": {AnswerNo, "", []string{"traffic, filter hall-in (on hall0 ingress):", "newly permitted: tcp from 198.51.0.0/16 port 8443\n      e.g. tcp from 198.51.0.1:50000 to 192.0.2.80:8443: accept by rule slip\\u202e; before: drop by rule rest",
			"newly denied: udp IPv4", "no rule fits: drop; before: accept", "and more than is listed", "depends on: tcp/window-size is 9", "filter b: no effect: every packet is treated as before, proved", "traffic on quay1, egress: it is too large",
			"1. permit tcp port 8443  at hall/hall-in\n     delivered; a part of it is so already: tcp port 1", "2. deny udp\n     not delivered\n     missing: udp IPv4\n       e.g. udp from a to b: accept by rule x in hall/hall-in", "not known: there is no filter x",
			"Side effect at filter hall-in of hall, which nobody expects:", "Side effect, accepted by joss", "latch expect drop 7 2", "latch expect accept 7 hall hall-in"}},
		"expect 7 permit tcp port 8443 --at hall/hall-in": {Done, `POST /changes/7/expectations {"line":"permit tcp port 8443","place":"hall/hall-in"}`, []string{"Expectation 1 of change 7: permit tcp port 8443  at hall/hall-in"}},
		"expect list 7":                 {Done, "", []string{"deny udp", "latch preview 7"}},
		"expect drop 7 2":               {Done, "DELETE /changes/7/expectations/2", []string{"is taken back"}},
		"expect accept 7 hall hall-in":  {Done, `POST /changes/7/accept {"device":"hall","filter":"hall-in"}`, []string{"is accepted, as it is now"}},
		"filter list hall --from rev:1": {Done, "GET /devices/hall/filters from=rev%3A1", []string{"hall0 ingress", "nothing: it is attached nowhere"}},
		"filter show hall/hall-in": {Done, "", []string{"1. narrow  accept\n       fits     tcp port 1\n  2. wide  accept  redundant: without it all would be done alike\n       fits     any IPv4\n       decides  udp IPv4\n       …", "3. old  drop  never reached",
			"rules a and b do otherwise with the same: tcp from x", "These can all go, and every packet is treated as before, proved: old\n    latch delete CHANGE DEVICE /o"}},
		"filter show hall/hall-in --widest": {Done, "", []string{"1. wide  accept"}},
		"filter show hall":                  {WrongUse, "", []string{"write DEVICE/FILTER"}},
		"filter trace hall/hall-in tcp":     {AnswerNo, "GET /trace packets=tcp&way=hall%2Fhall-in", []string{"some of it is permitted, some is denied", "permitted: tcp port 1", "hall/hall-in: accept by rule narrow\n        not z: it fits only port 2", "and more parts"}},
		"filter compare a/x b/x":            {AnswerNo, "GET /filters/compare a=a%2Fx&b=b%2Fx", []string{"b/x against a/x:", "newly permitted"}},
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
