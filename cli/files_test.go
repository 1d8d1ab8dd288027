package cli

import (
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/check"
	"oakenlatch/core/codec"
	"oakenlatch/core/diff"
	"oakenlatch/core/markup"
	"oakenlatch/core/treetest"
	"oakenlatch/wire"
)

// folder writes the sample modules and a few configurations to files.
func folder(t *testing.T, files map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	for _, m := range treetest.Modules {
		require.NoError(t, os.WriteFile(filepath.Join(dir, m.Name+".yang"), []byte(m.Text), 0o600))
	}
	for name, text := range files {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	return dir
}

const quayOutline = "harbour\n  depth: 8.5\n  words: a\n  berth [b1]\n    lamp\n  strict: 1\n"

// Files are read by their content, whatever they are called, and no service is
// needed.
func TestFilesWithoutADevice(t *testing.T) {
	dir := folder(
		t,
		map[string]string{
			"a.xml": quayOutline, "dangling": strings.Replace(quayOutline, "    lamp", "    beside: b9", 1),
			"broken": "harbour\n  strikt: 1\n",
		},
	)
	at := func(args ...string) (int, string, string) {
		for i, a := range args {
			args[i] = strings.Replace(a, "DIR", dir, 1)
		}
		return run(t, nil, nil, append(args, "--modules", dir)...)
	}
	status, out, errs := at("check", "DIR/a.xml")
	assert.Equal(t, Done, status, errs)
	assert.Contains(t, out, "a.xml (outline, 5 values): nothing wrong was found")
	status, out, _ = at("check", "DIR/dangling")
	assert.Equal(t, AnswerNo, status)
	assert.Contains(
		t, out, `error /harbour/berth=b1/beside: refers to "b9", which is not among /quay:harbour/berth/name`,
	)
	assert.Contains(t, out, "fixed by: delete /harbour/berth=b1/beside")
	status, _, errs = at("check", "DIR/broken")
	assert.Equal(t, WrongUse, status)
	assert.Contains(t, errs, "broken (read as outline): line 2, column 3: strikt is not under harbour; there is strict")

	texts := map[string]string{}
	for _, to := range []string{"xml", "json", "outline"} {
		status, texts[to], errs = at("convert", "DIR/a.xml", "--to", to)
		require.Equal(t, Done, status, errs)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "as-"+to), []byte(texts[to]), 0o600))
		status, out, errs = at("compare", "DIR/a.xml", "DIR/as-"+to, "--defaults")
		assert.Equal(t, Done, status, errs)
		assert.Contains(t, out, "No difference")
	}
	assert.Equal(t, quayOutline, texts["outline"])
	assert.Contains(t, texts["json"], `"quay:harbour"`)
	status, out, errs = at(
		"convert", "DIR/as-xml", "--to", "json", "--instance", "berths, evening", "--with-defaults", "report-all",
	)
	require.Equal(t, Done, status, errs)
	doc, err := codec.Decoder{Schema: treetest.Schema()}.Read([]byte(out))
	require.NoError(t, err)
	assert.Equal(t, "berths, evening", doc.Instance.Name)
	assert.Equal(t, []string{"quay@2026-02-02"}, doc.Instance.Modules)
	assert.Contains(t, codec.OutlineText(doc.Content), "colour: red")
}

func TestCompareRenderings(t *testing.T) {
	dir := folder(t, map[string]string{"a": quayOutline, "b": strings.Replace(quayOutline, "words: a", "words: b", 1)})
	for as, want := range map[string]string{
		"lines": "+   words: b", "groups": "+      1× /harbour/words: b", "unified": "-  words: a\n+  words: b",
		"edit-config": `nc:operation="delete">a</words>`, "yang-patch": "<operation>insert</operation>",
		"yang-patch-json": `"target": "/quay:harbour/words=b"`,
	} {
		status, out, errs := run(t, nil, nil, "compare", dir+"/a", dir+"/b", "--modules", dir, "--as", as)
		assert.Equal(t, AnswerNo, status, errs)
		assert.Contains(t, out, want, as)
	}
	status, out, _ := run(
		t, nil, nil, "compare", dir+"/a", dir+"/b", "--modules", dir, "--path", "/harbour/berth", "--json",
	)
	assert.Equal(t, Done, status)
	assert.Equal(t, "[]\n", out)
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"compare", dir + "/a", dir + "/b"}, "whose YANG modules?"},
		{[]string{"compare", dir + "/a", dir + "/b", "--modules", dir, "--as", "poem"}, `--as "poem" is not one of`},
		{[]string{"compare", dir + "/a", dir + "/b", "--modules", dir, "--path", "/harbor"}, "there is harbour"},
		{[]string{"check", dir + "/none", "--modules", dir}, "no such file"},
		{[]string{"check", dir + "/a", "--modules", t.TempDir()}, "there is no .yang file"},
		{[]string{"check", dir + "/a", "--modules", dir, "--device", "d"}, "not both"},
		{[]string{"check", dir + "/a", "--modules", dir, "--features", "tides"}, "write MODULE:FEATURE"},
		{[]string{"convert", dir + "/a", "--modules", dir, "--to", "poem"}, `"poem" is not one of xml, json, outline`},
		{[]string{"convert", dir + "/a", "--modules", dir, "--instance", "x"}, "give --to xml or --to json"},
		{[]string{"convert", dir + "/a", "--modules", dir, "--with-defaults", "all"}, `"all" is not one of`},
	} {
		status, _, errs := run(t, nil, nil, c.args...)
		assert.Equal(t, WrongUse, status, c.args)
		assert.Contains(t, errs, c.want)
	}
}

