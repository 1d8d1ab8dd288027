// Package bundle reads and writes bundles: a tar (POSIX.1-2001) of files and,
// behind them, a manifest of their sizes and SHA-256 digests and the manifest's
// own digest. It is written
// in one pass, however much there is, and nothing of it is used before all of
// it was found whole. The format is in docs/bundles.md.
package bundle

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"
)

// ManifestName is the manifest's name, and DigestName that of its digest, the
// last file of a bundle.
const (
	ManifestName = "manifest.json"
	DigestName   = "manifest.json.sha256"
)

// brokenName is the name of the last file of a bundle that could not be
// finished: it says why.
const brokenName = "broken-off.txt"

// Format and Version name what this package writes.
const (
	Format  = "oaken-latch-bundle"
	Version = 1
)

// limits of what is read of a bundle nobody vouches for.
const (
	maxFiles    = 1 << 20
	maxManifest = 1 << 30
)

// Manifest tells what a bundle holds.
type Manifest struct {
	Format  string          `json:"format"`
	Version int             `json:"version"`
	Kind    string          `json:"kind"` // export or backup
	Made    time.Time       `json:"made"`
	By      string          `json:"by,omitempty"`
	About   json.RawMessage `json:"about,omitempty"` // of the whole, as its kind has it
	Files   []File          `json:"files"`
}

// File is one file of a bundle.
type File struct {
	Name   string          `json:"name"`
	Bytes  int64           `json:"bytes"`
	SHA256 string          `json:"sha256"`
	About  json.RawMessage `json:"about,omitempty"`
}

// Writer writes a bundle.
type Writer struct {
	tar *tar.Writer
	m   Manifest
}

// NewWriter begins a bundle. about is what is told of the whole; nil is
// nothing.
func NewWriter(w io.Writer, kind, by string, made time.Time, about any) (*Writer, error) {
	b := &Writer{
		tar.NewWriter(w),
		Manifest{
			Format: Format, Version: Version, Kind: kind, Made: made.UTC().Truncate(time.Second), By: by,
			Files: []File{},
		},
	}
	return b, tell(&b.m.About, about)
}

func tell(into *json.RawMessage, about any) (err error) {
	if about != nil {
		*into, err = json.Marshal(about)
	}
	return err
}

// Add writes a file of so many bytes. about is what is told of it; nil is
// nothing.
func (b *Writer) Add(name string, size int64, content io.Reader, about any) error {
	f := File{Name: name, Bytes: size}
	if err := tell(&f.About, about); err != nil {
		return err
	}
	if err := b.header(name, size); err != nil {
		return err
	}
	sum := sha256.New()
	n, err := io.Copy(io.MultiWriter(b.tar, sum), content)
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	if n != size {
		return fmt.Errorf("%s: %d bytes, not %d", name, n, size)
	}
	f.SHA256 = hex.EncodeToString(sum.Sum(nil))
	b.m.Files = append(b.m.Files, f)
	return nil
}

func (b *Writer) header(name string, size int64) error {
	return b.tar.WriteHeader(
		&tar.Header{
			Typeflag: tar.TypeReg, Name: name, Size: size, Mode: 0o600, ModTime: b.m.Made, Format: tar.FormatPAX,
		},
	)
}

// Close writes the manifest and ends the bundle; the writer below stays open.
func (b *Writer) Close() error {
	text, err := json.MarshalIndent(b.m, "", " ")
	if err != nil {
		return err
	}
	for _, f := range []struct {
		name string
		text []byte
	}{{ManifestName, text}, {DigestName, []byte(digest(text) + "\n")}} {
		if err := b.header(f.name, int64(len(f.text))); err != nil {
			return err
		}
		if _, err := b.tar.Write(f.text); err != nil {
			return err
		}
	}
	return b.tar.Close()
}

// BreakOff ends a bundle that cannot be finished, with the reason for whoever
// reads it: it is found damaged.
func (b *Writer) BreakOff(why error) error {
	text := why.Error()
	if err := b.header(brokenName, int64(len(text))); err != nil {
		return err
	}
	_, err := io.WriteString(b.tar, text)
	return errors.Join(err, b.tar.Flush())
}

