// Package netconfd starts Debian's netconfd behind OpenSSH's sshd on loopback:
// a device nobody here wrote, for the tests.
package netconfd

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	_ "embed"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"oakenlatch/test/port"
)

//go:embed top-order.yang
var topOrder string

// Server is a running netconfd with its sshd.
type Server struct {
	Address    string // 127.0.0.1:PORT of its NETCONF over SSH
	User       string
	PrivateKey []byte // PEM, for that account
	HostKey    ssh.PublicKey

	dir    string
	port   int
	target string
	ncd    *exec.Cmd
	sshd   *exec.Cmd
}

// Signer gives the account's key for an SSH client.
func (s *Server) Signer(t testing.TB) ssh.Signer {
	t.Helper()
	signer, err := ssh.ParsePrivateKey(s.PrivateKey)
	if err != nil {
		t.Fatal(err)
	}
	return signer
}

// Start runs a server with candidate and startup until the test ends. It skips,
// and says so, where the programs are missing and cannot be had, or without the
// rights to run them.
func Start(t testing.TB) *Server {
	t.Helper()
	return start(t, "candidate")
}

// StartRunning runs a server whose running is edited directly: it has no
// candidate and no confirmed commit.
func StartRunning(t testing.TB) *Server {
	t.Helper()
	return start(t, "running")
}

// StartSFTP runs the sshd alone, which hands out files by SFTP.
func StartSFTP(t testing.TB) *Server {
	t.Helper()
	return start(t, "")
}

func start(t testing.TB, target string) *Server {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("netconfd behind sshd needs root here: skipped")
	}
	programs := []string{"/usr/sbin/sshd", "/usr/sbin/netconfd", "/usr/sbin/netconf-subsystem"}
	if target == "" {
		programs = programs[:1]
	}
	for _, program := range programs {
		if _, err := os.Stat(program); err != nil {
			t.Skipf("%s is not installed (make test installs it): skipped", program)
		}
	}
	dir, err := os.MkdirTemp("", "netconfd-") // a short path: the socket's name is bounded
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	s := &Server{User: "root", dir: dir, port: port.Free(t), target: target}
	s.Address = fmt.Sprintf("127.0.0.1:%d", s.port)
	s.configure(t)
	t.Cleanup(func() {
		s.stop()
		if log, err := os.ReadFile(s.file("nc.log")); err == nil && t.Failed() {
			t.Logf("the end of netconfd's log:\n%s", log[max(0, len(log)-6000):])
		}
	})
	s.run(t)
	return s
}

func (s *Server) file(name string) string { return filepath.Join(s.dir, name) }

func (s *Server) write(t testing.TB, name, content string) {
	if err := os.WriteFile(s.file(name), []byte(content), 0o600); err != nil {
		t.Fatal(err)
	}
}

func (s *Server) key(t testing.TB, name string) ssh.PublicKey {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(key, "")
	if err != nil {
		t.Fatal(err)
	}
	s.write(t, name, string(pem.EncodeToMemory(block)))
	pub, err := ssh.NewPublicKey(key.Public())
	if err != nil {
		t.Fatal(err)
	}
	return pub
}

func (s *Server) configure(t testing.TB) {
	s.HostKey = s.key(t, "hostkey")
	userKey := s.key(t, "userkey")
	s.PrivateKey, _ = os.ReadFile(s.file("userkey"))
	s.write(t, "authorized_keys", string(ssh.MarshalAuthorizedKey(userKey)))
	s.write(
		t, "startup-cfg.xml",
		`<?xml version="1.0" encoding="UTF-8"?><config xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"/>`,
	)
	s.write(t, "top-order@2026-11-28.yang", topOrder)
	s.write(t, "sshd_config", strings.Join([]string{
		fmt.Sprintf("Port %d", s.port), "ListenAddress 127.0.0.1", "HostKey " + s.file("hostkey"),
		"AuthorizedKeysFile " + s.file("authorized_keys"), "PermitRootLogin yes", "StrictModes no", "UsePAM no",
		"PidFile " + s.file("sshd.pid"), "MaxStartups 200", "Subsystem sftp internal-sftp",
		fmt.Sprintf(
			`Subsystem netconf "/usr/sbin/netconf-subsystem --ncxserver-sockname=%d@%s"`, s.port, s.file("nc.sock"),
		),
		"",
	}, "\n"))
	if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
		t.Fatal(err)
	}
	// netconfd makes this folder of its own, and gives up where another does so at the
	// same moment.
	if who, err := user.Current(); err == nil {
		_ = os.MkdirAll(filepath.Join(who.HomeDir, ".yuma"), 0o700)
	}
}

func (s *Server) run(t testing.TB) {
	t.Helper()
	s.ncd = exec.Command(
		"/usr/sbin/netconfd", "--module=iana-if-type", "--module=ietf-interfaces", "--module=ietf-ip",
		"--module=ietf-system", "--module=top-order", "--startup="+s.file("startup-cfg.xml"), "--target="+s.target,
		"--with-startup=true", "--superuser=root", fmt.Sprintf("--port=%d", s.port),
		"--ncxserver-sockname="+s.file("nc.sock"), "--log="+s.file("nc.log"),
		"--modpath="+s.dir+":/usr/share/yuma/modules",
	)
	s.ncd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	s.ncd.Dir = s.dir
	s.ncd.Env = append(os.Environ(), "HOME="+s.dir)
	if s.target != "" {
		if err := s.ncd.Start(); err != nil {
			t.Fatal(err)
		}
	}
	s.sshd = exec.Command("/usr/sbin/sshd", "-D", "-e", "-f", s.file("sshd_config"))
	var complaint bytes.Buffer
	s.sshd.Stderr = &complaint
	if err := s.sshd.Start(); err != nil {
		t.Fatal(err)
	}
	deadline := time.Now().Add(20 * time.Second)
	for time.Now().Before(deadline) {
		_, sockErr := os.Stat(s.file("nc.sock"))
		conn, err := net.DialTimeout("tcp", s.Address, time.Second)
		if err == nil {
			_ = conn.Close()
		}
		if err == nil && (sockErr == nil || s.target == "") {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	log, _ := os.ReadFile(s.file("nc.log"))
	t.Fatalf("netconfd did not come up: %s\n%s", complaint.String(), log)
}

func (s *Server) stop() {
	for _, c := range []*exec.Cmd{s.sshd, s.ncd} {
		if c != nil && c.Process != nil {
			_ = c.Process.Kill()
			_ = c.Wait()
		}
	}
}
