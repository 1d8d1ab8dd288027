package kernel

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"strings"

	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netns"
	"golang.org/x/sys/unix"
)

// Missing says why the kernel cannot be asked here; empty where it can.
func Missing() string {
	if _, err := exec.LookPath("nft"); err != nil {
		return "nft is not installed (Debian package nftables)"
	}
	s, err := newSpace()
	if err != nil {
		return "no network namespaces: " + err.Error()
	}
	defer s.close()
	t, err := s.tap("try")
	if err != nil {
		return "no TAP devices: " + err.Error()
	}
	t.file.Close()
	if err := s.nft(
		"table netdev try { chain c { type filter hook egress device \"lo\" priority 0; policy accept;\n}\n}",
	); err != nil {
		return "nftables does not filter at devices: " + err.Error()
	}
	return ""
}

// space is a network namespace. It goes with the last file that is open in it.
type space struct {
	ns netns.NsHandle
	nl *netlink.Handle
}

func newSpace() (s *space, err error) {
	runtime.LockOSThread()
	here, err := netns.Get()
	if err != nil {
		runtime.UnlockOSThread()
		return nil, err
	}
	defer here.Close()
	ns, err := netns.New()
	if err != nil {
		runtime.UnlockOSThread()
		return nil, err
	}
	if err := netns.Set(here); err != nil {
		return nil, err // this thread stays locked, and ends with its goroutine
	}
	runtime.UnlockOSThread()
	nl, err := netlink.NewHandleAt(ns, unix.NETLINK_ROUTE)
	if err != nil {
		ns.Close()
		return nil, err
	}
	s = &space{ns: ns, nl: nl}
	lo, err := nl.LinkByName("lo")
	if err == nil {
		err = nl.LinkSetUp(lo)
	}
	if err != nil {
		s.close()
		return nil, err
	}
	return s, nil
}

func (s *space) close() {
	// All namespaces share the kernel's room for neighbours (gc_thresh3), and it frees
	// a namespace when it finds the time.
	for _, family := range []int{unix.AF_INET, unix.AF_INET6} {
		list, err := s.nl.NeighList(0, family)
		for n := 0; err == nil && n < len(list); n++ {
			_ = s.nl.NeighDel(&list[n])
		}
	}
	s.nl.Close()
	s.ns.Close()
}

// do runs f on a thread that is within the namespace.
func (s *space) do(f func() error) error {
	runtime.LockOSThread()
	here, err := netns.Get()
	if err != nil {
		runtime.UnlockOSThread()
		return err
	}
	defer here.Close()
	if err := netns.Set(s.ns); err != nil {
		runtime.UnlockOSThread()
		return err
	}
	done := f()
	if err := netns.Set(here); err != nil {
		return err
	}
	runtime.UnlockOSThread()
	return done
}

// set writes kernel settings, NAME=VALUE, names with slashes.
func (s *space) set(settings ...string) error {
	return s.do(func() error {
		for _, setting := range settings {
			name, value, _ := strings.Cut(setting, "=")
			if err := os.WriteFile("/proc/sys/net/"+name, []byte(value), 0o644); err != nil {
				return err
			}
		}
		return nil
	})
}

// nft loads rules.
func (s *space) nft(rules string) error {
	return s.do(func() error {
		cmd := exec.Command("nft", "-f", "-")
		cmd.Stdin = strings.NewReader(rules)
		var out bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &out
		if err := cmd.Run(); err != nil {
			return fmt.Errorf("nft: %w: %s\n%s", err, out.String(), rules)
		}
		return nil
	})
}

// tap is a TAP device: what is written to it arrives in the kernel, and what the
// kernel sends is read from it.
type tap struct {
	file *os.File
	link netlink.Link
}

func (s *space) tap(name string) (*tap, error) {
	var fd int
	err := s.do(func() (err error) {
		fd, err = unix.Open("/dev/net/tun", unix.O_RDWR|unix.O_CLOEXEC|unix.O_NONBLOCK, 0)
		if err != nil {
			return err
		}
		req, err := unix.NewIfreq(name)
		if err != nil {
			return err
		}
		req.SetUint16(unix.IFF_TAP | unix.IFF_NO_PI)
		if err := unix.IoctlIfreq(fd, unix.TUNSETIFF, req); err != nil {
			return err
		}
		// It goes with its namespace: all of them at once, which takes the kernel as
		// long as one.
		return unix.IoctlSetInt(fd, unix.TUNSETPERSIST, 1)
	})
	if err != nil {
		return nil, fmt.Errorf("TAP %s: %w", name, err)
	}
	t := &tap{file: os.NewFile(uintptr(fd), name)}
	if t.link, err = s.nl.LinkByName(name); err != nil {
		t.file.Close()
		return nil, err
	}
	return t, nil
}

// read gives each frame to f until the device is closed.
func (t *tap) read(f func(frame []byte)) {
	buf := make([]byte, 1<<16)
	for {
		n, err := t.file.Read(buf)
		if err != nil {
			return
		}
		f(bytes.Clone(buf[:n]))
	}
}
