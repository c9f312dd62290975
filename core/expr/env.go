// Package expr compiles and evaluates the one expression language of flows:
// CEL, the Common Expression Language, with its standard extensions, over the
// document tree of core/message.
//
// An expression is compiled once, when its flow is read, and evaluated many
// times. Evaluation is pure: now() is the transaction's time and uuid() is
// derived from the transaction, the step and the place of the call, so the
// same run gives the same answer. Every evaluation has a bounded cost.
//
// Values that an expression only selects keep what was written: the result of
// body.price is the node that was read, so 0.10 stays 0.10.
package expr

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/functions"
	"cel.dev/cel-go/ext"
)

// costLimit bounds one evaluation, in CEL's cost units (about one per
// elementary operation). It stops an expression that would run for seconds.
const costLimit = 5_000_000

// bodiesName is what expressions call the bodies of earlier steps.
const bodiesName = "bodies"

// Names that an expression sees, with what each holds. Help shows them.
var names = []struct {
	Name, Text string
	typ        *cel.Type
}{
	{"body", "the message's body, as its format decodes it", cel.DynType},
	{
		"headers",
		"the message's headers, names in lower case: headers[\"request-id\"]",
		cel.MapType(cel.StringType, cel.StringType),
	},
	{"params", "the parameters of the intake's path", cel.MapType(cel.StringType, cel.StringType)},
	{
		"query",
		"the parameters of the query: a string, or a list where a name stands twice",
		cel.MapType(cel.StringType, cel.DynType),
	},
	{
		"message",
		"id, receivedAt, size (bytes), format, reference; in a split id is that of the part, and parent that of the whole message",
		cel.MapType(cel.StringType, cel.DynType)},
	{"vars", "values put there by set steps", cel.MapType(cel.StringType, cel.DynType)},
	{
		bodiesName,
		"the body as it stood behind an earlier step, by its id: bodies.clean; bodies.intake as it came in",
		cel.MapType(cel.StringType, cel.DynType),
	},
	{
		"replies",
		"answers of deliveries by step id: replies.printer.status, .headers, .body",
		cel.MapType(cel.StringType, cel.DynType),
	},
}

// Env compiles expressions. It is safe for concurrent use.
type Env struct {
	cel    *cel.Env
	impls  map[string]functions.FunctionOp // of calls whose size is foreseen
	locals []string                        // names that loops around an expression give
	tables *Tables                         // what lookup() reads, or nil
	kept   bool                            // lookup() finds tables that are no files, too
	lax    bool                            // an optional access through a value without members finds nothing
	laxer  *Env                            // the same with lax
	config *config                         // values under config, or nil
}

// Lax gives the environment in which an optional access through null, or through
// another value without members, finds nothing instead of failing: so it was
// before the specification was followed there, and published flows rely on it.
func (env *Env) Lax() *Env {
	if env.laxer != nil {
		return env.laxer
	}
	return env
}

// With gives an environment with more names: those of a loop around an
// expression. A scope holds their values under Locals.
func (env *Env) With(names ...string) (*Env, error) {
	out := &Env{locals: append(slices.Clone(env.locals), names...), tables: env.tables, impls: env.impls}
	out.kept, out.lax, out.config = env.kept, env.lax, env.config
	var opts []cel.EnvOption
	for _, n := range names {
		if n != bodiesName && (isRoot(n) || n == "message" || n == configName &&
			env.config != nil) { // flows had loops of that name before it had a meaning
			return nil, fmt.Errorf("the name %q is taken", n)
		}
		if !slices.Contains(env.locals, n) {
			opts = append(opts, cel.Variable(n, cel.DynType))
		}
	}
	var err error
	if out.cel, err = env.cel.Extend(opts...); err != nil {
		return nil, fmt.Errorf("the names %v: %w", names, err)
	}
	return out, nil
}

// root tells whether a name is the beginning of a path into the message.
func (env *Env) root(name string) bool { return isRoot(name) || slices.Contains(env.locals, name) }

// Local tells whether a name is one that a loop around the expression gives.
func (env *Env) Local(name string) bool { return slices.Contains(env.locals, name) }

