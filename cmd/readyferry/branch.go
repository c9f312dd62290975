package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"readyferry/connect/systems"
	"readyferry/demo"
	"readyferry/runner/line"
	"readyferry/standin"
)

// The branch Stowmere of the demo: a process of its own, in a network of its own where the machine makes one, with
// the branch's systems and a runner. Nothing leads into that network. One way leads out of it, to the application
// and nowhere else: the branch listens at its end inside, and gives that to the demo, which carries what comes there
// to the application's address, as a firewall does that lets this through alone.

// branchUse is the command by which the demo runs the branch; people have no use for it.
const branchUse = "demo-branch"

// wayFile is what the two sides speak over, as the branch has it open: it is given the way by it, and ends with it.
const wayFile = 3

// branchFolder is where the branch keeps what it has, below the folder of the demo.
func branchFolder(data string) string { return filepath.Join(data, "runner-"+demo.Runner) }

func branchCommand() *cobra.Command {
	var data string
	var t telling
	c := &cobra.Command{
		Use: branchUse, Short: "The branch of the demo, which runs it by itself", Args: cobra.NoArgs, Hidden: true,
		RunE: func(c *cobra.Command, _ []string) error {
			log, err := t.logger(os.Stderr)
			if err != nil {
				return err
			}
			return runBranch(c.Context(), data, log.With("runner", demo.Runner))
		},
	}
	c.Flags().StringVar(&data, "data", "", "folder of the runner")
	t.flags(c.Flags())
	return c
}

// startBranch starts the branch beside the application. Where it ends it is not started again.
func (a *application) startBranch() (stop func(), err error) {
	own, err := os.Executable()
	if err != nil {
		return nil, err
	}
	to, err := url.Parse(a.in.inside)
	if err != nil {
		return nil, err
	}
	near, far, err := socketPair()
	if err != nil {
		return nil, err
	}
	defer near.Close() // FileConn has one of its own
	defer far.Close()
	conn, err := net.FileConn(near)
	if err != nil {
		return nil, err
	}
	run := func(closed bool) (*exec.Cmd, error) {
		cmd := exec.Command(own, branchUse, "--data", branchFolder(a.s.data), "--log", a.s.log, "--log-level", a.s.level)
		cmd.Env = append(os.Environ(), runnerKey+"="+a.atBranch)
		cmd.Stderr, cmd.ExtraFiles = os.Stderr, []*os.File{far}
		if closed {
			cmd.SysProcAttr = ownNetwork()
		}
		return cmd, cmd.Start()
	}
	cmd, err := run(true)
	if err != nil {
		a.Log.Info("the branch of the demo has no network of its own: this machine makes none for it", "error", err)
		cmd, err = run(false)
	}
	if err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	w := &wayOut{to: to.Host, log: a.Log}
	w.all.Go(func() { w.open(conn.(*net.UnixConn)) })
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		if err := cmd.Wait(); err != nil {
			a.Log.Warn("the branch of the demo has ended", "error", err)
		}
	}()
	return func() {
		_ = conn.Close() // the branch ends by that
		defer time.AfterFunc(branchEnds, func() { _ = cmd.Process.Kill() }).Stop()
		<-ended
		w.close()
	}, nil
}

// branchEnds is how long the branch may take to end by itself.
const branchEnds = 10 * time.Second

// socketPair makes two ends of a way between processes; none but whoever is given one has it.
func socketPair() (near, far *os.File, err error) {
	syscall.ForkLock.RLock()
	defer syscall.ForkLock.RUnlock()
	pair, err := syscall.Socketpair(syscall.AF_UNIX, syscall.SOCK_STREAM, 0)
	if err != nil {
		return nil, nil, err
	}
	syscall.CloseOnExec(pair[0])
	syscall.CloseOnExec(pair[1])
	return os.NewFile(uintptr(pair[0]), "way"), os.NewFile(uintptr(pair[1]), "way"), nil
}

// wayOut carries what comes at the one way out of the branch's network.
type wayOut struct {
	to  string
	log *slog.Logger
	all sync.WaitGroup
	mu  sync.Mutex
	end net.Listener
	is  map[net.Conn]bool // open now
	out bool              // it is closed
}

// open takes the way's end inside, which the branch gives, and carries.
func (w *wayOut) open(from *net.UnixConn) {
	l, err := takeListener(from)
	if err != nil {
		if !errors.Is(err, net.ErrClosed) {
			w.log.Warn("the branch of the demo has not begun", "error", err)
		}
		return
	}
	w.mu.Lock()
	w.end = l
	if w.out {
		_ = l.Close()
	}
	w.mu.Unlock()
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		w.all.Go(func() { w.carry(c) })
	}
}