func digest(text []byte) string {
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// Damaged is a bundle that is not whole, and where.
type Damaged struct {
	File string // "" is the bundle as such
	Why  string
}

func (e *Damaged) Error() string {
	if e.File == "" {
		return "the bundle is damaged: " + e.Why
	}
	return fmt.Sprintf("the bundle is damaged: %s: %s", e.File, e.Why)
}

// Is reports whether a text looks like a bundle: a tar.
func Is(head []byte) bool {
	return len(head) > 262 && bytes.Equal(head[257:262], []byte("ustar"))
}

// Check reads all of a bundle and compares it with its manifest. progress is
// told how many bytes were read, now and then; nil needs nothing.
func Check(r io.Reader, progress func(bytes int64)) (Manifest, error) {
	var m Manifest
	seen := map[string]File{}
	var read int64
	text, err := each(r, func(h *tar.Header, content io.Reader) error {
		if _, twice := seen[h.Name]; twice {
			return &Damaged{h.Name, "it is there twice"}
		}
		if len(seen) == maxFiles {
			return &Damaged{"", fmt.Sprintf("it holds more than %d files", maxFiles)}
		}
		sum := sha256.New()
		n, err := io.Copy(sum, content)
		if err != nil {
			return &Damaged{h.Name, err.Error()}
		}
		seen[h.Name] = File{Name: h.Name, Bytes: n, SHA256: hex.EncodeToString(sum.Sum(nil))}
		if read += n; progress != nil {
			progress(read)
		}
		return nil
	})
	if err != nil {
		return m, err
	}
	if err := json.Unmarshal(text, &m); err != nil {
		return m, &Damaged{ManifestName, err.Error()}
	}
	switch {
	case m.Format != Format:
		return m, &Damaged{ManifestName, fmt.Sprintf("its format is %q, not %s", m.Format, Format)}
	case m.Version != Version:
		return m, fmt.Errorf("the bundle is of version %d; this release reads version %d", m.Version, Version)
	}
	for _, f := range m.Files {
		have, ok := seen[f.Name]
		switch {
		case !ok:
			return m, &Damaged{f.Name, "the manifest names it, and it is missing"}
		case have.Bytes != f.Bytes:
			return m, &Damaged{f.Name, fmt.Sprintf("it has %d bytes, the manifest says %d", have.Bytes, f.Bytes)}
		case have.SHA256 != f.SHA256:
			return m, &Damaged{f.Name, fmt.Sprintf("its SHA-256 is %s, the manifest says %s", have.SHA256, f.SHA256)}
		}
		delete(seen, f.Name)
	}
	for name := range seen {
		return m, &Damaged{name, "the manifest does not name it"}
	}
	return m, nil
}

// Each hands out the files of a bundle that was found whole.
func Each(r io.Reader, use func(name string, size int64, content io.Reader) error) error {
	_, err := each(r, func(h *tar.Header, content io.Reader) error { return use(h.Name, h.Size, content) })
	return err
}

// each hands out the files before the manifest, and gives that.
func each(r io.Reader, use func(*tar.Header, io.Reader) error) ([]byte, error) {
	t := tar.NewReader(r)
	for {
		h, err := t.Next()
		switch {
		case errors.Is(err, io.EOF):
			return nil, &Damaged{"", "it ends before its manifest: it was cut off, or is no bundle"}
		case err != nil:
			return nil, &Damaged{"", err.Error()}
		case h.Typeflag != tar.TypeReg || !tame(h.Name):
			return nil, &Damaged{h.Name, "it is no plain file with a plain name"}
		case h.Name == brokenName:
			why, _ := io.ReadAll(io.LimitReader(t, 4096))
			return nil, &Damaged{"", "it was broken off: " + string(why)}
		case h.Name != ManifestName:
			if err := use(h, t); err != nil {
				return nil, err
			}
			continue
		case h.Size > maxManifest:
			return nil, &Damaged{h.Name, "it is too large"}
		}
		text, err := io.ReadAll(t)
		if err != nil {
			return nil, &Damaged{h.Name, err.Error()}
		}
		return text, ended(t, text)
	}
}

// ended makes sure that a bundle ends with its manifest's digest.
func ended(t *tar.Reader, manifest []byte) error {
	h, err := t.Next()
	if err != nil || h.Name != DigestName || h.Size > 1024 {
		return &Damaged{DigestName, "it is missing behind the manifest"}
	}
	said, err := io.ReadAll(t)
	if err != nil {
		return &Damaged{DigestName, err.Error()}
	}
	if strings.TrimSpace(string(said)) != digest(manifest) {
		return &Damaged{ManifestName, "its SHA-256 is " + digest(manifest) + ", " + DigestName + " says another"}
	}
	if _, err := t.Next(); !errors.Is(err, io.EOF) {
		return &Damaged{"", "something follows its manifest"}
	}
	return nil
}

// tame reports whether a name stays in the folder it is unpacked to.
func tame(name string) bool {
	if name == "" || strings.ContainsAny(name, "\\\x00") || strings.HasPrefix(name, "/") {
		return false
	}
	for _, part := range strings.Split(name, "/") {
		if part == "" || part == "." || part == ".." {
			return false
		}
	}
	return true
}
