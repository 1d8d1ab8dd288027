package lab

import (
	"strings"

	"oakenlatch/core/tree"
	"oakenlatch/netconf"
)

// capabilities are what the device announces.
func (d *Device) capabilities() []string {
	caps := []string{
		netconf.CapBase10, netconf.CapRollbackOnError, netconf.CapValidate10, netconf.CapValidate11, netconf.CapStartup,
	}
	if !d.Spec.OldFraming {
		caps = append(caps, netconf.CapBase11)
	}
	if d.Spec.Kind.candidate() {
		caps = append(caps, netconf.CapCandidate)
	} else {
		caps = append(caps, netconf.CapWritableRunning)
	}
	if d.Spec.Kind.confirms() {
		caps = append(caps, netconf.CapConfirmedCommit10)
	}
	if d.Spec.Kind.cancels() {
		caps = append(caps, netconf.CapConfirmedCommit11)
	}
	if !d.Spec.Silent {
		caps = append(caps, netconf.CapNotification, netconf.CapInterleave)
	}
	caps = append(caps, netconf.CapWithDefaults+"?basic-mode="+string(d.basicMode()))
	if !d.Spec.OnlyDefaults {
		caps[len(caps)-1] += "&also-supported=report-all,report-all-tagged,trim,explicit"
	}
	for _, m := range d.set.schema.Modules {
		c := m.Namespace + "?module=" + m.Name
		if m.Revision != "" {
			c += "&revision=" + m.Revision
		}
		if f := features[m.Name]; len(f) > 0 {
			c += "&features=" + strings.Join(f, ",")
		}
		caps = append(caps, c)
	}
	return caps
}

// basicMode is how the device handles defaults unless answered differently.
func (d *Device) basicMode() tree.DefaultsMode {
	if d.Spec.Defaults == "" {
		return tree.Explicit
	}
	return d.Spec.Defaults
}

// Kind is what a device offers for changing it.
type Kind string

// The kinds, from the best down.
const (
	Full        Kind = ""             // candidate, confirmed commit with a persist token
	NoPersist   Kind = "no-persist"   // confirmed commit held by its session
	NoConfirm   Kind = "no-confirm"   // candidate alone
	NoCandidate Kind = "no-candidate" // running is edited
)

func (k Kind) candidate() bool { return k != NoCandidate }
func (k Kind) confirms() bool  { return k == Full || k == NoPersist }
func (k Kind) cancels() bool   { return k == Full }

// target is the datastore that is edited.
func (k Kind) target() netconf.Datastore {
	if k.candidate() {
		return netconf.Candidate
	}
	return netconf.Running
}
