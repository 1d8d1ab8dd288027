package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"oakenlatch/test/pace"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The packages are built, installed in a root of their own, and run from there; the unit is
// as systemd wants it.
func TestPackages(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	if _, err := exec.LookPath("dpkg"); err != nil || os.Geteuid() != 0 {
		t.Skip("installing packages needs dpkg and root: skipped")
	}
	out, root := t.TempDir(), t.TempDir()
	run := func(name string, args ...string) string {
		cmd := exec.Command(name, args...)
		cmd.Env = append(os.Environ(), "TZ=UTC")
		text, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s %s\n%s", name, strings.Join(args, " "), text)
		return string(text)
	}
	run("make", "-s", "-C", "..", "packages", "OUT="+out)
	list, err := filepath.Glob(filepath.Join(out, "*.deb"))
	require.NoError(t, err)
	require.Len(t, list, 2)
	admin := filepath.Join(root, "var/lib/dpkg")
	require.NoError(t, os.MkdirAll(filepath.Join(admin, "info"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(admin, "updates"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(admin, "status"), nil, 0o644))
	run(
		"dpkg",
		append([]string{"--root=" + root, "--force-depends", "--force-script-chrootless", "--install"}, list...)...,
	)
	latchd, latch := filepath.Join(root, "usr/bin/oaken-latchd"), filepath.Join(root, "usr/bin/latch")
	assert.Regexp(t, `^oaken-latchd \d+\.\d+\.\d+ \(commit [0-9a-f]{12}`, run(latchd, "--version"))
	assert.Regexp(t, `^latch \d+\.\d+\.\d+ \(commit [0-9a-f]{12}`, run(latch, "--version"))

	// What the unit runs, as far as that can be without the machine's own systemd.
	unit := filepath.Join(root, "usr/lib/systemd/system/oaken-latchd.service")
	text, err := os.ReadFile(unit)
	require.NoError(t, err)
	targets, err := filepath.Glob("/usr/lib/systemd/system/*.target") // what the unit is started after
	require.NoError(t, err)
	run("cp", append(append([]string{"-a"}, targets...), filepath.Dir(unit))...)
	verify, err := exec.Command("systemd-analyze", "verify", "--man=no", "--root="+root, unit).CombinedOutput()
	for _, line := range strings.Split(string(verify), "\n") {
		assert.NotContains(t, line, "oaken-latchd", "systemd has something against the unit: %s (%v)", verify, err)
	}
	// A unit with a mistake in it is found: the check can fail.
	bad := strings.Replace(string(text), "NoNewPrivileges=yes", "NoNewPrivilege=perhaps", 1)
	require.NoError(t, os.WriteFile(filepath.Join(filepath.Dir(unit), "oaken-latchd-bad.service"), []byte(bad), 0o644))
	verify, _ = exec.Command(
		"systemd-analyze", "verify", "--man=no", "--root="+root,
		filepath.Join(filepath.Dir(unit), "oaken-latchd-bad.service"),
	).CombinedOutput()
	assert.Contains(t, string(verify), "NoNewPrivilege")
	for _, want := range []string{"ProtectSystem=strict", "User=oaken-latch", "CapabilityBoundingSet=\n"} {
		assert.Contains(t, string(text), want)
	}
	assert.Contains(
		t, run("systemd-sysusers", "--dry-run", filepath.Join(root, "usr/lib/sysusers.d/oaken-latch.conf")),
		"oaken-latch",
	)

	// The settings that ship are settings; the service makes its records and says it is well.
	data := filepath.Join(t.TempDir(), "data")
	require.NoError(t, os.Mkdir(data, 0o700))
	require.NoError(t, os.Chown(data, 12345, 12345))
	settings := filepath.Join(root, "etc/oaken-latch/settings")
	assert.Contains(
		t, run(latchd, "config", "--config", settings, "--data", data), "127.0.0.1:8640                 file",
	)
	assert.Contains(t, run(latchd, "init", "--config", settings, "--data", data), "shown only now")
	st, err := exec.Command(
		"stat", "-c", "%u %a", filepath.Join(data, "oaken-latch.db"), filepath.Join(data, "seal.key"),
	).Output()
	require.NoError(t, err)
	assert.Equal(t, "12345 600\n12345 600\n", string(st), "what root made belongs to whom the folder does")
	for _, page := range []string{"usr/share/man/man1/latch.1.gz", "usr/share/man/man8/oaken-latchd.8.gz"} {
		shown := run("man", "--warnings", "-l", filepath.Join(root, page))
		assert.NotContains(t, shown, "warning:")
		assert.Contains(
			t, shown,
			map[bool]string{true: "latch commit CHANGE", false: "--spare-room"}[strings.Contains(page, "man1")],
		)
	}
	run("bash", "-n", filepath.Join(root, "usr/share/bash-completion/completions/latch"))
	run("dpkg", "--root="+root, "--force-script-chrootless", "--purge", "oaken-latch-client", "oaken-latch-service")
	assert.NoFileExists(t, latch)
}
