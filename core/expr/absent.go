package expr

import (
	"fmt"
	"slices"

	"readyferry/core/message"
)

// Needed chooses, of the paths that an expression reads from a root, those that have to be
// there for it to come to anything: none that it reads with ? or asks for with has, and none
// below such a one.
func Needed(paths []Path, root string) (out []Path) {
	for _, p := range paths {
		if p.Root != root || len(p.segments) == 0 || slices.ContainsFunc(paths, p.asked) {
			continue
		}
		out = append(out, p)
	}
	return out
}

// asked tells whether another path asks for what this one reads, or for something above it.
func (p Path) asked(other Path) bool {
	return other.Root == p.Root && len(other.segments) <= len(p.segments) &&
		slices.ContainsFunc(other.segments, func(s segment) bool { return s.optional }) &&
		slices.EqualFunc(other.segments, p.segments[:len(other.segments)], segment.names)
}

// names tells whether two segments name the same.
func (s segment) names(o segment) bool {
	return s.name == o.name && s.index == o.index && s.isIndex == o.isIndex
}

// Absent follows the path below a value, and says what of it is not there; nil where it is.
func (p Path) Absent(root *message.Node) *MissingError {
	if _, at := p.follow(root); at >= 0 {
		return p.missing(root, at)
	}
	return nil
}

// missing says what is there in place of a segment.
func (p Path) missing(root *message.Node, at int) *MissingError {
	holder, _ := Path{Root: p.Root, segments: p.segments[:at]}.follow(root)
	e := &MissingError{Path: p.upTo(at + 1), At: p.upTo(at), Name: p.segments[at].name}
	if p.segments[at].isIndex {
		e.Name = fmt.Sprintf("item %d", p.segments[at].index)
		if holder != nil && holder.Kind == message.List {
			e.Names = []string{fmt.Sprintf("%d items", len(holder.Items))}
		}
		return e
	}
	if holder == nil {
		return e
	}
	if holder.Kind != message.Map {
		e.Names = []string{"no members, because it is a " + holder.Kind.String()}
		return e
	}
	e.Near = Nearest(e.Name, holder.Names())
	e.Names = slices.Clip(holder.Names())[:min(8, len(holder.Members))]
	return e
}

// Below writes the path of a member as an expression would.
func Below(path, name string) string {
	return Path{Root: path, segments: []segment{{name: name}}}.String()
}

// Names gives the members that a path goes through below its root; plain is false where it
// goes through a list or reads a place of an HL7 message.
func (p Path) Names() (names []string, plain bool) {
	for _, s := range p.segments {
		if s.isIndex {
			return nil, false
		}
		names = append(names, s.name)
	}
	return names, p.place == ""
}
