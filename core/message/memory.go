package message

import "fmt"

// Memory bounds what one piece of work may build, in bytes. They are estimated:
// a value counts as often as it stands in a document, also where its copies share
// one place in memory, because whoever writes the document writes each of them.
//
// A nil Memory bounds nothing. One is used by a single goroutine at a time.
type Memory struct {
	what  string // whose limit it is: "an expression", "a message"
	limit int64
	used  int64
	outer *Memory // what is taken here is taken there, too
}

// NewMemory gives a Memory of so many bytes; what says in words who may use them.
func NewMemory(what string, limit int64) *Memory { return &Memory{what: what, limit: limit} }

// Within gives a Memory for a part of the work: it has a limit of its own, and
// what it takes counts for the whole as well.
func (m *Memory) Within(what string, limit int64) *Memory {
	return &Memory{what: what, limit: limit, outer: m}
}

// MemoryError says that a piece of work would build more than it may.
type MemoryError struct {
	What  string // who may not
	Limit int64  // bytes
}

func (e *MemoryError) Error() string {
	return fmt.Sprintf("it was stopped, because it builds more than the %d MiB that %s may", e.Limit>>20, e.What)
}

// Take counts bytes that are about to be built. The error is a *MemoryError; then
// they must not be.
func (m *Memory) Take(n int64) error {
	for ; m != nil; m = m.outer {
		if m.used += n; m.used > m.limit || n < 0 {
			return &MemoryError{m.what, m.limit}
		}
	}
	return nil
}

// Left tells how many bytes may still be taken.
func (m *Memory) Left() int64 {
	if m == nil {
		return 1 << 62
	}
	return max(0, min(m.limit-m.used, m.outer.Left()))
}

// TakeNode counts a value with all that is in it.
func (m *Memory) TakeNode(n *Node) error {
	if m == nil {
		return nil
	}
	left := m.Left()
	weigh(n, &left)
	return m.Take(m.Left() - left)
}

// nodeWeight is what a value counts besides its text, in bytes.
const nodeWeight = 64

// weigh takes the weight of a value off left, and stops below zero.
func weigh(n *Node, left *int64) {
	if n == nil {
		return
	}
	*left -= nodeWeight + int64(len(n.Text))
	for _, item := range n.Items {
		if *left < 0 {
			return
		}
		weigh(item, left)
	}
	for i := range n.Members {
		if *left < 0 {
			return
		}
		*left -= int64(len(n.Members[i].Name))
		weigh(n.Members[i].Value, left)
	}
}
