package api

import (
	"encoding/json"
	"fmt"
	"path"
	"reflect"
	"slices"
	"strings"
	"sync"

	"github.com/invopop/jsonschema"

	"oakenlatch/core/advice"
	"oakenlatch/core/check"
	"oakenlatch/core/diff"
	"oakenlatch/core/guard"
	"oakenlatch/core/ledger"
	"oakenlatch/core/lifecycle"
	"oakenlatch/core/lockout"
	"oakenlatch/wire"
)

// enums are the types of text that have so many values and no more; a test holds them against their constants.
var enums = map[reflect.Type][]any{
	reflect.TypeFor[guard.Phase](): values(
		guard.Idle, guard.Preparing, guard.AllReady, guard.Applying, guard.Probing, guard.Awaiting, guard.Asking,
		guard.ConfirmingAll, guard.Settling, guard.Reverting, guard.Done,
	),
	reflect.TypeFor[guard.Outcome](): values(guard.Undecided, guard.Confirmed, guard.Reverted, guard.Failed,
		guard.Partly),
	reflect.TypeFor[guard.Standing](): values(
		guard.Waiting, guard.InPrepare, guard.Ready, guard.Committing, guard.Held, guard.Confirming, guard.IsConfirmed,
		guard.IsReverting, guard.IsReverted, guard.IsUntouched, guard.IsAccepted,
	),
	reflect.TypeFor[guard.Result]():    values("", guard.Passed, guard.Missed),
	reflect.TypeFor[guard.Keeper]():    values(guard.ByDevice, guard.BySession, guard.ByService),
	reflect.TypeFor[lockout.Answer]():  values(lockout.Keeps, lockout.Cuts, lockout.Unknown),
	reflect.TypeFor[check.Severity]():  values(check.Error, check.Warning, check.Hint),
	reflect.TypeFor[diff.Kind]():       values(diff.Added, diff.Removed, diff.Changed, diff.Moved, diff.Contains),
	reflect.TypeFor[lifecycle.State](): values(lifecycle.States()...),
	reflect.TypeFor[advice.Action]():   values(advice.Actions()...),

	reflect.TypeFor[lifecycle.OutsideState]():   values(lifecycle.OutsideStates()...),
	reflect.TypeFor[lifecycle.ScheduledKind]():  values(lifecycle.ScheduledKinds()...),
	reflect.TypeFor[lifecycle.ScheduledState](): values(lifecycle.ScheduledStates()...),
	reflect.TypeFor[lifecycle.MomentKind]():     values(lifecycle.MomentKinds()...),
	reflect.TypeFor[wire.JobState]():            values(wire.JobRunning, wire.JobDone, wire.JobFailed, wire.JobStopped),
	reflect.TypeFor[ledger.Outcome]():           values(ledger.Done, ledger.Refused, ledger.Failed),
	reflect.TypeFor[lifecycle.Cause]():          values(lifecycle.Causes()...),
}

func values[T ~string](list ...T) []any {
	out := make([]any, len(list))
	for i, v := range list {
		out[i] = string(v)
	}
	return out
}

// parameterDoc describes a parameter of a request.
type parameterDoc struct {
	kind string // of JSON: string, integer or boolean
	says string
	of   []any // the values it may have; nil is any
	like any   // an example
}

