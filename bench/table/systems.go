package main

import (
	"bufio"
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
)

// outsides are the benchmarks of ./bench that send messages in from an outside system and out
// to it, beside a bare client of the same library, with what they are called in the table.
var outsides = []struct{ benchmark, name string }{
	{"MQTT", "MQTT"}, {"AMQP", "AMQP 0-9-1"}, {"Stream", "a partitioned log"}, {"NATS", "NATS"}, {"Files", "files"},
	{"SFTP", "SFTP"}, {"FTP", "FTP"}, {"Objects", "objects"}, {"Mail", "mail"}, {"MLLP", "MLLP"}, {"SQL", "SQL"},
}

// beside is what one run of a benchmark gives.
type beside struct{ ratio, perSecond float64 }

// ofSystems measures the outside systems and writes their rows.
func ofSystems(rounds int) error {
	var names []string
	for _, s := range outsides {
		names = append(names, s.benchmark)
	}
	before := ticks()
	cmd := exec.Command("go", "test", "-run", "^$", "-bench", "^Benchmark("+strings.Join(names, "|")+")$", "-count",
		strconv.Itoa(rounds), "./bench")
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	if err != nil {
		return fmt.Errorf("measuring the outside systems: %w\n%s", err, out)
	}
	all := readBenchmarks(out)
	for _, s := range outsides {
		for _, way := range []string{"in", "out"} {
			var ratios, ours, others []float64
			for _, one := range all[s.benchmark+"/"+way] {
				ratios = append(ratios, one.ratio)
				ours, others = append(ours, one.perSecond), append(others, one.perSecond/one.ratio)
			}
			if len(ratios) == 0 {
				return fmt.Errorf("nothing was measured of Benchmark%s/%s", s.benchmark, way)
			}
			fmt.Printf("| messages %s, %s, beside a bare client of the same library | %.3f | ≥ 0.3 | %.4g | %.4g | %.3f to %.3f | %s |\n",
				way, s.name, median(ratios), median(ours), median(others), slices.Min(ratios), slices.Max(ratios),
				stolen(before, ticks()))
		}
	}
	return nil
}

// readBenchmarks reads what go test prints, by benchmark: name, how often, then values with
// their units (https://go.googlesource.com/proposal/+/master/design/14313-benchmark-format.md).
func readBenchmarks(out []byte) map[string][]beside {
	all := map[string][]beside{}
	for lines := bufio.NewScanner(bytes.NewReader(out)); lines.Scan(); {
		fields := strings.Fields(lines.Text())
		if len(fields) < 4 || !strings.HasPrefix(fields[0], "Benchmark") {
			continue
		}
		value := map[string]float64{}
		for i := 2; i+1 < len(fields); i += 2 {
			value[fields[i+1]], _ = strconv.ParseFloat(fields[i], 64)
		}
		if value["×other"] == 0 || value["ours-ns"] == 0 {
			continue
		}
		name, _, _ := strings.Cut(strings.TrimPrefix(fields[0], "Benchmark"), "-")
		all[name] = append(all[name], beside{1 / value["×other"], value["messages"] / value["ours-ns"] * 1e9})
	}
	return all
}
