package lab

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"oakenlatch/core/check"
	"oakenlatch/core/codec"
	"oakenlatch/core/markup"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
)

func base(local string) markup.Name { return markup.Name{Space: netconf.BaseNS, Local: local} }

// refuse makes a single rpc-error.
func refuse(tag, format string, args ...any) error {
	return netconf.RPCErrors{{Type: "application", Tag: tag, Message: fmt.Sprintf(format, args...)}}
}

// Operate carries out one operation, with whatever fault was ordered for it; it
// is the netconf.Handler.
func (d *Device) Operate(s *netconf.Session, op *markup.Element) ([]byte, error) {
	return d.faulty(s, op, d.operate)
}

func (d *Device) operate(s *netconf.Session, op *markup.Element) ([]byte, error) {
	time.Sleep(d.Spec.Slow)
	switch op.Name {
	case markup.Name{Space: netconf.MonitoringNS, Local: "get-schema"}:
		return d.getSchema(op)
	case markup.Name{Space: systemNS, Local: "system-restart"}:
		return nil, d.restart()
	case markup.Name{Space: netconf.NotificationNS, Local: "create-subscription"}:
		if d.Spec.Silent {
			break
		}
		return nil, s.Subscribed()
	}
	handlers := map[string]func(*netconf.Session, *markup.Element) ([]byte, error){
		"get": d.get, "get-config": d.getConfig, "edit-config": d.editConfig, "copy-config": d.copyConfig,
		"delete-config": d.deleteConfig, "lock": d.lock, "unlock": d.unlock, "validate": d.validate,
		"commit": d.commit, "cancel-commit": d.cancelCommit, "discard-changes": d.discard,
	}
	h := handlers[op.Name.Local]
	if !d.Spec.Kind.candidate() && slices.Contains(
		[]string{"commit", "cancel-commit", "discard-changes"}, op.Name.Local,
	) ||
		!d.Spec.Kind.cancels() && op.Name.Local == "cancel-commit" {
		h = nil
	}
	if op.Name.Space != netconf.BaseNS || h == nil {
		return nil, refuse(
			"operation-not-supported", "operation %s of namespace %q is not known here", op.Name.Local, op.Name.Space,
		)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	return h(s, op)
}

// Closed frees what a session held (RFC 6241 sections 7.5 and 8.4.1).
func (d *Device) Closed(s *netconf.Session) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.locks[netconf.Candidate].session == s.ID && d.dirty {
		d.candidate, d.dirty = d.running, false
	}
	for ds, l := range d.locks {
		if l.session == s.ID {
			delete(d.locks, ds)
		}
	}
	if d.pending != nil && d.pending.persist == "" && d.pending.session == s.ID {
		d.confirmation(nil, "cancel")
		d.revert()
	}
	s.AtEnd(func() { d.tell(by(s, netconf.Event{Name: "session-end", What: s.Reason()})) })
}

// datastore reads the datastore named below a <source> or <target>.
func (d *Device) datastore(op *markup.Element, role string) (netconf.Datastore, error) {
	el := op.Child(netconf.BaseNS, role)
	if el == nil || len(el.Children) != 1 {
		return "", refuse("missing-element", "%s needs one <%s>", op.Name.Local, role)
	}
	switch ds := netconf.Datastore(el.Children[0].Name.Local); ds {
	case netconf.Candidate:
		if d.Spec.Kind.candidate() {
			return ds, nil
		}
	case netconf.Running, netconf.Startup:
		return ds, nil
	}
	return "", refuse("invalid-value", "there is no datastore %s", el.Children[0].Name.Local)
}

func (d *Device) content(ds netconf.Datastore) *tree.Node {
	switch ds {
	case netconf.Candidate:
		return d.candidate
	case netconf.Startup:
		return d.startup
	}
	return d.running
}

// free checks that no other session has the datastore locked.
func (d *Device) free(s *netconf.Session, ds netconf.Datastore) error {
	if l, ok := d.locks[ds]; ok && l.session != s.ID {
		return refuse("in-use", "%s is locked by session %d", ds, l.session)
	}
	return nil
}

