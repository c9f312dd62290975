// Command table measures the guaranteed path beside programs that anybody could write by
// hand for the same work, and prints one table of ratios. Both sides of a ratio alternate
// in one run, on one machine, with the same client and the same target; a ratio is the
// median of its rounds.
//
// The other sides are:
//
//   - bare: a Gin handler that reads the body and answers 202
//   - pipeline: the same, and behind it the message is decoded, one of five conditions
//     chosen, and handed over to the target by as many workers as a connection has in
//     flight; nothing is kept
//   - a bare client of an outside system's library, which takes messages and acknowledges
//     them, or publishes them: those are benchmarks of their own, in ./bench
//   - kept pipeline: the same, and each message is committed to SQLite three times: when
//     it is taken in, when it is about to be handed over, and when it has been
package main

import (
	"flag"
	"fmt"
	"os"
	"runtime/pprof"
	"slices"
	"time"
)

func main() {
	rounds := flag.Int("rounds", 5, "how often both sides are measured in turns")
	each := flag.Duration("each", 4*time.Second, "how long a side is measured")
	only := flag.String("only", "", "measure this one alone")
	profile := flag.String("profile", "", "write a profile of the processor into this file, of our sides alone")
	outside := flag.Bool("systems", true, "measure the outside systems, too; that takes some minutes")
	waiting := flag.Int("waiting", 0, "measure with so many messages that wait, too; with a million it takes some minutes a round")
	flag.Parse()
	err := table(*rounds, *each, *only, *profile, *waiting)
	if err == nil && *outside && *only == "" {
		err = ofSystems(*rounds)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// measure is one row: how both sides do in one round.
type measure struct {
	name, beside string
	reach        string
	round        func(each time.Duration) (ours, other float64, err error)
}

func table(rounds int, each time.Duration, only, profile string, waiting int) error {
	rig, err := newRig()
	if err != nil {
		return err
	}
	defer rig.close()
	if profile != "" {
		defer func() {
			if f, err := os.Create(profile + ".allocs"); err == nil {
				_ = pprof.Lookup("allocs").WriteTo(f, 0)
				_ = f.Close()
			}
		}()
		f, err := os.Create(profile)
		if err != nil {
			return err
		}
		defer f.Close()
		rig.profile = f
		defer pprof.StopCPUProfile()
	}
	fmt.Printf("| measure | reached | to reach | ours | the other | rounds | steal |\n| --- | --- | --- | --- | --- | --- | --- |\n")
	all := rig.measures()
	if waiting > 0 {
		all = append(all, rig.backlogs(waiting, 10_000)...)
	}
	for _, m := range all {
		if only != "" && only != m.name {
			continue
		}
		before := ticks()
		var ratios, ours, others []float64
		for range rounds {
			a, b, err := m.round(each)
			if err != nil {
				return fmt.Errorf("%s: %w", m.name, err)
			}
			ratios, ours, others = append(ratios, a/b), append(ours, a), append(others, b)
		}
		fmt.Printf("| %s, beside %s | %.3f | %s | %.4g | %.4g | %.3f to %.3f | %s |\n", m.name, m.beside, median(ratios), m.reach,
			median(ours), median(others), slices.Min(ratios), slices.Max(ratios), stolen(before, ticks()))
	}
	return nil
}

func median(all []float64) float64 {
	sorted := slices.Sorted(slices.Values(all))
	return sorted[len(sorted)/2]
}

// ticks gives what the processors have done since the machine began, from /proc/stat.
func ticks() (n [8]float64) {
	b, err := os.ReadFile("/proc/stat")
	if err == nil {
		_, _ = fmt.Sscanf(string(b), "cpu %f %f %f %f %f %f %f %f", &n[0], &n[1], &n[2], &n[3], &n[4], &n[5], &n[6], &n[7])
	}
	return n
}

// stolen says which share of the time the host took away.
func stolen(before, after [8]float64) string {
	sum := 0.0
	for i := range after {
		sum += after[i] - before[i]
	}
	if sum == 0 {
		return "unknown"
	}
	return fmt.Sprintf("%.1f %%", 100*(after[7]-before[7])/sum)
}
