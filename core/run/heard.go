package run

import (
	"fmt"
	"slices"

	"readyferry/core/flow"
	"readyferry/core/step"
)

// heard tells what the conditions of a step came to without failing.
func (w *walker) heard(s *step.Compiled) {
	missed, mixed := w.watch.Take()
	for _, m := range missed {
		w.result.Notes = append(w.result.Notes, step.Note{Level: "info",
			Text: fmt.Sprintf("%s: %s counts as false, since %s", s.ID, m.Source, m.Why)})
	}
	for _, m := range mixed {
		f := flow.Finding{Level: flow.Warning, Code: "compares-element", Pointer: m.At,
			Message: fmt.Sprintf("%s is an element with attributes, which no text equals", m.Path),
			Repair:  fmt.Sprintf("write text(%s)", m.Path)}
		if !slices.ContainsFunc(w.result.Findings, func(o flow.Finding) bool {
			return o.Pointer == f.Pointer &&
				o.Message == f.Message
		}) {
			w.result.Findings = append(w.result.Findings, f)
		}
	}
}
