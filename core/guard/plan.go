package guard

import (
	"fmt"
	"strings"
	"time"
)

// Keeper says who sends a device back during a hold.
type Keeper string

// The keepers, from the safest down.
const (
	// ByDevice is the device's own confirmed commit with a persist token: it
	// reverts by itself whatever becomes of us (RFC 6241 section 8.4).
	ByDevice Keeper = "device"
	// BySession is the device's confirmed commit without a token: it reverts
	// by itself when its timer fires or the session that made it ends.
	BySession Keeper = "session"
	// ByService is this service alone, while it runs and reaches the device.
	ByService Keeper = "service"
)

// Plan is how a commit is to be done.
type Plan struct {
	Hold    time.Duration   `json:"hold"`
	Devices []PlannedDevice `json:"devices"`
	Probes  []Probe         `json:"probes,omitempty"`

	// ByProbes confirms without a person's word once every probe passes.
	ByProbes bool `json:"byProbes,omitempty"`
	// RevertOnProbe reverts at once when a probe fails.
	RevertOnProbe bool `json:"revertOnProbe,omitempty"`
	// Ahead is how long everything may stay prepared until the word to commit
	// comes; 0 commits as soon as all devices are prepared.
	Ahead time.Duration `json:"ahead,omitempty"`
}

// PlannedDevice is a device's place in a plan.
type PlannedDevice struct {
	Name   string `json:"name"`
	Keeper Keeper `json:"keeper"`
	Wave   int    `json:"wave,omitempty"`   // from 0; a wave begins once the one before has been proved
	NoSave bool   `json:"noSave,omitempty"` // leave startup as it is
}

// ProbeKind is what a probe looks at.
type ProbeKind string

// The probes. The management session is no probe: it is always proved.
const (
	ProbeTCP     ProbeKind = "tcp"     // a connection to Address is taken
	ProbeState   ProbeKind = "state"   // the value at Path on Device is Want
	ProbeProgram ProbeKind = "program" // Program, run without a shell, ends with 0
)

// Probe is a check run during a hold.
type Probe struct {
	Kind    ProbeKind     `json:"kind"`
	Address string        `json:"address,omitempty"` // host:port
	Device  string        `json:"device,omitempty"`
	Path    string        `json:"path,omitempty"` // RFC 8040
	Want    string        `json:"want,omitempty"`
	Program string        `json:"program,omitempty"` // its name in the folder of probe programs
	Args    []string      `json:"args,omitempty"`
	Grace   time.Duration `json:"within,omitempty"` // how long it may fail after the commit before that counts
}

// String gives the probe as [ParseProbe] reads it.
func (p Probe) String() string {
	switch p.Kind {
	case ProbeTCP:
		return "tcp " + p.Address
	case ProbeState:
		return fmt.Sprintf("state %s %s %s", p.Device, p.Path, p.Want)
	}
	return strings.Join(append([]string{"program", p.Program}, p.Args...), " ")
}

// ParseProbe reads a probe from one line:
//
//	tcp HOST:PORT
//	state DEVICE PATH VALUE
//	program NAME [ARGUMENT...]
//
// What a line names is not looked up here.
func ParseProbe(line string) (Probe, error) {
	f := strings.Fields(line)
	if len(f) == 0 {
		return Probe{}, fmt.Errorf(
			"a probe is empty; write tcp HOST:PORT, state DEVICE PATH VALUE or program NAME [ARGUMENT...]",
		)
	}
	switch kind := ProbeKind(f[0]); {
	case kind == ProbeTCP && len(f) == 2:
		return Probe{Kind: kind, Address: f[1]}, nil
	case kind == ProbeState && len(f) >= 4:
		return Probe{Kind: kind, Device: f[1], Path: f[2], Want: strings.Join(f[3:], " ")}, nil
	case kind == ProbeProgram && len(f) >= 2:
		return Probe{Kind: kind, Program: f[1], Args: f[2:]}, nil
	}
	return Probe{}, fmt.Errorf(
		"probe %q: write tcp HOST:PORT, state DEVICE PATH VALUE or program NAME [ARGUMENT...]", line,
	)
}

// New gives a commit that has not started.
func New(p Plan) State {
	s := State{
		Phase: Idle, Hold: p.Hold, Margin: Margin(p.Hold), ByProbes: p.ByProbes, RevertOnProbe: p.RevertOnProbe,
		Ahead: p.Ahead,
	}
	for _, d := range p.Devices {
		s.Devices = append(
			s.Devices, Device{Name: d.Name, Keeper: d.Keeper, Wave: d.Wave, NoSave: d.NoSave, Standing: Waiting},
		)
	}
	for _, probe := range p.Probes {
		s.Probes = append(s.Probes, ProbeStanding{Probe: probe, Text: probe.String()})
	}
	return s
}
