package netconf

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"oakenlatch/core/markup"
)

var okReplies = []string{
	`<rpc-reply xmlns="urn:ietf:params:xml:ns:netconf:base:1.0" message-id="7"><ok/></rpc-reply>`,
	"<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<rpc-reply message-id='7'\n xmlns:x=\"y\" " +
		"xmlns=\"urn:ietf:params:xml:ns:netconf:base:1.0\">\n  <ok />\n</rpc-reply>\n",
}

// What is taken for a plain ok reads as one; what may be something else is left
// to the reader.
func TestPlainOK(t *testing.T) {
	for _, msg := range okReplies {
		id, ok := plainOK([]byte(msg))
		assert.True(t, ok, msg)
		assert.Equal(t, "7", id)
	}
	for _, msg := range []string{
		"", "<ok/>", `<rpc-reply message-id="7"><ok/></rpc-reply>`,
		`<rpc-reply xmlns="urn:other" message-id="7"><ok/></rpc-reply>`,
		`<rpc-reply xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><ok/></rpc-reply>`,
		`<rpc-reply xmlns="urn:ietf:params:xml:ns:netconf:base:1.0" message-id="&#55;"><ok/></rpc-reply>`,
		`<rpc-reply xmlns="urn:ietf:params:xml:ns:netconf:base:1.0" message-id="7"><ok/><rpc-error/></rpc-reply>`,
		`<rpc-reply xmlns="urn:ietf:params:xml:ns:netconf:base:1.0" message-id="7"><!-- --><ok/></rpc-reply>`,
		`<rpc-reply xmlns="urn:ietf:params:xml:ns:netconf:base:1.0" message-id="7"a="b"><ok/></rpc-reply>`,
		`<rpc-reply xmlns="urn:ietf:params:xml:ns:netconf:base:1.0" message-id="7/"><ok></rpc-reply>`,
	} {
		_, ok := plainOK([]byte(msg))
		assert.False(t, ok, msg)
	}
}

func FuzzPlainOK(f *testing.F) {
	for _, msg := range okReplies {
		f.Add([]byte(msg))
	}
	f.Fuzz(func(t *testing.T, msg []byte) {
		id, ok := plainOK(msg)
		if !ok {
			return
		}
		el, err := markup.Parse(msg, markup.Limits{})
		if err != nil {
			return // ill-formed in a way that changes nothing: attributes given twice, odd bytes
		}
		have, _ := el.Attr("", "message-id")
		if el.Name != base("rpc-reply") || len(el.Children) != 1 || el.Children[0].Name != base("ok") || have != id {
			t.Fatalf("%q is not a plain ok of %q", msg, id)
		}
	})
}
