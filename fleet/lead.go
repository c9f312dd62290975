package fleet

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go/jetstream"

	"readyferry/store"
)

// lead opens the journal and works over it.
func (n *Node) lead(epoch int64) error {
	gone := make(chan error, 1)
	ctx, end := context.WithCancel(context.WithoutCancel(n.ctx)) // where it stops, what is under way is kept yet
	defer end()
	j := &journal{link: n.link, part: n.part, replicas: n.File.Replicas, ctx: ctx}
	j.gone = func(err error) {
		n.mu.Lock()
		if n.lost == nil {
			n.lost = err
		}
		n.mu.Unlock()
		select {
		case gone <- err:
		default:
		}
	}
	j.place = func(at int64) {
		n.mu.Lock()
		n.copied.At = at
		n.mu.Unlock()
	}
	j.acked = func() {
		n.mu.Lock()
		n.acked, n.pending = time.Now(), time.Time{}
		n.mu.Unlock()
	}
	j.waits = func() {
		n.mu.Lock()
		if n.pending.IsZero() {
			n.pending = time.Now()
		}
		n.mu.Unlock()
	}
	n.mu.Lock()
	n.lost, n.epoch, n.acked, n.pending, n.led = nil, epoch, time.Now(), time.Time{}, time.Now()
	n.mu.Unlock()
	n.bringsLog()
	st, err := store.OpenLogged(n.Dir, j, n.part)
	if err != nil {
		return fmt.Errorf("opening the journal to lead: %w", err)
	}
	handler, stop, err := n.Lead(n.part, st)
	if err != nil {
		return errors.Join(fmt.Errorf("beginning to lead: %w", err), st.Close())
	}
	n.mu.Lock()
	n.handler = handler
	n.mu.Unlock()
	n.set(StateLeads, "")
	n.Log.Info("this member leads", "member", n.File.This, "partition", n.part, "from", epoch)
	why := n.untilGone(gone)
	n.Log.Warn("this member does not lead any more", "member", n.File.This, "partition", n.part, "why", why)
	lost := errors.Is(why, ErrFenced) || errors.Is(why, ErrCutOff)
	state := StateHands // what is under way comes to its end before another one leads
	if lost {
		state = StateFollows
		end() // nothing is taken from it any more
	}
	n.mu.Lock()
	n.handler, n.epoch = nil, 0
	n.mu.Unlock()
	n.set(state, "")
	over := make(chan struct{})
	go n.givesUpAlone(over, end)
	stop(lost)
	err = st.Close()
	close(over)
	n.set(StateFollows, "")
	return err
}

// givesUpAlone has nothing wait for the log any more where the others are gone while this member ends its work, as
// they are where all are stopped at once: it is taken up by whoever leads next.
func (n *Node) givesUpAlone(over <-chan struct{}, end context.CancelFunc) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		select {
		case <-over:
			return
		case <-tick.C:
		}
		n.mu.Lock()
		alone := len(n.there()) < n.File.majority()
		n.mu.Unlock()
		if alone {
			end()
			return
		}
	}
}

// untilGone waits until this member cannot lead any more, or is not to.
func (n *Node) untilGone(gone <-chan error) error {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	alone, trimmed := time.Time{}, time.Now()
	for {
		select {
		case <-n.ctx.Done():
			return errors.New("it stops")
		case err := <-gone:
			return err
		case <-tick.C:
		}
		n.mu.Lock()
		lost, there := n.lost, len(n.there())
		n.mu.Unlock()
		drained := n.isDrained()
		switch {
		case lost != nil:
			return lost
		case drained && there > 1:
			return errors.New("it is drained")
		case there >= n.File.majority():
			alone = time.Time{}
		case alone.IsZero():
			alone = time.Now()
		case time.Since(alone) > stepDown:
			return ErrCutOff
		}
		if other := n.idler(); other != "" {
			return fmt.Errorf("%s leads fewer partitions", other)
		}
		if time.Since(trimmed) > trimEach {
			trimmed = time.Now()
			n.trim()
			n.bringsLog()
		}
	}
}

// trimEach is how often what every member has is let go out of the log; keepBehind entries stay, and no
// more than keepBytes, for whoever comes back.
const (
	trimEach   = 20 * time.Second
	keepBehind = 5_000
	keepBytes  = 2 << 30
)

// bringsLog has the replica of the log at this member decide what is in it from here on: a record then goes to the
// others and their word comes back, where it would otherwise go to the one that decides first, come to this member
// once more as to all replicas, and its being kept be heard over one way more. While they change over nothing answers
// for some milliseconds, and what is appended then is tried again. What fails costs that way alone, and is tried again
// beside trim.
func (n *Node) bringsLog() {
	ctx, stop := context.WithTimeout(n.ctx, tryFor)
	defer stop()
	s, err := n.link.js.Stream(ctx, streamOf(n.part))
	if err != nil {
		return
	}
	c := s.CachedInfo().Cluster
	if c == nil || c.Leader == "" || c.Leader == n.File.This ||
		!slices.ContainsFunc(c.Replicas, func(p *jetstream.PeerInfo) bool { return p.Name == n.File.This && p.Current }) {
		return
	}
	err = asked(ctx, n.link.conn, fmt.Sprintf(server.JSApiStreamLeaderStepDownT, streamOf(n.part)),
		server.JSApiLeaderStepdownRequest{Placement: &server.Placement{Preferred: n.File.This}})
	if err != nil && n.ctx.Err() == nil {
		n.Log.Info("the log is decided at another member yet", "partition", n.part, "at", c.Leader, "error", err)
	}
}

// trim lets go of what every member has: one that has nothing takes a copy.
func (n *Node) trim() {
	n.mu.Lock()
	lowest := n.copied.At
	for i := range n.File.Members {
		h := n.beats[n.File.Members[i].Name]
		if h == nil {
			lowest = 0
			break
		}
		lowest = min(lowest, h.At)
	}
	n.mu.Unlock()
	ctx, stop := context.WithTimeout(n.ctx, 5*time.Second)
	defer stop()
	s, err := n.link.js.Stream(ctx, streamOf(n.part))
	if err != nil {
		return
	}
	state := s.CachedInfo().State
	to := lowest - keepBehind
	if state.Bytes > keepBytes {
		to = max(to, int64(state.FirstSeq)+int64(state.LastSeq-state.FirstSeq)/2)
	}
	if to <= int64(state.FirstSeq) {
		return
	}
	if err := s.Purge(ctx, jsPurgeTo(uint64(to))); err != nil && n.ctx.Err() == nil {
		n.Log.Warn("letting go of what all members have", "error", err)
	}
}