// parameterDocs are the parameters of requests by their names; one that is something else for a path stands
// there under its path and name, with a space between.
var parameterDocs = map[string]parameterDoc{
	"number": {kind: "integer", says: "The number.", like: 7},
	"name":   {kind: "string", says: "The name.", like: "northmole-harbour"},
	"id":     {kind: "integer", says: "The number.", like: 3},
	"ref": {
		kind: "string", says: "The number of a snapshot, or its name.", like: "before the summer timetable",
	},
	"account": {kind: "string", says: "The name of an account.", like: "mara"},
	"filter":  {kind: "string", says: "The name of a filter.", like: "harbour-in"},
	"change":  {kind: "integer", says: "The number of a change.", like: 7},
	"device": {
		kind: "string", says: "The name of a device; where several are meant, with commas between.",
		like: "saltern-quay",
	},
	"site": {kind: "string", says: "The name of a site.", like: "Saltern"},
	"path": {
		kind: "string",
		says: "A path in the configuration (RFC 8040 section 3.5.3, without prefixes where they are not needed).",
		like: "/interfaces/interface=mgmt0",
	},
	"from": {
		kind: "string",
		says: "A place that a configuration can be read from: running, startup, candidate, rev:N, startup:N, " +
			"at:TIME, snapshot:NAME, before:N, change:N or archive:N.",
		like: "running",
	},
	"to": {kind: "string", says: "A place as for from.", like: "rev:4"},
	"context": {
		kind: "integer", says: "How many unchanged neighbours are shown beside each changed line.", like: 2,
	},
	"limit": {kind: "integer", says: "How many at most.", like: 50},
	"before": {
		kind: "integer", says: "Those before this number: the last one that was given.", like: 120,
	},
	"after":  {kind: "integer", says: "Those after this number.", like: 120},
	"oldest": {kind: "boolean", says: "The oldest first."},
	"q": {
		kind: "string", says: "A line to search by (docs/audit.md).", like: "device:saltern-quay since:7d",
	},
	"all": {
		kind: "boolean", says: "All of them, and not only those that are to be decided.",
	},
	"count": {
		kind: "boolean", says: "Tell in the header " + wire.CountHeader + " how many there are.",
	},
	"state": {
		kind: "string", says: "In one of these states, with commas between.", like: "holding,applying",
	},
	"author": {kind: "string", says: "Of this person.", like: "mara"},
	"text":   {kind: "string", says: "With this in the title or the ticket.", like: "berth"},
	"by":     {kind: "string", says: "Of this person's edits only.", like: "joss"},
	"as":     {kind: "string", says: "In another form.", like: "unified"},
	"a": {
		kind: "string", says: "A configuration: DEVICE@PLACE.", like: "saltern-quay@running",
	},
	"b":     {kind: "string", says: "Another, to compare with.", like: "saltern-slip@running"},
	"who":   {kind: "string", says: "Of this person.", like: "mara"},
	"since": {kind: "string", says: "Since then, as in a line to search by.", like: "7d"},
	"until": {
		kind: "string", says: "Until then, as in a line to search by.", like: "2026-11-24",
	},
	"wait": {kind: "integer", says: "How many seconds to wait for its end.", like: 10},
	"pulse": {
		kind: "integer", says: "Every how many seconds an event named pulse says that the stream lives; none " +
			"if it is left out.",
		like: 1,
	},
	"way": {kind: "string", says: "A way through the network.", like: "in"},
	"packets": {
		kind: "string", says: "Packets, as in a line of an expectation.", like: "tcp from 192.0.2.0/24 to any port 22",
	},
	"onto": {kind: "string", says: "The name of a device.", like: "saltern-slip"},
	"line": {
		kind: "string", says: "Of running, or of startup.", of: []any{"running", "startup"},
	},
	"format":  {kind: "string", says: "The form of the answer."},
	"archive": {kind: "string", says: "The name of an archive.", like: "office"},
	"retired": {kind: "boolean", says: "Those, too, that were taken out of use."},
	"page": {
		kind: "string", says: "The page of the console to go on to.", like: "/changes/7",
	},
	"code":  {kind: "string", says: "What who vouches for the person gave them."},
	"error": {kind: "string", says: "What went wrong where the person signed in."},
	"validate": {
		kind: "boolean", says: "Have the devices judge the result, without committing it.",
	},
	"/changes number":             {kind: "string", says: "Whose number begins with these digits.", like: "12"},
	"/login/elsewhere/back state": {kind: "string", says: "What was sent along to who vouches for the person."},
	"/me/factors/:id id":          {kind: "string", says: "The name of a second factor.", like: "a1b2c3"},
	"/tokens/:id id": {
		kind: "string", says: "The first digits of a token's digest.", like: "0123456789ab",
	},
	"/devices/:name/sessions/:id id": {kind: "string", says: "The number of a session on the device.", like: "17"},
	"/shared/:name name":             {kind: "string", says: "The name of a shared value.", like: "ntp-servers"},
	"/stencils/:name name":           {kind: "string", says: "The name of a stencil.", like: "berth-port"},
}

// parameterOf describes a parameter of a route.
func parameterOf(r route, name string) parameterDoc {
	if doc, there := parameterDocs[r.path+" "+name]; there {
		return doc
	}
	return parameterDocs[name]
}

