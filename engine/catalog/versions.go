package catalog

import (
	"encoding/json"
	"errors"
	"fmt"

	"readyferry/core/flow"
	"readyferry/core/plan"
	"readyferry/store"
)

// A published version is compiled once, and its plan is kept: it never changes.

type versionKey struct {
	flow    string
	version int
}

// ErrUnreadable is wrapped by the error of a version that can no longer be read: what
// it has begun cannot go on under it.
var ErrUnreadable = errors.New("it can no longer be read")

// Plan gives the compiled plan of a published version. The error wraps ErrUnreadable
// unless the file itself could not be read.
func (c *Catalog) Plan(name string, version int) (*plan.Plan, error) {
	key := versionKey{name, version}
	c.mu.RLock()
	p := c.plans[key]
	c.mu.RUnlock()
	if p != nil {
		return p, nil
	}
	v, err := c.store.Version(name, version)
	if err != nil {
		if errors.Is(err, store.ErrNotFound) {
			err = fmt.Errorf("%w: %w", ErrUnreadable, err)
		}
		return nil, fmt.Errorf("version %d of %s: %w", version, name, err)
	}
	files, err := UnpackFiles(v.Files)
	if err != nil {
		return nil, fmt.Errorf("version %d of %s: %w: %w", version, name, ErrUnreadable, err)
	}
	p, findings := c.reader.ReadUnder(flow.Rules(v.Rules), []byte(v.Document), files)
	if p == nil {
		return nil, fmt.Errorf("version %d of %s: %w: %w", version, name, ErrUnreadable, findings[0])
	}
	c.mu.Lock()
	c.plans[key] = p
	c.mu.Unlock()
	return p, nil
}

// UnpackFiles gives the files that a version keeps.
func UnpackFiles(b []byte) (map[string][]byte, error) {
	out := map[string][]byte{}
	if len(b) == 0 {
		return out, nil
	}
	text := map[string]string{}
	if err := json.Unmarshal(b, &text); err != nil {
		return nil, fmt.Errorf("the files: %w", err)
	}
	for k, v := range text {
		out[k] = []byte(v)
	}
	return out, nil
}
