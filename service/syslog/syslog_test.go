package syslog_test

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/service/syslog"
	"oakenlatch/test/pace"
)

var form = regexp.MustCompile(
	`^<109>1 \d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{3}Z \S+ oaken-latchd \d+ archive - \x{feff}(.*)$`,
)

func TestDatagrams(t *testing.T) {
	t.Parallel()
	udp, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	unix, err := net.ListenPacket("unixgram", filepath.Join(t.TempDir(), "log"))
	require.NoError(t, err)
	for to, l := range map[string]net.PacketConn{
		"udp://" + udp.LocalAddr().String(): udp, "unix://" + unix.LocalAddr().String(): unix,
	} {
		s, err := syslog.New(to, nil)
		require.NoError(t, err)
		s.Send(5, "revision 4 of saltern-quay\ncopied")
		b := make([]byte, 2048)
		require.NoError(t, l.SetReadDeadline(time.Now().Add(5*time.Second)))
		n, _, err := l.ReadFrom(b)
		require.NoError(t, err)
		m := form.FindStringSubmatch(string(b[:n]))
		require.NotNil(t, m, string(b[:n]))
		assert.Equal(t, "revision 4 of saltern-quay copied", m[1], "a line is one line")
		s.Close()
	}
}

// Over TCP each line says how long it is.
func TestStream(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s, err := syslog.New("tcp://"+l.Addr().String(), nil)
	require.NoError(t, err)
	defer s.Close()
	for round := range 2 {
		got := make(chan string, 1)
		go func() {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			defer func() { _ = conn.Close() }()
			r := bufio.NewReader(conn)
			var n int
			_, _ = fmt.Fscanf(r, "%d ", &n)
			text := make([]byte, n)
			_, _ = io.ReadFull(r, text)
			got <- string(text)
		}()
		want := fmt.Sprintf("round %d", round)
		s.Send(5, want)
		select {
		case text := <-got:
			assert.True(t, strings.HasSuffix(text, want), text)
		case <-time.After(10 * time.Second):
			require.Fail(t, "nothing came")
		}
	}
}

// What was sent is sent once the receiver has read it all: one that ends the
// connection before is an error, also where the writing went well; one that leaves it
// half open is taken to have read all, and one that reads nothing is not waited for.
func TestTaken(t *testing.T) {
	t.Parallel()
	read := func(c net.Conn) { _, _ = io.Copy(io.Discard, c) }
	for name, one := range map[string]struct {
		receiver func(net.Conn)
		want     string
	}{
		"reads all":  {func(c net.Conn) { read(c); _ = c.Close() }, ""},
		"half open":  {read, ""},
		"reads part": {func(c net.Conn) { _, _ = c.Read(make([]byte, 9)); _ = c.Close() }, "reset"},
		"silent":     {func(net.Conn) {}, "i/o timeout"},
	} {
		t.Run(name, func(t *testing.T) {
			if name == "silent" || name == "half open" {
				pace.Long(t) // each waits as long as the service has patience
			}
			t.Parallel()
			l, err := net.Listen("tcp", "127.0.0.1:0")
			require.NoError(t, err)
			go func() {
				c, err := l.Accept()
				if err == nil {
					one.receiver(c)
				}
				<-t.Context().Done()
				runtime.KeepAlive(c) // or it is closed
			}()
			to, err := syslog.Parse("tcp://"+l.Addr().String(), nil)
			require.NoError(t, err)
			ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
			defer cancel()
			list := make([]syslog.Message, 80)
			for i := range list {
				list[i].Text = strings.Repeat("rope ", 20_000)
			}
			if err = to.Send(ctx, list...); one.want == "" {
				require.NoError(t, err)
			} else {
				require.ErrorContains(t, err, one.want)
			}
		})
	}
}

func TestNoReceiver(t *testing.T) {
	t.Parallel()
	for _, to := range []string{"", "udp://", "udp://host", "http://host:1", "::"} {
		_, err := syslog.New(to, nil)
		require.Error(t, err, to)
	}
	var told atomic.Int64
	s, err := syslog.New("tcp://127.0.0.1:1", func(dropped int64, why error) {
		assert.Positive(t, dropped)
		assert.ErrorContains(t, why, "refused")
		told.Add(1)
	})
	require.NoError(t, err)
	for range 3000 { // it never holds up what it tells of
		s.Send(3, "nobody hears it")
	}
	require.Eventually(t, func() bool { return s.Dropped() > 1000 }, 90*time.Second, 10*time.Millisecond)
	s.Close()
	assert.EqualValues(t, 1, told.Load(), "once a minute at most")
}
