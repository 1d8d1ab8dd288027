package netconf

import (
	"errors"
	"fmt"
	"strings"

	"oakenlatch/core/clip"
	"oakenlatch/core/markup"
)

// Namespaces and capabilities (RFC 6241 sections 8 and 10.4, RFC 6022).
const (
	BaseNS       = "urn:ietf:params:xml:ns:netconf:base:1.0"
	MonitoringNS = "urn:ietf:params:xml:ns:yang:ietf-netconf-monitoring"
	DefaultsNS   = "urn:ietf:params:xml:ns:yang:ietf-netconf-with-defaults"

	CapBase10            = "urn:ietf:params:netconf:base:1.0"
	CapBase11            = "urn:ietf:params:netconf:base:1.1"
	CapCandidate         = "urn:ietf:params:netconf:capability:candidate:1.0"
	CapWritableRunning   = "urn:ietf:params:netconf:capability:writable-running:1.0"
	CapConfirmedCommit10 = "urn:ietf:params:netconf:capability:confirmed-commit:1.0"
	CapConfirmedCommit11 = "urn:ietf:params:netconf:capability:confirmed-commit:1.1"
	CapRollbackOnError   = "urn:ietf:params:netconf:capability:rollback-on-error:1.0"
	CapValidate10        = "urn:ietf:params:netconf:capability:validate:1.0"
	CapValidate11        = "urn:ietf:params:netconf:capability:validate:1.1"
	CapStartup           = "urn:ietf:params:netconf:capability:startup:1.0"
	CapWithDefaults      = "urn:ietf:params:netconf:capability:with-defaults:1.0"
	CapXPath             = "urn:ietf:params:netconf:capability:xpath:1.0"
)

func base(local string) markup.Name { return markup.Name{Space: BaseNS, Local: local} }

// Capabilities are what a peer's hello announced.
type Capabilities []string

// Has reports whether a capability was announced, with or without parameters.
func (c Capabilities) Has(uri string) bool {
	for _, have := range c {
		bare, _, _ := strings.Cut(have, "?")
		if strings.TrimSpace(bare) == uri {
			return true
		}
	}
	return false
}

// Defaults says how a peer handles defaults unless answered differently, and in which
// other ways it can (RFC 6243 section 4); all empty where it does not say.
func (c Capabilities) Defaults() (basic string, also []string) {
	for _, have := range c {
		bare, query, _ := strings.Cut(strings.TrimSpace(have), "?")
		if bare != CapWithDefaults {
			continue
		}
		for _, pair := range strings.FieldsFunc(query, func(r rune) bool { return r == '&' || r == ';' }) {
			k, v, _ := strings.Cut(pair, "=")
			switch strings.TrimPrefix(k, "amp;") {
			case "basic-mode":
				basic = v
			case "also-supported":
				also = splitList(v)
			}
		}
	}
	return basic, also
}

// ModuleCapability is a YANG module announced in a hello (RFC 6020 section 5.6.4).
type ModuleCapability struct {
	Namespace, Name, Revision string
	Features, Deviations      []string
}

// Modules lists the YANG modules among the capabilities.
func (c Capabilities) Modules() []ModuleCapability {
	var out []ModuleCapability
	for _, have := range c {
		ns, query, ok := strings.Cut(strings.TrimSpace(have), "?")
		if !ok {
			continue
		}
		m := ModuleCapability{Namespace: ns}
		for _, pair := range strings.FieldsFunc(query, func(r rune) bool { return r == '&' || r == ';' }) {
			k, v, _ := strings.Cut(pair, "=")
			switch strings.TrimPrefix(k, "amp;") {
			case "module":
				m.Name = v
			case "revision":
				m.Revision = v
			case "features":
				m.Features = splitList(v)
			case "deviations":
				m.Deviations = splitList(v)
			}
		}
		if m.Name != "" {
			out = append(out, m)
		}
	}
	return out
}

func splitList(v string) []string {
	return strings.FieldsFunc(v, func(r rune) bool { return r == ',' })
}

// RPCError is one rpc-error (RFC 6241 section 4.3), kept whole.
type RPCError struct {
	Type     string `json:"type"`     // transport, rpc, protocol, application
	Tag      string `json:"tag"`      // RFC 6241 appendix A
	Severity string `json:"severity"` // error or warning
	AppTag   string `json:"appTag,omitempty"`
	Path     string `json:"path,omitempty"`
	Message  string `json:"message,omitempty"`
	Info     string `json:"info,omitempty"` // the content of error-info, XML
}

