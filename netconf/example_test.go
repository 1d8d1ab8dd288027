package netconf_test

import (
	"context"
	"errors"
	"fmt"
	"net"

	"oakenlatch/core/markup"
	"oakenlatch/netconf"
)

// buoy is a device with one leaf, and nothing that can be edited.
type buoy struct{}

func (buoy) Operate(_ *netconf.Session, op *markup.Element) ([]byte, error) {
	if op.Name.Local != "get-config" {
		return nil, netconf.RPCErrors{{
			Type: "protocol", Tag: "operation-not-supported", Severity: "error", Message: "a buoy is as it is",
		}}
	}
	return []byte(`<data><buoy xmlns="urn:example:buoy"><light>red</light></buoy></data>`), nil
}

func (buoy) Closed(*netconf.Session) {}

// A session over any connection: what the device holds is read, and what it refuses is told with its reason.
func ExampleNewClient() {
	ours, theirs := net.Pipe()
	device := &netconf.Server{Capabilities: []string{netconf.CapBase11}, Handler: buoy{}}
	go func() { _ = device.Serve(theirs, "mara", "the example") }()
	ctx := context.Background()
	c, err := netconf.NewClient(ctx, ours, netconf.ClientOptions{})
	if err != nil {
		fmt.Println(err)
		return
	}
	defer func() { _ = c.Close(ctx) }()
	data, err := c.GetConfig(ctx, netconf.Running, netconf.Filter{})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(data.Children[0].Name.Local, data.Children[0].Children[0].Text)
	err = c.EditConfig(ctx, netconf.EditConfig{Target: netconf.Running, Config: []byte(`<light>green</light>`)})
	var refused netconf.RPCErrors
	fmt.Println(errors.As(err, &refused), netconf.Tagged(err, "operation-not-supported"))
	fmt.Println(refused)
	// Output:
	// buoy red
	// true true
	// operation-not-supported: a buoy is as it is
}
