package test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// onFiles takes a device's configuration through every format and back, and
// compares it with the device.
func onFiles(t *testing.T, s *stage, device string) {
	t.Helper()
	now := s.File("now", s.Do("mara", 0, "config", device))
	assert.Contains(t, s.Do("mara", 0, "check", now, "--device", device), "nothing wrong was found")
	for _, to := range []string{"xml", "json", "outline"} {
		converted := s.File("as-"+to, s.Do("mara", 0, "convert", now, "--device", device, "--to", to))
		assert.Contains(t, s.Do("mara", 0, "compare", device, converted), "No difference", to)
		if to != "outline" {
			set := s.File(
				"set-"+to, s.Do("mara", 0, "convert", now, "--device", device, "--to", to, "--instance", "evening"),
			)
			assert.Contains(t, s.Do("mara", 0, "compare", set, device), "No difference", to)
		}
	}
	assert.Contains(t, s.Do("mara", 0, "compare", device, device+"@startup"), "No difference")
}

// Files against a device's own modules and configuration, and a finding that
// is mended by staging what it offers.
func TestFilesAndMending(t *testing.T) {
	t.Parallel()
	const router = "northmole-harbour"
	s := newStage(t, router)
	onFiles(t, s, router)
	assert.Contains(
		t, s.Do("mara", 0, "check", s.Dir+"/now", "--device", router),
		"4 hidden values stand by name, and cannot be judged",
	)
	changed := s.File("changed", strings.Replace(s.Do("mara", 0, "config", router), "10.64.0.5", "10.64.0.1", 1))
	assert.Contains(
		t, s.Do("mara", 1, "check", changed, "--device", router), "the address 10.64.0.1 is on port1 already",
	)
	assert.Contains(t, s.Do("mara", 1, "compare", router, changed, "--as", "unified"), "-      address [10.64.0.5]")

	n := s.Open(
		"mara", router+" /interfaces/interface=port3/type", router+" /interfaces/interface=port3/description Hall A",
	)
	out := s.Do("mara", 1, "preview", n)
	assert.Contains(t, out, "error /interfaces/interface=port3/type: is mandatory and not set")
	assert.Contains(
		t, out,
		"fixed by: put /interfaces/interface=port3/type iana-if-type:ethernetCsmacd (stage it: latch fix "+n+" 1)",
	)
	s.Do("mara", 0, "fix", n, "1")
	out = s.Do("mara", 0, "preview", n)
	assert.Contains(t, out, "Ready")
	require.NotContains(t, out, "error")
	s.Do("mara", 2, "fix", n, "1")
}
