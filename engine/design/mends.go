package design

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"readyferry/core/expr"
	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/pointer"
	"readyferry/engine/catalog"
)

// mostMends is how many mends a finding offers.
const mostMends = 3

// mend gives findings the edits that would do away with them, where there are such. What the
// right thing is a person decides, so nothing is mended by itself.
func (g *Designs) mend(document []byte, findings []flow.Finding) {
	source, bad := flow.Parse(document)
	if bad != nil {
		return
	}
	for i := range findings {
		f := &findings[i]
		if f.Mends == nil {
			f.Mends = g.mends(source.Root, f)
		}
		f.Mends = f.Mends[:min(len(f.Mends), mostMends)]
	}
}

func add(path string, value any) []flow.Operation {
	return []flow.Operation{{Op: "add", Path: path, Value: value}}
}

func replace(path string, value any) []flow.Operation {
	return []flow.Operation{{Op: "replace", Path: path, Value: value}}
}

func removing(path string) []flow.Operation { return []flow.Operation{{Op: "remove", Path: path}} }

// mends gives the edits for a finding by its code; those that say what is meant instead are
// mended by that.
func (g *Designs) mends(root *message.Node, f *flow.Finding) (out []flow.Mend) {
	parent, last := up(f.Pointer)
	switch f.Code {
	case "no-otherwise":
		out = append(out, flow.Mend{Text: "add an otherwise", Patch: add(f.Pointer+"/otherwise",
			map[string]any{"steps": []any{}})})
	case "waits-for-ever":
		out = append(out, flow.Mend{Text: "close it after a day", Patch: add(f.Pointer+"/age", "24h")},
			flow.Mend{Text: "close it when nothing comes for an hour", Patch: add(f.Pointer+"/quiet", "1h")})
	case "open-webhook":
		for _, name := range g.callers() {
			out = append(out, flow.Mend{Text: "let " + name + " alone call it", Patch: add("/intake/callers", []any{name})})
		}
	case "queue-unread":
		if strings.HasSuffix(f.Pointer, "/to/queue") {
			out = append(out, flow.Mend{Text: "it is read from outside", Patch: add(parent+"/readers", "outside")})
		}
	case "never-taken":
		out = append(out, flow.Mend{Text: "remove the way", Patch: removing(parent)})
	case "no-effect":
		if valueAt(root, f.Pointer) != nil {
			out = append(out, flow.Mend{Text: "remove " + last, Patch: removing(f.Pointer)})
		}
	case "wrong-name":
		if name, ok := strings.CutPrefix(f.Repair, "write name: "); ok {
			out = append(out, flow.Mend{Text: "write " + name, Patch: replace("/name", name)})
		}
	case "duplicate-id":
		if id := fresh(root, valueAt(root, f.Pointer)); id != "" {
			out = append(out, flow.Mend{Text: "call it " + id, Patch: replace(f.Pointer, id)})
		}
	case "unknown-key":
		out = append(renamed(root, f), flow.Mend{Text: "remove " + last, Patch: removing(f.Pointer)})
	case "unknown-connection", "unknown-flow", "unknown-table":
		out = g.likeNamed(root, f)
	case "wrong-value":
		for _, name := range meant(f.Repair) {
			if valueAt(root, f.Pointer) != nil {
				out = append(out, flow.Mend{Text: "write " + name, Patch: replace(f.Pointer, name)})
			}
		}
	case "expression":
		out = reworded(root, f)
	}
	return out
}

// up parts a pointer before its last token.
func up(ptr string) (parent, last string) {
	i := strings.LastIndexByte(ptr, '/')
	if i < 0 {
		return "", ""
	}
	return ptr[:i], strings.NewReplacer("~1", "/", "~0", "~").Replace(ptr[i+1:])
}

func valueAt(root *message.Node, ptr string) *message.Node {
	p, err := pointer.Parse(ptr)
	if err != nil {
		return nil
	}
	n, err := p.Get(root)
	if err != nil {
		return nil
	}
	return n
}

