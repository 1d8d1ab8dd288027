package api

import (
	"fmt"
	"reflect"
	"strings"

	"github.com/invopop/jsonschema"

	"oakenlatch/wire"
)

// OpenAPI describes the API (OpenAPI 3.1), made from the routes themselves.
func (a *API) OpenAPI() map[string]any {
	schemas := map[string]any{}
	paths := map[string]map[string]any{}
	add := func(method, path string, op map[string]any) {
		if paths[path] == nil {
			paths[path] = map[string]any{}
		}
		paths[path][strings.ToLower(method)] = op
	}
	failure := map[string]any{
		"description": "A problem document (RFC 9457); detail and next say what is wrong and what to do.",
		"content":     map[string]any{"application/problem+json": map[string]any{"schema": reference(schemas, wire.Problem{})}},
	}
	for _, r := range a.routes() {
		answer := map[string]any{"description": "Done."}
		if r.out != nil {
			answer["content"] = map[string]any{"application/json": map[string]any{"schema": reference(schemas, r.out)}}
		}
		if kind := map[string]string{eventsPath: "text/event-stream", metricsPath: "text/plain"}[r.path]; kind != "" {
			answer["content"] = map[string]any{kind: map[string]any{}}
		}
		op := map[string]any{
			"summary":   r.summary,
			"responses": map[string]any{fmt.Sprint(r.status): answer, "default": failure},
		}
		path, params := parameters(r)
		if len(params) > 0 {
			op["parameters"] = params
		}
		if r.in != nil {
			op["requestBody"] = map[string]any{
				"required": true, "content": map[string]any{"application/json": map[string]any{"schema": reference(schemas, r.in)}},
			}
		}
		op["x-needs"] = r.needs.String()
		if r.needs.Open {
			op["security"] = []any{}
		} else {
			op["description"] = "Needs " + r.needs.String() + "."
		}
		add(r.method, path, op)
	}
	add("GET", prefix+"/openapi.json", map[string]any{
		"summary": "This description", "security": []any{},
		"responses": map[string]any{"200": map[string]any{"description": "OpenAPI 3.1."}},
	})
	return map[string]any{
		"openapi":  "3.1.0",
		"info":     map[string]any{"title": "Oaken Latch", "version": "1", "description": "Times are UTC, RFC 3339."},
		"paths":    paths,
		"security": []any{map[string]any{"token": []any{}}, map[string]any{"session": []any{}}},
		"components": map[string]any{
			"schemas": schemas,
			"securitySchemes": map[string]any{
				"token":   map[string]any{"type": "http", "scheme": "bearer"},
				"session": map[string]any{"type": "apiKey", "in": "cookie", "name": secureCookie},
			},
		},
	}
}

// parameters gives a route's path in OpenAPI's form and its parameters.
func parameters(r route) (string, []any) {
	var params []any
	param := func(name, in string) {
		params = append(params, map[string]any{"name": name, "in": in, "required": in == "path", "schema": map[string]any{"type": "string"}})
	}
	parts := strings.Split(r.url(), "/")
	for i, p := range parts {
		if name, ok := strings.CutPrefix(p, ":"); ok {
			parts[i] = "{" + name + "}"
			param(name, "path")
		}
	}
	for _, q := range r.query {
		param(q, "query")
	}
	return strings.Join(parts, "/"), params
}

// reference puts a document's schema among the components and points at it.
func reference(schemas map[string]any, sample any) map[string]any {
	t := reflect.TypeOf(sample)
	if t.Kind() == reflect.Slice {
		return map[string]any{"type": "array", "items": reference(schemas, reflect.New(t.Elem()).Elem().Interface())}
	}
	if _, known := schemas[t.Name()]; !known {
		r := &jsonschema.Reflector{Anonymous: true, DoNotReference: true, AllowAdditionalProperties: true}
		s := r.ReflectFromType(t)
		s.Version = ""
		schemas[t.Name()] = s
	}
	return map[string]any{"$ref": "#/components/schemas/" + t.Name()}
}
