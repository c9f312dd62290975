package fleet

import "time"

// The partitions are led by different members, as far as there are some: who leads fewer of them comes first
// where nobody leads one, and who leads two more than another member that is well hands one over.

// Leads gives who leads each partition, as far as this member hears; "" for nobody.
func (n *Node) Leads() []string {
	out := make([]string, len(n.first.parts))
	for i, one := range n.first.parts {
		if l := one.leader(); l != nil {
			out[i] = l.Name
		}
	}
	return out
}

// At gives up to where this member has the log of a partition.
func (n *Node) At(part int) int64 {
	one := n.first.parts[part]
	one.mu.Lock()
	defer one.mu.Unlock()
	return one.copied.At
}

// loads counts the partitions that each member leads, or is about to.
func (n *Node) loads() map[string]int {
	out := map[string]int{}
	for _, one := range n.first.parts {
		one.mu.Lock()
		for _, h := range one.there() {
			if h.State == StateLeads || h.State == StateTakes {
				out[h.Name]++
			}
		}
		one.mu.Unlock()
	}
	return out
}

// evenly is how long a member has led a partition before it hands it over to one that leads fewer.
const evenly = 10 * time.Second

// idler names a member that leads at least two partitions fewer than this one and is as far in this one; "" for none.
// The first partition stays where it is, and of several that might go the last one does, so that one goes
// at a time.
func (n *Node) idler() string {
	if n.part == 0 {
		return ""
	}
	n.mu.Lock()
	since := n.led
	n.mu.Unlock()
	if time.Since(since) < evenly {
		return ""
	}
	for i, who := range n.Leads() {
		if who == "" || i > n.part && who == n.File.This {
			return "" // one is on its way already, or goes before this one
		}
	}
	loads := n.loads()
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, h := range n.there() {
		if h.Name != n.File.This && h.State == StateFollows && h.Trouble == "" && !h.Drained && h.Log != "" &&
			h.Schema == n.beats[n.File.This].Schema && n.copied.At-h.At < near && loads[h.Name]+2 <= loads[n.File.This] {
			return h.Name
		}
	}
	return ""
}
