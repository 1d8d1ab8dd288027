package store

import "errors"

// Reach is the devices that an asker is given. Its zero value gives none: whoever
// asks for a device says within whose reach.
type Reach struct {
	check func(Device) error
}

// Everything is the reach of the service itself, for what it does by its own word or has to
// know whoever asks.
var Everything = Reaching(func(Device) error { return nil })

// Reaching gives a reach of the devices that check has nothing against: of others,
// by name or number, its error is given instead, and in lists they are left out.
func Reaching(check func(Device) error) Reach { return Reach{check} }

// Check says why a device is not within reach.
func (r Reach) Check(d Device) error {
	if r.check == nil {
		return ErrNotFound
	}
	return r.check(d)
}

// reached gives a device only where it is within reach.
func (r Reach) reached(d Device, err error) (Device, error) {
	if err != nil {
		return Device{}, err
	}
	if why := r.Check(d); why != nil {
		return Device{}, &outOfReach{why}
	}
	return d, nil
}

// outOfReach is why a device is not given.
type outOfReach struct{ why error }

func (b *outOfReach) Error() string { return b.why.Error() }
func (b *outOfReach) Unwrap() error { return b.why }

// OutOfReach reports whether an error says that a device is not within reach, or is not there: lists
// leave out what is about it.
func OutOfReach(err error) bool {
	return errors.Is(err, ErrNotFound) || errors.As(err, new(*outOfReach))
}
