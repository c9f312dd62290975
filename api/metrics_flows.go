package api

import (
	"github.com/prometheus/client_golang/prometheus"

	"readyferry/engine/watch"
)

// flowMetrics are what /metrics says of flows, their steps and sources, of targets and alarms.
// Their labels are names that people gave and words of the application.
type flowMetrics struct {
	received, ended, took, steps, tries, tried, ringing *prometheus.Desc
}

func newFlowMetrics() flowMetrics {
	d := func(name, help string, labels ...string) *prometheus.Desc {
		return prometheus.NewDesc("readyferry_"+name, help, labels, nil)
	}
	return flowMetrics{
		d("received_total", "Messages that a flow received since the application began, by the kind of its source.",
			"flow", "source"),
		d("ended_total", "Messages that came to an end, or became dead letters, since the application began.", "flow", "state"),
		d("end_seconds", "How long messages took from coming in to their end.", "flow"),
		d("step_outcomes_total", "What steps did to messages since the application began: delivered, try failed, "+
			"turned away, dead letter.", "flow", "step", "outcome"),
		d("tries_total", "Tries at a connection since the application began, by what they came to.", "connection", "outcome"),
		d("try_seconds", "How long tries at a connection took.", "connection"),
		d("alarms_ringing", "Alarms that ring, by rule.", "rule"),
	}
}

func (m *flowMetrics) describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{m.received, m.ended, m.took, m.steps, m.tries, m.tried, m.ringing} {
		ch <- d
	}
}

func (m *flowMetrics) collect(ch chan<- prometheus.Metric, s *Server) {
	counter := func(d *prometheus.Desc, n uint64, labels ...string) {
		ch <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, float64(n), labels...)
	}
	c := s.engine.Watch.Meter.Counted()
	for _, f := range c.Flows {
		kind := ""
		if in := s.engine.Watch.IntakeOf(f.Flow); in != nil {
			kind = in.Kind
		}
		counter(m.received, f.Came, f.Flow, kind)
		for state, n := range f.Ended {
			counter(m.ended, n, f.Flow, state)
		}
		if f.Took.N > 0 {
			ch <- histogram(m.took, f.Took, f.Flow)
		}
	}
	for k, n := range c.Steps {
		counter(m.steps, n, k.Flow, k.Step, k.Outcome)
	}
	for k, n := range c.Tries {
		counter(m.tries, n, k.Connection, k.Outcome)
	}
	for name, t := range c.Took {
		ch <- histogram(m.tried, t, name)
	}
	rings, err := s.engine.Watch.OpenRings()
	if err != nil {
		ch <- prometheus.NewInvalidMetric(m.ringing, err)
		return
	}
	ringing := map[string]int{}
	for _, r := range s.engine.Alarm.Rules() {
		ringing[r.Name] = 0
	}
	for _, r := range rings {
		ringing[r.Rule]++
	}
	for rule, n := range ringing {
		ch <- prometheus.MustNewConstMetric(m.ringing, prometheus.GaugeValue, float64(n), rule)
	}
}

func histogram(d *prometheus.Desc, t watch.Times, labels ...string) prometheus.Metric {
	buckets := map[float64]uint64{}
	for i, n := range t.Counts {
		buckets[watch.Buckets[i]] = n
	}
	return prometheus.MustNewConstHistogram(d, t.N, t.Sum, buckets, labels...)
}