// A device's modules and configuration come from the service; a finding of the
// preview is mended by number.
func TestFilesWithADevice(t *testing.T) {
	dir := folder(t, map[string]string{"new": strings.Replace(quayOutline, "strict: 1", "strict: 2", 1)})
	s := treetest.Schema()
	n, err := codec.Decoder{Schema: s}.ParseOutline(quayOutline)
	require.NoError(t, err)
	var staged wire.NewEdit
	h := func(w http.ResponseWriter, r *http.Request) {
		var answer any
		switch r.Method + strings.TrimPrefix(r.URL.Path, "/api/v1") {
		case "GET/devices/d/modules":
			m := wire.Modules{Device: "d", Features: map[string][]string{}}
			for _, src := range treetest.Modules {
				m.Modules = append(m.Modules, wire.Module{Name: src.Name, Text: src.Text})
			}
			answer = m
		case "GET/devices/d/config":
			answer = wire.Config{XML: string(codec.XML(s, n, markup.Name{Local: "config"}))}
		case "GET/changes/7/preview":
			answer = wire.Preview{Against: "running", Change: wire.Change{Number: 7},
				Parts: []wire.PartPreview{{Device: "d", Findings: []check.Finding{
					{Severity: check.Hint, Path: "/x", Message: "no edit here"},
					{
						Severity: check.Error, Path: "/y", Message: "is mandatory and not set",
						Fix: &check.Fix{Edit: "put", Path: "/y", Value: "1"},
					},
				}}}}
		case "POST/changes/7/edits":
			_ = json.NewDecoder(r.Body).Decode(&staged)
			answer = []wire.Staged{{Edit: wire.Edit{Device: "d", Path: staged.Path}, After: "1"}}
		default:
			w.WriteHeader(http.StatusNotFound)
			answer = wire.Problem{Type: wire.ProblemPrefix + "not-found", Detail: "there is no device"}
		}
		_ = json.NewEncoder(w).Encode(answer)
	}
	status, out, errs := run(t, h, nil, "compare", "d", dir+"/new")
	assert.Equal(t, AnswerNo, status, errs)
	assert.Contains(t, out, "~   strict: 1 → 2")
	status, _, errs = run(t, h, nil, "compare", "nobody", dir+"/new", "--device", "d")
	assert.Equal(t, WrongUse, status)
	assert.Contains(t, errs, "nobody is neither a file nor a device")

	status, out, _ = run(t, h, nil, "preview", "7")
	assert.Equal(t, AnswerNo, status)
	assert.Contains(t, out, "fixed by: put /y 1 (stage it: latch fix 7 1)")
	status, _, errs = run(t, h, nil, "fix", "7", "1")
	assert.Equal(t, Done, status, errs)
	require.NotNil(t, staged.Value)
	assert.Equal(t, []string{"d", "put", "/y", "1"}, []string{staged.Devices[0], staged.Op, staged.Path, *staged.Value})
	status, _, errs = run(t, h, nil, "fix", "7", "2")
	assert.Equal(t, WrongUse, status)
	assert.Contains(t, errs, "change 7 has 1 finding with one")
}

// A very large difference is told as what it does, line by line only on demand;
// what was left to the device is named.
func TestPreviewOfManyChanges(t *testing.T) {
	p := wire.Preview{Against: "running", Ready: true, Change: wire.Change{
		Number: 7, Title: "Frames", State: "draft", Author: "mara",
	}, Parts: []wire.PartPreview{{
		Device: "d", Read: true, Guard: wire.Guard{Guard: "device"}, Count: 400, Unchecked: 2, Reasons: []string{
			"the module of prefix x is not at hand",
		},
		Lines: []diff.Line{{Mark: diff.MarkChanged, Text: "mtu: 1500 → 9000"}},
		Groups: []diff.Group{
			{
				Kind: diff.Changed, Place: "/i=*/mtu", Old: "1500", New: "9000", Count: 398,
				Examples: []string{"/i=a/mtu", "/i=b/mtu", "/i=c/mtu"},
			},
			{Kind: diff.Added, Place: "/v", New: "7", Count: 1, Examples: []string{"/v"}},
			{Kind: diff.Removed, Place: "/w", Old: "8", Count: 1, Examples: []string{"/w"}},
		},
	}}}
	h := func(w http.ResponseWriter, _ *http.Request) { _ = json.NewEncoder(w).Encode(p) }
	status, out, _ := run(t, h, nil, "preview", "7")
	assert.Equal(t, Done, status)
	assert.Contains(
		t, out,
		"  ~    398× /i=*/mtu: 1500 → 9000\n            /i=a/mtu, /i=b/mtu, /i=c/mtu, …\n  +      1× /v: 7\n  −      "+
			"1× /w: 8\n",
	)
	assert.Contains(t, out, "400 changes; line by line: latch preview 7 --whole")
	assert.Contains(
		t, out,
		"left to the device's own validate: 2 conditions (ask it now with --validate)\n    the module of prefix x is "+
			"not at hand",
	)
	assert.NotContains(t, out, "~ mtu: 1500")
	_, out, _ = run(t, h, nil, "preview", "7", "--whole")
	assert.Contains(t, out, "~ mtu: 1500 → 9000")
	assert.NotContains(t, out, "398×")
}
