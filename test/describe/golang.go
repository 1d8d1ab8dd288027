package main

import (
	"bytes"
	"fmt"
	"go/format"
	"io"
	"reflect"
	"slices"
	"strings"

	"oakenlatch/service/api"
)

// writeGo writes the calls of the Go client: a method for each operation.
func writeGo(w io.Writer, list []api.Operation) error {
	var body bytes.Buffer
	imports := []string{"context", "net/http", "net/url", "oakenlatch/wire"}
	slices.SortFunc(list, func(a, b api.Operation) int { return strings.Compare(a.ID, b.ID) })
	for _, o := range list {
		if o.Elsewhere {
			continue // for browsers
		}
		for _, t := range []reflect.Type{o.In, o.Out} {
			if pkg := packageOf(t); pkg != "" && !slices.Contains(imports, pkg) {
				imports = append(imports, pkg)
			}
		}
		if o.Takes != "" && !slices.Contains(imports, "io") {
			imports = append(imports, "io")
		}
		for _, p := range o.Parameters {
			if p.Kind == "integer" && !slices.Contains(imports, "strconv") {
				imports = append(imports, "strconv")
			}
		}
		writeCall(&body, o)
	}
	var all bytes.Buffer
	all.WriteString(
		"// Code generated from the API's routes by make describe. DO NOT EDIT.\n\npackage client\n\nimport (\n",
	)
	for _, ours := range []bool{false, true} {
		slices.Sort(imports)
		for _, i := range imports {
			if strings.HasPrefix(i, "oakenlatch/") == ours {
				fmt.Fprintf(&all, "\t%q\n", i)
			}
		}
		if !ours {
			all.WriteString("\n")
		}
	}
	all.WriteString(")\n")
	all.Write(body.Bytes())
	text, err := format.Source(all.Bytes())
	if err != nil {
		return fmt.Errorf("what was made is no Go: %w", err)
	}
	_, err = w.Write(text)
	return err
}

func packageOf(t reflect.Type) string {
	for t != nil && t.Kind() == reflect.Slice {
		t = t.Elem()
	}
	if t == nil {
		return ""
	}
	return t.PkgPath()
}

// typeOf names a type as code does.
func typeOf(t reflect.Type) string { return strings.ReplaceAll(t.String(), "interface {}", "any") }

// writeCall writes one method, and the type of its query where it has one.
func writeCall(w io.Writer, o api.Operation) {
	name := exported(o.ID)
	var query []api.Parameter
	args := "ctx context.Context"
	at := `"` + o.Path + `"`
	for _, p := range o.Parameters {
		if !p.InPath {
			query = append(query, p)
			continue
		}
		arg := argument(o.Path, p.Name)
		args += ", " + arg + " " + kinds[p.Kind]
		text := "url.PathEscape(" + arg + ")"
		if p.Kind == "integer" {
			text = "strconv.FormatInt(" + arg + ", 10)"
		}
		at = strings.Replace(at, ":"+p.Name, `" + `+text+` + "`, 1)
	}
	at = strings.TrimSuffix(at, ` + ""`)
	fields := "method: http." + methods[o.Method] + ", path: " + at
	if len(query) > 0 {
		args += ", query " + name + "Query"
		fields += ", query: query.values()"
		writeQuery(w, name, query)
	}
	switch {
	case o.In != nil:
		args += ", in " + typeOf(o.In)
		fields += ", in: in"
	case o.Takes != "":
		args += ", body io.Reader"
		fields += fmt.Sprintf(", body: body, takes: %q", o.Takes)
	}
	needs := "It needs " + o.Needs + "."
	if o.Needs == "nobody" || o.Needs == "" {
		needs = ""
	}
	fmt.Fprintf(w, "\n%s", comment(fmt.Sprintf(
		"%s asks %s %s: %s. %s", name, o.Method, o.Path, uncapitalized(strings.TrimSuffix(o.Summary, ".")), needs,
	)))
	switch {
	case o.Streams:
		fmt.Fprintf(
			w,
			"func (c *Client) %s(%s) (*Download, error) {\n\treturn c.download(ctx, request{%s})\n}\n",
			name,
			args,
			fields,
		)
	case o.Out == nil:
		fmt.Fprintf(
			w,
			"func (c *Client) %s(%s) error {\n\treturn c.ask(ctx, request{%s}, nil)\n}\n",
			name,
			args,
			fields,
		)
	default:
		fmt.Fprintf(
			w,
			"func (c *Client) %s(%s) (out %s, err error) {\n"+
				"\terr = c.ask(ctx, request{%s}, &out)\n\treturn out, err\n}\n",
			name,
			args,
			typeOf(o.Out),
			fields,
		)
	}
}

