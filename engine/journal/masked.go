package journal

import (
	"bytes"
	"slices"
	"strings"

	"readyferry/core/format"
	"readyferry/core/mask"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/pointer"
	"readyferry/store"
)

// MaskOf gives the paths that are masked in messages of a flow: those of its live version,
// of its draft, and of the version that a message has run under; p may be nil.
func (j *Journal) MaskOf(flow string, p *plan.Plan) []mask.Path {
	var texts []string
	add := func(p *plan.Plan) {
		if p != nil {
			texts = append(texts, p.Document.Mask...)
		}
	}
	add(p)
	if f := j.Catalog.Flow(flow); f != nil {
		add(f.Live)
		add(f.Draft)
	}
	slices.Sort(texts)
	return mask.Parse(slices.Compact(texts))
}

// Root reads a message as the intake of its flow does. name and layout are how it is
// written again.
func Root(t *store.Transaction, m *store.Message, p *plan.Plan) (root *message.Node, name string, l message.Layout,
	err error) {
	name = format.JSON
	if t.Parent == nil && !t.FromGroup && p != nil {
		e, err := decodeEnvelope(t, m)
		if err != nil {
			return nil, "", l, err
		}
		kind := ""
		for _, h := range e.Headers {
			if strings.EqualFold(h.Name, "content-type") {
				kind = h.Value
			}
		}
		if name = format.Of(p.Document.Intake.Format, kind); name == "" {
			name = format.JSON
		}
		l = p.Document.Intake.Layout
	}
	d, err := format.Decode(name, m.Body.Bytes(), l, format.Limits{})
	if err != nil {
		return nil, name, l, err
	}
	return d.Root, name, d.Layout, nil
}

// Repaired gives the message of a transaction as a decision wants it. What is masked in it,
// and was masked for who decided, stays as it was.
func (j *Journal) Repaired(
	d Decision, t *store.Transaction, m *store.Message, p *plan.Plan, patch pointer.Patch,
) ([]byte, error) {
	out, err := d.Repair(j.Catalog.Reader(), t, m, p, patch)
	if err != nil {
		return nil, err
	}
	return j.unmasked(t, m, p, out)
}

// unmasked puts the values back that an edited message does not show: whoever may not see
// them leaves them as they are.
func (j *Journal) unmasked(t *store.Transaction, m *store.Message, p *plan.Plan, edited []byte) ([]byte, error) {
	paths := j.MaskOf(t.Flow, p)
	if len(paths) == 0 || !bytes.Contains(edited, []byte(mask.Shown)) {
		return edited, nil
	}
	was, name, layout, err := Root(t, m, p)
	if err != nil {
		return edited, nil
	}
	now, err := format.Decode(name, edited, layout, format.Limits{})
	if err != nil {
		return nil, err
	}
	return format.Encode(name, mask.Restore(now.Root, was, paths), now.Layout)
}
