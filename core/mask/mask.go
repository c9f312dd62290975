// Package mask hides the values of fields that not everybody may see.
//
// A flow names its fields by JSON Pointers into the tree of a message (RFC 6901), with *
// for every member or item. What stands there is taken as values: wherever one of them
// appears later (in a mapped copy, a request, a reason, a note), in whatever way the
// formats write it, it is hidden. A value that is only a part of another text is hidden
// where it has at least four letters; shorter ones where they are a whole value. What a
// step makes of a value (a hash, another spelling) is not recognised: who may read
// what is derived is decided by who may read bodies at all.
package mask

import (
	"encoding/json"
	"hash/fnv"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"readyferry/core/message"
)

// Shown stands where a value is hidden.
const Shown = "•••"

// least is how many letters a value has that is hidden inside of other texts, too.
const least = 4

// Path is a parsed path of a field.
type Path []string

// Parse reads paths; what is none is left out, as the flow's schema has refused it.
func Parse(paths []string) (out []Path) {
	for _, text := range paths {
		if !strings.HasPrefix(text, "/") {
			continue
		}
		parts := strings.Split(text[1:], "/")
		for i, p := range parts {
			parts[i] = strings.ReplaceAll(strings.ReplaceAll(p, "~1", "/"), "~0", "~")
		}
		out = append(out, parts)
	}
	return out
}

// Values gives what stands in the masked fields of a message: every leaf below them, each
// once.
func Values(root *message.Node, paths []Path) (out []string) {
	each(root, paths, func(leaf *message.Node) *message.Node {
		if leaf.Text != "" && !slices.Contains(out, leaf.Text) {
			out = append(out, leaf.Text)
		}
		return leaf
	})
	return out
}

// each calls do for every leaf that a path leads to, and puts in its place what that gives.
func each(root *message.Node, paths []Path, do func(leaf *message.Node) *message.Node) *message.Node {
	for _, p := range paths {
		root = at(root, p, do)
	}
	return root
}

func at(n *message.Node, p Path, do func(*message.Node) *message.Node) *message.Node {
	if n == nil {
		return nil
	}
	below := func(name string) (Path, bool) {
		switch {
		case len(p) == 0:
			return nil, true // all that is below is masked
		case p[0] == name || p[0] == "*":
			return p[1:], true
		}
		return nil, false
	}
	switch n.Kind {
	case message.Map:
		out := *n
		out.Native = nil // it is written anew
		out.Members = slices.Clone(n.Members)
		for i := range out.Members {
			if rest, is := below(out.Members[i].Name); is {
				out.Members[i].Value = at(out.Members[i].Value, rest, do)
			}
		}
		return &out
	case message.List:
		out := *n
		out.Native = nil // it is written anew
		out.Items = slices.Clone(n.Items)
		for i := range out.Items {
			if rest, is := below(strconv.Itoa(i)); is {
				out.Items[i] = at(out.Items[i], rest, do)
			}
		}
		return &out
	case message.Null:
		return n
	}
	if len(p) == 0 {
		return do(n)
	}
	return n
}

// Hide gives a message with its masked fields hidden.
func Hide(root *message.Node, paths []Path) *message.Node {
	return each(root, paths, func(*message.Node) *message.Node { return message.NewString(Shown) })
}

// Restore puts the original values back into an edited message wherever the masked fields
// still show that they are hidden.
func Restore(edited, original *message.Node, paths []Path) *message.Node {
	for _, p := range paths {
		edited = restore(edited, original, p)
	}
	return edited
}

func restore(n, was *message.Node, p Path) *message.Node {
	if n == nil || was == nil {
		return n
	}
	if n.Kind == message.String && n.Text == Shown {
		if len(p) == 0 {
			return was
		}
		return n
	}
	below := func(name string) (Path, bool) {
		if len(p) == 0 {
			return nil, true
		}
		return p[1:], p[0] == name || p[0] == "*"
	}
	switch {
	case n.Kind == message.Map && was.Kind == message.Map:
		out := *n
		out.Native = nil // it is written anew
		out.Members = slices.Clone(n.Members)
		for i, m := range out.Members {
			if rest, is := below(m.Name); is {
				out.Members[i].Value = restore(m.Value, was.Get(m.Name), rest)
			}
		}
		return &out
	case n.Kind == message.List && was.Kind == message.List:
		out := *n
		out.Native = nil // it is written anew
		out.Items = slices.Clone(n.Items)
		for i := range out.Items {
			if rest, is := below(strconv.Itoa(i)); is && i < len(was.Items) {
				out.Items[i] = restore(out.Items[i], was.Items[i], rest)
			}
		}
		return &out
	}
	return n
}

