package pointer

import "readyferry/core/message"

// Merge applies a JSON Merge Patch (RFC 7396, section 2): members of the patch
// replace those of the target, null takes them away, maps are merged; anything
// else takes the target's place. target may be nil.
func Merge(target, patch *message.Node) *message.Node {
	if patch.Kind != message.Map {
		return patch
	}
	if target == nil || target.Kind != message.Map {
		target = message.NewMap()
	}
	for _, m := range patch.Members {
		if m.Value.Kind == message.Null {
			target = target.Without(m.Name)
			continue
		}
		target = target.With(m.Name, Merge(target.Get(m.Name), m.Value))
	}
	return target
}
