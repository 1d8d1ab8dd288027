package archive

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"oakenlatch/core/advice"
	"oakenlatch/service/access"
	"oakenlatch/service/hostkey"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// file is one file of a group that is put into an archive together.
type file struct {
	name    string
	content []byte
}

// group is what is put into an archive at once: the copies that belong to one
// change, or one revision that none made.
type group struct {
	files   []file
	who     string // "" is not known
	when    time.Time
	subject string
	trailer []string // KEY: VALUE
}

// place is where an archive keeps its files. What put returns names each file
// there from then on.
type place interface {
	put(ctx context.Context, g group) (names []string, err error)
	get(ctx context.Context, name string) ([]byte, error)
	list(ctx context.Context) ([]string, error)
	drop(ctx context.Context, name string) error
	close() error
}

// open gives the place of an archive.
func (a *Archives) open(ctx context.Context, at store.Archive) (place, error) {
	switch at.Kind {
	case "folder":
		return folder(at.Place), nil
	case "sftp":
		return a.sftp(ctx, at)
	case "git":
		return a.git(ctx, at)
	}
	return nil, fmt.Errorf("archive %s is of kind %q, which this release does not know", at.Name, at.Kind)
}

// folder keeps files in a folder of this machine's file system.
type folder string

func (f folder) put(_ context.Context, g group) (names []string, err error) {
	if _, err := os.Stat(string(f)); err != nil { // one that is not mounted is not made by us
		return nil, err
	}
	for _, x := range g.files {
		if err := f.write(x); err != nil {
			return names, err
		}
		names = append(names, x.name)
	}
	return names, nil
}

