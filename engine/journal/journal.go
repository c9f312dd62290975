// Package journal is the life of a transaction: it begins, records effects,
// advances, settles, becomes a dead letter and is sent again. It is the only
// package that decides what state a transaction is in.
//
// What it promises:
//
//   - Computed outside, verified inside. A walk runs outside of the one database
//     writer, over what was read; it assumes what its wants will come to, and
//     walks on over that. The one commit at its end brings each want about and
//     compares. Where one comes to something else, or where the transaction is no
//     longer as it was read (its Revision has moved), nothing of the commit stays,
//     and the walk is done anew over what is true now. So whatever moves a
//     transaction on is still one database transaction: the effect, the walk that
//     follows from it, and all that this walk asks for.
//   - Nobody waits for another flow's computing: each flow has its own share of
//     the processors, so that one at its limits leaves room for all others.
//   - What one transaction brings about for another (a reply, the end of a flow
//     that was called, the steps for a dead letter) is recorded in the same
//     commit, with a mark that the other is to be walked. Behind the commit it is;
//     after a crash, at the next start.
//   - Every end is one of delivered, turned away with a reason, or a dead letter
//     with a reason; dead letters stay until a person decides.
//
// The types, from the outside in: a Session is one piece of work and its commit;
// a Move is one transaction's part in it, worked out outside; a Writing is that
// move inside of the writer.
package journal

import (
	"log/slog"
	"time"

	"readyferry/engine/catalog"
	"readyferry/engine/waker"
	"readyferry/store"
)

// Config is what a journal needs.
type Config struct {
	Store   *store.Store
	Catalog *catalog.Catalog
	Now     func() time.Time
	Log     *slog.Logger
	Life    *Life
	// Partition is the part of a fleet's messages that it is of, and Others the engines of the other parts.
	Partition Partition
	Others    Others
	// Marks are what is being computed, and Left what an earlier process was computing
	// when it died; nil: nothing is marked.
	Marks *store.Marks
	Left  []store.Mark
}

// Journal is safe for concurrent use.
type Journal struct {
	Store   *store.Store
	Catalog *catalog.Catalog
	Now     func() time.Time
	Log     *slog.Logger
	Life    *Life
	Waker   *waker.Waker // of all that waits for a time
	// Partition is the part of a fleet's messages that it is of, and Others are the engines of the other parts;
	// nil: there are none, or this is one of them.
	Partition Partition
	Others    Others

	performers map[string]Performer
	listeners  []func(*Notice)
	shares     *shares
	reached    *reachCache
	woken      *woken
	begun      *begun
	marks      *marks // nil: none
}

// New makes a journal. Perform and Listen complete it before it is used.
func New(c Config) *Journal {
	j := &Journal{
		Store:      c.Store,
		Catalog:    c.Catalog,
		Now:        c.Now,
		Log:        c.Log,
		Life:       c.Life,
		Waker:      waker.New(c.Now),
		Partition:  c.Partition,
		Others:     c.Others,
		performers: map[string]Performer{},
		shares:     newShares(),
		reached:    newReachCache(),
		begun:      newBegun(),
	}
	j.woken = newWoken(j)
	if c.Marks != nil {
		j.marks = newMarks(c.Marks, c.Left)
	}
	return j
}

// Perform registers what brings a kind of want about.
func (j *Journal) Perform(kind string, p Performer) { j.performers[kind] = p }

// Listen has a function called with what each commit tells. It must not block.
func (j *Journal) Listen(heard func(*Notice)) { j.listeners = append(j.listeners, heard) }

// Start goes on with what was to be walked when the process ended.
func (j *Journal) Start() error { return j.woken.start() }

// AskedFor is why a try comes when it does that a person has asked for.
const AskedFor = "asked for by a person"

// Seed gives the seed of a delivery's schedule: each round of tries has its own
// spread, the same on every replay.
func Seed(id store.ID, round int) []byte { return append(id[:], byte(round)) }
