package lab

import (
	"strings"

	"oakenlatch/core/tree"
	"oakenlatch/netconf"
)

// capabilities are what the device announces.
func (d *Device) capabilities() []string {
	caps := []string{
		netconf.CapBase10, netconf.CapBase11, netconf.CapCandidate, netconf.CapConfirmedCommit10, netconf.CapConfirmedCommit11,
		netconf.CapRollbackOnError, netconf.CapValidate10, netconf.CapValidate11, netconf.CapStartup,
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

// basicMode is how the device handles defaults unless told otherwise.
func (d *Device) basicMode() tree.DefaultsMode {
	if d.Spec.Defaults == "" {
		return tree.Explicit
	}
	return d.Spec.Defaults
}