func (w *wayOut) carry(inside net.Conn) {
	defer w.ends(inside)
	out, err := net.DialTimeout("tcp", w.to, 5*time.Second)
	if err != nil {
		return
	}
	defer w.ends(out)
	if !w.begins(inside, out) {
		return
	}
	w.all.Go(func() {
		_, _ = io.Copy(out, inside)
		_ = out.Close()
	})
	_, _ = io.Copy(inside, out)
}

func (w *wayOut) begins(both ...net.Conn) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.is == nil {
		w.is = map[net.Conn]bool{}
	}
	for _, c := range both {
		w.is[c] = true
	}
	return !w.out
}

func (w *wayOut) ends(c net.Conn) {
	_ = c.Close()
	w.mu.Lock()
	delete(w.is, c)
	w.mu.Unlock()
}

func (w *wayOut) close() {
	w.mu.Lock()
	w.out = true
	if w.end != nil {
		_ = w.end.Close()
	}
	for c := range w.is {
		_ = c.Close()
	}
	w.mu.Unlock()
	w.all.Wait()
}

// takeListener takes a listener that another process has sent.
func takeListener(from *net.UnixConn) (net.Listener, error) {
	some, rights := make([]byte, 1), make([]byte, syscall.CmsgSpace(4))
	_, n, _, _, err := from.ReadMsgUnix(some, rights)
	if err != nil {
		return nil, err
	}
	said, err := syscall.ParseSocketControlMessage(rights[:n])
	if err != nil || len(said) == 0 {
		return nil, errors.Join(errors.New("it has ended"), err)
	}
	files, err := syscall.ParseUnixRights(&said[0])
	if err != nil {
		return nil, err
	}
	f := os.NewFile(uintptr(files[0]), "way")
	defer f.Close() // FileListener has one of its own
	return net.FileListener(f)
}

// giveListener sends a listener to another process.
func giveListener(to *net.UnixConn, l *net.TCPListener) error {
	f, err := l.File()
	if err != nil {
		return err
	}
	defer f.Close()
	_, _, err = to.WriteMsgUnix([]byte{1}, syscall.UnixRights(int(f.Fd())), nil)
	return err
}

// runBranch is the branch, until the demo ends.
func runBranch(ctx context.Context, data string, log *slog.Logger) error {
	f := os.NewFile(wayFile, "way")
	if f == nil {
		return errors.New("the demo alone runs its branch")
	}
	conn, err := net.FileConn(f)
	if err != nil {
		return fmt.Errorf("the demo alone runs its branch: %w", err)
	}
	defer conn.Close()
	_ = f.Close()
	signal.Ignore(os.Interrupt) // which a terminal sends to both; it ends with the demo
	if err := errors.Join(insideNetwork(), os.MkdirAll(data, 0o700)); err != nil {
		return err
	}
	way, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	if err := giveListener(conn.(*net.UnixConn), way.(*net.TCPListener)); err != nil {
		return err
	}
	at := &url.URL{Scheme: "http", Host: way.Addr().String()}
	if err := way.Close(); err != nil { // the demo has it
		return err
	}
	around, err := branchSystems(data)
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	go func() {
		_, _ = io.Copy(io.Discard, conn)
		stop()
	}()
	return workFor(
		ctx,
		line.Joining{Address: at, Name: demo.Runner, Key: os.Getenv(runnerKey), Dir: data, Log: log},
		around,
		func() {},
	)
}

// branchSystems has the branch's systems answer inside of its network. What its printer prints is in a file.
func branchSystems(data string) (around systems.Surroundings, err error) {
	all, err := demo.Branch()
	if err != nil {
		return around, err
	}
	set := standin.NewSet(time.Now, func() {})
	for _, d := range all {
		if err := set.Define(d); err != nil {
			return around, err
		}
	}
	printed, err := os.OpenFile(filepath.Join(data, "slips.txt"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return around, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return around, err
	}
	server := &http.Server{
		ReadHeaderTimeout: 10 * time.Second,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			name, path, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/stand-ins/"), "/")
			if name == demo.Slips {
				slip, err := io.ReadAll(http.MaxBytesReader(w, r.Body, mostSlip))
				if err == nil {
					_, err = printed.Write(append(slip, '\n'))
				}
				if err != nil {
					http.Error(w, err.Error(), http.StatusInternalServerError)
					return
				}
				r.Body = io.NopCloser(bytes.NewReader(slip))
			}
			if err := set.Serve(w, r, name, "/"+path); err != nil {
				http.Error(w, err.Error(), http.StatusNotFound)
			}
		}),
	}
	go func() { _ = server.Serve(l) }() // until the process ends
	around.StandIns = "http://" + l.Addr().String() + "/stand-ins"
	return around, nil
}

// mostSlip is the largest slip that is printed, in bytes.
const mostSlip = 1 << 20
