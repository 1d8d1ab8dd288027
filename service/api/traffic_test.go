package api

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/advice"
	"oakenlatch/core/flow"
	"oakenlatch/service/store"
	"oakenlatch/test/pace"
	"oakenlatch/wire"
)

const hall = "gannet-hall"

// slipRule permits a network to a port of a booking server.
func slipRule(from string) string {
	return "acls\n  acl [hall-in]\n    aces\n      ace [slip-office]\n        matches\n          ipv4\n            " +
		"protocol: 6\n            source-ipv4-network: " + from +
		"\n            destination-ipv4-network: 192.0.2.80/32\n          tcp\n            destination-port\n        " +
		"      operator: eq\n              port: 8443\n        actions\n          forwarding: accept\n"
}

// The intended slip: a prefix wider than what was expected. It is caught, named,
// and refused; corrected, it passes; and what is accepted by name passes as it
// was then, and not as it is made later.
func TestExpectations(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	d := newCounter(t, hall)
	var ch wire.Change
	d.ok("nell", "POST", "/changes", wire.NewChange{Title: "The slip office books online"}, &ch)
	at := fmt.Sprintf("/changes/%d", ch.Number)
	load := func(from string) {
		t.Helper()
		d.ok(
			"nell", "POST", at+"/load",
			wire.NewLoad{Devices: []string{hall}, Mode: "merge", Text: slipRule(from), Name: "slip"}, nil,
		)
		d.ok(
			"nell", "POST", at+"/edits",
			wire.NewEdit{Device: hall, Op: "move", Path: "/acls/acl=hall-in/aces/ace=slip-office", Value: new("first")},
			nil,
		)
	}
	load("198.51.0.0/16")
	preview := func() (p wire.Preview) {
		t.Helper()
		d.ok("nell", "GET", at+"/preview", nil, &p)
		return p
	}
	p := preview()
	require.Len(t, p.Parts[0].Effects, 1)
	e := p.Parts[0].Effects[0]
	assert.Equal(t, []any{"hall-in", []string{"hall0 ingress"}, false}, []any{e.Filter, e.On, e.NoEffect})
	assert.Equal(t, flow.Moved{
		Packets: "tcp from 198.51.0.0/16 to 192.0.2.80 port 8443",
		Example: "tcp from 198.51.0.1:50000 to 192.0.2.80:8443",
		Before:  flow.Ruling{Rule: "nothing-else", Path: "/acls/acl=hall-in/aces/ace=nothing-else", Action: "drop"},
		After:   flow.Ruling{Rule: "slip-office", Path: "/acls/acl=hall-in/aces/ace=slip-office", Action: "accept"},
	}, e.Permitted[0])
	assert.True(t, p.Ready, "nothing is expected, so nothing is refused")

	var x wire.Expectation
	d.ok(
		"nell", "POST", at+"/expectations",
		wire.NewExpectation{Line: "permit tcp from 198.51.100.64/26 to 192.0.2.80 port 8443", Place: hall + "/hall-in"},
		&x,
	)
	d.ok("nell", "POST", at+"/expectations", wire.NewExpectation{Line: "permit tcp to 203.0.113.7 port 443"}, nil)
	p = preview()
	assert.Equal(
		t, []any{"not", true, "wholly", true},
		[]any{p.Expected[0].Already, p.Expected[0].Delivered, p.Expected[1].Already, p.Expected[1].Delivered},
	)
	require.Len(t, p.Beside, 1)
	assert.Equal(
		t, "tcp from 198.51.0.0-198.51.100.63,198.51.100.128-198.51.255.255 to 192.0.2.80 port 8443",
		p.Beside[0].Permitted[0].Packets,
	)
	assert.False(t, p.Ready)
	status, problem, _ := d.do("nell", "POST", at+"/commit", wire.NewCommit{HoldSeconds: 60}, nil)
	assert.Equal(t, http.StatusConflict, status)
	assert.Contains(
		t, problem.Detail,
		"at filter hall-in of gannet-hall it does what nobody expects: newly permitted: tcp from "+
			"198.51.0.0-198.51.100.63",
	)

	// Accepted by name it may go, until it becomes another.
	d.ok("nell", "POST", at+"/accept", wire.AcceptEffect{Device: hall, Place: "hall-in"}, nil)
	p = preview()
	assert.Equal(t, []any{"nell", true}, []any{p.Beside[0].AcceptedBy, p.Ready})
	load("198.48.0.0/13")
	p = preview()
	assert.Equal(t, []any{"", false}, []any{p.Beside[0].AcceptedBy, p.Ready})

	// Too narrow is not met; right is, and does nothing else.
	load("198.51.100.64/27")
	p = preview()
	assert.Equal(
		t, []any{false, "tcp from 198.51.100.96/27 to 192.0.2.80 port 8443", hall + "/hall-in", "nothing-else"},
		[]any{
			p.Expected[0].Delivered, p.Expected[0].Missing[0].Packets, p.Expected[0].Missing[0].Filter,
			p.Expected[0].Missing[0].By.Rule,
		},
	)
	_, problem, _ = d.do("nell", "POST", at+"/commit", wire.NewCommit{HoldSeconds: 60}, nil)
	assert.Contains(t, problem.Detail, "expectation 1 is not met")
	assert.Contains(
		t, problem.Detail, "for example tcp from 198.51.100.97:50000 to 192.0.2.80:8443: drop by rule nothing-else",
	)
	load("198.51.100.64/26")
	p = preview()
	assert.Empty(t, p.Beside)
	assert.True(t, p.Ready)
	page := d.page("nell", at+"/report?format=html")
	for _, want := range []string{
		"What was expected of the traffic", "delivered", "newly permitted", "tcp from 198.51.100.64/26",
	} {
		assert.Contains(t, page.Body.String(), want)
	}
	d.ok("nell", "POST", at+"/commit", wire.NewCommit{HoldSeconds: 60}, nil)
	require.Eventually(
		t, func() bool { s, _, _ := d.do("nell", "POST", at+"/confirm", nil, nil); return s == http.StatusOK },
		90*time.Second, 100*time.Millisecond,
	)
	assert.Contains(
		t, d.page("nell", at+"/report?format=html").Body.String(), "Expected, and delivered when it was committed",
	)

	var list []wire.Expectation
	d.ok("vera", "GET", at+"/expectations", nil, &list)
	assert.Len(t, list, 2)
	d.ok("nell", "POST", "/changes", wire.NewChange{Title: "Another"}, &ch)
	at = fmt.Sprintf("/changes/%d", ch.Number)
	for line, want := range map[string]string{
		"permit tcq": "goes wrong at column 8", strings.Repeat("x", 3000): "at most 2000",
	} {
		_, problem, _ = d.do("nell", "POST", at+"/expectations", wire.NewExpectation{Line: line}, nil)
		assert.Contains(t, problem.Detail, want)
	}
	_, problem, _ = d.do(
		"nell", "POST", at+"/expectations", wire.NewExpectation{Line: "deny any", Place: "nobody/x"}, nil,
	)
	assert.NotEmpty(t, problem.Detail)
	d.ok("nell", "POST", at+"/expectations", wire.NewExpectation{Line: "deny any", Place: hall + "/none"}, &x)
	_, problem, _ = d.do("otto", "POST", at+"/expectations", wire.NewExpectation{Line: "deny any"}, nil)
	assert.NotEmpty(t, problem.Detail, "a draft is its people's")
	_, problem, _ = d.do("nell", "POST", at+"/accept", wire.AcceptEffect{Device: hall, Place: "hall-in"}, nil)
	assert.Contains(t, problem.Detail, "has no side effect at \"hall-in\"")
	d.ok("nell", "DELETE", fmt.Sprintf("%s/expectations/%d", at, x.Number), nil, nil)
	_, problem, _ = d.do("nell", "DELETE", fmt.Sprintf("%s/expectations/%d", at, x.Number), nil, nil)
	assert.Contains(t, problem.Detail, "has no expectation")
	assert.Len(t, d.Found(0, "kind:expect"), 5)
}

