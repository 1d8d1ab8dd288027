package netconf

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"oakenlatch/core/markup"
)

// Datastore is a configuration datastore (RFC 6241 section 5).
type Datastore string

// The datastores.
const (
	Running   Datastore = "running"
	Candidate Datastore = "candidate"
	Startup   Datastore = "startup"
)

// Source is where a configuration comes from: a datastore, or inline content
// (the children of a <config> element).
type Source struct {
	Datastore Datastore
	Config    []byte
}

func (s Source) write(w *markup.Writer) {
	if s.Datastore != "" {
		w.Leaf(base(string(s.Datastore)), "")
		return
	}
	w.Start(base("config"))
	w.Raw(s.Config)
	w.End()
}

// Filter is the content of a subtree filter (RFC 6241 section 6); nil is no
// filter: everything.
type Filter []byte

func (f Filter) write(w *markup.Writer) {
	if f == nil {
		return
	}
	w.Start(base("filter"), "type", "subtree")
	w.Raw(f)
	w.End()
}

// data gives the <data> of a reply, closed: a configuration may be large.
func data(el *markup.Element, err error) (*markup.Element, error) {
	if err != nil {
		return nil, err
	}
	if d := el.Child(BaseNS, "data"); d != nil {
		return d, nil
	}
	return nil, errors.New("the reply holds no data element")
}

func opened(el *markup.Element, err error) (*markup.Element, error) {
	if err != nil {
		return nil, err
	}
	return el.Open()
}

// Get reads running configuration and state (section 7.7); gives the <data>.
func (c *Client) Get(ctx context.Context, f Filter) (*markup.Element, error) {
	return opened(data(c.call(ctx, "get", f.write)))
}

// GetConfig reads a configuration (section 7.1); gives the <data>.
func (c *Client) GetConfig(ctx context.Context, from Datastore, f Filter) (*markup.Element, error) {
	return opened(c.GetConfigWith(ctx, from, f, ""))
}

// GetConfigWith is GetConfig with a mode for defaults (RFC 6243 section 4.5.1),
// "" leaves that to the device, and gives the <data> closed: to be opened, or
// read by a Reader.
func (c *Client) GetConfigWith(
	ctx context.Context, from Datastore, f Filter, defaults string,
) (*markup.Element, error) {
	return data(c.call(ctx, "get-config", func(w *markup.Writer) {
		w.Start(base("source"))
		Source{Datastore: from}.write(w)
		w.End()
		f.write(w)
		if defaults != "" {
			w.Leaf(markup.Name{Space: DefaultsNS, Local: "with-defaults"}, defaults)
		}
	}))
}

// EditConfig is an edit-config (section 7.2). Empty options are left out, so
// that the device's defaults hold.
type EditConfig struct {
	Target           Datastore
	DefaultOperation string // merge, replace, none
	TestOption       string // test-then-set, set, test-only
	ErrorOption      string // stop-on-error, continue-on-error, rollback-on-error
	Config           []byte // the content of <config>
}

// EditConfig edits a datastore.
func (c *Client) EditConfig(ctx context.Context, e EditConfig) error {
	_, err := c.call(ctx, "edit-config", func(w *markup.Writer) {
		w.Start(base("target"))
		Source{Datastore: e.Target}.write(w)
		w.End()
		for _, o := range [][2]string{
			{"default-operation", e.DefaultOperation}, {"test-option", e.TestOption}, {"error-option", e.ErrorOption},
		} {
			if o[1] != "" {
				w.Leaf(base(o[0]), o[1])
			}
		}
		Source{Config: e.Config}.write(w)
	})
	return err
}

// CopyConfig replaces a whole datastore (section 7.3).
func (c *Client) CopyConfig(ctx context.Context, target Datastore, source Source) error {
	_, err := c.call(ctx, "copy-config", func(w *markup.Writer) {
		w.Start(base("target"))
		Source{Datastore: target}.write(w)
		w.End()
		w.Start(base("source"))
		source.write(w)
		w.End()
	})
	return err
}

// DeleteConfig deletes a datastore (section 7.4).
func (c *Client) DeleteConfig(ctx context.Context, target Datastore) error {
	return c.onTarget(ctx, "delete-config", target)
}

