package audit

import (
	"crypto/sha256"
	"fmt"
	"slices"
	"strings"

	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// KeptOfBody is how much of a document that somebody sends stands in the audit, in bytes.
const KeptOfBody = 64 << 10

// Discreet gives what somebody sent as it stands in the audit: documents without secrets and
// contents, and of everything else its size and a hash of its beginning. content is up to
// KeptOfBody and one bytes of it, size all that was sent; nil where nothing was.
func Discreet(content []byte, size int64) []byte {
	if size == 0 {
		return nil
	}
	if size <= KeptOfBody {
		if source, bad := flow.Parse(content); bad == nil && source.Root.Kind == message.Map {
			return jsonfmt.Encode(discreet(source.Root))
		}
	}
	return fmt.Appendf(nil, `{"bytes":%d,"sha256":"%x"}`, size, sha256.Sum256(content))
}

// hidden are the members of documents whose values are nobody's business but the receiver's.
var hidden = []string{"password", "old", "new", "secret", "secrets", "token", "link", "passphrase", "private-key",
	"client-secret",
	"credential", "value", "values", "answer"}

// contents are members that hold what messages, samples and tables hold.
var contents = []string{"message", "patch", "tree", "replace", "map", "body", "base64", "rows", "row", "insert",
	"update", "headers",
	"replies", "messages", "samples", "content", "reply", "files"}

// discreet gives a document without what it hides.
func discreet(n *message.Node) *message.Node {
	switch n.Kind {
	case message.Map:
		out := message.NewMap()
		for _, m := range n.Members {
			switch name := strings.ToLower(m.Name); {
			case slices.Contains(hidden, name):
				out = out.With(m.Name, message.NewString("(not shown)"))
			case slices.Contains(contents, name) && (m.Value.Kind == message.Map || m.Value.Kind == message.List ||
				m.Value.Text != ""):
				out = out.With(m.Name, message.NewString(fmt.Sprintf("(%d bytes)", len(jsonfmt.Encode(m.Value)))))
			default:
				out = out.With(m.Name, discreet(m.Value))
			}
		}
		return out
	case message.List:
		out := make([]*message.Node, len(n.Items))
		for i, item := range n.Items {
			out[i] = discreet(item)
		}
		return message.NewList(out...)
	}
	return n
}
