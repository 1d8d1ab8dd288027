package netconf

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
	"sync"
)

// DefaultMaxMessage bounds the size of one message, in bytes.
const DefaultMaxMessage = 64 << 20

// ErrTooLarge is wrapped by errors for messages over the limit.
var ErrTooLarge = errors.New("message over the size limit")

// ErrFraming is wrapped by errors for streams that are not framed as RFC 6242
// says; such a session cannot go on.
var ErrFraming = errors.New("broken message framing")

// buffered is little: thousands of sessions may stand idle, and what is larger is
// read past it.
const buffered = 8 << 10

var endOfMessage = []byte("]]>]]>")

// framer splits a byte stream into messages: by the end-of-message sequence
// first (RFC 6242 section 4.3) and in chunks once both sides have said
// base:1.1 (section 4.2).
type framer struct {
	r       *bufio.Reader
	max     int
	chunked bool // of reading; set between messages by the reading side

	wmu      sync.Mutex
	w        io.Writer
	wChunked bool
}

func newFramer(rw io.ReadWriter, max int) *framer {
	if max <= 0 {
		max = DefaultMaxMessage
	}
	return &framer{r: bufio.NewReaderSize(rw, buffered), w: rw, max: max}
}

// chunks switches both directions to chunked framing.
func (f *framer) chunks() {
	f.chunked = true
	f.wmu.Lock()
	f.wChunked = true
	f.wmu.Unlock()
}

func (f *framer) read() ([]byte, error) {
	if f.chunked {
		return f.readChunks()
	}
	var msg []byte
	for {
		part, err := f.r.ReadSlice('>')
		msg = append(msg, part...)
		if len(msg) > f.max+len(endOfMessage) {
			return nil, fmt.Errorf("%w of %d bytes", ErrTooLarge, f.max)
		}
		if bytes.HasSuffix(msg, endOfMessage) {
			return msg[:len(msg)-len(endOfMessage)], nil
		}
		if err != nil && !errors.Is(err, bufio.ErrBufferFull) {
			if errors.Is(err, io.EOF) && len(bytes.TrimSpace(msg)) > 0 {
				err = io.ErrUnexpectedEOF
			}
			return nil, err
		}
	}
}

func (f *framer) readChunks() ([]byte, error) {
	var msg []byte
	for {
		size, last, err := f.chunkHeader(len(msg) > 0)
		if err != nil {
			return nil, err
		}
		if last {
			return msg, nil
		}
		if size > uint64(f.max-len(msg)) {
			return nil, fmt.Errorf("%w of %d bytes", ErrTooLarge, f.max)
		}
		// Grow by what arrives, not by what the header claims.
		have := len(msg)
		buf := bytes.NewBuffer(msg)
		if _, err := io.CopyN(buf, f.r, int64(size)); err != nil {
			if errors.Is(err, io.EOF) {
				err = io.ErrUnexpectedEOF
			}
			return nil, err
		}
		msg = buf.Bytes()
		if len(msg)-have != int(size) {
			return nil, io.ErrUnexpectedEOF
		}
	}
}

// chunkHeader reads LF # size LF, or LF # # LF after at least one chunk.
func (f *framer) chunkHeader(begun bool) (size uint64, last bool, err error) {
	for i, want := range []byte{'\n', '#'} {
		b, err := f.r.ReadByte()
		if err != nil {
			if errors.Is(err, io.EOF) && (begun || i > 0) {
				err = io.ErrUnexpectedEOF
			}
			return 0, false, err
		}
		if b != want {
			return 0, false, fmt.Errorf("%w: byte %q where a chunk begins", ErrFraming, b)
		}
	}
	var head []byte
	for {
		b, err := f.r.ReadByte()
		if err != nil {
			return 0, false, io.ErrUnexpectedEOF
		}
		if b == '\n' {
			break
		}
		if head = append(head, b); len(head) > 10 {
			return 0, false, fmt.Errorf("%w: chunk header %q too long", ErrFraming, head)
		}
	}
	if string(head) == "#" {
		if !begun {
			return 0, false, fmt.Errorf("%w: end of chunks before any chunk", ErrFraming)
		}
		return 0, true, nil
	}
	size, err = strconv.ParseUint(string(head), 10, 32)
	if err != nil || size == 0 || head[0] == '0' || head[0] == '+' {
		return 0, false, fmt.Errorf("%w: chunk size %q", ErrFraming, head)
	}
	return size, false, nil
}

func (f *framer) write(msg []byte) error {
	f.wmu.Lock()
	defer f.wmu.Unlock()
	buf := make([]byte, 0, len(msg)+32)
	if f.wChunked {
		buf = append(buf, "\n#"...)
		buf = strconv.AppendInt(buf, int64(len(msg)), 10)
		buf = append(buf, '\n')
		buf = append(buf, msg...)
		buf = append(buf, "\n##\n"...)
	} else {
		buf = append(buf, msg...)
		buf = append(buf, endOfMessage...)
	}
	_, err := f.w.Write(buf)
	return err
}