// A filter taken off an interface, or put beside another there, is an effect on
// that interface, whatever becomes of the filter itself: it is a side effect
// like any other.
func TestAttachmentIsASideEffect(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	d := newCounter(t, hall)
	const point = "/acls/attachment-points/interface=hall0"
	start := func(title string, edits ...wire.NewEdit) (at string) {
		t.Helper()
		var ch wire.Change
		d.ok("nell", "POST", "/changes", wire.NewChange{Title: title}, &ch)
		at = fmt.Sprintf("/changes/%d", ch.Number)
		for _, e := range edits {
			e.Device = hall
			d.ok("nell", "POST", at+"/edits", e, nil)
		}
		return at
	}
	preview := func(at string) (p wire.Preview) {
		t.Helper()
		d.ok("nell", "GET", at+"/preview", nil, &p)
		return p
	}
	at := start("The hall's filter goes", wire.NewEdit{Op: "delete", Path: point})
	p := preview(at)
	assert.Equal(t, []any{"", "hall0 ingress"}, []any{p.Parts[0].Effects[0].Filter, p.Parts[0].Effects[0].Name()})
	assert.True(t, p.Ready, "nothing is expected")
	d.ok(
		"nell", "POST", at+"/expectations",
		wire.NewExpectation{Line: "permit tcp to 192.0.2.80 port 8443", Place: hall + "/hall0  ingress"}, nil,
	)
	p = preview(at)
	assert.Equal(
		t, []any{hall + "/hall0 ingress", true, "not"},
		[]any{p.Expected[0].Place, p.Expected[0].Delivered, p.Expected[0].Already},
	)
	require.Len(t, p.Beside, 1)
	assert.False(t, p.Ready)
	_, problem, _ := d.do("nell", "POST", at+"/commit", wire.NewCommit{HoldSeconds: 60}, nil)
	assert.Contains(
		t, problem.Detail, "at interface hall0 ingress of gannet-hall it does what nobody expects: newly permitted",
	)
	accept := advice.Words("stage it narrower, expect it too, or accept it by name").
		Do(advice.AcceptEffect, 1, hall, "hall0 ingress")
	assert.Equal(t, accept, problem.Next)
	_, problem, _ = d.do("nell", "POST", at+"/accept", wire.AcceptEffect{Device: hall, Place: "hall-in"}, nil)
	assert.Contains(t, problem.Next.String(), `gannet-hall "hall0 ingress"`)
	d.ok("nell", "POST", at+"/accept", wire.AcceptEffect{Device: hall, Place: "hall0 ingress"}, nil)
	p = preview(at)
	assert.Equal(t, []any{"nell", true}, []any{p.Beside[0].AcceptedBy, p.Ready})
	assert.Contains(
		t, d.page("nell", at+"/report?format=html").Body.String(),
		"Side effect at interface hall0 ingress of gannet-hall, accepted by nell",
	)

	// Behind another filter, which lets pass first what it refuses: what is
	// expected of that filter is expected of the interface on which it works.
	at = start("Another before the hall's",
		wire.NewEdit{Op: "put", Path: "/acls/acl=early/aces/ace=all/matches/ipv4/protocol", Value: new("17")},
		wire.NewEdit{Op: "put", Path: "/acls/acl=early/aces/ace=all/actions/forwarding", Value: new("accept")},
		wire.NewEdit{Op: "put", Path: point + "/ingress/acl-sets/acl-set=early"},
		wire.NewEdit{Op: "move", Path: point + "/ingress/acl-sets/acl-set=early", Value: new("first")})
	d.ok("nell", "POST", at+"/expectations", wire.NewExpectation{Line: "deny udp from 203.0.113.0/24"}, nil)
	p = preview(at)
	assert.False(t, p.Expected[0].Delivered)
	require.Len(t, p.Beside, 1)
	assert.Equal(t, "hall0 ingress", p.Beside[0].Name(), "early works there alone, and decides nothing by itself")
	d.ok(
		"nell", "POST", at+"/expectations",
		wire.NewExpectation{Line: "permit udp from 0.0.0.0/0", Place: hall + "/early"}, nil,
	)
	p = preview(at)
	assert.Empty(t, p.Beside)
	assert.False(t, p.Ready, "the first expectation is still not delivered")
	_, problem, _ = d.do(
		"nell", "POST", at+"/expectations", wire.NewExpectation{Line: "deny any", Place: hall + "/early," + hall}, nil,
	)
	assert.Contains(t, problem.Detail, "names a filter of one device and none of another")
}