// data answers with a configuration, filtered where the operation asks for it.
func (d *Device) data(op *markup.Element, n *tree.Node, state func(*markup.Writer)) ([]byte, error) {
	mode := d.basicMode()
	if asked := op.Child(netconf.DefaultsNS, "with-defaults"); asked != nil {
		mode = tree.DefaultsMode(asked.Value())
		known := slices.Contains(
			[]tree.DefaultsMode{tree.ReportAll, tree.ReportAllTagged, tree.Trim, tree.Explicit}, mode,
		)
		if !known || d.Spec.OnlyDefaults && mode != d.basicMode() {
			return nil, refuse("invalid-value", "with-defaults %q is not supported here", mode)
		}
	}
	w := &markup.Writer{}
	w.Start(base("data"))
	codec.Encode(w, d.set.schema, n.WithDefaults(d.set.schema, mode))
	if state != nil {
		state(w)
	}
	w.End()
	filter := op.Child(netconf.BaseNS, "filter")
	if filter == nil {
		return w.Bytes(), nil
	}
	if kind, ok := filter.Attr("", "type"); ok && kind != "subtree" {
		return nil, refuse("bad-attribute", "filter type %q is not supported, only subtree", kind)
	}
	whole, err := markup.Parse(w.Bytes(), markup.Limits{})
	if err != nil {
		return nil, err
	}
	out := &markup.Writer{}
	out.Start(base("data"))
	netconf.Subtree(out, filter, whole)
	out.End()
	return out.Bytes(), nil
}

func (d *Device) getConfig(_ *netconf.Session, op *markup.Element) ([]byte, error) {
	ds, err := d.datastore(op, "source")
	if err != nil {
		return nil, err
	}
	return d.data(op, d.content(ds), nil)
}

func (d *Device) editConfig(s *netconf.Session, op *markup.Element) ([]byte, error) {
	ds, err := d.datastore(op, "target")
	if err != nil {
		return nil, err
	}
	if target := d.Spec.Kind.target(); ds != target {
		return nil, refuse("operation-not-supported", "only %s can be edited, not %s", target, ds)
	}
	if d.pending != nil && ds == netconf.Running {
		return nil, refuse("in-use", "a confirmed commit is pending")
	}
	if err := d.free(s, ds); err != nil {
		return nil, err
	}
	def, err := choice(op, "default-operation", "merge", "replace", "none")
	if err != nil {
		return nil, err
	}
	test, err := choice(op, "test-option", "test-then-set", "set", "test-only")
	if err != nil {
		return nil, err
	}
	// Every edit is all or nothing here, which is what rollback-on-error asks
	// for and the others allow.
	if _, err := choice(op, "error-option", "stop-on-error", "continue-on-error", "rollback-on-error"); err != nil {
		return nil, err
	}
	cfg := op.Child(netconf.BaseNS, "config")
	if cfg == nil {
		return nil, refuse("missing-element", "edit-config needs a <config>")
	}
	doc, err := codec.Decoder{Schema: d.set.schema, Strict: true}.Edit(cfg)
	if err != nil {
		return nil, rpcError(err)
	}
	next, err := tree.Apply(d.content(ds), doc, tree.Op(def))
	if err != nil {
		return nil, rpcError(err)
	}
	if test == "test-only" {
		return nil, d.valid(next)
	}
	if ds == netconf.Running {
		if err := d.valid(next); err != nil {
			return nil, err
		}
		d.setRunning(next)
		d.changed(s, netconf.Running)
		return nil, nil
	}
	d.candidate, d.dirty = next, true
	return nil, nil
}

// choice reads an option element; the first value is the default.
func choice(op *markup.Element, name string, values ...string) (string, error) {
	el := op.Child(netconf.BaseNS, name)
	if el == nil {
		return values[0], nil
	}
	for _, v := range values {
		if el.Value() == v {
			return v, nil
		}
	}
	return "", refuse("invalid-value", "%s is %q, allowed is %s", name, el.Value(), strings.Join(values, ", "))
}

// rpcError tells a core error in the protocol's terms.
func rpcError(err error) error {
	e := netconf.RPCError{Type: "application", Tag: "operation-failed", Message: err.Error()}
	switch x := err.(type) {
	case *codec.Error:
		e.Tag, e.Path, e.Message = x.Tag, x.Path, x.Msg
	case *tree.Error:
		e.Tag, e.Path, e.Message = x.Tag, x.Path, x.Msg
	}
	return netconf.RPCErrors{e}
}

