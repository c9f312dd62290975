// Command fleet measures what a fleet costs: it starts one instance alone and then a fleet of three on
// this machine, hands both the same messages, and prints how many were accepted a second and how much
// time of the processor each took, all processes together.
//
// Both deliver what they accept to a target in this process, whose share is not counted. Run it on a
// quiet machine: go run ./bench/fleet
package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

func main() {
	span := flag.Duration("for", 10*time.Second, "how long each is loaded")
	callers := flag.Int("callers", 64, "callers at once")
	deliver := flag.Bool("deliver", true, "deliver what is accepted")
	simulates := flag.Bool("simulate", false, "play fleets of 3 to 24 members in virtual time, with costs as measured")
	only := flag.String("only", "", "measure what has this in its name, and one alone")
	flag.Parse()
	kinds = slices.DeleteFunc(kinds, func(k kind) bool { return k.name != "one" && !strings.Contains(k.name, *only) })
	if *simulates {
		printSimulated()
		return
	}
	if err := run(*span, *callers, *deliver); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// trial is what runs: processes, and where they are called.
type trial struct {
	cmds  []*exec.Cmd
	bases []string
}

// status is how a fleet is, as far as this looks at it.
type status struct {
	Leader     string
	Members    []struct{ Name, Address string }
	Log        *struct{ Last, Bytes int64 }
	Partitions []struct{ Leader string }
}

func (t *trial) status() (s status, err error) {
	res, err := http.Get(t.bases[0] + "/api/v1/fleet")
	if err != nil {
		return s, err
	}
	defer res.Body.Close()
	return s, json.NewDecoder(res.Body).Decode(&s)
}

// spread waits until every partition is led by another member.
func (t *trial) spread() error {
	for range 600 {
		s, err := t.status()
		leads := map[string]bool{}
		for _, p := range s.Partitions {
			leads[p.Leader] = p.Leader != ""
		}
		if err == nil && len(leads) == len(s.Partitions) && len(leads) > 0 {
			return nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return errors.New("the partitions are never led by different members")
}

// leaderOnly has calls go to the member that leads.
func (t *trial) leaderOnly() error {
	s, err := t.status()
	for _, m := range s.Members {
		if m.Name == s.Leader {
			t.bases = []string{m.Address}
		}
	}
	return err
}

func (t *trial) stop() {
	for _, c := range t.cmds {
		_ = c.Process.Signal(os.Interrupt)
	}
	for _, c := range t.cmds {
		_ = c.Wait()
	}
}

func run(span time.Duration, callers int, deliver bool) error {
	dir, err := os.MkdirTemp("", "fleet-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	file := filepath.Join(dir, "readyferry")
	if out, err := exec.Command("go", "build", "-o", file, "./cmd/readyferry").CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	var landed atomic.Int64
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	go func() {
		_ = http.Serve(l, http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
			_, _ = io.Copy(io.Discard, r.Body)
			landed.Add(1)
		}))
	}()
	fmt.Printf("%-24s %12s %14s %16s\n", "", "accepted/s", "CPU ms each", "delivered")
	each := map[string]float64{}
	for i, k := range kinds {
		name := k.name
		var t *trial
		if name == "one" {
			t, err = one(file, filepath.Join(dir, "one"))
		} else {
			t, err = three(file, filepath.Join(dir, strconv.Itoa(i)), k.partitions)
		}
		if err != nil {
			return err
		}
		err = design(t, "http://"+l.Addr().String(), deliver, k.order)
		if err == nil && k.partitions > 1 {
			err = t.spread()
		}
		if err == nil && k.leader {
			err = t.leaderOnly()
		}
		if err != nil {
			t.stop()
			return err
		}
		landed.Store(0)
		load(t, callers, 2*time.Second) // it is warm then
		before := cpu(t)
		n := load(t, callers, span)
		drained(&landed)
		used := cpu(t) - before
		each[name] = used.Seconds() * 1000 / float64(n)
		fmt.Printf("%-24s %12.0f %14.3f %16d\n", name, float64(n)/span.Seconds(), each[name], landed.Load())
		t.stop()
	}
	for _, k := range kinds[1:] {
		fmt.Printf("processor of a message beside one alone, %s: %.2f\n", k.name, each[k.name]/each["one"])
	}
	return nil
}

// kind is something that is measured.
type kind struct {
	name       string
	partitions int
	leader     bool   // its callers call the member that leads
	order      string // of the flow
}

// kinds are what is measured: one alone, three members with one partition, called at all of them or at the one that
// leads, and three with as many partitions, for messages without an order and for those of many
// order values.
var kinds = []kind{
	{name: "one"}, {"three", 1, false, ""}, {"three, by its leader", 1, true, ""},
	{"three, 3 partitions", 3, false, ""}, {"three, 3, in order", 3, false, "body.card"},
}

// drained waits until nothing more comes to the target.
func drained(landed *atomic.Int64) {
	for last := int64(-1); last != landed.Load(); time.Sleep(time.Second) {
		last = landed.Load()
	}
}

// free gives an address that nobody listens at, and that no connection outward is given meanwhile.
func free() string {
	for {
		if l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", 10_000+rand.IntN(20_000))); err == nil {
			defer l.Close()
			return l.Addr().String()
		}
	}
}

func begin(file string, args ...string) (*exec.Cmd, error) {
	cmd := exec.Command(file, append([]string{"serve", "--without-sign-in", "--log-level", "error"}, args...)...)
	cmd.Stderr = os.Stderr
	return cmd, cmd.Start()
}

func one(file, dir string) (*trial, error) {
	at := free()
	cmd, err := begin(file, "--data", dir, "--listen", at)
	return &trial{[]*exec.Cmd{cmd}, []string{"http://" + at}}, err
}

func three(file, dir string, partitions int) (*trial, error) {
	t := &trial{}
	args := []string{"fleet", "init", "--out", dir, "--partitions", strconv.Itoa(partitions)}
	for _, name := range []string{"a", "b", "c"} {
		base := "http://" + free()
		t.bases = append(t.bases, base)
		args = append(args, "--member", fmt.Sprintf("%s=%s,%s,%s", name, free(), free(), base))
	}
	if out, err := exec.Command(file, args...).CombinedOutput(); err != nil {
		return nil, fmt.Errorf("%w: %s", err, out)
	}
	for i, name := range []string{"a", "b", "c"} {
		cmd, err := begin(file, "--fleet", filepath.Join(dir, name, "fleet.yaml"), "--data", filepath.Join(dir, name,
			"data"), "--listen",
			strings.TrimPrefix(t.bases[i], "http://"))
		if err != nil {
			return nil, err
		}
		t.cmds = append(t.cmds, cmd)
	}
	return t, nil
}

func call(method, url, body string) error {
	var last error
	for range 600 {
		req, err := http.NewRequest(method, url, strings.NewReader(body))
		if err != nil {
			return err
		}
		req.Header.Set("Content-Type", "application/json")
		res, err := http.DefaultClient.Do(req)
		if err == nil {
			b, _ := io.ReadAll(res.Body)
			res.Body.Close()
			if res.StatusCode < 300 {
				return nil
			}
			err = fmt.Errorf("%s %s: %s %s", method, url, res.Status, b)
			if res.StatusCode != 503 {
				return err
			}
		}
		last = err
		time.Sleep(100 * time.Millisecond)
	}
	return last
}

func design(t *trial, target string, deliver bool, order string) error {
	base := t.bases[0] + "/api/v1"
	steps := `[]`
	if deliver {
		steps = `[{"id":"d","kind":"deliver","to":"out","path":"/"}]`
		if err := call("PUT", base+"/connections/out", fmt.Sprintf(`{"readyferry":"connection/1","name":"out","kind":"http","address":%q,
			"limits":{"in-flight":64}}`, target)); err != nil {
			return err
		}
	}
	if order != "" {
		order = `,"order":"` + order + `"`
	}
	if err := call("PUT", base+"/flows/f",
		`{"readyferry":"flow/1","name":"f","intake":{"kind":"webhook","path":"/f"`+order+`},"steps":`+steps+`}`); err != nil {
		return err
	}
	return call("POST", base+"/flows/f/publish?sure=true", "")
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

// cpu gives the time of the processor that the processes have had (proc(5), fields 14 and 15 of stat).
func cpu(t *trial) (all time.Duration) {
	for _, c := range t.cmds {
		b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", c.Process.Pid))
		if err != nil {
			continue
		}
		fields := strings.Fields(string(b[bytes.LastIndexByte(b, ')')+2:]))
		for _, f := range fields[11:13] {
			ticks, _ := strconv.ParseInt(f, 10, 64)
			all += time.Duration(ticks) * 10 * time.Millisecond
		}
	}
	return all
}
