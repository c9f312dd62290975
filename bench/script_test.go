package bench

import (
	"fmt"
	"os"
	"testing"
	"time"

	"readyferry/core/message"
	"readyferry/core/script"
	"readyferry/worker"
)

// The benchmark's own program is the worker.
func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == worker.Argument {
		if err := worker.Serve(os.Stdin, os.Stdout); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(2)
		}
		return
	}
	os.Exit(m.Run())
}

// A script in a process of its own against the same script in this one: over a small
// message, and over one of a thousand rows.
func BenchmarkScript(b *testing.B) {
	pool, err := worker.New("")
	if err != nil {
		b.Fatal(err)
	}
	defer func() { _ = pool.Close() }()
	run := func(runner script.Runner, source string) func(in map[string]*message.Node) {
		sandbox, err := script.NewSandbox()
		if err != nil {
			b.Fatal(err)
		}
		sandbox.Runner = runner
		p, err := sandbox.Compile(source, time.Second)
		if err != nil {
			b.Fatal(err)
		}
		return func(in map[string]*message.Node) {
			if _, err := p.Run(in); err != nil {
				b.Fatal(err)
			}
		}
	}
	for _, rows := range []int{1, 1000} {
		list := message.NewList()
		for i := range rows {
			list.Items = append(list.Items, message.NewMap(message.Member{Name: "n", Value: message.NewNumber(fmt.Sprint(i))},
				message.Member{Name: "title", Value: message.NewString("The lighthouse at the end of the pier")}))
		}
		in := map[string]*message.Node{"body": message.NewMap(message.Member{Name: "rows", Value: list})}
		const source = "let sum = 0; for (const r of body.rows) sum += r.n * r.title.length; return {sum};"
		b.Run(fmt.Sprintf("%d-rows", rows), func(b *testing.B) {
			apart, here := run(pool, source), run(nil, source)
			apart(in)
			here(in)
			ratio(b, func() { apart(in) }, func() { here(in) })
		})
	}
}