// Touches tells whether a JSON Pointer leads to a masked field, below one, or to something
// that holds one: what is moved or copied from there would be seen.
func Touches(paths []Path, pointer string) bool {
	if pointer == "" {
		return len(paths) > 0
	}
	asked := Parse([]string{pointer})
	if len(asked) == 0 {
		return true
	}
	return slices.ContainsFunc(paths, func(p Path) bool {
		for i := range min(len(p), len(asked[0])) {
			if p[i] != "*" && p[i] != asked[0][i] {
				return false
			}
		}
		return true
	})
}

// MakeUp gives a message with made-up values of like shape in the masked fields: letters
// for letters, capitals for capitals, digits for digits, and all else as it is. The same
// value becomes the same, so that what is equal stays so.
func MakeUp(root *message.Node, paths []Path) *message.Node {
	return each(root, paths, func(leaf *message.Node) *message.Node {
		switch leaf.Kind {
		case message.String:
			return message.NewString(MadeUp(leaf.Text))
		case message.Number:
			return message.NewNumber(MadeUp(leaf.Text))
		}
		return leaf
	})
}

// MadeUp gives a made-up value of like shape.
func MadeUp(text string) string {
	h := fnv.New64a()
	_, _ = h.Write([]byte(text))
	seed := h.Sum64() | 1
	next := func(n uint64) rune {
		seed ^= seed << 13
		seed ^= seed >> 7
		seed ^= seed << 17
		return rune(seed % n)
	}
	first := true
	return strings.Map(func(r rune) rune {
		begins := first
		first = false
		switch {
		case unicode.IsDigit(r) && begins && r != '0': // a number does not begin with a naught
			return '1' + next(9)
		case unicode.IsDigit(r):
			return '0' + next(10)
		case unicode.IsUpper(r):
			return 'A' + next(26)
		case unicode.IsLetter(r):
			return 'a' + next(26)
		}
		return r
	}, text)
}

// Veil hides values in texts.
type Veil struct {
	words *strings.Replacer
	names *regexp.Regexp // members whose numbers are hidden; nil: none
}

// NewVeil makes one of values, and of the paths where numbers and short values stand.
func NewVeil(values []string, paths []Path) *Veil {
	sorted := slices.Clone(values)
	slices.SortFunc(sorted, func(a, b string) int { return len(b) - len(a) })
	var pairs []string
	add := func(from, to string) {
		if from != "" {
			pairs = append(pairs, from, to)
		}
	}
	for _, v := range sorted {
		if len([]rune(v)) >= least {
			for _, form := range forms(v) {
				add(form, Shown)
			}
			continue
		}
		for _, q := range []string{`"`, `\"`, `\\\"`, `\\\\\\\"`} {
			add(q+v+q, q+Shown+q)
		}
		add(">"+v+"<", ">"+Shown+"<")
		add(`\u003e`+v+`\u003c`, `\u003e`+Shown+`\u003c`)
		for _, sep := range []string{"|", "^", "&", "~"} {
			add(sep+v+sep, sep+Shown+sep)
		}
	}
	return &Veil{strings.NewReplacer(pairs...), members(paths)}
}

// forms are the ways in which a value stands in the formats, and in JSON that holds them.
func forms(v string) []string {
	out := []string{v}
	add := func(s string) {
		if !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	add(strings.ToLower(v))
	add(strings.ToUpper(v))
	add(url.QueryEscape(v))
	add(url.PathEscape(v))
	xml := strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&#34;", "'", "&#39;").Replace(v)
	add(xml)
	add(strings.NewReplacer("&#34;", "&quot;", "&#39;", "&apos;").Replace(xml))
	add(strings.ReplaceAll(v, `"`, `""`))
	for range 3 {
		for _, s := range slices.Clone(out) {
			add(escaped(s))
			add(ascii(escaped(s)))
		}
	}
	return out
}

// escaped gives a text as it stands inside of a JSON string.
func escaped(s string) string {
	b, err := json.Marshal(s)
	if err != nil {
		return s
	}
	return string(b[1 : len(b)-1])
}

// ascii writes letters beyond ASCII as \u escapes, as some do.
func ascii(s string) string {
	var b strings.Builder
	for _, r := range s {
		if r < 0x80 {
			b.WriteRune(r)
			continue
		}
		q := strconv.QuoteRuneToASCII(r)
		b.WriteString(q[1 : len(q)-1])
	}
	return b.String()
}

func members(paths []Path) *regexp.Regexp {
	var names []string
	for _, p := range paths {
		if last := p[len(p)-1]; last != "*" && !slices.Contains(names, regexp.QuoteMeta(last)) {
			names = append(names, regexp.QuoteMeta(last))
		}
	}
	if len(names) == 0 {
		return nil
	}
	return regexp.MustCompile(`(\\*"(?:` + strings.Join(names, "|") + `)\\*"\s*:\s*)(?:-?[0-9][0-9.eE+-]*|true|false)`)
}

// Hide hides the values in a text.
func (v *Veil) Hide(text string) string {
	if v.names != nil {
		text = v.names.ReplaceAllString(text, "${1}null")
	}
	return v.words.Replace(text)
}
