// Package control is how the programs on a service's own machine reach it while it runs: a
// Unix socket that has no file, so that it is there though the data folder is gone. Only the
// service's own account and root are answered.
package control

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"time"
)

// ErrNobody is given where no service answers for a folder.
var ErrNobody = errors.New("no service runs with these records")

// State is what a running service says of itself.
type State struct {
	Version     string    `json:"version"`
	PID         int       `json:"pid"`
	Started     time.Time `json:"started"`
	Now         time.Time `json:"now"`         // by its clock
	ClockJumped string    `json:"clockJumped"` // what the clock was set by since the start, "" for nothing worth a word
	Listens     string    `json:"listens"`     // URL; "" not yet
	Records     string    `json:"records"`     // why nothing can be put on record, "" where it can
	Unread      string    `json:"unread"`      // why something could not be read
	Holds       int       `json:"holds"`
	Overdue     []string  `json:"overdue"` // holds whose end has passed
	Files       int       `json:"files"`   // open now
	MostFiles   int       `json:"mostFiles"`
	Damaged     []string  `json:"damaged"` // what was found to be damaged
	Devices     []string  `json:"devices"` // that are not well
}

// Answers are what a service is asked here.
type Answers struct {
	State func(context.Context) State

	// Copy writes a copy of the records into a file that is not there yet, and gives the
	// content of the key file that belongs to them.
	Copy func(ctx context.Context, file string) (key []byte, err error)

	Dir string // where a copy is put first while it is made
}

type request struct {
	Do string `json:"do"` // state or copy
}

type reply struct {
	Err   string `json:"err,omitempty"`
	State *State `json:"state,omitempty"`
	Key   []byte `json:"key,omitempty"`
	Size  int64  `json:"size,omitempty"` // bytes that follow
}

// names are those of a folder's socket: of the path as it is given and as it is without
// links. A leading @ makes it abstract (unix(7)).
func names(dir string) []string {
	list := []string{}
	if abs, err := filepath.Abs(dir); err == nil {
		list = append(list, abs)
		if real, err := filepath.EvalSymlinks(abs); err == nil && real != abs {
			list = append(list, real)
		}
	}
	for i, path := range list {
		list[i] = fmt.Sprintf("@oaken-latch-%x", sha256.Sum256([]byte(path)))[:60]
	}
	return list
}

// Serve answers until the context ends. It returns once it listens.
func Serve(ctx context.Context, dir string, a Answers) error {
	for _, name := range names(dir) {
		l, err := net.Listen("unix", name)
		if err != nil {
			return err
		}
		go func() {
			<-ctx.Done()
			_ = l.Close()
		}()
		go func() {
			for {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				go answer(ctx, conn, a)
			}
		}()
	}
	return nil
}

// trusted reports whether the other end is root, or one of these accounts.
func trusted(conn net.Conn, accounts ...uint32) bool {
	u, ok := conn.(*net.UnixConn)
	if !ok {
		return false
	}
	raw, err := u.SyscallConn()
	if err != nil {
		return false
	}
	var cred *syscall.Ucred
	var cerr error
	err = raw.Control(func(fd uintptr) {
		cred, cerr = syscall.GetsockoptUcred(int(fd), syscall.SOL_SOCKET, syscall.SO_PEERCRED)
	})
	return err == nil && cerr == nil && (cred.Uid == 0 || slices.Contains(accounts, cred.Uid))
}

// believed are whose service is believed: of one's own account, and of the folder's.
func believed(dir string) []uint32 {
	out := []uint32{uint32(os.Geteuid())}
	if st, err := os.Stat(dir); err == nil {
		if owner, ok := st.Sys().(*syscall.Stat_t); ok {
			out = append(out, owner.Uid)
		}
	}
	return out
}

