package api

import (
	"net/http"
	"reflect"
)

// Operation is what one operation of the API takes and gives, for the clients that are made from it.
type Operation struct {
	ID, Method, Path string // the path as in the table: /changes/:number
	Summary, Needs   string
	Parameters       []Parameter
	In, Out          reflect.Type // of the documents; nil is none; Out is left empty by an answer without one
	Takes            string       // the media type of a body that is no document; "" is none
	Streams          bool         // the answer is not a document: a file, a text, a stream
	Elsewhere        bool         // the answer sends a browser to another page
}

// Parameter is one of a request's path or query.
type Parameter struct {
	Name, Says string
	Kind       string // of JSON: string, integer or boolean
	InPath     bool
}

// Operations lists all there are, in the order of the table.
func (a *API) Operations() []Operation {
	var out []Operation
	for _, r := range a.routes() {
		o := Operation{
			ID: r.id, Method: r.method, Path: r.url(), Summary: r.summary, Needs: r.needs.String(),
			Takes: r.takes, Streams: r.streams != nil, Elsewhere: r.done() >= http.StatusMultipleChoices,
		}
		if r.in != nil {
			o.In = reflect.TypeOf(r.in)
		}
		if r.waits != nil {
			o.Out = reflect.TypeOf(r.waits)
		}
		if r.out != nil {
			o.Out = reflect.TypeOf(r.out)
		}
		inPath := pathNames(r)
		for i, name := range append(inPath, r.query...) {
			doc := parameterOf(r, name)
			o.Parameters = append(
				o.Parameters, Parameter{Name: name, Says: doc.says, Kind: doc.kind, InPath: i < len(inPath)},
			)
		}
		out = append(out, o)
	}
	return out
}
