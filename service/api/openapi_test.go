package api

import (
	"bytes"
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The description that the clients are made from is that of the routes.
func TestDescriptionIsKept(t *testing.T) {
	t.Parallel()
	var now bytes.Buffer
	out := json.NewEncoder(&now)
	out.SetIndent("", " ")
	out.SetEscapeHTML(false)
	require.NoError(t, out.Encode((&API{}).OpenAPI()))
	kept, err := os.ReadFile("../../docs/openapi.json")
	require.NoError(t, err)
	require.True(t, bytes.Equal(kept, now.Bytes()), "docs/openapi.json is of other routes: make describe")
}

// Every row of the table says all that the door and the description need.
func TestRowsAreWhole(t *testing.T) {
	t.Parallel()
	ids := map[string]bool{}
	words := regexp.MustCompile(`^[a-z][a-zA-Z]+$`)
	for _, r := range (&API{}).routes() {
		at := r.method + " " + r.path
		assert.Regexp(t, words, r.id, at)
		assert.False(t, ids[r.id], "%s: two operations are called %s", at, r.id)
		ids[r.id] = true
		assert.NotEmpty(t, tagOf(r), "%s is about nothing that is named in tags", at)
		assert.NotNil(t, r.handle, at)
		assert.Equal(
			t, strings.HasPrefix(r.path, "/changes/:number"), r.about == aChange,
			"%s: whose change it is has to be looked at", at,
		)
		assert.Equal(
			t, strings.HasPrefix(r.path, "/devices/:name"), r.about == aDevice,
			"%s: whether the device is within reach has to be looked at", at,
		)
		assert.False(t, r.streams != nil && r.out != nil, "%s answers with a document or with a stream", at)
		for _, name := range append(pathNames(r), r.query...) {
			doc := parameterOf(r, name)
			assert.NotEmpty(t, doc.says, "%s: what %s is stands nowhere", at, name)
			assert.Contains(t, []string{"string", "integer", "boolean"}, doc.kind, at)
		}
	}
	for name := range parameterDocs {
		_, param, ofOne := strings.Cut(name, " ")
		used := slices.ContainsFunc((&API{}).routes(), func(r route) bool {
			return slices.Contains(
				append(pathNames(r), r.query...), param,
			) && strings.HasPrefix(name, r.path+" ") || !ofOne && slices.Contains(
				append(pathNames(r), r.query...), name,
			)
		})
		assert.True(t, used, "no route has a parameter %s", name)
	}
}

// What is described as one of some values is what the code has as constants of that type.
func TestEnumsAreTheConstants(t *testing.T) {
	t.Parallel()
	for kind, list := range enums {
		dir := filepath.Join("../..", strings.TrimPrefix(kind.PkgPath(), "oakenlatch/"))
		names, err := filepath.Glob(filepath.Join(dir, "*.go"))
		require.NoError(t, err)
		var constants []string
		for _, name := range names {
			if strings.HasSuffix(name, "_test.go") {
				continue
			}
			file, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
			require.NoError(t, err)
			ast.Inspect(file, func(n ast.Node) bool {
				spec, ok := n.(*ast.ValueSpec)
				if !ok {
					return true
				}
				if id, ok := spec.Type.(*ast.Ident); !ok || id.Name != kind.Name() || len(spec.Values) != 1 {
					return true
				}
				if lit, ok := spec.Values[0].(*ast.BasicLit); ok {
					v, err := strconv.Unquote(lit.Value)
					require.NoError(t, err)
					constants = append(constants, v)
				}
				return true
			})
		}
		var described []string
		for _, v := range list {
			if v != "" || slices.Contains(constants, "") { // what is not known yet may have no constant
				described = append(described, v.(string))
			}
		}
		assert.ElementsMatch(t, constants, described, "%v", kind)
	}
}

// described judges answers by the description.
var described = sync.OnceValue(func() (out struct {
	compiler *jsonschema.Compiler
	paths    map[string]map[string]any
	mu       *sync.Mutex
	schemas  map[string]*jsonschema.Schema
}) {
	text, err := json.Marshal((&API{}).OpenAPI())
	if err != nil {
		panic(err)
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		panic(err)
	}
	out.compiler = jsonschema.NewCompiler()
	out.compiler.AssertFormat()
	if err := out.compiler.AddResource("openapi.json", doc); err != nil {
		panic(err)
	}
	out.paths = map[string]map[string]any{}
	for path, ops := range doc.(map[string]any)["paths"].(map[string]any) {
		out.paths[path] = ops.(map[string]any)
	}
	out.mu, out.schemas = &sync.Mutex{}, map[string]*jsonschema.Schema{}
	return out
})

// fitsDescription says why an answer is not what the description promises; nil where it is.
func fitsDescription(method, path string, status int, header http.Header, body []byte) error {
	kind, _, _ := strings.Cut(header.Get("Content-Type"), ";")
	if kind != "application/json" && kind != "application/problem+json" {
		return nil
	}
	pointer := "/components/schemas/Problem"
	if kind == "application/json" {
		r := routeOf(method, path)
		if r == nil {
			return nil
		}
		at, _ := parameters(*r)
		escaped := strings.NewReplacer("~", "~0", "/", "~1", "{", "%7B", "}", "%7D").Replace(at)
		pointer = "/paths/" + escaped + "/" + strings.ToLower(method) + "/responses/" + strconv.Itoa(status) +
			"/content/application~1json/schema"
	}
	d := described()
	d.mu.Lock()
	defer d.mu.Unlock()
	schema := d.schemas[pointer]
	if schema == nil {
		var err error
		if schema, err = d.compiler.Compile("openapi.json#" + pointer); err != nil {
			return err
		}
		d.schemas[pointer] = schema
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(body))
	if err != nil {
		return err
	}
	return schema.Validate(doc)
}

// routeOf finds the row that answers a request.
func routeOf(method, path string) *route {
	path, _, _ = strings.Cut(path, "?")
	var found *route
	for _, r := range (&API{}).routes() {
		have, want := strings.Split(path, "/"), strings.Split(r.path, "/")
		if r.method != method || len(have) != len(want) {
			continue
		}
		fits := true
		for i := range want {
			fits = fits && (strings.HasPrefix(want[i], ":") || want[i] == have[i])
		}
		if fits && (found == nil || strings.Contains(found.path, ":")) {
			found = &r
		}
	}
	return found
}

// The judge of answers sees what is not as described.
func TestJudgeOfAnswers(t *testing.T) {
	t.Parallel()
	header := http.Header{"Content-Type": {"application/json"}}
	good := `{"number":7,"title":"t","author":"mara","state":"draft","opened":"2026-11-23T02:00:00Z","updated":"2026-11-23T02:00:00Z","devices":[],"edits":0}`
	require.NoError(t, fitsDescription("GET", "/changes/7", 200, header, []byte(good)))
	for _, bad := range []string{
		strings.Replace(good, `"devices":[]`, `"devices":null`, 1), strings.Replace(good, `draft`, `draught`, 1),
		strings.Replace(good, `,"edits":0`, ``, 1), `[]`,
	} {
		require.Error(t, fitsDescription("GET", "/changes/7", 200, header, []byte(bad)), bad)
	}
	require.Error(t, fitsDescription("GET", "/changes", 200, header, []byte(`[{}]`)))
	require.Equal(t, "completeSearch", routeOf("GET", "/audit/complete?q=x").id)
}
