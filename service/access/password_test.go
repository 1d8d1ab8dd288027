package access

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What is tried first is refused, however long; what nobody else thinks of is not asked for digits.
func TestSoundPasswords(t *testing.T) {
	t.Parallel()
	for _, bad := range []string{
		"", "short", "elevenchars", "ölhafen-öl1", "password1234", "passwordpassword", "qwertyuiopas", "111111111111",
		"123456789012", "abcdefghijkl", "letmeinletmein", "iloveyou1234", "mara-mara-mara", "maramaramara",
		"oakenlatch12", strings.Repeat("long", 300),
	} {
		assert.Error(t, sound("mara", bad), "%q", bad)
	}
	for _, good := range []string{
		"the harbour master", "mara's own password", "ferry leaves at six", "hafen öl früh kalt", "zzgtqmvwkxph",
		strings.Repeat("lamp quay tide ", 60),
	} {
		assert.NoError(t, sound("mara", good), "%q", good)
	}
	assert.Error(t, sound("mara", strings.Repeat("a", 1<<20)), "and is not looked at")
}
