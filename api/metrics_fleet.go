package api

import "github.com/prometheus/client_golang/prometheus"

// ofFleet measures the members of a fleet.
type ofFleet struct {
	fleet                       Fleet
	there, leads, behind, bytes *prometheus.Desc
	current                     *prometheus.Desc
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
		bytes:   desc("log_bytes", "The log of the journal."),
		current: desc("log_replicas_current", "Replicas of the log that are up to date."),
	}
}

// Describe implements prometheus.Collector.
func (o *ofFleet) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{o.there, o.leads, o.behind, o.bytes, o.current} {
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
	}
	if s.Log != nil {
		gauge(o.bytes, float64(s.Log.Bytes))
		gauge(o.current, float64(s.Log.Current))
	}
}
