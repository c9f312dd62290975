// Command fleet measures what a fleet costs: it starts one instance alone and fleets of three on this
// machine, hands all of them the same messages, and prints how many were accepted a second and how much
// time of the processor each took, all processes together.
//
// They are loaded in turn, again and again: what else the machine does, and how fast it is meanwhile, is
// borne by all of them then, and what one takes beside another can be relied upon where its figures by
// themselves cannot. What is counted goes from the first call of a turn until the processes are quiet again, so
// that nothing is left out that is done later. All deliver what they accept to a target in this process,
// whose share is not counted. Run it on a quiet machine: go run ./bench/fleet
package main

import (
	"bytes"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

func main() {
	var m measuring
	flag.DurationVar(&m.span, "for", 12*time.Second, "how long each is loaded, all its turns together")
	flag.IntVar(&m.turns, "turns", 6, "how many turns that is")
	flag.IntVar(&m.callers, "callers", 64, "callers at once")
	flag.BoolVar(&m.deliver, "deliver", true, "deliver what is accepted")
	simulates := flag.Bool("simulate", false, "play fleets of 3 to 24 members in virtual time, with costs as measured")
	only := flag.String("only", "", "measure what has this in its name, and one alone")
	programs := flag.String("program", "", "measure these programs, not what is built from here; several with a comma between, to compare them")
	flag.Parse()
	if *programs != "" {
		m.programs = strings.Split(*programs, ",")
	}
	kinds = slices.DeleteFunc(kinds, func(k kind) bool { return k.partitions > 0 && !strings.Contains(k.name, *only) })
	if *simulates {
		printSimulated()
		return
	}
	if err := m.run(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// kind is something that is measured.
type kind struct {
	name       string
	partitions int    // none: one alone
	leader     bool   // its callers call the member that leads
	order      string // of the flow
}

// beside gives which one alone does the same work: keeping an order is work, with and without a fleet.
func (k kind) beside() string {
	if k.order != "" {
		return "one, in order"
	}
	return "one"
}

// kinds are what is measured: one alone, three members with one partition, called at all of them or at the one that
// leads, and three with as many partitions, for messages without an order and for those of many
// order values.
var kinds = []kind{
	{name: "one"}, {name: "one, in order", order: "body.card"},
	{"three", 1, false, ""}, {"three, by its leader", 1, true, ""},
	{"three, 3 partitions", 3, false, ""}, {"three, 3, in order", 3, false, "body.card"},
}

// measuring is what is measured, and how.
type measuring struct {
	span, turn time.Duration
	turns      int
	callers    int
	deliver    bool
	programs   []string
	dir        string
	trials     []*trial
}

func (m *measuring) run() (err error) {
	if m.dir, err = os.MkdirTemp("", "fleet-"); err != nil {
		return err
	}
	defer os.RemoveAll(m.dir)
	if len(m.programs) == 0 {
		file, err := built(m.dir)
		if err != nil {
			return err
		}
		m.programs = []string{file}
	}
	defer func() {
		for _, t := range m.trials {
			t.stop()
		}
	}()
	for _, program := range m.programs {
		for _, k := range kinds {
			if err := m.begin(program, k); err != nil {
				return fmt.Errorf("%s: %w", k.name, err)
			}
		}
	}
	m.turn = m.span / time.Duration(m.turns)
	for turn := range m.turns + 1 { // in the first one they become warm
		for i := range m.trials {
			m.take(m.trials[(i+turn)%len(m.trials)], turn > 0)
		}
	}
	m.print()
	return nil
}

// begin starts one kind of a program, with the flow that is called.
func (m *measuring) begin(program string, k kind) error {
	dir := filepath.Join(m.dir, strconv.Itoa(len(m.trials)))
	begun := one
	if k.partitions > 0 {
		begun = three
	}
	t, err := begun(program, dir, k.partitions)
	if err != nil {
		return err
	}
	t.kind, t.program = k, program
	m.trials = append(m.trials, t)
	at, err := t.receive()
	if err == nil {
		err = design(t, at, m.deliver, k.order)
	}
	if err == nil && k.partitions > 1 {
		err = t.spread()
	}
	if err == nil && k.leader {
		err = t.leaderOnly()
	}
	return err
}

// take gives one of them a turn.
func (m *measuring) take(t *trial, counts bool) {
	before := cpu(t)
	n := load(t, m.callers, m.turn)
	used := quiet(t)
	if counts {
		t.accepted += n
		t.used += used - before
	}
}

func (m *measuring) print() {
	for _, program := range m.programs {
		if len(m.programs) > 1 {
			fmt.Println(program)
		}
		fmt.Printf("%-24s %12s %14s %16s\n", "", "accepted/s", "CPU ms each", "beside one alone")
		each := map[string]float64{}
		for _, t := range m.trials {
			if t.program != program {
				continue
			}
			each[t.name] = t.used.Seconds() * 1000 / float64(t.accepted)
			fmt.Printf("%-24s %12.0f %14.3f", t.name, float64(t.accepted)/m.span.Seconds(), each[t.name])
			if t.partitions > 0 {
				fmt.Printf(" %16.2f", each[t.name]/each[t.beside()])
			}
			fmt.Println()
		}
	}
}

// load calls all members for a while, and counts what was accepted.
func load(t *trial, callers int, span time.Duration) (accepted int64) {
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: callers}}
	var n atomic.Int64
	until := time.Now().Add(span)
	var all sync.WaitGroup
	for i := range callers {
		all.Go(func() {
			url := t.bases[i%len(t.bases)] + "/in/f"
			body := []byte(fmt.Sprintf(`{"card":"%d %s"}`, i, strings.Repeat("x", 900)))
			for time.Now().Before(until) {
				res, err := client.Post(url, "application/json", bytes.NewReader(body))
				if err != nil {
					continue
				}
				_, _ = io.Copy(io.Discard, res.Body)
				res.Body.Close()
				if res.StatusCode == http.StatusAccepted {
					n.Add(1)
				}
			}
		})
	}
	all.Wait()
	return n.Load()
}

// quiet waits until the processes have done next to nothing for a while, since the index of words rests after much
// has come, and then makes up for what it has left. It gives what they had used when that while began.
func quiet(t *trial) time.Duration {
	const span = 500 * time.Millisecond
	used := cpu(t)
	for last, still := used, 0; still < 3; still++ {
		time.Sleep(span)
		now := cpu(t)
		if now-last > span/10 {
			used, still = now, 0
		}
		last = now
	}
	return used
}
