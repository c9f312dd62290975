package plan

import (
	"regexp"
	"strconv"
	"strings"

	"readyferry/core/message"
)

// What names a secret, and what looks like one, in a document that everybody may read. These
// are common practice, not complete: RFC 7235 for the header, RFC 6750 and RFC 7617 for what
// stands in it, RFC 7468 for keys.
var (
	secretName = regexp.MustCompile(`(?i)^(proxy-)?authorization$|(^|[-_/])(api[-_]?key|password|passwd|secret|` +
		`client[-_]?secret|access[-_]?token|auth[-_]?token|private[-_]?key)$`)
	secretText = regexp.MustCompile(`(?i)\b(bearer|basic)\s+[a-z0-9+/=_.~-]{12,}|-----BEGIN [A-Z ]*PRIVATE KEY-----`)
	written    = regexp.MustCompile(`^\s*("[^"]+"|'[^']+')\s*$`) // an expression that is a fixed text
)

// secrets finds what looks like a secret in plain text: it is in every version, export and
// copy of the document.
func secrets(root *message.Node) (at []string) {
	var walk func(ptr, name string, n *message.Node)
	walk = func(ptr, name string, n *message.Node) {
		switch n.Kind {
		case message.Map:
			if to, from := n.Get("to"), n.Get("from"); to != nil && from != nil && to.Kind == message.String &&
				from.Kind == message.String && secretName.MatchString(to.Text) && written.MatchString(from.Text) {
				at = append(at, ptr+"/from")
			}
			for _, m := range n.Members {
				walk(ptr+"/"+strings.NewReplacer("~", "~0", "/", "~1").Replace(m.Name), m.Name, m.Value)
			}
		case message.List:
			for i, item := range n.Items {
				walk(ptr+"/"+strconv.Itoa(i), name, item)
			}
		case message.String:
			fixed := n.Text != "" && !strings.Contains(n.Text, "${")
			inHeaders := strings.Contains(ptr, "/headers/")
			if fixed && inHeaders && secretName.MatchString(name) || secretText.MatchString(n.Text) {
				at = append(at, ptr)
			}
		}
	}
	walk("", "", root)
	return at
}
