package worker

import (
	"bufio"
	"errors"
	"io"
	"os"
	"time"

	"readyferry/core/script"
)

// keptPrograms is how many compiled scripts a worker keeps.
const keptPrograms = 256

// Serve is the life of a worker: it runs scripts until its input ends.
func Serve(in io.Reader, out io.Writer) error {
	if err := limitMemory(MaxMemory); err != nil {
		return err
	}
	sandbox, err := script.NewSandbox()
	if err != nil {
		return err
	}
	known := map[string]*script.Program{}
	r := bufio.NewReaderSize(in, 64<<10)
	for {
		var q request
		if err := readFrame(r, &q); err != nil {
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
		p := known[q.Source]
		if p == nil {
			if p, err = sandbox.Compile(q.Source, script.MaxTime); err != nil {
				if err := writeFrame(out, answer{Error: err.Error()}); err != nil {
					return err
				}
				continue
			}
			if len(known) >= keptPrograms {
				clear(known)
			}
			known[q.Source] = p
		}
		// Whoever started it may be gone; it must not go on alone.
		last := time.AfterFunc(q.Limit+10*grace, func() { os.Exit(3) })
		var a answer
		value, err := p.RunWithin(q.Limit, q.In)
		if a.Value = value; err != nil {
			a = answer{Error: err.Error(), Stopped: errors.Is(err, script.ErrLimit)}
		}
		last.Stop()
		if err := writeFrame(out, a); err != nil {
			return err
		}
	}
}
