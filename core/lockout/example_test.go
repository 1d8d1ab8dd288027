package lockout_test

import (
	"fmt"
	"net/netip"

	"oakenlatch/core/codec"
	"oakenlatch/core/lockout"
	"oakenlatch/core/tree"
)

// Whether a change cuts the way by which its device is managed is told before it is sent, with the place that
// decides it.
func ExampleForecast() {
	device := func(text string) *tree.Node {
		n, err := codec.Decoder{Schema: deviceSchema}.ParseOutline(text)
		if err != nil {
			panic(err)
		}
		return n
	}
	us := lockout.ManagementPath{
		Us: netip.MustParseAddr("192.0.2.9"), Address: netip.MustParseAddr("192.0.2.11"), Port: 830,
	}
	is := device(before)
	for _, after := range []string{
		before + "    description: Saltern\n", before + "    enabled: false\n", before + "guard-house\n  doors: shut\n",
	} {
		v := lockout.Forecast(is, device(after), us)
		fmt.Printf("%s: %s\n", v.Answer, v.Because)
	}
	// Output:
	// keeps: nothing that management access rests on is touched
	// cuts: interface m is shut down
	// unknown: it touches /guard-house/doors, which this forecast does not understand
}
