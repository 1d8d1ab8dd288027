package wire

import (
	"runtime/debug"
	"strings"
)

// Release is the release that both programs are of; CHANGELOG.md says what is new in it.
const Release = "0.9.0"

// What make build sets, for a program that is not built by git's leave (-ldflags -X).
var builtOf, builtWhen string

// VersionText names a program's release and what it was built of.
func VersionText() string {
	commit, when, changed := Build()
	if commit == "" {
		return Release
	}
	text := Release + " (commit " + commit[:min(12, len(commit))]
	if changed {
		text += ", changed since"
	}
	if when != "" {
		text += ", " + when
	}
	return text + ")"
}

// Build tells the commit that a program was built of, when that was made, and whether the
// files were changed since; "" where it was not built in its repository.
func Build() (commit, when string, changed bool) {
	if builtOf != "" {
		commit, changed = strings.CutSuffix(builtOf, "-changed")
		return commit, builtWhen, changed
	}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "", "", false
	}
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			commit = s.Value
		case "vcs.time":
			when = strings.ReplaceAll(s.Value, "T", " ")
			when = strings.TrimSuffix(when, "Z") + " UTC"
		case "vcs.modified":
			changed = s.Value == "true"
		}
	}
	return commit, when, changed
}

// StaleHeader is set where the records could not be read and an answer is of what was
// read last: it says why.
const StaleHeader = "Oaken-Latch-Stale"

// CountHeader tells how many there are of what is listed, where that was asked for.
const CountHeader = "Oaken-Latch-Count"
