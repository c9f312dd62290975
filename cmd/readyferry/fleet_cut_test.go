package main

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// apart are members in network namespaces of their own: each has a way to the others, which can be cut,
// and one to the target, which stays.
type apart struct {
	*aFleet
	spaces map[string]string // by member
}

// ip changes the network; the test is skipped where it may not.
func ip(t *testing.T, must bool, args ...string) {
	t.Helper()
	out, err := exec.Command("ip", args...).CombinedOutput()
	if err != nil && must {
		t.Skipf("no network namespace can be made here: ip %s: %v %s", strings.Join(args, " "), err, out)
	}
}

// inSpace has a function called by a thread that is in a network namespace.
func inSpace(space string, do func() error) error {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	own, err := os.Open("/proc/thread-self/ns/net")
	if err != nil {
		return err
	}
	defer own.Close()
	there, err := os.Open("/var/run/netns/" + space)
	if err != nil {
		return err
	}
	defer there.Close()
	if err := unix.Setns(int(there.Fd()), unix.CLONE_NEWNET); err != nil {
		return err
	}
	defer func() {
		if unix.Setns(int(own.Fd()), unix.CLONE_NEWNET) != nil {
			runtime.LockOSThread() // the thread is of no use any more, and ends with its goroutine
		}
	}()
	return do()
}

// targetHost is the target's address, which each member reaches by a way of its own.
const targetHost = "10.79.0.1"

func startApart(t *testing.T, parts int, names ...string) *apart {
	t.Helper()
	mark := fmt.Sprintf("rf%d", os.Getpid()%10000)
	w := &apart{&aFleet{t: t, file: program(t), dir: t.TempDir() + "/fleet", names: names, bases: map[string]string{},
		cmds: map[string]*exec.Cmd{}, parts: parts}, map[string]string{}}
	bridge := mark + "br"
	ip(t, true, "link", "add", bridge, "type", "bridge")
	t.Cleanup(func() { ip(t, false, "link", "del", bridge) })
	ip(t, true, "link", "set", bridge, "up")
	ip(t, true, "addr", "add", "10.77.0.254/24", "dev", bridge) // by which the test asks how they are
	ip(t, true, "addr", "add", targetHost+"/32", "dev", bridge)
	args := []string{"fleet", "init", "--name", "trial", "--out", w.dir, "--partitions", fmt.Sprint(parts)}
	for i, name := range names {
		space := mark + name
		w.spaces[name] = space
		ip(t, true, "netns", "add", space)
		t.Cleanup(func() { ip(t, false, "netns", "del", space) })
		for _, l := range []struct{ here, there, address string }{
			{mark + "m" + name, "members", fmt.Sprintf("10.77.0.%d/24", i+1)}, {mark + "t" + name, "target",
				fmt.Sprintf("10.78.%d.2/30", i)},
		} {
			ip(t, true, "link", "add", l.here, "type", "veth", "peer", "name", l.there, "netns", space)
			t.Cleanup(func() { ip(t, false, "link", "del", l.here) })
			ip(t, true, "-n", space, "addr", "add", l.address, "dev", l.there)
			ip(t, true, "-n", space, "link", "set", l.there, "up")
			ip(t, true, "link", "set", l.here, "up")
		}
		ip(t, true, "link", "set", mark+"m"+name, "master", bridge)
		ip(t, true, "addr", "add", fmt.Sprintf("10.78.%d.1/30", i), "dev", mark+"t"+name)
		ip(t, true, "-n", space, "route", "add", targetHost, "via", fmt.Sprintf("10.78.%d.1", i))
		ip(t, true, "-n", space, "link", "set", "lo", "up")
		w.bases[name] = "http://127.0.0.1:8420"
		args = append(args, "--member", fmt.Sprintf("%[1]s=10.77.0.%[2]d:7001,10.77.0.%[2]d:7002,%[3]s", name, i+1,
			w.bases[name]))
	}
	if out, err := exec.Command(w.file, args...).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	t.Cleanup(func() {
		for _, name := range names {
			w.kill(name)
		}
	})
	w.client.Timeout = time.Minute
	w.wrap = func(name string, cmd *exec.Cmd) *exec.Cmd {
		return exec.Command("ip", append([]string{"netns", "exec", w.spaces[name], cmd.Path}, cmd.Args[1:]...)...)
	}
	w.clients = map[string]*http.Client{}
	for _, name := range names {
		w.clients[name] = &http.Client{Timeout: time.Minute, Transport: &http.Transport{
			DialContext: func(ctx context.Context, network, at string) (c net.Conn, err error) {
				err = inSpace(w.spaces[name], func() error {
					c, err = (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, network, at)
					return err
				})
				return c, err
			}}}
		w.start(name)
	}
	return w
}