// valid checks a whole configuration as the device does before a commit.
func (d *Device) valid(n *tree.Node) error {
	var errs netconf.RPCErrors
	for _, f := range check.Tree(d.set.schema, n).Findings {
		errs = append(
			errs, netconf.RPCError{Type: "application", Tag: "operation-failed", Path: f.Path, Message: f.Message},
		)
	}
	for _, i := range list(n.Known("interfaces"), "interface") {
		// What only this device knows: its controller cannot do tiny frames.
		if mtu := leaf(i.Known("ipv4"), "mtu", ""); mtu != "" {
			if v, err := strconv.Atoi(mtu); err == nil && v < 576 {
				errs = append(errs, netconf.RPCError{
					Type: "application", Tag: "invalid-value", AppTag: "controller-limit",
					Path:    fmt.Sprintf("/interfaces/interface=%s/ipv4/mtu", leaf(i, "name", "")),
					Message: fmt.Sprintf("this controller does no frames below 576 octets, asked for %d", v),
				})
			}
		}
	}
	if len(errs) > 0 {
		return errs
	}
	return nil
}

func (d *Device) copyConfig(s *netconf.Session, op *markup.Element) ([]byte, error) {
	to, err := d.datastore(op, "target")
	if err != nil {
		return nil, err
	}
	if to == netconf.Running {
		return nil, refuse("operation-not-supported", "running is not replaced as a whole here")
	}
	if err := d.free(s, to); err != nil {
		return nil, err
	}
	var next *tree.Node
	if cfg := op.Child(netconf.BaseNS, "source").Child(netconf.BaseNS, "config"); cfg != nil {
		if next, err = (codec.Decoder{Schema: d.set.schema, Strict: true}).Tree(cfg); err != nil {
			return nil, rpcError(err)
		}
	} else {
		from, err := d.datastore(op, "source")
		if err != nil {
			return nil, err
		}
		next = d.content(from)
	}
	if to == netconf.Startup {
		return nil, d.saved(s, next)
	}
	d.candidate, d.dirty = next, true
	return nil, nil
}

func (d *Device) deleteConfig(s *netconf.Session, op *markup.Element) ([]byte, error) {
	ds, err := d.datastore(op, "target")
	if err != nil {
		return nil, err
	}
	if ds != netconf.Startup {
		return nil, refuse("operation-not-supported", "%s cannot be deleted", ds)
	}
	if err := d.free(s, ds); err != nil {
		return nil, err
	}
	return nil, d.saved(s, tree.Empty)
}

func (d *Device) lock(s *netconf.Session, op *markup.Element) ([]byte, error) {
	ds, err := d.datastore(op, "target")
	if err != nil {
		return nil, err
	}
	if l, ok := d.locks[ds]; ok {
		return nil, lockDenied(fmt.Sprintf("%s is locked by session %d", ds, l.session), l.session)
	}
	if ds == netconf.Candidate && d.dirty {
		return nil, refuse("resource-denied", "the candidate holds changes that were not committed")
	}
	if ds == netconf.Running && d.pending != nil && d.pending.session != s.ID {
		return nil, lockDenied(
			fmt.Sprintf("a confirmed commit of session %d is pending", d.pending.session), d.pending.session,
		)
	}
	d.locks[ds] = heldLock{s.ID, d.now()}
	return nil, nil
}

// lockDenied names the session that stands in the way (RFC 6241 section 7.5).
func lockDenied(why string, session uint32) error {
	return netconf.RPCErrors{
		{Type: "protocol", Tag: "lock-denied", Message: why, Info: fmt.Sprintf("<session-id>%d</session-id>", session)},
	}
}

func (d *Device) unlock(s *netconf.Session, op *markup.Element) ([]byte, error) {
	ds, err := d.datastore(op, "target")
	if err != nil {
		return nil, err
	}
	if d.locks[ds].session != s.ID {
		return nil, refuse("operation-failed", "%s is not locked by this session", ds)
	}
	delete(d.locks, ds)
	return nil, nil
}

func (d *Device) validate(_ *netconf.Session, op *markup.Element) ([]byte, error) {
	if cfg := op.Child(netconf.BaseNS, "source").Child(netconf.BaseNS, "config"); cfg != nil {
		n, err := codec.Decoder{Schema: d.set.schema, Strict: true}.Tree(cfg)
		if err != nil {
			return nil, rpcError(err)
		}
		return nil, d.valid(n)
	}
	ds, err := d.datastore(op, "source")
	if err != nil {
		return nil, err
	}
	return nil, d.valid(d.content(ds))
}

func (d *Device) discard(s *netconf.Session, _ *markup.Element) ([]byte, error) {
	if err := d.free(s, netconf.Candidate); err != nil {
		return nil, err
	}
	d.candidate, d.dirty = d.running, false
	return nil, nil
}

// Schema is the device's compiled modules.
func (d *Device) Schema() *schema.Schema { return d.set.schema }