// New makes an environment. It is costly (milliseconds): make one and share it.
func New() (*Env, error) {
	env, err := newEnv(false)
	if err == nil {
		env.laxer, err = newEnv(true)
	}
	return env, err
}

func newEnv(lax bool) (*Env, error) {
	opts := []cel.EnvOption{
		// In has() and .? a value without members is an error, as the specification has it.
		cel.EnableErrorOnBadPresenceTest(!lax),
		cel.CustomTypeAdapter(nodes),
		cel.EagerlyValidateDeclarations(true),
		cel.EnableIdentifierEscapeSyntax(),
		cel.OptionalTypes(),
		ext.Strings(ext.StringsMaxPrecision(maxPrecision)), ext.Math(), ext.Lists(ext.ListsMaxRangeSize(maxRange)),
		ext.Sets(),
		ext.Encoders(), ext.Bindings(), ext.TwoVarComprehensions(),
		ext.Network(),
		cel.Variable(nowName, cel.TimestampType),
		cel.Variable(seedName, cel.StringType),
	}
	for _, n := range names {
		opts = append(opts, cel.Variable(n.Name, n.typ), cel.Variable(twinMark+n.Name, cel.DynType))
	}
	for _, f := range Functions() {
		opts = append(opts, f.options...)
	}
	env, err := cel.NewEnv(opts...)
	if err != nil {
		return nil, fmt.Errorf("making the expression environment: %w", err)
	}
	impls, err := implementations(env)
	if err != nil {
		return nil, fmt.Errorf("making the expression environment: %w", err)
	}
	return &Env{cel: env, impls: impls, lax: lax}, nil
}

// Name is a name that expressions may use.
type Name struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// Names lists what expressions may use, for help and completion.
func Names() []Name {
	out := make([]Name, len(names))
	for i, n := range names {
		out[i] = Name{n.Name, n.Text}
	}
	return append(
		out,
		Name{configName, "the values of the place where the flow runs, from the files of --config: config.shelf.address; " +
			"a version keeps those that it was published with"},
		Name{"part", "inside of a split: the item"},
		Name{"index", "inside of a split, or of a loop of a map: which one it is, from 0"},
		Name{"last", "inside of a split: whether it is the last part"},
		Name{"group", "behind an aggregate: key, count, items, openedAt, closedAt, why"},
		Name{"row", "in a look-up: the row of the hop before; in a hold: the row that is waited for"},
		Name{"caught", "in the else of a step: step, path, kind, setting, class, reason of what failed"},
		Name{
			"letter",
			"in the steps for a dead letter: id, flow, version, transaction, reference, step, path, kind, setting, class, reason, at",
		},
		Name{"item", "in the mark of a poll: one item of the answer"},
		Name{"mark", "in the path of a poll: how far it has come"},
		Name{"record", "in the filter of a bulk load: one record"},
	)
}

func rootNames() []string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = n.Name
	}
	return out
}

// Nearest gives the candidates that are likely meant by a mistyped name, the
// closest first, at most three.
func Nearest(name string, candidates []string) []string {
	type scored struct {
		name string
		d    int
	}
	var near []scored
	limit := max(1, min(3, len(name)/2))
	for _, c := range candidates {
		if d := distance(strings.ToLower(name), strings.ToLower(c)); d <= limit {
			near = append(near, scored{c, d})
		}
	}
	sort.SliceStable(near, func(i, j int) bool { return near[i].d < near[j].d })
	var out []string
	for _, n := range near[:min(3, len(near))] {
		out = append(out, n.name)
	}
	return out
}

// distance counts insertions, deletions, replacements and swaps of neighbours
// (optimal string alignment).
func distance(a, b string) int {
	x, y := []rune(a), []rune(b)
	if len(x) > 64 || len(y) > 64 {
		return 1 << 20
	}
	before, last, row := make([]int, len(y)+1), make([]int, len(y)+1), make([]int, len(y)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(x); i++ {
		row[0] = i
		for j := 1; j <= len(y); j++ {
			cost := 1
			if x[i-1] == y[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, last, row = last, row, before
	}
	return last[len(y)]
}
