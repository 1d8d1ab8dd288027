package netconf

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// How a device says it handles defaults (RFC 6243 section 4.3), also escaped.
func TestDefaultsCapability(t *testing.T) {
	for _, c := range []struct {
		caps  Capabilities
		basic string
		also  []string
	}{
		{Capabilities{CapBase11}, "", nil}, {Capabilities{CapWithDefaults + "?basic-mode=explicit"}, "explicit", nil},
		{
			Capabilities{CapBase11, CapWithDefaults + "?basic-mode=report-all&also-supported=trim,report-all-tagged"},
			"report-all", []string{"trim", "report-all-tagged"},
		},
		{
			Capabilities{" " + CapWithDefaults + "?basic-mode=trim&amp;also-supported=explicit "}, "trim",
			[]string{"explicit"},
		},
	} {
		basic, also := c.caps.Defaults()
		assert.Equal(t, c.basic, basic)
		assert.Equal(t, c.also, also)
	}
}
