package store

import "context"

// reachKey is under what a context's reach is.
type reachKey struct{}

// WithReach gives a context in which only devices are given out that check has
// nothing against: by name or number its error is given instead, and in lists they
// are left out. Transactions, and contexts without it, see all.
func WithReach(ctx context.Context, check func(Device) error) context.Context {
	return context.WithValue(ctx, reachKey{}, check)
}

// Unbounded gives a context that sees all devices, for what the service has to
// know whoever asks.
func Unbounded(ctx context.Context) context.Context {
	return WithReach(ctx, nil)
}

func within(ctx context.Context, d Device) error {
	if check, _ := ctx.Value(reachKey{}).(func(Device) error); check != nil {
		return check(d)
	}
	return nil
}

// reached gives a device only where it is within reach.
func reached(ctx context.Context, d Device, err error) (Device, error) {
	if err == nil {
		err = within(ctx, d)
	}
	if err != nil {
		return Device{}, err
	}
	return d, nil
}
