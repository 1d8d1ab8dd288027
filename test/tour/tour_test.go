package tour

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const said = `# She looks around.
$ latch devices
NAME  STATE  SEEN
quay  OK     2026-12-01 04:44:46 UTC

slip  OK     2026-12-01 04:44:46 UTC
$ latch commit 2
about to begin
on hold
Confirmed, preview 53c0301aaf0f.
joss$ latch devices
nothing
# The end.
bye
`

func pageOf(lines ...string) string {
	return "Text.\n\n    " + strings.Join(lines, "\n    ") + "\n\nMore.\n"
}

// What is another each time is no drift; another word, a line more or less is, and is put right.
func TestDrift(t *testing.T) {
	tour := Transcript(said)
	for name, c := range map[string]struct {
		page  []string
		drift bool
	}{
		"the same": {[]string{
			"$ latch devices", "NAME STATE SEEN", "quay OK 2026-11-01 01:02:03 UTC", "",
			"slip  OK  2026-11-01 01:02:03 UTC",
		}, false},
		"a part":          {[]string{"$ latch devices", "...", "slip  OK  2026-11-01 01:02:03 UTC"}, false},
		"the first lines": {[]string{"$ latch devices", "NAME STATE SEEN", "..."}, false},
		"what passes by":  {[]string{"$ latch commit 2", "preparing: x", "Confirmed, preview 0123456789ab."}, false},
		"another word":    {[]string{"$ latch devices", "...", "slip  well  2026-11-01 01:02:03 UTC"}, true},
		"a line too few":  {[]string{"$ latch devices", "NAME STATE SEEN", "quay OK 2026-11-01 01:02:03 UTC"}, true},
		"a line too many": {[]string{"$ latch commit 2", "Confirmed, preview 0123456789ab.", "And more."}, true},
		"in another order": {[]string{
			"$ latch devices", "...", "slip OK 2026-12-01 04:44:46 UTC", "NAME STATE SEEN",
		}, true},
	} {
		t.Run(name, func(t *testing.T) {
			text := pageOf(c.page...)
			list, compared := Compare(text, tour)
			assert.Equal(t, 1, compared)
			require.Equal(t, c.drift, len(list) == 1, "%v", list)
			now := Rewrite(text, list)
			if !c.drift {
				assert.Equal(t, text, now)
				return
			}
			if again, _ := Compare(now, tour); !strings.Contains(text, elided) {
				assert.Empty(t, again, now)
				assert.True(t, strings.HasSuffix(now, "\n\nMore.\n"), now)
			}
		})
	}
	_, compared := Compare(pageOf("$ latch unknown", "x"), tour)
	assert.Zero(t, compared, "what the tour does not have")
	_, compared = Compare(pageOf("$ latch devices"), tour)
	assert.Zero(t, compared, "what shows no answer")
}