func (f folder) write(x file) error {
	to := filepath.Join(string(f), filepath.FromSlash(x.name))
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	tmp, err := os.CreateTemp(filepath.Dir(to), ".part-")
	if err != nil {
		return err
	}
	_, err = tmp.Write(x.content)
	if err = errors.Join(err, tmp.Sync(), tmp.Close()); err == nil {
		err = os.Rename(tmp.Name(), to)
	}
	if err != nil {
		return errors.Join(err, os.Remove(tmp.Name()))
	}
	d, err := os.Open(filepath.Dir(to))
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

func (f folder) get(_ context.Context, name string) ([]byte, error) {
	return os.ReadFile(filepath.Join(string(f), filepath.FromSlash(name)))
}

func (f folder) list(ctx context.Context) (out []string, err error) {
	err = filepath.WalkDir(string(f), func(p string, d fs.DirEntry, err error) error {
		if err == nil {
			err = ctx.Err()
		}
		if err != nil || d.IsDir() || strings.HasPrefix(d.Name(), ".") {
			return err
		}
		rel, err := filepath.Rel(string(f), p)
		out = append(out, filepath.ToSlash(rel))
		return err
	})
	return out, err
}

func (f folder) drop(_ context.Context, name string) error {
	return os.Remove(filepath.Join(string(f), filepath.FromSlash(name)))
}

func (f folder) close() error { return nil }

// remote keeps files on an SFTP server.
type remote struct {
	conn   *ssh.Client
	client *sftp.Client
	dir    string
}

const reach = 20 * time.Second

// sftpPlace splits HOST:PORT/FOLDER: a folder from the root on, or with ~/ from
// where the account arrives.
func sftpPlace(text string) (address, dir string, err error) {
	address, dir, ok := strings.Cut(text, "/")
	if host, port, herr := net.SplitHostPort(address); !ok || herr != nil || host == "" || port == "" {
		return "", "", fmt.Errorf(
			"%q is no place on an SFTP server; write it as HOST:PORT/FOLDER, e.g. 198.51.100.20:22/archive", text,
		)
	}
	if home, ok := strings.CutPrefix(dir, "~"); ok {
		return address, "." + home, nil
	}
	return address, "/" + dir, nil
}

// untrusted is the no to an archive on a server whose host key nobody accepted.
func untrusted(at store.Archive, server string) error {
	return refusal.New(
		refusal.Conflict, "compare it and accept it", "archive %s: nobody accepted the host key of %s yet", at.Name,
		server,
	).Do(advice.TrustArchive, at.Name)
}

func (a *Archives) sftp(ctx context.Context, at store.Archive) (place, error) {
	address, dir, err := sftpPlace(at.Place)
	if err != nil {
		return nil, err
	}
	if at.HostKey == "" {
		return nil, untrusted(at, address)
	}
	secret, err := a.sealer.Open(at.Secret, access.Purpose("archives", at.Name))
	if err != nil {
		return nil, err
	}
	check := &hostkey.Check{Accepted: at.HostKey}
	conf := &ssh.ClientConfig{
		User: at.Account, HostKeyCallback: check.Callback, HostKeyAlgorithms: check.Algorithms(),
		Auth: []ssh.AuthMethod{ssh.Password(string(secret))},
	}
	if at.Auth == "key" {
		key, err := ssh.ParsePrivateKey(secret)
		if err != nil {
			return nil, err
		}
		conf.Auth = []ssh.AuthMethod{ssh.PublicKeys(key)}
	}
	dctx, cancel := context.WithTimeout(ctx, reach)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(dctx, "tcp", address)
	if err != nil {
		return nil, err
	}
	stop := context.AfterFunc(dctx, func() { _ = conn.Close() })
	sconn, chans, reqs, err := ssh.NewClientConn(conn, address, conf)
	if err != nil {
		_ = conn.Close()
		if check.Other != "" {
			return nil, fmt.Errorf(
				"the host key of %s is not the accepted one: accepted %s, shown now %s; find out why before: latch "+
					"archive trust %s",
				address, hostkey.Fingerprint(at.HostKey), check.Other, at.Name,
			)
		}
		return nil, fmt.Errorf("%s: %w", address, err)
	}
	client := ssh.NewClient(sconn, chans, reqs)
	sc, err := sftp.NewClient(client)
	if !stop() && err == nil {
		err = dctx.Err()
	}
	if err != nil {
		_ = client.Close()
		return nil, fmt.Errorf("%s: %w", address, err)
	}
	// From here on an end of the context ends the connection, and with it
	// whatever waits for an answer.
	context.AfterFunc(ctx, func() { _ = client.Close() })
	return &remote{client, sc, dir}, nil
}

// stall is how long one operation may take: a server that stops answering must
// not hold up all copies.
const stall = 3 * time.Minute

// watch ends the connection, and with it what waits, unless it is called off.
func (r *remote) watch() (callOff func()) {
	t := time.AfterFunc(stall, func() { _ = r.conn.Close() })
	return func() { t.Stop() }
}

func (r *remote) put(_ context.Context, g group) (names []string, err error) {
	defer r.watch()()
	if _, err := r.client.Stat(r.dir); err != nil {
		return nil, fmt.Errorf("folder %s: %w", r.dir, err)
	}
	for _, x := range g.files {
		if err := r.write(x); err != nil {
			return names, fmt.Errorf("%s: %w", x.name, err)
		}
		names = append(names, x.name)
	}
	return names, nil
}

func (r *remote) write(x file) error {
	to := path.Join(r.dir, x.name)
	if err := r.client.MkdirAll(path.Dir(to)); err != nil {
		return err
	}
	part := path.Join(path.Dir(to), ".part-"+path.Base(to))
	f, err := r.client.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_TRUNC)
	if err != nil {
		return err
	}
	_, err = f.Write(x.content)
	// servers without fsync@openssh.com refuse it
	if serr := f.Sync(); serr != nil && !errors.As(serr, new(*sftp.StatusError)) {
		err = errors.Join(err, serr)
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	if err := r.client.PosixRename(part, to); err != nil {
		_ = r.client.Remove(to) // a server without that extension renames over nothing
		return r.client.Rename(part, to)
	}
	return nil
}

func (r *remote) get(_ context.Context, name string) ([]byte, error) {
	defer r.watch()()
	f, err := r.client.Open(path.Join(r.dir, name))
	if err != nil {
		return nil, err
	}
	text, err := io.ReadAll(f)
	return text, errors.Join(err, f.Close())
}

func (r *remote) list(ctx context.Context) (out []string, err error) {
	w := r.client.Walk(r.dir)
	for w.Step() {
		if err := errors.Join(w.Err(), ctx.Err()); err != nil {
			return nil, err
		}
		if w.Stat().IsDir() || strings.HasPrefix(path.Base(w.Path()), ".") {
			continue
		}
		rel, err := filepath.Rel(r.dir, w.Path())
		if err != nil {
			return nil, err
		}
		out = append(out, rel)
	}
	return out, nil
}

func (r *remote) drop(_ context.Context, name string) error {
	defer r.watch()()
	return r.client.Remove(path.Join(r.dir, name))
}

func (r *remote) close() error {
	_ = r.client.Close()
	return r.conn.Close()
}

// Caveat tells why an archive is no backup, "" where nothing speaks against
// it: it is on this machine, or on a device that it is to be a copy of.
func Caveat(at store.Archive, devices []store.Device) string {
	host := ""
	switch at.Kind {
	case "folder":
		return local(at.Place)
	case "sftp":
		address, _, err := sftpPlace(at.Place)
		if err != nil {
			return ""
		}
		host, _, _ = net.SplitHostPort(address)
	case "git":
		var remote bool
		if host, remote = gitHost(at.Place); !remote {
			return local(strings.TrimPrefix(at.Place, "file://"))
		}
	}
	if ours(host) {
		return sameMachine
	}
	for _, d := range devices {
		if dh, _, err := net.SplitHostPort(d.Address); err == nil && strings.EqualFold(dh, host) {
			return fmt.Sprintf("it is on %s, a device that it is to be a copy of: no backup", d.Name)
		}
	}
	return ""
}

const sameMachine = "it is on this machine, and goes with it: no backup"

// remoteKinds are the file systems of statfs(2) that are on another machine:
// NFS, SMB, CIFS, SMB2, Ceph, AFS, 9p.
var remoteKinds = []int64{0x6969, 0x517b, 0xff534d42, 0xfe534d42, 0x00c36400, 0x5346414f, 0x01021997}

func local(dir string) string {
	var st syscall.Statfs_t
	if err := syscall.Statfs(dir, &st); err == nil && slices.Contains(remoteKinds, int64(st.Type)&0xffffffff) {
		return ""
	}
	return sameMachine
}

// ours reports whether a host is this machine, as far as its address tells.
func ours(host string) bool {
	if host == "localhost" {
		return true
	}
	ip, err := netip.ParseAddr(host)
	if err != nil {
		return false
	}
	if ip.IsLoopback() {
		return true
	}
	addrs, err := net.InterfaceAddrs()
	if err != nil {
		return false
	}
	return slices.ContainsFunc(addrs, func(a net.Addr) bool {
		p, err := netip.ParsePrefix(a.String())
		return err == nil && p.Addr().Unmap() == ip.Unmap()
	})
}