func (e RPCError) Error() string {
	var b strings.Builder
	b.WriteString(clip.To(e.Tag, mostSaid))
	if e.Message != "" {
		b.WriteString(": " + clip.To(e.Message, mostSaid))
	}
	if e.Path != "" {
		b.WriteString(" (at " + clip.To(e.Path, mostSaid) + ")")
	}
	return b.String()
}

// mostSaid is how much of each part of an error is told, in characters: what a device
// says ends up before people, and in the record.
const mostSaid = 1000

// SessionID is the holder's session that a lock-denied names, or "".
func (e RPCError) SessionID() string {
	el, err := markup.Parse([]byte("<i>"+e.Info+"</i>"), markup.Limits{})
	if err != nil {
		return ""
	}
	return el.Find("session-id").Value()
}

// RPCErrors is what a device refused an operation with: at least one error.
type RPCErrors []RPCError

func (e RPCErrors) Error() string {
	parts := make([]string, len(e))
	for i, x := range e {
		parts[i] = x.Error()
	}
	return strings.Join(parts, "; ")
}

// Tagged reports whether err is a refusal with that error-tag.
func Tagged(err error, tag string) bool {
	var errs RPCErrors
	if errors.As(err, &errs) {
		for _, e := range errs {
			if e.Tag == tag {
				return true
			}
		}
	}
	return false
}

// Refused reports whether err is the device's own no: the operation was
// received and not carried out.
func Refused(err error) bool {
	var errs RPCErrors
	return errors.As(err, &errs)
}

func parseRPCErrors(reply *markup.Element) (errs RPCErrors, warnings []RPCError) {
	for _, c := range reply.Children {
		if c.Name != base("rpc-error") {
			continue
		}
		e := RPCError{
			Type: c.Find("error-type").Value(), Tag: c.Find("error-tag").Value(),
			Severity: c.Find("error-severity").Value(), AppTag: c.Find("error-app-tag").Value(),
			Path:    c.Find("error-path").Value(),
			Message: strings.Join(strings.Fields(c.Find("error-message").Value()), " "),
		}
		if info := c.Find("error-info"); info != nil {
			for _, x := range info.Children {
				e.Info += string(x.Standalone())
			}
		}
		if e.Severity == "warning" {
			warnings = append(warnings, e)
		} else {
			errs = append(errs, e)
		}
	}
	return errs, warnings
}

func writeRPCError(w *markup.Writer, e RPCError) {
	w.Start(base("rpc-error"))
	leaf := func(name, v string) {
		if v != "" {
			w.Leaf(base(name), v)
		}
	}
	if e.Severity == "" {
		e.Severity = "error"
	}
	leaf("error-type", e.Type)
	leaf("error-tag", e.Tag)
	leaf("error-severity", e.Severity)
	leaf("error-app-tag", e.AppTag)
	leaf("error-path", e.Path)
	if e.Message != "" {
		w.Leaf(base("error-message"), e.Message, "xml:lang", "en")
	}
	if e.Info != "" {
		w.Start(base("error-info"))
		w.RawText([]byte(e.Info))
		w.End()
	}
	w.End()
}

// hello writes a hello message; a client sends no session-id.
func hello(caps []string, sessionID uint32) []byte {
	w := &markup.Writer{}
	w.Start(base("hello"))
	w.Start(base("capabilities"))
	for _, c := range caps {
		w.Leaf(base("capability"), c)
	}
	w.End()
	if sessionID > 0 {
		w.Leaf(base("session-id"), fmt.Sprint(sessionID))
	}
	w.End()
	return w.Bytes()
}

// parseHello reads a peer's hello (RFC 6241 section 8.1).
func parseHello(msg []byte) (caps Capabilities, sessionID string, err error) {
	el, err := markup.Parse(msg, markup.Limits{})
	if err != nil {
		return nil, "", fmt.Errorf("hello: %w", err)
	}
	if el.Name != base("hello") {
		return nil, "", fmt.Errorf("expected a hello, got <%s> of namespace %q", el.Name.Local, el.Name.Space)
	}
	if list := el.Child(BaseNS, "capabilities"); list != nil {
		for _, c := range list.Children {
			caps = append(caps, c.Value())
		}
	}
	if !caps.Has(CapBase10) && !caps.Has(CapBase11) {
		return nil, "", errors.New("the hello announces neither base:1.0 nor base:1.1")
	}
	return caps, el.Child(BaseNS, "session-id").Value(), nil
}
