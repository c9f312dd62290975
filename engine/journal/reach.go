package journal

import (
	"slices"
	"sync"

	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/store"
)

// Reach walks the whole to one of its splits, or remembers having done so: the
// parts of one message begin one after the other, and each begins there.
func (j *Journal) Reach(s *store.Split, version int, p *plan.Plan) (*run.Reached, error) {
	key := reachKey{s.Tx, s.Path, version}
	if r := j.reached.get(key); r != nil && version > 0 { // a draft changes
		return r, nil
	}
	parent, err := j.Store.Transaction(s.Tx)
	if err != nil {
		return nil, err
	}
	m, err := j.Store.MessageN(s.Tx, s.MessageN)
	if err != nil {
		return nil, err
	}
	parent.Version = version
	b, err := j.walkOf(&parent, &m, p)
	if err != nil {
		return nil, err
	}
	r, err := run.Reach(p, b.input, s.Path)
	if err == nil {
		j.reached.put(key, r)
	}
	return r, err
}

type reachKey struct {
	tx      store.ID
	path    string
	version int
}

// reachCache keeps the splits that were reached last.
type reachCache struct {
	mu   sync.Mutex
	keys []reachKey
	all  map[reachKey]*run.Reached
}

// What is held in memory of messages with parts: so many at most, and several
// only while they are small together.
const (
	keptReached      = 4
	keptReachedBytes = 16 << 20
)

func newReachCache() *reachCache { return &reachCache{all: map[reachKey]*run.Reached{}} }

func (c *reachCache) get(k reachKey) *run.Reached {
	c.mu.Lock()
	defer c.mu.Unlock()
	r := c.all[k]
	if r != nil {
		c.keys = append(slices.DeleteFunc(c.keys, func(o reachKey) bool { return o == k }), k)
	}
	return r
}

func (c *reachCache) put(k reachKey, r *run.Reached) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.all[k] == nil {
		c.keys = append(c.keys, k)
	}
	c.all[k] = r
	for len(c.keys) > keptReached || len(c.keys) > 1 && c.bytes() > keptReachedBytes {
		delete(c.all, c.keys[0])
		c.keys = c.keys[1:]
	}
}

func (c *reachCache) bytes() (n int) {
	for _, r := range c.all {
		n += r.Size()
	}
	return n
}
