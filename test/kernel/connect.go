package kernel

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// patience is how long the manager tries: long enough for a SYN that was lost to be
// sent again. An answer that things are cut is only believed where it was given
// again and again by one with more patience, so that a busy machine makes no
// difference.
const (
	patience, morePatience = 3 * time.Second, 10 * time.Second
	oftener                = 4
)

// ports are those from which the manager may come: which of them it is depends on
// its own system (RFC 6056). The strict world lets it be any, the generous one the
// best.
var ports = []int{1024, 20000, 32768, 50000, 61000}

// connect reports whether a session comes about.
func (x *World) connect() (bool, error) {
	got := make(chan bool, len(ports))
	err := x.manager.do(func() error {
		for _, port := range ports {
			c, err := unix.Socket(
				map[bool]int{false: unix.AF_INET, true: unix.AF_INET6}[x.six],
				unix.SOCK_STREAM|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, 0,
			)
			if err != nil {
				return err
			}
			if err := unix.SetsockoptLinger(c, unix.SOL_SOCKET, unix.SO_LINGER, &unix.Linger{Onoff: 1}); err != nil {
				unix.Close(c)
				return err
			}
			_ = unix.SetsockoptInt(c, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1)
			var from, to unix.Sockaddr
			if x.six {
				from, to = &unix.SockaddrInet6{Addr: x.way.Us.As16(), Port: port}, &unix.SockaddrInet6{
					Addr: x.way.Address.As16(), Port: x.way.Port,
				}
			} else {
				from, to = &unix.SockaddrInet4{Addr: x.way.Us.As4(), Port: port}, &unix.SockaddrInet4{
					Addr: x.way.Address.As4(), Port: x.way.Port,
				}
			}
			if err := unix.Bind(c, from); err != nil {
				unix.Close(c)
				return fmt.Errorf("port %d of the manager: %w", port, err)
			}
			if err := unix.Connect(c, to); err != nil && err != unix.EINPROGRESS {
				unix.Close(c)
				got <- false
				continue
			}
			go func() { got <- x.session(c) }()
		}
		return nil
	})
	if err != nil {
		return false, err
	}
	passed := 0
	for range ports {
		if <-got {
			passed++
		}
	}
	return passed == len(ports) || x.generous && passed > 0, nil
}

// session greets the device's service and is greeted.
func (x *World) session(c int) bool {
	file := os.NewFile(uintptr(c), "session")
	defer file.Close()
	_ = file.SetDeadline(time.Now().Add(x.patience))
	conn, err := file.SyscallConn()
	if err != nil {
		return false
	}
	failed := -1
	err = conn.Write(func(fd uintptr) bool {
		if failed, _ = unix.GetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_ERROR); failed != 0 {
			return true
		}
		_, err := unix.Getpeername(int(fd))
		return err == nil // not yet: to be asked again once the socket can be written to
	})
	if err != nil || failed != 0 {
		return false
	}
	if _, err := io.WriteString(file, x.way.Account+strings.Repeat(".", 4000)+"\n"); err != nil {
		return false
	}
	got := make([]byte, len(greeting))
	_, err = io.ReadFull(file, got)
	return err == nil && bytes.Equal(got, greeting)
}
