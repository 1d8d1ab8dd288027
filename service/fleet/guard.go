package fleet

import (
	"oakenlatch/core/guard"
	"oakenlatch/netconf"
)

// Guard is who would send a device back during a hold, and what that means.
type Guard struct {
	Keeper guard.Keeper // "" where nobody could: the device cannot be changed
	Why    string       // why it is no better; "" for a device's own guard
	Risk   string       // what may go wrong with it; "" likewise
	// why the way back cannot be tried before a change is active; "" where it is, or the device has its own
	Untried string
}

// Name is how a guard is called where people see it: device, session, service,
// none, or unknown for a device that was never reached.
func (g Guard) Name() string {
	switch {
	case g.Keeper != "":
		return string(g.Keeper)
	case g.Why == unreached:
		return "unknown"
	}
	return "none"
}

const unreached = "the device has not been reached yet"

// GuardOf works out a device's guard from what it announced.
func GuardOf(capabilities []string) Guard {
	caps := netconf.Capabilities(capabilities)
	const alone = "only this service can revert it: if this service stops, or cannot reach the device, the change " +
		"stays there until it can again"
	switch {
	case len(capabilities) == 0:
		return Guard{Why: unreached}
	case caps.Has(netconf.CapCandidate) && caps.Has(netconf.CapConfirmedCommit11):
		return Guard{Keeper: guard.ByDevice}
	case caps.Has(netconf.CapCandidate) && caps.Has(netconf.CapConfirmedCommit10):
		return Guard{
			Keeper: guard.BySession,
			Why: "its confirmed commit has no persist token (:confirmed-commit:1.0): the session that made it " +
				"is the hold",
			Risk: "it reverts by itself, and also as soon as this service stops or its session to the " +
				"device breaks",
		}
	case caps.Has(netconf.CapCandidate):
		return Guard{Keeper: guard.ByService, Why: "it has no confirmed commit", Risk: alone}
	case caps.Has(netconf.CapWritableRunning):
		return Guard{
			Keeper: guard.ByService,
			Why:    "it has no candidate datastore and no confirmed commit: the edit takes effect at once", Risk: alone,
			Untried: "whether the device can be reverted cannot be tested before the change is active; if the device " +
				"refuses it then, the change stays there until somebody settles it on the device",
		}
	}
	return Guard{Why: "it has neither a candidate datastore nor a writable running: it can be read, and not changed"}
}