// cut cuts a member off from the others, or heals that.
func (w *apart) cut(name string, cut bool) {
	w.t.Helper()
	state := map[bool]string{true: "down", false: "up"}[cut]
	ip(w.t, true, "-n", w.spaces[name], "link", "set", "members", state)
}

// The network between one member and the others is cut, of the one that leads and of one that follows:
// who is cut off takes nothing and says why, the others go on, and behind it all have the same.
func TestAMemberThatIsCutOffTakesNothing(t *testing.T) {
	for _, parts := range []int{1, 3} {
		t.Run(fmt.Sprint(parts), func(t *testing.T) { cutsOff(t, startApart(t, parts, "a", "b", "c")) })
	}
}

func cutsOff(t *testing.T, w *apart) {
	if w.parts > 1 {
		w.spread()
	}
	l, err := net.Listen("tcp", targetHost+":0")
	if err != nil {
		t.Fatal(err)
	}
	target := &http.Server{Handler: w.target(), ReadHeaderTimeout: time.Minute}
	t.Cleanup(func() { _ = target.Close() })
	go func() { _ = target.Serve(l) }()
	w.design("http://" + l.Addr().String())
	stopped := w.sources(4)
	taken := 0
	for round := range rounds() {
		w.whole(1000)
		s, err := w.status("a")
		if err != nil {
			t.Fatal(err)
		}
		name := s.Leader
		if round%2 == 1 {
			for _, other := range w.names {
				if other != s.Leader {
					name = other
				}
			}
		}
		began := time.Now()
		w.cut(name, true)
		others := []string{}
		for _, n := range w.names {
			if n != name {
				others = append(others, n)
			}
		}
		// The others go on.
		for tries := 0; ; tries++ {
			status, b, err := w.send(others[tries%2], "POST", "/in/f", fmt.Sprintf(`{"v":"round","n":%d}`, round))
			if err == nil && status < 300 {
				break
			}
			if tries > 600 {
				t.Fatalf("the majority does not go on: %d %s %v", status, b, err)
			}
			time.Sleep(50 * time.Millisecond)
		}
		t.Logf("%s, cut off while it %s: the others go on after %s", name, map[bool]string{true: "leads",
			false: "follows"}[name == s.Leader],
			time.Since(began).Round(time.Millisecond))
		// Who is cut off refuses, and has taken nothing since.
		refused := false
		for tries := 0; !refused && tries < 600; tries++ {
			status, b, err := w.send(name, "POST", "/in/f", fmt.Sprintf(`{"v":"cut","n":%d}`, 1_000_000+taken))
			switch {
			case err == nil && status < 300:
				t.Fatalf("a member that is cut off has taken a message: %d %s", status, b)
			case err == nil && status == 503 && strings.Contains(string(b), "cut off from the majority"):
				refused = true
			}
		}
		if !refused {
			t.Error("who is cut off never says so")
		}
		w.cut(name, false)
	}
	accepted := stopped()
	accepted["round"] = rounds()
	w.accounted(accepted)
	w.alike()
}
