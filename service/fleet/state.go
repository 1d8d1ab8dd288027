package fleet

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"oakenlatch/core/codec"
	"oakenlatch/core/markup"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
)

const systemNS = "urn:ietf:params:xml:ns:yang:ietf-system"

// ErrNotTold is wrapped where a device does not offer what was asked for.
var ErrNotTold = errors.New("the device does not tell")

// Visitor is a session on a device (RFC 6022 section 2.1.4).
type Visitor struct {
	ID, Account, Source, Transport string
	Since                          time.Time // by the device's clock
	Locks                          []HeldLock
	Own                            bool // the session that asked
}

// HeldLock is a lock a session holds on a datastore (RFC 6022 section 2.1.2).
type HeldLock struct {
	Datastore string
	Since     time.Time // by the device's clock; zero where it is not told
}

// Visitors lists who is on a device, where it has ietf-netconf-monitoring.
func (s *Session) Visitors(ctx context.Context) ([]Visitor, error) {
	data, err := s.Get(
		ctx, netconf.Filter(`<netconf-state xmlns="`+netconf.MonitoringNS+`"><sessions/><datastores/></netconf-state>`),
	)
	if netconf.Refused(err) || err == nil && data.Find("netconf-state", "sessions") == nil {
		return nil, fmt.Errorf("%w who is on it (ietf-netconf-monitoring, RFC 6022)", ErrNotTold)
	}
	if err != nil {
		return nil, s.Wrap("asking who is on it", err)
	}
	var out []Visitor
	for _, el := range data.Find("netconf-state", "sessions").Children {
		v := Visitor{
			ID: el.Find("session-id").Value(), Account: el.Find("username").Value(),
			Source: el.Find("source-host").Value(), Transport: el.Find("transport").Value(),
			Since: moment(el.Find("login-time")),
		}
		v.Own = v.ID == s.SessionID
		if v.ID != "" {
			out = append(out, v)
		}
	}
	stores := data.Find("netconf-state", "datastores")
	if stores == nil {
		return out, nil
	}
	for _, ds := range stores.Children {
		lock := ds.Find("locks", "global-lock")
		holder := lock.Find("locked-by-session").Value()
		for i := range out {
			if holder != "" && out[i].ID == holder {
				out[i].Locks = append(out[i].Locks, HeldLock{ds.Find("name").Value(), moment(lock.Find("locked-time"))})
			}
		}
	}
	return out, nil
}

func moment(el *markup.Element) time.Time {
	t, err := time.Parse(time.RFC3339, el.Value())
	if err != nil {
		return time.Time{}
	}
	return t.UTC()
}

// String names a visitor for a person.
func (v Visitor) String() string {
	text := "session " + v.ID
	if v.Account != "" {
		text += " of account " + v.Account
	}
	if v.Source != "" {
		text += " from " + v.Source
	}
	if !v.Since.IsZero() {
		text += ", there since " + v.Since.Format(time.RFC3339)
	}
	for _, l := range v.Locks {
		text += ", holding the lock on " + l.Datastore
		if !l.Since.IsZero() {
			text += " since " + l.Since.Format(time.RFC3339)
		}
	}
	return text
}

// Clock reads the device's clock (RFC 7317 section 2, system-state/clock) and
// gives what it is ahead of ours, give or take the time the answer took.
func (s *Session) Clock(ctx context.Context) (ahead time.Duration, err error) {
	asked := time.Now()
	data, err := s.Get(ctx, netconf.Filter(`<system-state xmlns="`+systemNS+`"><clock/></system-state>`))
	answered := time.Now()
	if err != nil && !netconf.Refused(err) {
		return 0, s.Wrap("reading its clock", err)
	}
	var theirs time.Time
	if err == nil {
		theirs = moment(data.Find("system-state", "clock", "current-datetime"))
	}
	if theirs.IsZero() {
		return 0, fmt.Errorf("%w its clock (ietf-system, RFC 7317)", ErrNotTold)
	}
	return theirs.Sub(asked.Add(answered.Sub(asked) / 2)), nil
}

