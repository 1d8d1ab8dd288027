package netconf

import (
	"bytes"
	"strings"
)

// plainOK recognises the shortest of replies, <ok/> and nothing else (RFC 6241
// section 4.4), in the form that servers write it, and gives its message-id. It
// spares the many of them the reading as a document; everything it is not sure
// of is left to that.
func plainOK(msg []byte) (id string, ok bool) {
	rest := bytes.TrimSpace(msg)
	if decl, after, found := bytes.Cut(rest, []byte("?>")); found && bytes.HasPrefix(decl, []byte("<?xml ")) &&
		!bytes.ContainsAny(decl[1:], "<>") {
		rest = bytes.TrimSpace(after)
	}
	start, after, found := bytes.Cut(rest, []byte(">"))
	if !found || !bytes.HasPrefix(start, []byte("<rpc-reply ")) {
		return "", false
	}
	body, found := bytes.CutSuffix(bytes.TrimSpace(after), []byte("</rpc-reply>"))
	after = bytes.TrimSpace(body)
	if !found || string(after) != "<ok/>" && string(after) != "<ok />" && string(after) != "<ok></ok>" {
		return "", false
	}
	attrs := string(start[len("<rpc-reply "):])
	base := false
	for attrs = strings.TrimSpace(attrs); attrs != ""; attrs = strings.TrimSpace(attrs) {
		name, more, found := strings.Cut(attrs, "=")
		if !found || more == "" || more[0] != '"' && more[0] != '\'' {
			return "", false
		}
		value, left, found := strings.Cut(more[1:], more[:1])
		if !found || strings.ContainsAny(value, "&<") || strings.ContainsAny(name, " \t\r\n\"'<>/") || left != "" &&
			left[0] != ' ' && left[0] != '\n' && left[0] != '\t' && left[0] != '\r' {
			return "", false
		}
		switch name {
		case "xmlns":
			base = value == BaseNS
		case "message-id":
			id = value
		}
		attrs = left
	}
	return id, base && id != ""
}
