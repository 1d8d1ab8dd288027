package test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"oakenlatch/netconf"
)

// dial opens a NETCONF session beside the service: someone else on the device.
func dial(t *testing.T, address, user, password string) *netconf.Client {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	c, err := netconf.Dial(ctx, address, netconf.DialOptions{Client: ssh.ClientConfig{
		User: user, Auth: []ssh.AuthMethod{ssh.Password(password)},
		HostKeyCallback: ssh.InsecureIgnoreHostKey(), //nolint:gosec // the test's own device
	}})
	require.NoError(t, err)
	t.Cleanup(c.Abort)
	return c
}

const systemNS = "urn:ietf:params:xml:ns:yang:ietf-system"

func editContact(t *testing.T, c *netconf.Client, contact string) {
	t.Helper()
	require.NoError(t, c.EditConfig(t.Context(), netconf.EditConfig{
		Target: netconf.Candidate,
		Config: []byte(`<system xmlns="` + systemNS + `"><contact>` + contact + `</contact></system>`),
	}))
}

func readContact(t *testing.T, c *netconf.Client, from netconf.Datastore) string {
	t.Helper()
	data, err := c.GetConfig(t.Context(), from, netconf.Filter(`<system xmlns="`+systemNS+`"><contact/></system>`))
	require.NoError(t, err)
	return data.Find("system", "contact").Value()
}
