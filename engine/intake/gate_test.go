package intake

import (
	"context"
	"errors"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/core/run"
)

// Sixteen small messages go in together; of large ones, or of small ones that hold many
// values, only as many as there is room for, and the others wait or are told to.
func TestTheGateLetsInWhatThereIsRoomFor(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for name, c := range map[string]struct {
			document string
			together int
		}{
			"small":       {`{"a":1}`, 16},
			"large texts": {strings.Repeat("x", 1<<20), 16},
			"commas":      {strings.Repeat(",", 1<<20), 1},
			"elements":    {strings.Repeat("<a/>", 1<<18), 5},
		} {
			g := newGate()
			var leave []func()
			for {
				out, err := g.enter(context.Background(), []byte(c.document), time.Second)
				var refused *run.RefusedError
				if errors.As(err, &refused) && refused.Status == 429 {
					break
				}
				if err != nil {
					t.Fatal(err)
				}
				if leave = append(leave, out); len(leave) == 16 {
					break
				}
			}
			if len(leave) != c.together {
				t.Errorf("%s: %d together, not %d", name, len(leave), c.together)
			}
			in := make(chan error, 1)
			go func() {
				out, err := g.enter(context.Background(), []byte(c.document), time.Minute)
				if err == nil {
					out()
				}
				in <- err
			}()
			synctest.Wait()
			for _, out := range leave {
				out()
			}
			if err := <-in; err != nil {
				t.Errorf("%s: who waited is not let in: %v", name, err)
			}
		}
	})
}
