// Package worker runs scripts in processes of their own: the same program, started
// again as a worker, that reads one script and one message at a time from its
// standard input and writes what the script came to.
//
// It promises that no script can take more than its time and its memory from the
// application. Inside of a worker the script's own sandbox stops it, as a rule; a
// single built-in function that cannot be interrupted there (an array of a hundred
// million, a text of a gigabyte) is ended from outside: the system gives the process
// no more memory than its limit, and one that is still busy a moment behind its time
// is killed. A worker that has ended, however, is replaced by a new one.
//
// A worker gets nothing of the application but the script and the message: no file,
// no connection, no secret of the environment.
package worker

import (
	"bufio"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"sync"
	"time"

	"readyferry/core/script"
)

// Argument is the first argument with which the program is a worker.
const Argument = "script-worker"

// What a worker may take.
const (
	MaxMemory = 448 << 20              // bytes of data, hard
	grace     = 250 * time.Millisecond // beyond the time of a script, to stop it inside
	maxFrame  = 64 << 20               // bytes of a request or an answer
)

// request is a script and what it sees.
type request struct {
	Source string          `json:"source"`
	Limit  time.Duration   `json:"limit"`
	In     json.RawMessage `json:"in"`
}

// answer is what a script came to.
type answer struct {
	Value   json.RawMessage `json:"value,omitempty"`
	Error   string          `json:"error,omitempty"`
	Stopped bool            `json:"stopped,omitempty"` // it used more than it may
}

// Pool runs scripts in worker processes, so many at once. It is safe for concurrent
// use, and starts a process when it needs one first.
type Pool struct {
	program string
	places  chan *process // one for each process that may run; nil where none runs yet
	closed  chan struct{}
	once    sync.Once
}

// New makes a pool of workers that are started from a program; "" for the one that
// runs.
func New(program string) (*Pool, error) {
	if program == "" {
		var err error
		if program, err = os.Executable(); err != nil {
			return nil, fmt.Errorf("finding the program to run scripts with: %w", err)
		}
	}
	n := max(2, runtime.GOMAXPROCS(0))
	p := &Pool{program: program, places: make(chan *process, n), closed: make(chan struct{})}
	for range n {
		p.places <- nil
	}
	return p, nil
}

// Close ends all workers; scripts under way are cut off.
func (p *Pool) Close() error {
	p.once.Do(func() { close(p.closed) })
	var errs []error
	for range cap(p.places) {
		if one := <-p.places; one != nil {
			errs = append(errs, one.end())
		}
	}
	return errors.Join(errs...)
}

// Run implements script.Runner.
func (p *Pool) Run(source string, limit time.Duration, in []byte) ([]byte, error) {
	var one *process
	select {
	case one = <-p.places:
	case <-p.closed:
		return nil, errors.New("the application stops")
	}
	defer func() { p.places <- one }()
	if one == nil {
		var err error
		if one, err = start(p.program); err != nil {
			return nil, fmt.Errorf("starting a process for scripts: %w", err)
		}
	}
	a, err := one.run(request{source, limit, in}, limit+grace)
	if err != nil {
		_ = one.end()
		one = nil
		return nil, err
	}
	switch {
	case a.Stopped: // what it has built goes with the process
		_ = one.end()
		one = nil
		return nil, fmt.Errorf("%w: %s", script.ErrLimit, strings.TrimPrefix(a.Error, script.ErrLimit.Error()+": "))
	case a.Error != "":
		return nil, errors.New(a.Error)
	}
	return a.Value, nil
}

// process is a worker that runs.
type process struct {
	cmd *exec.Cmd
	in  io.WriteCloser
	out *bufio.Reader
}

func start(program string) (*process, error) {
	cmd := exec.Command(program, Argument)
	cmd.Env = []string{"GOMAXPROCS=2", "GOTRACEBACK=none"}
	isolate(cmd)
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	return &process{cmd, in, bufio.NewReaderSize(out, 64<<10)}, nil
}

// run lets the worker run one script, and kills it when that takes too long.
func (p *process) run(r request, within time.Duration) (answer, error) {
	type result struct {
		answer answer
		err    error
	}
	done := make(chan result, 1)
	go func() {
		var a answer
		err := writeFrame(p.in, r)
		if err == nil {
			err = readFrame(p.out, &a)
		}
		done <- result{a, err}
	}()
	timer := time.NewTimer(within)
	defer timer.Stop()
	select {
	case got := <-done:
		if got.err != nil {
			// The process has ended: the system had no more memory for it.
			return answer{}, fmt.Errorf("%w: it took more than %d MiB of memory", script.ErrLimit, script.MaxMemory>>20)
		}
		return got.answer, nil
	case <-timer.C:
		_ = p.cmd.Process.Kill()
		<-done
		return answer{}, fmt.Errorf("%w: it took longer than %s", script.ErrLimit, r.Limit)
	}
}

func (p *process) end() error {
	_ = p.in.Close()
	_ = p.cmd.Process.Kill()
	if err := p.cmd.Wait(); err != nil && p.cmd.ProcessState == nil {
		return err
	}
	return nil
}

func writeFrame(w io.Writer, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	if len(b) > maxFrame {
		return fmt.Errorf("%d bytes are more than a worker takes", len(b))
	}
	head := binary.BigEndian.AppendUint32(make([]byte, 0, 4+len(b)), uint32(len(b)))
	_, err = w.Write(append(head, b...))
	return err
}

func readFrame(r io.Reader, v any) error {
	var head [4]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return err
	}
	n := binary.BigEndian.Uint32(head[:])
	if n > maxFrame {
		return fmt.Errorf("%d bytes are more than a frame holds", n)
	}
	b := make([]byte, n)
	if _, err := io.ReadFull(r, b); err != nil {
		return err
	}
	return json.Unmarshal(b, v)
}
