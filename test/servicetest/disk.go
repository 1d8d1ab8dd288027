package servicetest

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
	"unsafe"

	"github.com/stretchr/testify/require"
)

// Disk is a folder on an ext4 file system of its own, in a file. Where the service
// dies with it, it is mounted anew as it then is.
type Disk struct {
	t   testing.TB
	Dir string
	img string
}

// NewDisk makes one of some megabytes.
func NewDisk(t testing.TB, megabytes int) *Disk {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("a disk of its own needs root here: skipped")
	}
	d := &Disk{t, filepath.Join(t.TempDir(), "disk"), filepath.Join(inMemory(t), "disk.img")}
	require.NoError(t, os.Mkdir(d.Dir, 0o700))
	f, err := os.Create(d.img)
	require.NoError(t, err)
	require.NoError(t, f.Truncate(int64(megabytes)<<20))
	require.NoError(t, f.Close())
	if out, err := exec.Command("/sbin/mkfs.ext4", "-q", "-F", d.img).CombinedOutput(); err != nil {
		t.Skipf("there is no ext4 to be had here: %s", out)
	}
	d.mount(true)
	t.Cleanup(d.unmount)
	return d
}

// inMemory gives a folder in memory, where there is one: the machine's own disk is not to be kept
// busy by disks that are only made to fail.
func inMemory(t testing.TB) string {
	dir, err := os.MkdirTemp("/dev/shm", "oaken-latch-test-")
	if err != nil {
		return t.TempDir()
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return dir
}

func (d *Disk) mount(first bool) {
	out, err := exec.Command("mount", "-o", "loop,errors=remount-ro", d.img, d.Dir).CombinedOutput()
	if err != nil && first {
		d.t.Skipf("a disk of its own cannot be had here: %s", out)
	}
	require.NoError(d.t, err, "%s", out)
}

func (d *Disk) unmount() { _ = syscall.Unmount(d.Dir, syscall.MNT_DETACH) }

// request is an ioctl on the file system.
func (d *Disk) request(number uintptr, arg *uint32) {
	f, err := os.Open(d.Dir)
	require.NoError(d.t, err)
	defer func() { _ = f.Close() }()
	_, _, errno := syscall.Syscall(syscall.SYS_IOCTL, f.Fd(), number, uintptr(unsafe.Pointer(arg)))
	require.Zero(d.t, errno, errno)
}

// ShutDown has the file system lose what was not written yet, as with the power, and answer
// all else with an I/O error (a request of ext4).
func (d *Disk) ShutDown() {
	const noLogFlush = 2
	how := uint32(noLogFlush)
	d.request(0x8004587D, &how)
}

// Freeze has whatever writes wait (linux/fs.h).
func (d *Disk) Freeze() { d.request(0xC0045877, new(uint32)) }

// Thaw ends that.
func (d *Disk) Thaw() { d.request(0xC0045878, new(uint32)) }

// FailWrites has ext4 meet an error, after which it takes no more changes.
func (d *Disk) FailWrites() {
	out, err := exec.Command("mount", "-o", "remount,abort", d.Dir).CombinedOutput()
	require.NoError(d.t, err, "%s", out)
}

// Remount is what somebody does who mends it: the file system is checked, and mounted anew.
func (d *Disk) Remount() {
	d.unmount()
	for range 50 { // until the last file on it is closed
		if out, _ := exec.Command("losetup", "-j", d.img).Output(); len(out) == 0 {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	out, err := exec.Command("/sbin/e2fsck", "-fy", d.img).CombinedOutput()
	require.True(d.t, err == nil || strings.Contains(err.Error(), "exit status 1"), "%v %s", err, out)
	d.mount(false)
}

// Stuff fills a disk to the last byte; what it gives makes room again.
func Stuff(t testing.TB, dir string) (clear func()) {
	t.Helper()
	name := filepath.Join(dir, "stuffing")
	f, err := os.Create(name)
	require.NoError(t, err)
	for size := 1 << 20; size > 0; size /= 2 {
		for err = nil; err == nil; {
			_, err = f.Write(make([]byte, size))
		}
		require.True(t, errors.Is(err, syscall.ENOSPC), "%v", err)
	}
	require.NoError(t, f.Close())
	return func() { require.NoError(t, os.Remove(name)) }
}