func answer(ctx context.Context, conn net.Conn, a Answers) {
	defer func() { _ = conn.Close() }()
	_ = conn.SetReadDeadline(time.Now().Add(10 * time.Second))
	w := json.NewEncoder(conn)
	if !trusted(conn, uint32(os.Geteuid())) {
		_ = w.Encode(reply{Err: "only root and the service's own account are answered here"})
		return
	}
	var in request
	if err := json.NewDecoder(io.LimitReader(conn, 4096)).Decode(&in); err != nil {
		return
	}
	switch in.Do {
	case "state":
		s := a.State(ctx)
		_ = w.Encode(reply{State: &s})
	case "copy":
		sendCopy(ctx, conn, w, a)
	default:
		_ = w.Encode(
			reply{
				Err: fmt.Sprintf("%q is not known here: is the service of another release than this program?", in.Do),
			},
		)
	}
}

// sendCopy makes a copy where there is room for it, and sends it.
func sendCopy(ctx context.Context, conn net.Conn, w *json.Encoder, a Answers) {
	var errs []error
	for _, place := range []string{a.Dir, os.TempDir(), "/dev/shm"} {
		tmp, err := os.MkdirTemp(place, ".oaken-latch-copy-")
		if err != nil {
			errs = append(errs, err)
			continue
		}
		file := filepath.Join(tmp, "copy")
		key, err := a.Copy(ctx, file)
		if err != nil {
			errs = append(errs, err, os.RemoveAll(tmp))
			continue
		}
		// Once its size was sent, a copy that breaks off is told by that alone: by what is missing.
		_ = send(conn, w, file, key)
		_ = os.RemoveAll(tmp)
		return
	}
	_ = w.Encode(reply{Err: errors.Join(errs...).Error()})
}

func send(conn net.Conn, w *json.Encoder, file string, key []byte) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	st, err := f.Stat()
	if err != nil {
		return err
	}
	if err := w.Encode(reply{Key: key, Size: st.Size()}); err != nil {
		return err
	}
	_, err = io.Copy(conn, f)
	return err
}

// ask sends a request to the service of a folder.
func ask(ctx context.Context, dir, do string) (net.Conn, *bufio.Reader, reply, error) {
	var rep reply
	for _, name := range names(dir) {
		conn, err := new(net.Dialer).DialContext(ctx, "unix", name)
		if err != nil {
			continue
		}
		if !trusted(conn, believed(dir)...) { // anybody may listen under such a name
			_ = conn.Close()
			continue
		}
		stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Now()) })
		defer stop()
		r := bufio.NewReader(conn)
		err = json.NewEncoder(conn).Encode(request{do})
		var line []byte
		if err == nil {
			line, err = r.ReadBytes('\n')
		}
		if err == nil {
			err = json.Unmarshal(line, &rep)
		}
		if err == nil && rep.Err != "" {
			err = fmt.Errorf("the running service: %s", rep.Err)
		}
		if err != nil {
			return nil, nil, rep, errors.Join(err, conn.Close())
		}
		return conn, r, rep, nil
	}
	return nil, nil, rep, ErrNobody
}

// Ask asks the service of a folder how it is; ErrNobody where none runs.
func Ask(ctx context.Context, dir string) (State, error) {
	conn, _, rep, err := ask(ctx, dir, "state")
	if err != nil {
		return State{}, err
	}
	_ = conn.Close()
	if rep.State == nil {
		return State{}, errors.New("the running service did not say how it is")
	}
	return *rep.State, nil
}

// Copy has the service of a folder write a copy of its records into a file that is not
// there yet; ErrNobody where none runs.
func Copy(ctx context.Context, dir, file string) (key []byte, err error) {
	conn, r, rep, err := ask(ctx, dir, "copy")
	if err != nil {
		return nil, err
	}
	defer func() { _ = conn.Close() }()
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	n, err := io.Copy(f, io.LimitReader(r, rep.Size))
	if err == nil && n != rep.Size {
		err = fmt.Errorf("the copy of the running service broke off after %d of %d bytes", n, rep.Size)
	}
	return rep.Key, errors.Join(err, f.Close())
}