// meant gives the names that a repair offers: did you mean a or b?
func meant(repair string) []string {
	_, rest, ok := strings.Cut(repair, "did you mean ")
	if !ok {
		return nil
	}
	rest, _, _ = strings.Cut(rest, "?")
	return strings.Split(rest, " or ")
}

// renamed gives a key the name that is meant.
func renamed(root *message.Node, f *flow.Finding) (out []flow.Mend) {
	parent, _ := up(f.Pointer)
	value := valueAt(root, f.Pointer)
	for _, name := range meant(f.Repair) {
		if value != nil && valueAt(root, parent+"/"+name) == nil {
			out = append(out, flow.Mend{Text: "write " + name,
				Patch: append(add(parent+"/"+name, plain(value)), removing(f.Pointer)...)})
		}
	}
	return out
}

// reworded writes an expression with the name that is meant.
func reworded(root *message.Node, f *flow.Finding) (out []flow.Mend) {
	value := valueAt(root, f.Pointer)
	wrong := regexp.MustCompile(`"([^"]+)" here$`).FindStringSubmatch(f.Message)
	if value == nil || value.Kind != message.String || wrong == nil {
		return nil
	}
	for _, name := range meant(f.Repair) {
		if text := replaceName(value.Text, wrong[1], name); text != value.Text {
			out = append(out, flow.Mend{Text: "write " + name, Patch: replace(f.Pointer, text)})
		}
	}
	return out
}

// replaceName replaces a name or path in an expression, where it stands by itself.
func replaceName(source, name, by string) string {
	at := regexp.MustCompile(`(^|[^\pL\pN_.])` + regexp.QuoteMeta(name) + `($|[^\pL\pN_])`)
	return at.ReplaceAllStringFunc(source, func(m string) string { return strings.Replace(m, name, by, 1) })
}

// plain gives a node as a value of JSON; numbers stay as they are written.
func plain(n *message.Node) any { return json.RawMessage(jsonfmt.Encode(n)) }

// callers names the connections by which callers are told.
func (g *Designs) callers() (out []string) {
	for _, c := range g.Catalog.Connections() {
		if s := g.Catalog.Systems().Find(c.Kind); s != nil && s.Open == nil {
			out = append(out, c.Name)
		}
	}
	slices.Sort(out)
	return out
}

// likeNamed names what there is in place of what there is not, the most like it first.
func (g *Designs) likeNamed(root *message.Node, f *flow.Finding) (out []flow.Mend) {
	value := valueAt(root, f.Pointer)
	if value == nil || value.Kind != message.String {
		return nil
	}
	var names []string
	switch f.Code {
	case "unknown-flow":
		g.Catalog.Each(func(o *catalog.Flow) { names = append(names, o.Name) })
	case "unknown-table":
		tables, err := g.Store.Tables()
		if err != nil {
			return nil
		}
		for _, t := range tables {
			names = append(names, t.Name)
		}
	default:
		for _, c := range g.Catalog.Connections() {
			names = append(names, c.Name)
		}
	}
	slices.Sort(names)
	for _, name := range expr.Nearest(value.Text, names) {
		out = append(out, flow.Mend{Text: "use " + name, Patch: replace(f.Pointer, name)})
	}
	return out
}

// fresh gives an id that no step has.
func fresh(root, id *message.Node) string {
	if id == nil || id.Kind != message.String {
		return ""
	}
	taken := map[string]bool{}
	var walk func(n *message.Node)
	walk = func(n *message.Node) {
		for _, m := range n.Members {
			if m.Name == "id" && m.Value.Kind == message.String {
				taken[m.Value.Text] = true
			}
			walk(m.Value)
		}
		for _, item := range n.Items {
			walk(item)
		}
	}
	walk(root)
	for n := 2; ; n++ {
		if name := fmt.Sprintf("%s-%d", id.Text, n); !taken[name] {
			return name
		}
	}
}