// tags are what operations are about, by the first names of their paths.
var tags = []struct{ name, says, paths string }{
	{
		"changes", "Changes, from being staged to being decided, and what is on the schedule.",
		"changes schedule stencils shared lost-holds undo restore carry",
	},
	{"devices", "Devices: what they hold, who is on them, who has them for themselves.", "devices reservations"},
	{"history", "Snapshots, comparing, what goes in and out as files.", "snapshots compare import export"},
	{"outside", "Outside changes: what was changed on devices without this service.", "outside silences"},
	{"record", "The ledger, every commit, reports.", "audit searches commits report"},
	{"copies", "Copies off the machine, and work that takes long.", "archives copies standing jobs"},
	{"approval", "What needs approval by others.", "rules emergencies proposals"},
	{"traffic", "What filters do with packets.", "filters trace"},
	{"access", "Who one is, accounts, sessions and tokens, second factors.", "me login logout accounts tokens"},
	{"receivers", "Who is told of entries of the ledger.", "receivers"},
	{
		"service", "How it goes: what needs a decision, events, metrics, this description.",
		"attention events metrics openapi.json",
	},
}

// tagOf gives what an operation is about.
func tagOf(r route) string {
	first := strings.Split(strings.TrimPrefix(r.path, "/"), "/")[0]
	for _, t := range tags {
		if slices.Contains(strings.Fields(t.paths), first) {
			return t.name
		}
	}
	return ""
}

// OpenAPI describes the API (OpenAPI 3.1), made from the routes themselves.
func (a *API) OpenAPI() map[string]any {
	return a.described()
}

func (a *API) describe() map[string]any {
	docs := &documentSchemas{schemas: map[string]any{}}
	paths := map[string]map[string]any{}
	var results []any // of jobs
	problem := map[string]any{"$ref": "#/components/responses/Problem"}
	failure := map[string]any{
		"description": "A problem document (RFC 9457); detail and next say what is wrong and what to do.",
		"content": map[string]any{
			"application/problem+json": map[string]any{"schema": docs.reference(wire.Problem{})},
		},
	}
	for _, r := range a.routes() {
		at, params := parameters(r)
		if paths[at] == nil {
			paths[at] = map[string]any{}
		}
		op := map[string]any{
			"operationId": r.id, "summary": r.summary, "x-needs": r.needs.String(),
			"responses": map[string]any{fmt.Sprint(r.done()): docs.answer(r), "4XX": problem, "5XX": problem},
		}
		if r.waits != nil {
			op["responses"].(map[string]any)["202"] = map[string]any{
				"description": "It is proposed, and waits until others have agreed.",
				"content":     map[string]any{"application/json": map[string]any{"schema": docs.reference(r.waits)}},
			}
		}
		op["tags"] = []any{tagOf(r)}
		if r.comesTo != nil {
			results = append(results, docs.reference(r.comesTo))
		}
		if len(params) > 0 {
			op["parameters"] = params
		}
		if r.in != nil {
			op["requestBody"] = map[string]any{
				"required": true,
				"content":  map[string]any{"application/json": map[string]any{"schema": docs.reference(r.in)}},
			}
		}
		if r.takes != "" {
			op["requestBody"] = map[string]any{
				"required": true, "content": map[string]any{r.takes: map[string]any{}},
			}
		}
		op["description"] = "Needs " + r.needs.String() + "."
		if r.needs.Open {
			op["security"], op["description"] = []any{}, "Nobody has to be signed in."
		}
		paths[at][strings.ToLower(r.method)] = op
	}
	docs.schemas["Job"].(map[string]any)["properties"].(map[string]any)["result"] = map[string]any{
		"anyOf": results, "description": "What it came to, once it is done.",
	}
	named := make([]any, len(tags))
	for i, t := range tags {
		named[i] = map[string]any{"name": t.name, "description": t.says}
	}
	return map[string]any{
		"openapi": "3.1.0",
		"info": map[string]any{
			"title": "Oaken Latch", "version": "1",
			"description": "Times are UTC, RFC 3339. Whoever asks for something that is not to be done is answered " +
				"with a problem document.",
			"license": map[string]any{
				"name": "See the file LICENSE of the product", "identifier": "LicenseRef-product",
			},
		},
		"servers":  []any{map[string]any{"url": "/", "description": "The service that gave this description."}},
		"tags":     named,
		"paths":    paths,
		"security": []any{map[string]any{"token": []any{}}, map[string]any{"session": []any{}}},
		"components": map[string]any{
			"schemas": docs.schemas, "responses": map[string]any{"Problem": failure},
			"securitySchemes": map[string]any{
				"token":   map[string]any{"type": "http", "scheme": "bearer"},
				"session": map[string]any{"type": "apiKey", "in": "cookie", "name": secureCookie},
			},
		},
	}
}

