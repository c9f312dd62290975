package api

import (
	"strconv"

	"github.com/prometheus/client_golang/prometheus"
)

// ofFleet measures the members of a fleet.
type ofFleet struct {
	fleet                       Fleet
	there, leads, behind, bytes *prometheus.Desc
	current, free               *prometheus.Desc
	partLeads, partBehind       *prometheus.Desc
}

func newOfFleet(f Fleet) *ofFleet {
	desc := func(name, help string, labels ...string) *prometheus.Desc {
		return prometheus.NewDesc("readyferry_fleet_"+name, help, labels, nil)
	}
	return &ofFleet{
		fleet: f,
		there: desc("member_there", "1 while the member is heard, else 0.", "member"),
		leads: desc("member_leads", "1 for the member whose engine works, else 0.", "member"),
		behind: desc("member_records_behind", "Records of the log that the copy of a member does not have yet.",
			"member"),
		free:      desc("member_disk_free_bytes", "Free room on the disk of a member.", "member"),
		bytes:     desc("log_bytes", "The logs of the journal."),
		current:   desc("log_replicas_current", "Replicas of the log that are up to date; of several partitions, of the one that has the fewest."),
		partLeads: desc("partition_leads", "1 for the member whose engine works on a partition, else 0.", "partition", "member"),
		partBehind: desc("partition_records_behind", "Records of a partition's log that the copy which is least far does not have yet.",
			"partition"),
	}
}

// Describe implements prometheus.Collector.
func (o *ofFleet) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{o.there, o.leads, o.behind, o.free, o.bytes, o.current, o.partLeads, o.partBehind} {
		ch <- d
	}
}

// Collect implements prometheus.Collector.
func (o *ofFleet) Collect(ch chan<- prometheus.Metric) {
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		ch <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	is := map[bool]float64{true: 1}
	s := o.fleet.Status()
	for i := range s.Members {
		m := &s.Members[i]
		gauge(o.there, is[m.There], m.Name)
		gauge(o.leads, is[m.Name == s.Leader], m.Name)
		gauge(o.behind, float64(m.Behind), m.Name)
		if m.Free != nil {
			gauge(o.free, float64(*m.Free), m.Name)
		}
	}
	bytes, current, known := int64(0), s.Replicas, s.Log != nil
	for i := range s.Partitions {
		p := &s.Partitions[i]
		number := strconv.Itoa(p.Number)
		for _, m := range s.Members {
			gauge(o.partLeads, is[m.Name == p.Leader], number, m.Name)
		}
		gauge(o.partBehind, float64(p.Behind), number)
		if p.Log == nil {
			known = false
			continue
		}
		bytes, current = bytes+p.Log.Bytes, min(current, p.Log.Current)
	}
	if known {
		gauge(o.bytes, float64(bytes))
		gauge(o.current, float64(current))
	}
}
