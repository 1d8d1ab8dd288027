package service

import (
	"fmt"
	"log/slog"
	"os"
	"runtime/debug"
	"strconv"
	"strings"
)

// What the machine allows this process, against what the settings would have it use.

const (
	filesBeside   = 192       // that are open beside connections of people: records, devices, receivers, and the spare
	fewConnection = 16        // with fewer nobody could work
	memoryAtLeast = 384 << 20 // bytes: a service with some devices
)

// Fit fits the connections that may be open at once to the files that this process may
// have open, and the memory it takes to what it is given. It says what it had to do; what
// cannot work at all is an error.
func Fit(connections int, log *slog.Logger) (int, error) {
	if _, most := openFiles(); most > 0 && connections+filesBeside > most {
		fits := most - filesBeside
		if fits < fewConnection {
			return 0, fmt.Errorf(
				"this process may have %d files open at once, which is too few to work with: allow at least %d "+
					"(ulimit -n, or LimitNOFILE= of its unit)",
				most, filesBeside+fewConnection,
			)
		}
		log.Warn(
			"fewer connections than are set: this process may not have as many files open; raise that (ulimit -n, or "+
				"LimitNOFILE= of its unit) or set fewer with --connections",
			"connections", connections, "files", most, "fits", fits,
		)
		connections = fits
	}
	if most := memoryLimit(); most > 0 {
		if most < memoryAtLeast {
			log.Warn(
				"little memory: a service with some devices takes more, and one that is ended for that leaves holds "+
					"to the next start",
				"megabytes", most>>20, "advice", fmt.Sprintf("%d or more", memoryAtLeast>>20),
			)
		}
		if os.Getenv("GOMEMLIMIT") == "" {
			debug.SetMemoryLimit(most / 10 * 9) // rather slower than ended
		}
	}
	return connections, nil
}

// memoryLimit is how many bytes this process may take by its control group (cgroup v2), 0
// where that is not bounded or not told.
func memoryLimit() int64 {
	text, err := os.ReadFile("/proc/self/cgroup")
	if err != nil {
		return 0
	}
	_, group, _ := strings.Cut(strings.TrimSpace(string(text)), "::")
	for least := int64(0); ; {
		if text, err := os.ReadFile("/sys/fs/cgroup" + group + "/memory.max"); err == nil {
			if n, err := strconv.ParseInt(
				strings.TrimSpace(string(text)), 10, 64,
			); err == nil && (least == 0 || n < least) {
				least = n
			}
		}
		i := strings.LastIndex(group, "/")
		if i < 0 {
			return least
		}
		group = group[:i]
	}
}