// Lock locks a datastore (section 7.5).
func (c *Client) Lock(ctx context.Context, target Datastore) error {
	return c.onTarget(ctx, "lock", target)
}

// Unlock unlocks a datastore (section 7.6).
func (c *Client) Unlock(ctx context.Context, target Datastore) error {
	return c.onTarget(ctx, "unlock", target)
}

func (c *Client) onTarget(ctx context.Context, op string, target Datastore) error {
	_, err := c.call(ctx, op, func(w *markup.Writer) {
		w.Start(base("target"))
		Source{Datastore: target}.write(w)
		w.End()
	})
	return err
}

// Validate asks the device to check a configuration (section 8.6.4).
func (c *Client) Validate(ctx context.Context, source Source) error {
	_, err := c.call(ctx, "validate", func(w *markup.Writer) {
		w.Start(base("source"))
		source.write(w)
		w.End()
	})
	return err
}

// ConfirmedCommit says how a commit is to be confirmed (section 8.4.5). A
// persist token lets another session confirm it; that needs :1.1.
type ConfirmedCommit struct {
	Timeout time.Duration // whole seconds; 0 leaves the device's default of 600 s
	Persist string
	// PersistID extends a pending commit that was made with that token.
	PersistID string
}

// Commit makes the candidate the running configuration (section 8.3.4.1).
func (c *Client) Commit(ctx context.Context) error {
	_, err := c.call(ctx, "commit", nil)
	return err
}

// CommitConfirmed commits on trial: the device goes back by itself unless it
// is confirmed in time.
func (c *Client) CommitConfirmed(ctx context.Context, cc ConfirmedCommit) error {
	_, err := c.call(ctx, "commit", func(w *markup.Writer) {
		w.Leaf(base("confirmed"), "")
		if cc.Timeout > 0 {
			w.Leaf(base("confirm-timeout"), strconv.FormatInt(int64((cc.Timeout+time.Second-1)/time.Second), 10))
		}
		if cc.Persist != "" {
			w.Leaf(base("persist"), cc.Persist)
		}
		if cc.PersistID != "" {
			w.Leaf(base("persist-id"), cc.PersistID)
		}
	})
	return err
}

// Confirm makes a pending confirmed commit permanent. The token is empty where
// the commit was made by this session without one.
func (c *Client) Confirm(ctx context.Context, persistID string) error {
	return c.withPersistID(ctx, "commit", persistID)
}

// CancelCommit takes a pending confirmed commit back (section 8.4.4.1).
func (c *Client) CancelCommit(ctx context.Context, persistID string) error {
	return c.withPersistID(ctx, "cancel-commit", persistID)
}

func (c *Client) withPersistID(ctx context.Context, op, persistID string) error {
	_, err := c.call(ctx, op, func(w *markup.Writer) {
		if persistID != "" {
			w.Leaf(base("persist-id"), persistID)
		}
	})
	return err
}

// DiscardChanges makes the candidate equal to running (section 8.3.4.2).
func (c *Client) DiscardChanges(ctx context.Context) error {
	_, err := c.call(ctx, "discard-changes", nil)
	return err
}

// KillSession ends another session (section 7.9).
func (c *Client) KillSession(ctx context.Context, id string) error {
	_, err := c.call(ctx, "kill-session", func(w *markup.Writer) { w.Leaf(base("session-id"), id) })
	return err
}

// GetSchema fetches a module's text (RFC 6022 section 3.1). Version and format
// may be empty.
func (c *Client) GetSchema(ctx context.Context, identifier, version, format string) (string, error) {
	name := func(local string) markup.Name { return markup.Name{Space: MonitoringNS, Local: local} }
	w := &markup.Writer{}
	w.Start(name("get-schema"))
	w.Leaf(name("identifier"), identifier)
	if version != "" {
		w.Leaf(name("version"), version)
	}
	if format != "" {
		w.Leaf(name("format"), format)
	}
	w.End()
	el, err := c.send(ctx, "get-schema "+identifier, w.Bytes())
	if err != nil {
		return "", err
	}
	for _, child := range el.Children {
		if child.Name.Local == "data" {
			return child.Text, nil
		}
	}
	return "", fmt.Errorf("get-schema %s: the reply holds no data element", identifier)
}
