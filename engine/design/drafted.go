package design

import "readyferry/core/plan"

// drafted reads a document of a flow with its saved files; nil stands for the saved draft. One
// that cannot be walked gives a *FindingsError.
func (g *Designs) drafted(name string, document []byte) (*plan.Plan, error) {
	f, err := g.Store.Flow(name)
	if err != nil {
		return nil, err
	}
	if document == nil {
		document = []byte(f.Draft)
	}
	files, err := g.Store.Files(name)
	if err != nil {
		return nil, err
	}
	p, findings := g.Read(name, document, files)
	if p == nil {
		return nil, &FindingsError{"the draft cannot be read", findings}
	}
	return p, nil
}
