package bundle_test

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/wire/bundle"
)

var made = time.Date(2026, 11, 23, 2, 0, 0, 0, time.UTC)

func written(t testing.TB) []byte {
	t.Helper()
	var b bytes.Buffer
	w, err := bundle.NewWriter(&b, "export", "mara", made, map[string]string{"site": "Saltern"})
	require.NoError(t, err)
	for _, name := range []string{"saltern/quay.xml", "saltern/slip.xml"} {
		require.NoError(t, w.Add(name, int64(len(name)), strings.NewReader(name), map[string]int{"revision": 4}))
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func TestBundle(t *testing.T) {
	w, err := bundle.NewWriter(io.Discard, "export", "mara", made, nil)
	require.NoError(t, err)
	require.Error(t, w.Add("cut.xml", 10, strings.NewReader("short"), nil), "it is shorter than it was said to be")
	text := written(t)
	assert.True(t, bundle.Is(text))
	m, err := bundle.Check(bytes.NewReader(text), nil)
	require.NoError(t, err)
	assert.Equal(t, "mara", m.By)
	var names []string
	require.NoError(t, bundle.Each(bytes.NewReader(text), func(name string, _ int64, content io.Reader) error {
		got, err := io.ReadAll(content)
		assert.Equal(t, name, string(got))
		names = append(names, name)
		return err
	}))
	assert.Equal(t, []string{"saltern/quay.xml", "saltern/slip.xml"}, names)
}

// Whatever byte of the content or the manifest is another, and wherever it is
// cut off, it is found.
func TestDamage(t *testing.T) {
	text := written(t)
	whole, err := bundle.Check(bytes.NewReader(text), nil)
	require.NoError(t, err)
	found := 0
	for i := range text {
		bad := bytes.Clone(text)
		bad[i] ^= 0x41
		m, err := bundle.Check(bytes.NewReader(bad), nil)
		if err != nil {
			found++
			continue
		}
		// It is of what nothing rests on, such as a tar's padding.
		require.Equal(t, whole.Files, m.Files, "byte %d", i)
	}
	assert.Greater(t, found, len(text)/4)
	for n := 0; n < len(bytes.TrimRight(text, "\n\x00")); n += 100 {
		_, err := bundle.Check(bytes.NewReader(text[:n]), nil)
		require.Error(t, err, "cut off at %d", n)
	}
	for name, say := range map[string]string{
		"../up.xml": "plain name", "/etc/passwd": "plain name", "a//b": "plain name", "extra.xml": "does not name it",
	} {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		require.NoError(t, w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Size: 1, Mode: 0o600}))
		_, _ = w.Write([]byte("x"))
		manifest := `{"format":"oaken-latch-bundle","version":1,"kind":"export","files":[]}`
		require.NoError(
			t,
			w.WriteHeader(
				&tar.Header{Typeflag: tar.TypeReg, Name: bundle.ManifestName, Size: int64(len(manifest)), Mode: 0o600},
			),
		)
		_, _ = w.Write([]byte(manifest))
		sum := fmt.Sprintf("%x", sha256.Sum256([]byte(manifest)))
		require.NoError(
			t,
			w.WriteHeader(
				&tar.Header{Typeflag: tar.TypeReg, Name: bundle.DigestName, Size: int64(len(sum)), Mode: 0o600},
			),
		)
		_, _ = w.Write([]byte(sum))
		require.NoError(t, w.Close())
		_, err := bundle.Check(&b, nil)
		assert.ErrorContains(t, err, say, name)
	}
}

func FuzzCheck(f *testing.F) {
	f.Add(written(f))
	f.Add([]byte("ustar"))
	f.Fuzz(func(_ *testing.T, text []byte) { _, _ = bundle.Check(bytes.NewReader(text), nil) })
}