const hardwareNS = "urn:ietf:params:xml:ns:yang:ietf-hardware"

// Box reads what the box is: the model and serial number of its chassis (RFC
// 8348 section 3); "" where it does not tell.
func (s *Session) Box(ctx context.Context) (model, serial string, err error) {
	if s.Schema.ModuleByName("ietf-hardware") == nil {
		return "", "", nil
	}
	data, err := s.Get(ctx, netconf.Filter(`<hardware xmlns="`+hardwareNS+`"/>`))
	if netconf.Refused(err) {
		return "", "", nil
	}
	if err != nil {
		return "", "", s.Wrap("reading what box it is", err)
	}
	hw := data.Find("hardware")
	if hw == nil {
		return "", "", nil
	}
	for _, c := range hw.Children {
		class := c.Find("class").Value()
		if _, local, _ := strings.Cut(class, ":"); c.Name.Local == "component" && (class == "chassis" ||
			local == "chassis") {
			return c.Find("model-name").Value(), c.Find("serial-num").Value(), nil
		}
	}
	return "", "", nil
}

// Restarts reports whether the device can be restarted by us (RFC 7317
// section 2.4, system-restart).
func (s *Session) Restarts() bool { return s.Schema.ModuleByName("ietf-system") != nil }

// Restart restarts the device. The session ends with it, with an answer or
// without.
func (s *Session) Restart(ctx context.Context) error {
	w := &markup.Writer{}
	w.Start(markup.Name{Space: systemNS, Local: "system-restart"})
	w.End()
	_, err := s.Call(ctx, "system-restart", w.Bytes())
	var none *netconf.NoReplyError
	if errors.As(err, &none) {
		return nil // it went before it could answer; whether it went is seen by its coming back
	}
	return s.Wrap("restarting", err)
}

// Leaf reads one value, of configuration or of state, in canonical form; ""
// where there is none.
func (s *Session) Leaf(ctx context.Context, p tree.Path) (string, error) {
	data, err := s.Get(ctx, netconf.Filter(codec.PathFilter(s.Schema, p)))
	if err != nil {
		return "", s.Wrap("reading "+p.String(), err)
	}
	n, err := codec.Decoder{Schema: s.Schema}.Tree(data)
	if err != nil {
		return "", s.Wrap("reading "+p.String(), err)
	}
	if at := n.At(p); at != nil {
		return at.Value(), nil
	}
	return "", nil
}

// Denied says why a datastore could not be locked, and by whom, as far as the
// device tells.
func (s *Session) Denied(ctx context.Context, ds netconf.Datastore, denied error) string {
	id := ""
	var errs netconf.RPCErrors
	if errors.As(denied, &errs) {
		for _, e := range errs {
			if v := e.SessionID(); v != "0" && v != "" {
				id = v
			}
		}
	}
	perhaps := fmt.Sprintf("%s is locked, or a confirmed commit is pending", ds)
	list, err := s.Visitors(ctx)
	if err != nil {
		list = nil
	}
	var others []string
	for _, v := range list {
		locks := slices.ContainsFunc(v.Locks, func(l HeldLock) bool { return l.Datastore == string(ds) })
		switch {
		case locks:
			return fmt.Sprintf("%s is locked by %s", ds, v)
		case v.ID == id:
			return fmt.Sprintf("a confirmed commit is pending, by %s", v)
		case !v.Own:
			others = append(others, v.String())
		}
	}
	switch {
	case id != "":
		return fmt.Sprintf(
			"%s, by session %s, which is there no more or of which the device tells no more", perhaps, id,
		)
	case len(others) > 0:
		return fmt.Sprintf("%s; the device does not say by whom, there are: %s", perhaps, strings.Join(others, "; "))
	}
	return perhaps + " by someone the device does not name"
}
