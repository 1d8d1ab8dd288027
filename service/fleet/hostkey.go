package fleet

import (
	"context"
	"fmt"

	"oakenlatch/core/advice"
	"oakenlatch/core/ledger"
	"oakenlatch/service/audit"
	"oakenlatch/service/hostkey"
	"oakenlatch/service/store"
)

// ScanHostKey asks a device for its host key without logging in.
func (f *Fleet) ScanHostKey(ctx context.Context, reach store.Reach, name string) (hostkey.Shown, error) {
	d, err := f.store.Device(ctx, reach, name)
	if err != nil {
		return hostkey.Shown{}, fmt.Errorf("device %s: %w", name, err)
	}
	ctx, cancel := context.WithTimeout(ctx, dialTimeout)
	defer cancel()
	shown, err := hostkey.Scan(ctx, d.Address, d.Account, d.HostKey)
	if err != nil {
		return shown, f.explain(d, &hostkey.Check{}, err)
	}
	return shown, nil
}

// Trust accepts the host key with that fingerprint, if the device still shows it.
func (f *Fleet) Trust(ctx context.Context, reach store.Reach, by, name, print string) (hostkey.Shown, error) {
	shown, err := f.ScanHostKey(ctx, reach, name)
	if err != nil {
		return shown, err
	}
	if shown.Fingerprint != print {
		return shown, &Error{
			Device: name, Kind: HostKey,
			Msg:  fmt.Sprintf("shows host key %s, not the %s you accept", shown.Fingerprint, print),
			Next: advice.Words("nothing was kept; compare again").Do(advice.TrustDevice, name),
		}
	}
	d, err := f.store.Device(ctx, reach, name)
	if err != nil {
		return shown, err
	}
	err = f.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.SetHostKey(d.ID, shown.Key); err != nil {
			return err
		}
		if err := tx.SetContact(d.ID, f.log.Now(), ""); err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: by, Action: "device.trust", Device: name, Before: shown.Accepted, After: shown.Fingerprint,
			},
		)
	})
	if err == nil {
		d.HostKey = shown.Key
		f.watch(d)
	}
	return shown, err
}
