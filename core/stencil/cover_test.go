package stencil_test

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/redact"
	"oakenlatch/core/schema"
	"oakenlatch/core/stencil"
)

const locker = `module locker { yang-version 1.1; namespace "urn:locker"; prefix l;
  typedef crypt-hash { type string; }
  container locker { leaf password { type string; } leaf word { type crypt-hash; } leaf secret-name-length { type uint8; } leaf passphrase { type uint8; }
    list door { key name; leaf name { type string; } leaf key { type string; } } leaf note { type string; } container public-door { leaf key { type string; } } } }`

var (
	shut  = stencil.Cover{Redactor: redact.New([]byte("k"))}
	known = stencil.Cover{
		Redactor: shut.Redactor,
		Schemas:  []*schema.Schema{schema.Compile([]schema.Source{{Name: "locker", Text: locker}}, schema.Options{})},
	}
)

const lockers = `# keep it quiet
locker
  password: "canary one" # so it is
  passphrase: 7
  word: canary-{n}
  locker:password: {plain}
  note: canaries sing to {n} and {@all}
  door [key]
    key: "{@all}"
    key: |
      | canary three
      | {n}
  public-door
    key: canary-for-all
  ? x (urn:x)
    | <x xmlns="urn:x"><secret>canary four</secret><open>{@none}</open></x>
`

// What is secret is hidden, by what a schema says and by names where none does;
// blanks, comments and everything else stay, and the lines their places.
func TestCover(t *testing.T) {
	hide := shut.Redactor.Name
	want := strings.NewReplacer(
		`"canary one" # so it is`, hide(`"canary one" # so it is`), "| canary three", "| "+hide("canary three"),
		"<secret>canary four<", "<secret>"+hide("canary four")+"<",
	).Replace(lockers)
	assert.Equal(
		t, strings.Replace(want, "passphrase: 7", "passphrase: "+hide("7"), 1), shut.Text(lockers), "by names alone",
	)
	assert.Equal(
		t, strings.Replace(want, "word: canary-{n}", "word: "+hide("canary-{n}"), 1), known.Text(lockers),
		"by what is known of them",
	)
	assert.Equal(t, lockers, stencil.Cover{}.Text(lockers))
	assert.True(t, known.HoldsSecrets(lockers))
	assert.False(t, known.HoldsSecrets("locker\n  password: {p}\n"))

	assert.Equal(t, map[string]bool{"plain": true, "@all": true, "n": true, "@none": true}, shut.Covered(lockers))
	assert.Equal(t, map[string]bool{"@all": true, "n": true, "@none": true}, shut.Open(lockers))
	assert.Equal(
		t, map[string]string{"plain": hide("cod"), "n": hide("x"), "other": "y"},
		shut.Values(lockers, map[string]string{"plain": "cod", "n": "x", "other": "y"}),
	)
}

// A text that was seen through the cover is saved with what it stands for: each line
// where it is, and nowhere else.
func TestLift(t *testing.T) {
	seen := known.Text(lockers)
	text, err := known.Lift(strings.Replace(seen, "canaries sing", "nobody sings", 1), lockers)
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(lockers, "canaries sing", "nobody sings", 1), text)
	name := shut.Redactor.Name(`"canary one" # so it is`)
	for what, given := range map[string]string{
		"of a value that is not there":     "locker\n  password: " + shut.Redactor.Name("another") + "\n",
		"in another leaf":                  "locker\n  note: " + name + "\n",
		"in another secret leaf":           "locker\n  word: " + name + "\n",
		"beside something":                 "locker\n  password: x " + name + "\n",
		"where a line of its name is none": "locker\n  public-door\n    | " + shut.Redactor.Name("canary three") + "\n",
	} {
		_, err := known.Lift(given, lockers)
		require.Error(t, err, what)
		assert.NotContains(t, err.Error(), "canary", what)
		assert.Contains(t, err.Error(), "line ", what)
	}
}

// An error about what was filled in does not tell it.
func TestErrorsThroughTheCover(t *testing.T) {
	text := "locker\n  password: canary-one\n  word: {w}\n  door [{n}]\n    key: {@k}\n"
	err := known.Error(
		errors.New(`line 3: "canary-two" and canary-three beside canary-one do not do for gate`), text,
		map[string]string{"w": "canary-two", "n": "gate"}, map[string][]string{"k": {"canary-three"}},
	)
	assert.NotContains(t, err.Error(), "canary")
	assert.Contains(t, err.Error(), "do not do for gate")
	plain := errors.New("line 2: no")
	assert.Equal(t, plain, known.Error(plain, text, nil, nil))
	require.NoError(t, known.Error(nil, text, nil, nil))
}

// Whatever a stencil says: what is seen through the cover has as many lines, hides
// nothing more when it is looked at again in the same way, and put back it is what
// it was.
//
// Under 10,000 in a second: each text is a stencil, filled in and read back.
func FuzzCover(f *testing.F) {
	f.Add(lockers)
	f.Add("a\n  password: |\n  | x\n ? b\n  |<secret>a</secret>\n")
	f.Add("password: {{x\nkey:\n  key: \"{a}\"x\n")
	f.Add("a\n ? b\n  |<secret>a</secret \n")
	f.Add("\x10\r\r\n")
	f.Fuzz(func(t *testing.T, text string) {
		if _, err := stencil.Parse(text); err != nil || strings.Contains(text, redact.Prefix) {
			return
		}
		for _, c := range []stencil.Cover{shut, known} {
			seen := c.Text(text)
			require.Equal(t, strings.Count(text, "\n"), strings.Count(seen, "\n"))
			back, err := c.Lift(seen, text)
			require.NoError(t, err, seen)
			assert.Equal(t, seen, c.Text(back))
		}
	})
}
