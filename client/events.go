package client

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"iter"
	"net/http"
	"strings"
)

// Event is one of the service's stream (server-sent events).
type Event struct {
	ID string // to go on from; "" where one cannot
	// Opened, once the service answers; entry: an entry of the ledger (wire.Entry); moved: something has moved
	// (wire.Moved); and others.
	Kind string
	Data json.RawMessage
}

// Opened is the kind of the first event of a stream, which the client itself makes: from there on nothing is missed.
const Opened = "opened"

// mostEvent is how long a line of the stream may be, in bytes.
const mostEvent = 64 << 20

// Events tells what happens from now on, or from behind the event with an id. It ends, with the error that ended it,
// when the connection does: go on from the last id.
func (c *Client) Events(ctx context.Context, after string) iter.Seq2[Event, error] {
	return func(yield func(Event, error) bool) {
		r := request{method: http.MethodGet, path: "/api/v1/events"}
		if after != "" {
			r.last = after
		}
		d, err := c.download(ctx, r)
		if err != nil {
			yield(Event{}, err)
			return
		}
		defer func() { _ = d.Body.Close() }()
		if !yield(Event{Kind: Opened}, nil) {
			return
		}
		lines := bufio.NewScanner(d.Body)
		lines.Buffer(nil, mostEvent)
		var e Event
		for lines.Scan() {
			name, value, _ := strings.Cut(lines.Text(), ":")
			value = strings.TrimPrefix(value, " ")
			switch name {
			case "id":
				e.ID = value
			case "event":
				e.Kind = value
			case "data":
				e.Data = append(e.Data, value...)
			case "": // a comment, or the end of an event
				if lines.Text() != "" || e.Data == nil {
					continue
				}
				if !yield(e, nil) {
					return
				}
				e = Event{}
			}
		}
		err = lines.Err()
		if err == nil {
			err = fmt.Errorf("the service ended the stream")
		}
		yield(Event{}, &Unreachable{c.options.Server, err})
	}
}

// Read reads an event's document, of the kind it is.
func (e Event) Read(into any) error { return json.Unmarshal(e.Data, into) }
