package design

import (
	"encoding/json"
	"fmt"

	"readyferry/core/contract"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/shape"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
)

// MadeUp is of what a sample is made up.
type MadeUp struct {
	File    string          `json:"file"`    // a JSON Schema, XSD or contract among the files of the flow
	Schema  json.RawMessage `json:"schema"`  // or a JSON Schema itself, as a step has it
	Choose  string          `json:"choose"`  // which message of a contract that has several
	HL7     string          `json:"hl7"`     // a type of message: ORU^R01
	Version string          `json:"version"` // of HL7; 2.5 where nothing is said
}

// MakeUp makes up a sample of a schema or of a type of message. It is not kept.
func (g *Designs) MakeUp(name string, of MadeUp) (*catalog.Sample, error) {
	out := &catalog.Sample{
		At:      g.Now(),
		Headers: map[string]string{},
		Params:  map[string]string{},
		Query:   map[string]string{},
	}
	if of.HL7 != "" {
		if of.Version == "" {
			of.Version = "2.5"
		}
		text, err := shape.HL7Sample(of.HL7, of.Version)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", journal.ErrDecision, err)
		}
		out.Name, out.Body, out.Headers["content-type"] = "made up "+of.HL7, text, "application/hl7-v2"
		return out, nil
	}
	files, err := g.Store.Files(name)
	if err != nil {
		return nil, err
	}
	text, ok := files[of.File]
	if len(of.Schema) > 0 {
		text, ok, of.File = of.Schema, true, "a schema"
	}
	if !ok {
		return nil, fmt.Errorf("%w: the flow has no file %q", journal.ErrDecision, of.File)
	}
	out.Name = "made up of " + of.File
	read, err := contract.Read(text)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", journal.ErrDecision, err)
	}
	if of.Choose == "" && len(read.Choices) > 0 {
		of.Choose = read.Choices[0].Name
	}
	made, err := read.Make(of.Choose)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", journal.ErrDecision, err)
	}
	out.Body = string(made.Sample)
	out.Headers["content-type"] = map[string]string{"xml": "application/xml"}[made.Format]
	if d, err := jsonfmt.Decode(made.Sample); err == nil {
		out.Body, out.Headers["content-type"] = string(jsonfmt.EncodeIndent(d.Root)), "application/json"
	}
	return out, nil
}