// answer describes what is answered where it was done.
func (d *documentSchemas) answer(r route) map[string]any {
	content := map[string]any{}
	switch {
	case r.streams != nil:
		for _, kind := range r.streams {
			content[kind] = map[string]any{"schema": map[string]any{"type": "string"}}
		}
	case r.out != nil:
		content["application/json"] = map[string]any{"schema": d.reference(r.out)}
	}
	out := map[string]any{"description": "Done."}
	if len(content) > 0 {
		out["content"] = content
	}
	return out
}

// pathNames lists the parameters in a route's path.
func pathNames(r route) (out []string) {
	for part := range strings.SplitSeq(r.path, "/") {
		if name, ok := strings.CutPrefix(part, ":"); ok {
			out = append(out, name)
		}
	}
	return out
}

// parameters gives a route's path in OpenAPI's form and its parameters.
func parameters(r route) (string, []any) {
	var params []any
	param := func(name, in string) {
		doc := parameterOf(r, name)
		kind := map[string]any{"type": doc.kind}
		if doc.of != nil {
			kind["enum"] = doc.of
		}
		p := map[string]any{"name": name, "in": in, "required": in == "path", "description": doc.says, "schema": kind}
		if doc.like != nil {
			p["example"] = doc.like
		}
		params = append(params, p)
	}
	at := r.url()
	for _, name := range pathNames(r) {
		at = strings.Replace(at, ":"+name, "{"+name+"}", 1)
		param(name, "path")
	}
	for _, q := range r.query {
		param(q, "query")
	}
	if r.tagged {
		params = append(params, map[string]any{
			"name": "If-Match", "in": "header", "required": false, "schema": map[string]any{"type": "string"},
			"description": "The tag of what this rests on, in quotes: it is refused where that is another by now.",
			"example":     `"0123456789abcdef"`,
		})
	}
	return at, params
}

// documentSchemas are the schemas of documents by their names.
type documentSchemas struct {
	schemas map[string]any
}

// schemaName names a document's schema: those of wire by themselves, those of other rooms with the room before.
func schemaName(t reflect.Type) string {
	room := path.Base(t.PkgPath())
	if room == "wire" || room == "." || room == "time" {
		return t.Name()
	}
	return strings.ToUpper(room[:1]) + room[1:] + t.Name()
}

// reference puts a document's schema, and those of the documents in it, among the components, and points at it.
func (d *documentSchemas) reference(sample any) map[string]any {
	t := reflect.TypeOf(sample)
	switch t.Kind() {
	case reflect.Slice:
		return map[string]any{"type": "array", "items": d.reference(reflect.New(t.Elem()).Elem().Interface())}
	case reflect.Map:
		return map[string]any{"type": "object"}
	}
	name := schemaName(t)
	if _, known := d.schemas[name]; !known {
		d.add(t)
	}
	return map[string]any{"$ref": "#/components/schemas/" + name}
}

func (d *documentSchemas) add(t reflect.Type) {
	r := &jsonschema.Reflector{
		Anonymous: true, AllowAdditionalProperties: true, Namer: schemaName,
		Mapper: func(t reflect.Type) *jsonschema.Schema {
			if list, ok := enums[t]; ok {
				return &jsonschema.Schema{Type: "string", Enum: list}
			}
			return nil
		},
	}
	text, err := json.Marshal(r.ReflectFromType(t))
	if err != nil {
		panic(err) // a schema is plain data
	}
	var whole struct {
		Defs map[string]any `json:"$defs"`
	}
	if err := json.Unmarshal(
		[]byte(strings.ReplaceAll(string(text), "#/$defs/", "#/components/schemas/")), &whole,
	); err != nil {
		panic(err)
	}
	for name, schema := range whole.Defs {
		d.schemas[name] = schema
	}
}

// described remembers the description: it is the same for as long as the program runs.
func (a *API) described() map[string]any {
	a.description.once.Do(func() { a.description.doc = a.describe() })
	return a.description.doc
}

type description struct {
	once sync.Once
	doc  map[string]any
}