// writeQuery writes the type of a query: what is left at its zero value is not asked for.
func writeQuery(w io.Writer, name string, query []api.Parameter) {
	fmt.Fprintf(
		w,
		"\n// %sQuery says what [Client.%s] is asked for. What is left out does not matter.\ntype %sQuery struct {\n",
		name,
		name,
		name,
	)
	for _, p := range query {
		fmt.Fprint(w, indented(comment(p.Says)))
		fmt.Fprintf(w, "\t%s %s\n", field(p.Name), fieldKind(p))
	}
	fmt.Fprintf(w, "}\n\nfunc (q %sQuery) values() url.Values {\n\tv := url.Values{}\n", name)
	for _, p := range query {
		f := "q." + field(p.Name)
		switch {
		case p.Name == sparse:
			fmt.Fprintf(w, "\tif %s != nil {\n\t\tv.Set(%q, strconv.Itoa(*%s))\n\t}\n", f, p.Name, f)
		case p.Kind == "integer":
			fmt.Fprintf(w, "\tif %s != 0 {\n\t\tv.Set(%q, strconv.FormatInt(%s, 10))\n\t}\n", f, p.Name, f)
		case p.Kind == "boolean":
			fmt.Fprintf(w, "\tif %s {\n\t\tv.Set(%q, \"true\")\n\t}\n", f, p.Name)
		default:
			fmt.Fprintf(w, "\tif %s != \"\" {\n\t\tv.Set(%q, %s)\n\t}\n", f, p.Name, f)
		}
	}
	fmt.Fprint(w, "\treturn v\n}\n")
}

// sparse is the one parameter for which 0 is not the same as to say nothing.
const sparse = "context"

var (
	kinds   = map[string]string{"string": "string", "integer": "int64", "boolean": "bool"}
	methods = map[string]string{
		"GET": "MethodGet", "POST": "MethodPost", "PUT": "MethodPut", "PATCH": "MethodPatch", "DELETE": "MethodDelete",
	}
)

func fieldKind(p api.Parameter) string {
	if p.Name == sparse {
		return "*int"
	}
	return kinds[p.Kind]
}

func exported(name string) string { return strings.ToUpper(name[:1]) + name[1:] }

// uncapitalized begins a summary as what follows a colon, but where it begins with an abbreviation.
func uncapitalized(text string) string {
	if len(text) > 1 && text[1] >= 'A' && text[1] <= 'Z' {
		return text
	}
	return strings.ToLower(text[:1]) + text[1:]
}

// field names a query's field.
func field(name string) string {
	if name == "q" {
		return "Search"
	}
	return exported(name)
}

// argument names what stands in a path: by what is listed there, where the parameter's name says nothing.
func argument(path, name string) string {
	before, _, _ := strings.Cut(path, "/:"+name)
	at := before[strings.LastIndexByte(before, '/')+1:]
	switch name {
	case "name", "number", "id", "ref":
	default:
		return name
	}
	at = strings.ReplaceAll(at, "-", "")
	switch {
	case at == "entries" || at == "copies" || at == "emergencies":
		return strings.TrimSuffix(at, "ies") + "y"
	case at == "searches":
		return "search"
	case at == "parts": // by their devices
		return "device"
	case at == "shared":
		return "value"
	}
	return strings.TrimSuffix(at, "s")
}

// comment breaks a text into lines of a comment.
func comment(text string) string {
	var out strings.Builder
	line := "//"
	for _, word := range strings.Fields(text) {
		if len(line)+1+len(word) > 118 {
			out.WriteString(line + "\n")
			line = "//"
		}
		line += " " + word
	}
	return out.String() + line + "\n"
}

func indented(text string) string {
	return "\t" + strings.ReplaceAll(strings.TrimSuffix(text, "\n"), "\n", "\n\t") + "\n"
}
