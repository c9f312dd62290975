package flow

import (
	"fmt"
	"sort"
)

// Level says how grave a finding is.
type Level string

// The levels of findings. A flow with an Error cannot be published.
const (
	Error   Level = "error"
	Warning Level = "warning"
	Note    Level = "note"
)

// Finding is something about a document that its author should know.
type Finding struct {
	Level   Level  `json:"level"`
	Code    string `json:"code"`    // stable, for programs
	Step    string `json:"step"`    // id of the step, or ""
	Pointer string `json:"pointer"` // JSON Pointer into the document
	Line    int    `json:"line"`    // from 1
	Column  int    `json:"column"`
	Message string `json:"message"`
	Repair  string `json:"repair"` // what to do, or ""
	Mends   []Mend `json:"mends,omitempty"`
}

// Mend is an edit of the document behind which a finding is gone.
type Mend struct {
	Text  string      `json:"text"`  // what it does, as on a button
	Patch []Operation `json:"patch"` // as JSON Patch has it (RFC 6902)
}

// Operation is one of a JSON Patch: add, replace or remove.
type Operation struct {
	Op    string `json:"op"`
	Path  string `json:"path"`
	Value any    `json:"value,omitempty"`
}

// Error gives the finding as one line.
func (f Finding) Error() string {
	s := fmt.Sprintf("line %d, column %d: %s", f.Line, f.Column, f.Message)
	if f.Step != "" {
		s = fmt.Sprintf("line %d, column %d, step %s: %s", f.Line, f.Column, f.Step, f.Message)
	}
	if f.Repair != "" {
		s += " (" + f.Repair + ")"
	}
	return s
}

// HasErrors tells whether any finding is an error.
func HasErrors(findings []Finding) bool {
	for _, f := range findings {
		if f.Level == Error {
			return true
		}
	}
	return false
}

// Sort puts findings in the order of the document.
func Sort(findings []Finding) {
	sort.SliceStable(findings, func(i, j int) bool {
		a, b := findings[i], findings[j]
		return a.Line < b.Line || a.Line == b.Line && a.Column < b.Column
	})
}
