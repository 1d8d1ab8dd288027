package netconf

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"oakenlatch/core/markup"
)

var limits = markup.Limits{Bytes: 1 << 16, Depth: 40}

// What a device tells of an event (RFC 6470) is read, whatever it is, and an event that was
// read is written as one that says the same.
func FuzzEvent(f *testing.F) {
	at := time.Unix(1_800_000_000, 0)
	f.Add(
		Event{
			Name: "config-change", Account: "mara", SessionID: "4", Source: "192.0.2.1", Datastore: "running",
			Targets: []string{"/a"},
		}.Write(at),
	)
	f.Add(Event{Name: "confirmed-commit", What: "timeout"}.Write(at))
	f.Add(Event{Name: "session-end", What: "killed", KilledBy: "3", SessionID: "4"}.Write(at))
	f.Add([]byte(`<notification xmlns="` + NotificationNS + `"><eventTime>never</eventTime></notification>`))
	f.Fuzz(func(t *testing.T, msg []byte) {
		el, err := markup.Parse(msg, limits)
		if err != nil {
			return
		}
		_, _ = notificationIn(el)
		for _, c := range append([]*markup.Element{el}, el.Children...) {
			e, ok := ReadEvent(c)
			if !ok {
				continue
			}
			require.LessOrEqual(t, len(e.Targets), 100)
			back, err := markup.Parse(e.Write(at), markup.Limits{})
			if err != nil {
				continue // a name that no element has
			}
			n, ok := notificationIn(back)
			require.True(t, ok)
			require.True(t, at.Equal(n.At))
		}
	})
}

// Hellos and the errors of replies are read or refused.
//
// Under 10,000 in a second: each message is read as two things.
func FuzzHelloAndErrors(f *testing.F) {
	f.Add(hello([]string{CapBase10, CapBase11}, 4))
	f.Add(
		[]byte(
			`<rpc-reply xmlns="` + BaseNS +
				`" message-id="1"><rpc-error><error-type>protocol</error-type><error-tag>lock-denied</error-tag><error-severity>error</error-severity><error-info><session-id>0</session-id></error-info></rpc-error></rpc-reply>`,
		),
	)
	f.Add([]byte(`<hello xmlns="` + BaseNS + `"/>`))
	f.Fuzz(func(t *testing.T, msg []byte) {
		if caps, _, err := parseHello(msg); err == nil {
			require.NotEmpty(t, caps)
		}
		el, err := markup.Parse(msg, limits)
		if err != nil {
			return
		}
		errs, warnings := parseRPCErrors(el)
		for _, e := range append(errs, warnings...) {
			_, _ = e.Error(), e.SessionID()
		}
		if len(errs) > 0 {
			require.True(t, Refused(errs))
		}
	})
}
