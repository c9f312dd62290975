package expr

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	celast "cel.dev/cel-go/common/ast"

	"readyferry/core/message"
)

// configName is what expressions call the values of the place that a flow runs at.
const configName = "config"

// config are values that expressions name as config.…: constants, so that the same version
// of a flow always gives the same.
type config struct {
	values map[string]*message.Node

	mu   sync.Mutex
	read map[string]*message.Node
}

// WithConfig gives an environment whose expressions see values under config.…, by names
// with dots. It notes which of them are read by what is compiled with it: Config tells.
func (env *Env) WithConfig(values map[string]*message.Node) (*Env, error) {
	out := *env
	out.config = &config{values: values, read: map[string]*message.Node{}}
	out.laxer = nil
	var opts []cel.EnvOption
	for _, name := range slices.Sorted(maps.Keys(values)) {
		v := nodes.NativeToValue(values[name])
		t, ok := v.Type().(*cel.Type)
		if !ok {
			return nil, fmt.Errorf("config.%s is of no kind that expressions know", name)
		}
		opts = append(opts, cel.Constant(configName+"."+name, t, v))
	}
	var err error
	if out.cel, err = env.cel.Extend(opts...); err != nil {
		return nil, fmt.Errorf("the values of config: %w", err)
	}
	return &out, nil
}

// Config gives the values of config that have been read by what was compiled.
func (env *Env) Config() map[string]*message.Node {
	if env.config == nil {
		return nil
	}
	env.config.mu.Lock()
	defer env.config.mu.Unlock()
	return maps.Clone(env.config.read)
}

// noteConfig notes which values a checked expression reads.
func (env *Env) noteConfig(ast *celast.AST) {
	if env.config == nil {
		return
	}
	env.config.mu.Lock()
	defer env.config.mu.Unlock()
	for _, r := range ast.ReferenceMap() {
		if name, is := strings.CutPrefix(r.Name, configName+"."); is && r.Value != nil {
			env.config.read[name] = env.config.values[name]
		}
	}
}

func isConfig(name string) bool { return name == configName || strings.HasPrefix(name, configName+".") }

// noConfig says what is wrong with a value that there is not, by the name in it.
func (env *Env) noConfig(named string, e *CompileError) {
	name := strings.TrimPrefix(strings.TrimPrefix(named, configName), ".")
	var all []string
	if env.config != nil {
		all = slices.Sorted(maps.Keys(env.config.values))
	}
	e.Message = fmt.Sprintf("config has no %s here", name)
	if name == "" {
		e.Message = "config has no value of this name here"
	}
	near := Nearest(name, all)
	switch {
	case len(near) > 0:
		e.Repair = "did you mean config." + strings.Join(near, " or config.") + "?"
	case len(all) > 0:
		e.Repair = "there is config." + strings.Join(all[:min(8, len(all))], ", config.")
	default:
		e.Repair = "values stand in the files that the application is started with: --config FILE"
	}
}
