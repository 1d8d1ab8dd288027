package devicetest_test

import (
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"oakenlatch/lab"
	"oakenlatch/netconf/devicetest"
	"oakenlatch/test/netconfd"
	"oakenlatch/test/pace"
)

func TestLab(t *testing.T) {
	t.Parallel()
	sites, err := lab.Tidewell("")
	require.NoError(t, err)
	for _, s := range sites {
		if s.Spec.Kind != lab.Full {
			continue // the kit asks for all that a device can have
		}
		t.Run(s.Role, func(t *testing.T) {
			t.Parallel()
			s.Spec.Listen = "127.0.0.1:0"
			d, err := lab.Start(s.Spec)
			require.NoError(t, err)
			t.Cleanup(d.Stop)
			before := d.Running().Digest()
			devicetest.Run(t, devicetest.Target{Address: d.Address, Login: ssh.ClientConfig{
				User: lab.User, Auth: []ssh.AuthMethod{ssh.Password(lab.Password)},
				HostKeyCallback: ssh.FixedHostKey(d.HostKey),
			}})
			require.Equal(t, before, d.Running().Digest(), "the kit leaves a device as it was")
		})
	}
}

func TestNetconfd(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	s := netconfd.Start(t)
	devicetest.Run(t, devicetest.Target{Address: s.Address, Login: ssh.ClientConfig{
		User: s.User, Auth: []ssh.AuthMethod{ssh.PublicKeys(s.Signer(t))}, HostKeyCallback: ssh.FixedHostKey(s.HostKey),
	}})
}
