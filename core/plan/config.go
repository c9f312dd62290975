package plan

import (
	"bytes"
	"fmt"
	"slices"

	"readyferry/core/config"
	"readyferry/core/expr"
	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// ConfigFile is the file of a version with the values of config that it reads: a version
// that goes on elsewhere, or later, gives what it gave.
const ConfigFile = ".config.json"

// Configure says what drafts see under config. It is to be called before anything is read.
func (r *Reader) Configure(values config.Values) { r.config = values }

// Configured gives the values that drafts see.
func (r *Reader) Configured() config.Values { return r.config }

// environment gives what the expressions of a document are compiled in. A version sees the
// values that it was published with, a draft those of this place.
func (r *Reader) environment(rules flow.Rules, src []byte, files map[string][]byte, here config.Values) (*expr.Env,
	error) {
	env := r.env
	if rules < flow.Rules2 {
		env = env.Lax()
	}
	if own, has := files[ConfigFile]; has {
		d, err := jsonfmt.Decode(own)
		if err != nil {
			return nil, fmt.Errorf("the values of config that the version was published with: %w", err)
		}
		here = config.Values{}
		for _, m := range d.Root.Members {
			here[m.Name] = m.Value
		}
	}
	if len(here) == 0 || !bytes.Contains(src, []byte("config")) {
		return env, nil
	}
	return env.WithConfig(here)
}

// Keeps gives the files of a version: those of the draft, and the values of config that it reads.
func (p *Plan) Keeps(files map[string][]byte) map[string][]byte {
	out := WithoutConfig(files)
	if len(p.Config) == 0 {
		return out
	}
	values := message.NewMap()
	for _, name := range p.Config.Names() {
		values = values.With(name, p.Config[name])
	}
	out[ConfigFile] = jsonfmt.Encode(values)
	return out
}

// WithoutConfig gives the files of a version that stand in its draft, too.
func WithoutConfig(files map[string][]byte) map[string][]byte {
	out := map[string][]byte{}
	for name, content := range files {
		if name != ConfigFile {
			out[name] = content
		}
	}
	return out
}

// Differs lists which values that the plan reads are others now.
func (p *Plan) Differs(now config.Values) (out []string) {
	for name, was := range p.Config {
		if v := now[name]; v == nil || v.Kind != was.Kind || v.Text != was.Text {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}
