package fleet

import (
	"context"
	"time"

	"github.com/nats-io/nats.go/jetstream"
)

// Status is how a fleet is, as one of its members sees it.
type Status struct {
	Name     string         `json:"name"`
	This     string         `json:"this"` // the member that says it
	Leader   string         `json:"leader"`
	Replicas int            `json:"replicas"`
	Majority int            `json:"majority"`
	Members  []MemberStatus `json:"members"`
	Log      *LogStatus     `json:"log"` // of the first partition; null where it cannot be asked
	// Partitions are all of them, the first one among them.
	Partitions []PartStatus `json:"partitions"`
}

// PartStatus is how a partition is.
type PartStatus struct {
	Number int        `json:"number"` // from 0
	Leader string     `json:"leader"` // "" for nobody
	Log    *LogStatus `json:"log"`    // null where it cannot be asked
	Behind int64      `json:"behind"` // records that the copy which is least far does not have yet, of members that are there
	// Troubles says by member what is wrong.
	Troubles map[string]string `json:"troubles"`
}

// MemberStatus is how a member is.
type MemberStatus struct {
	Member
	There   bool       `json:"there"`
	Seen    *time.Time `json:"seen"` // the last word of it; null: none since this one started
	Version string     `json:"version"`
	Began   *time.Time `json:"began"`
	State   string     `json:"state"`
	Trouble string     `json:"trouble"`
	Leads   []int      `json:"leads"` // the partitions
	At      int64      `json:"at"`
	Behind  int64      `json:"behind"` // records of the logs that its copies do not have yet
	Drained bool       `json:"drained"`
	Free    *int64     `json:"free"`    // bytes that are left on its disk; null: it does not say
	Keeps   bool       `json:"keeps"`   // it keeps a replica of a log
	Current bool       `json:"current"` // they are up to date
}

// LogStatus is how the log is.
type LogStatus struct {
	First    int64  `json:"first"`
	Last     int64  `json:"last"`
	Bytes    int64  `json:"bytes"`
	Leader   string `json:"leader"` // the member whose replica decides
	Replicas int    `json:"replicas"`
	Current  int    `json:"current"` // that are up to date
}

// Name gives what the fleet is called.
func (n *Node) Name() string { return n.File.Name }

// Missing counts the members that are away.
func (n *Node) Missing() int {
	n.mu.Lock()
	defer n.mu.Unlock()
	return len(n.File.Members) - len(n.there())
}

// LeastFree gives how many bytes are left on the disk of the member that has least, of those that are there and say
// so; 0 where none does.
func (n *Node) LeastFree() (least int64) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, h := range n.there() {
		if h.Free > 0 && (least == 0 || h.Free < least) {
			least = h.Free
		}
	}
	return least
}

// Status tells it.
func (n *Node) Status() Status {
	out := Status{Name: n.File.Name, This: n.File.This, Replicas: n.File.Replicas, Majority: n.File.majority()}
	if l := n.leader(); l != nil {
		out.Leader = l.Name
	}
	ctx, stop := context.WithTimeout(n.ctx, tryFor)
	defer stop()
	infos := make([]*jetstream.StreamInfo, len(n.parts))
	for i, one := range n.parts {
		infos[i] = one.info(ctx)
		out.Partitions = append(out.Partitions, one.status(infos[i]))
	}
	out.Log = out.Partitions[0].Log
	behind := n.behind(out.Partitions)
	n.mu.Lock()
	defer n.mu.Unlock()
	for i := range n.File.Members {
		m := MemberStatus{Member: n.File.Members[i]}
		if h := n.beats[m.Name]; h != nil {
			seen, began := h.when.UTC(), h.Began
			m.Seen, m.Began, m.There = &seen, &began, time.Since(h.when) < silentFor
			m.Version, m.State, m.Trouble, m.Drained = h.Version, h.State, h.Trouble, h.Drained
			m.At, m.Behind = h.At, behind[m.Name]
			if free := h.Free; free > 0 && m.There {
				m.Free = &free
			}
		}
		m.Leads = []int{}
		for _, p := range out.Partitions {
			if p.Leader == m.Name {
				m.Leads = append(m.Leads, p.Number)
			}
		}
		m.Keeps, m.Current = keeps(infos[0], m.Name)
		for _, info := range infos[1:] {
			is, current := keeps(info, m.Name)
			m.Keeps, m.Current = m.Keeps || is, m.Current && current
		}
		out.Members = append(out.Members, m)
	}
	return out
}

// info gives what the log's stream says of itself; nil where it cannot be asked.
func (n *Node) info(ctx context.Context) *jetstream.StreamInfo {
	s, err := n.link.js.Stream(ctx, streamOf(n.part))
	if err != nil {
		return nil
	}
	return s.CachedInfo()
}

// behind counts the records that each member does not have yet, of all partitions, as their logs say how far they are.
func (n *Node) behind(parts []PartStatus) map[string]int64 {
	out := map[string]int64{}
	for i, one := range n.parts {
		one.mu.Lock()
		highest := one.copied.At
		if l := parts[i].Log; l != nil {
			highest = max(highest, l.Last)
		}
		for _, h := range one.beats {
			highest = max(highest, h.At)
		}
		for name, h := range one.beats {
			out[name] += highest - h.At
		}
		one.mu.Unlock()
	}
	return out
}

// status tells how a partition is, whose log's stream says so much of itself.
func (n *Node) status(info *jetstream.StreamInfo) PartStatus {
	out := PartStatus{Number: n.part, Troubles: map[string]string{}}
	if l := n.leader(); l != nil {
		out.Leader = l.Name
	}
	if info != nil {
		out.Log = logStatus(info)
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	highest, lowest := n.copied.At, n.copied.At
	for _, h := range n.there() {
		highest, lowest = max(highest, h.At), min(lowest, h.At)
		if h.Trouble != "" {
			out.Troubles[h.Name] = h.Trouble
		}
	}
	if out.Log != nil {
		highest = max(highest, out.Log.Last)
	}
	out.Behind = highest - lowest
	return out
}

func logStatus(info *jetstream.StreamInfo) *LogStatus {
	l := &LogStatus{First: int64(info.State.FirstSeq), Last: int64(info.State.LastSeq), Bytes: int64(info.State.Bytes),
		Replicas: info.Config.Replicas, Current: 1}
	if c := info.Cluster; c != nil {
		l.Leader = c.Leader
		for _, r := range c.Replicas {
			if r.Current && !r.Offline {
				l.Current++
			}
		}
	}
	return l
}

func keeps(info *jetstream.StreamInfo, member string) (is, current bool) {
	if info == nil || info.Cluster == nil {
		return info != nil, info != nil
	}
	if info.Cluster.Leader == member {
		return true, true
	}
	for _, r := range info.Cluster.Replicas {
		if r.Name == member {
			return true, r.Current && !r.Offline
		}
	}
	return false, false
}