// Questions about filters as they are, or were: what rules decide, what becomes
// of packets and why, how two differ, what can go.
func TestFilterQuestions(t *testing.T) {
	t.Parallel()
	d := newCounter(t, hall)
	_, err := d.History.Read(t.Context(), store.Everything, hall, "nell")
	require.NoError(t, err)
	var list wire.Filters
	d.ok("vera", "GET", "/devices/"+hall+"/filters", nil, &list)
	assert.Equal(t, []string{"hall-in", "management-in"}, []string{list.Filters[0].Name, list.Filters[1].Name})
	assert.Equal(
		t,
		wire.Attachment{
			Interface: "hall0", Direction: "ingress", Filters: []string{"hall-in"},
			Path: "/acls/attachment-points/interface=hall0/ingress",
		},
		list.Attached[0],
	)
	var f flow.Sheet
	d.ok("vera", "GET", "/devices/"+hall+"/filters/management-in", nil, &f)
	assert.Equal(
		t, []any{"operations-room", "needed", []string{"tcp from 198.51.100.0/24 port 830"}},
		[]any{f.Rules[0].Name, f.Rules[0].Standing, f.Rules[0].Fits},
	)
	assert.Empty(t, f.Clean)
	assert.Greater(t, f.Rules[2].Bits, f.Rules[0].Bits)

	trace := func(way, packets string) (out flow.Traced) {
		t.Helper()
		d.ok("vera", "GET", "/trace?"+url.Values{"way": {way}, "packets": {packets}}.Encode(), nil, &out)
		return out
	}
	one := trace(hall+"/management-in", "tcp from 198.51.100.0/24,203.0.113.0/24 to 192.0.2.13 port 830")
	assert.Equal(t, []any{"partly", 2}, []any{one.Answer, len(one.Parts)})
	assert.Equal(
		t, []any{true, "tcp from 198.51.100.0/24 to 192.0.2.13 port 830"},
		[]any{one.Parts[0].Permitted, one.Parts[0].Packets},
	)
	assert.Equal(
		t,
		[]flow.Missed{
			{Rule: "ping", Why: "it fits only protocol icmp"},
			{Rule: "operations-room", Why: "it fits only from 198.51.100.0/24"},
		},
		one.Parts[1].Way[0].Not,
	)
	assert.Equal(t, "permitted", trace(hall+"/management-in", "icmp to 192.0.2.13").Answer)
	assert.Equal(
		t, "denied",
		trace(hall+"/management-in,"+hall+"/hall-in", "tcp from 198.51.100.7 to 192.0.2.13 port 830").Answer,
		"one of them denies it",
	)

	require.NoError(
		t, d.Devices[hall].Console("/acls/acl=hall-in/aces/ace=booking/matches/tcp/destination-port/port", "444"),
	)
	_, err = d.History.Read(t.Context(), store.Everything, hall, "nell")
	require.NoError(t, err)
	var c wire.FilterComparison
	d.ok(
		"vera", "GET",
		"/filters/compare?"+url.Values{"a": {hall + "@rev:1/hall-in"}, "b": {hall + "/hall-in"}}.Encode(), nil, &c,
	)
	assert.Equal(
		t, []string{"tcp to 203.0.113.0/24 port 444", "tcp to 203.0.113.0/24 port 443"},
		[]string{c.Permitted[0].Packets, c.Denied[0].Packets},
	)
	for path, want := range map[string]string{
		"/devices/" + hall + "/filters/none": "there is no filter", "/trace?packets=tcp": "which filters",
		"/trace?way=x&packets=tcp":                            "names no filter",
		"/trace?way=" + hall + "/hall-in&packets=tcp%20fromm": "go wrong at column 5",
		"/filters/compare?a=x&b=y":                            "names no filter",
	} {
		_, p, _ := d.do("vera", "GET", path, nil, nil)
		assert.Contains(t, p.Detail, want, path)
	}
}
