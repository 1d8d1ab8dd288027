// Package outpost starts the real receivers of Debian's packages for tests:
// rsyslog, and exim as a mail server, on loopback.
package outpost

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"oakenlatch/test/port"
)

// Certificate is one for 127.0.0.1 that vouches for itself.
type Certificate struct {
	CertPEM, KeyPEM string
}

// NewCertificate makes one.
func NewCertificate(t testing.TB) Certificate {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{
		SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "127.0.0.1"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, DNSNames: []string{"localhost"}, IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	require.NoError(t, err)
	kder, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	return Certificate{
		string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})),
		string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: kder})),
	}
}

func needed(t testing.TB, program string) string {
	t.Helper()
	path, err := exec.LookPath(program)
	if err != nil {
		path = "/usr/sbin/" + program
	}
	if _, err := os.Stat(path); err != nil {
		t.Skipf("%s is not installed; make test installs it as root", program)
	}
	return path
}

func write(t testing.TB, file, text string) {
	t.Helper()
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
}

// Syslog is an rsyslogd. What it takes is a line in Out: protocol version,
// facility and severity, MSGID, structured data, text.
type Syslog struct {
	Place string
	Out   string

	t    testing.TB
	args []string
	cmd  *exec.Cmd
}

// NewSyslog starts one that listens by udp, tcp, or tls.
func NewSyslog(t testing.TB, network string, cert Certificate) *Syslog {
	t.Helper()
	program := needed(t, "rsyslogd")
	dir := t.TempDir()
	n := port.Free(t)
	s := &Syslog{Place: fmt.Sprintf("%s://127.0.0.1:%d", network, n), Out: filepath.Join(dir, "out"), t: t}
	module, global, input := `module(load="imudp")`, "", "imudp"
	switch network {
	case "tcp":
		module, input = `module(load="imtcp")`, "imtcp"
	case "tls":
		write(t, filepath.Join(dir, "cert.pem"), cert.CertPEM)
		write(t, filepath.Join(dir, "key.pem"), cert.KeyPEM)
		module, input = `module(load="imtcp" StreamDriver.Name="ossl" StreamDriver.Mode="1" StreamDriver.AuthMode="anon")`, "imtcp"
		global = fmt.Sprintf(
			` defaultNetstreamDriver="ossl" defaultNetstreamDriverCAFile="%[1]s/cert.pem" defaultNetstreamDriverCertFile="%[1]s/cert.pem" defaultNetstreamDriverKeyFile="%[1]s/key.pem"`,
			dir,
		)
	}
	conf := filepath.Join(dir, "rsyslog.conf")
	write(t, conf,
		fmt.Sprintf(`global(workDirectory="%s" processInternalMessages="on" parser.escapeControlCharactersOnReceive="on"%s)
%s
input(type="%s" port="%d" address="127.0.0.1")
template(name="all" type="string" string="%%protocol-version%% %%pri-text%% %%msgid%% %%structured-data%% %%msg%%\n")
*.* action(type="omfile" file="%s" template="all")
`, dir, global, module, input, n, s.Out))
	s.args = []string{program, "-n", "-f", conf, "-i", filepath.Join(dir, "pid")}
	s.Start()
	t.Cleanup(s.Stop)
	return s
}

// Start starts it, again.
func (s *Syslog) Start() {
	s.t.Helper()
	s.cmd = exec.Command(s.args[0], s.args[1:]...)
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	require.NoError(s.t, s.cmd.Start())
	bound(s.t, s.Place)
	// Its output file is open once its own first line is in it. One that is opened
	// while a connection ends may be closed along with that, or be mixed up with the
	// next connection: rsyslogd 8.2302 then writes what it logs to the sender.
	require.Eventually(s.t, func() bool {
		text, _ := os.ReadFile(s.Out)
		return strings.Contains(string(text), fmt.Sprintf(`x-pid="%d"`, s.cmd.Process.Pid))
	}, 10*time.Second, 20*time.Millisecond)
}

