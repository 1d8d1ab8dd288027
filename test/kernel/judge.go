package kernel

import (
	"fmt"
	"os"
	"time"
)

func trouble(err error) { fmt.Fprintln(os.Stderr, "test/kernel:", err) }

// Ask tells whether the way is kept when one configuration takes the place of
// another, for one placement of the manager.
func ask(before, after *Config, w ManagementPath, at place, generous bool, patience time.Duration) (bool, error) {
	x, err := NewWorld(before, w, at.home, at.far, generous)
	if err != nil {
		return false, err
	}
	defer x.Close()
	x.patience = patience
	x.tries = 1
	if patience > morePatience/2 {
		x.tries = oftener
	}
	return x.Reaches(before, after)
}

// Judge answers for a change of a configuration.
type Judge struct {
	Before *Config
	Way    ManagementPath
	places []place
}

// place is where the manager is, and the host behind the device.
type place struct{ home, far end }

// NewJudge makes a judge of changes of a configuration.
func NewJudge(before *Config, w ManagementPath) (*Judge, error) {
	j := &Judge{Before: before, Way: w}
	_, homes := ends(before, w.Home)
	fars := []end{{}}
	if w.through() {
		_, fars = ends(before, w.Beyond)
	}
	for _, h := range homes {
		for _, f := range fars {
			j.places = append(j.places, place{h, f})
		}
	}
	if len(j.places) == 0 {
		return nil, fmt.Errorf("no cable leads to %s", w.Home)
	}
	return j, nil
}

// Sure reports whether the way is kept at one placement, whatever the standards
// leave open.
func (j *Judge) Sure(after *Config, place int) (bool, error) {
	return ask(j.Before, after, j.Way, j.places[place%len(j.places)], false, patience)
}

// SurelyNot reports whether it is cut there where all is left open, however long one
// waits.
func (j *Judge) SurelyNot(after *Config, place int) (bool, error) {
	reaches, err := ask(j.Before, after, j.Way, j.places[place%len(j.places)], false, morePatience)
	return !reaches, err
}

// Possible reports whether it is kept at one placement where all that is left open
// goes in our favour.
func (j *Judge) Possible(after *Config, place int) (bool, error) {
	return ask(j.Before, after, j.Way, j.places[place%len(j.places)], true, patience)
}

// Open reports whether the standards and the wires leave open what becomes of the
// way: it may be kept, and it may be cut.
func (j *Judge) Open(after *Config) (bool, error) {
	kept, cut := false, false
	for place := range j.places {
		sure, err := j.Sure(after, place)
		if err != nil {
			return false, err
		}
		possible, err := j.Possible(after, place)
		if err != nil {
			return false, err
		}
		cut, kept = cut || !sure, kept || possible
	}
	return kept && cut, nil
}
