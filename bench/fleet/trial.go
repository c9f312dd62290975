package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// trial is what runs: processes, where they are called, and what they have done.
type trial struct {
	kind
	program  string
	cmds     []*exec.Cmd
	bases    []string
	accepted int64
	used     time.Duration // of the processor
	target   net.Listener
}

// receive begins to listen for what is delivered, and gives where.
func (t *trial) receive() (at string, err error) {
	if t.target, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return "", err
	}
	go func() {
		_ = http.Serve(t.target, http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
			_, _ = io.Copy(io.Discard, r.Body)
		}))
	}()
	return "http://" + t.target.Addr().String(), nil
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
	if t.target != nil {
		_ = t.target.Close()
	}
}

// built builds the program that is measured.
func built(dir string) (string, error) {
	file := filepath.Join(dir, "readyferry")
	out, err := exec.Command("go", "build", "-tags", "nomsgpack,sqlite_fts5", "-o", file, "./cmd/readyferry").CombinedOutput()
	if err != nil {
		err = fmt.Errorf("%w: %s", err, out)
	}
	return file, err
}

// given are the addresses that free has given.
var given = map[string]bool{}

// free gives an address that nobody listens at, that no connection outward is given meanwhile, and that was not given
// before, as who was given one need not listen yet.
func free() string {
	for {
		at := fmt.Sprintf("127.0.0.1:%d", 10_000+rand.IntN(20_000))
		if l, err := net.Listen("tcp", at); err == nil {
			_ = l.Close()
			if !given[at] {
				given[at] = true
				return at
			}
		}
	}
}

func begin(file string, args ...string) (*exec.Cmd, error) {
	cmd := exec.Command(file, append([]string{"serve", "--without-sign-in", "--log-level", "error"}, args...)...)
	cmd.Stderr = os.Stderr
	return cmd, cmd.Start()
}

func one(file, dir string, _ int) (*trial, error) {
	at := free()
	cmd, err := begin(file, "--data", dir, "--listen", at)
	return &trial{cmds: []*exec.Cmd{cmd}, bases: []string{"http://" + at}}, err
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