// bound waits until something is bound to a place, by the kernel's own list.
func bound(t testing.TB, place string) {
	t.Helper()
	network, address, _ := strings.Cut(place, "://")
	if network == "tls" {
		network = "tcp"
	}
	_, port, err := net.SplitHostPort(address)
	require.NoError(t, err)
	n, err := strconv.Atoi(port)
	require.NoError(t, err)
	listening := map[string]string{"tcp": "0A", "udp": "07"}[network] // the states, proc_net_tcp(5)
	require.Eventually(t, func() bool {
		list, _ := os.ReadFile("/proc/net/" + network)
		return strings.Contains(string(list), fmt.Sprintf(": 0100007F:%04X 00000000:0000 %s ", n, listening))
	}, 10*time.Second, 20*time.Millisecond)
}

// Stop stops it.
func (s *Syslog) Stop() {
	if s.cmd != nil {
		_ = s.cmd.Process.Kill()
		_ = s.cmd.Wait()
		s.cmd = nil
	}
}

// Lines gives what it took from others.
func (s *Syslog) Lines() []string {
	text, _ := os.ReadFile(s.Out)
	return slices.DeleteFunc(
		strings.Split(string(text), "\n"),
		func(l string) bool { return l == "" || strings.Contains(l, `[origin software="rsyslogd"`) },
	)
}

func listens(t testing.TB, place string) {
	t.Helper()
	_, address, _ := strings.Cut(place, "://")
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", address)
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, 10*time.Second, 50*time.Millisecond)
}

// MailServer is an exim that takes mail for everybody and keeps it in files.
type MailServer struct {
	Place string
	dir   string
}

// NewMailServer starts one that offers STARTTLS.
func NewMailServer(t testing.TB, cert Certificate) *MailServer {
	t.Helper()
	program := needed(t, "exim4")
	account, err := user.Lookup("Debian-exim")
	if err != nil || os.Getuid() != 0 {
		t.Skip("a mail server is started as root alone")
	}
	dir, err := os.MkdirTemp("", "oaken-latch-mail-") // its account must be able to go there
	require.NoError(t, err)
	t.Cleanup(func() {
		if t.Failed() {
			log, _ := os.ReadFile(filepath.Join(dir, "log", "mainlog"))
			t.Logf("the mail server's log:\n%s", log)
		}
		_ = os.RemoveAll(dir)
	})
	uid, _ := strconv.Atoi(account.Uid)
	gid, _ := strconv.Atoi(account.Gid)
	write(t, filepath.Join(dir, "cert.pem"), cert.CertPEM)
	write(t, filepath.Join(dir, "key.pem"), cert.KeyPEM)
	for _, name := range []string{"spool", "mail", "log"} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, name), 0o755))
	}
	n := port.Free(t)
	conf := filepath.Join(dir, "conf")
	write(t, conf, fmt.Sprintf(`primary_hostname = mail.tidewell.example
spool_directory = %[1]s/spool
log_file_path = %[1]s/log/%%slog
pid_file_path = %[1]s/pid
local_interfaces = 127.0.0.1
daemon_smtp_ports = %[2]d
tls_advertise_hosts = *
tls_certificate = %[1]s/cert.pem
tls_privatekey = %[1]s/key.pem
exim_user = Debian-exim
exim_group = Debian-exim
keep_environment =
host_lookup =
rfc1413_query_timeout = 0s
acl_smtp_rcpt = all
acl_smtp_data = all
begin acl
all:
  accept
begin routers
all:
  driver = accept
  transport = file
begin transports
file:
  driver = appendfile
  file = %[1]s/mail/all
  envelope_to_add
  user = Debian-exim
  group = Debian-exim
begin retry
* * F,1h,1m
`, dir, n))
	require.NoError(t, filepath.WalkDir(dir, func(path string, _ os.DirEntry, err error) error {
		if err != nil || path == conf {
			return err
		}
		return os.Chown(path, uid, gid)
	}))
	require.NoError(t, os.Chmod(conf, 0o644))
	cmd := exec.Command(program, "-C", conf, "-bdf")
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	s := &MailServer{Place: fmt.Sprintf("smtp://127.0.0.1:%d", n), dir: dir}
	listens(t, s.Place)
	return s
}

// Mail gives the mails that somebody got.
func (s *MailServer) Mail(to string) (out []string) {
	text, _ := os.ReadFile(filepath.Join(s.dir, "mail", "all"))
	for _, m := range strings.Split("\n"+string(text), "\nFrom ")[1:] {
		if head, _, _ := strings.Cut(m, "\n\n"); strings.Contains(head, "\nEnvelope-to: "+to+"@") {
			out = append(out, m)
		}
	}
	return out
}
