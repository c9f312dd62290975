package api

import (
	"github.com/prometheus/client_golang/prometheus"

	"readyferry/connect"
	"readyferry/engine/watch"
)

// connectionMetrics are what /metrics says of connections.
type connectionMetrics struct{ up, since, in, out, failed, behind *prometheus.Desc }

func newConnectionMetrics() connectionMetrics {
	d := func(name, help string, more ...string) *prometheus.Desc {
		return prometheus.NewDesc("readyferry_connection_"+name, help, append([]string{"connection"}, more...), nil)
	}
	return connectionMetrics{
		d("up", "1 while a connection works, 0 while it refuses or is silent."),
		d("condition_since_timestamp_seconds", "Since when a connection is as it is.", "condition"),
		d("messages_in_total", "Messages that came in by a connection since the application began."),
		d("messages_out_total", "Messages that went out by a connection since the application began."),
		d("failures_total", "Tries and receptions that failed since the application began."),
		d("backlog", "Messages that wait at the source of a flow, where it says so.", "flow"),
	}
}

func (m *connectionMetrics) describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{m.up, m.since, m.in, m.out, m.failed, m.behind} {
		ch <- d
	}
}

func (m *connectionMetrics) collect(ch chan<- prometheus.Metric, w *watch.Watch) {
	rows, err := w.Connections()
	if err != nil {
		ch <- prometheus.NewInvalidMetric(m.up, err)
		return
	}
	for _, row := range rows {
		p := w.Pulse(row.Name)
		if p.Condition != connect.Unknown {
			up := 0.0
			if p.Condition == connect.Works {
				up = 1
			}
			ch <- prometheus.MustNewConstMetric(m.up, prometheus.GaugeValue, up, row.Name)
			ch <- prometheus.MustNewConstMetric(m.since, prometheus.GaugeValue, float64(p.Since.Unix()), row.Name, string(p.Condition))
		}
		ch <- prometheus.MustNewConstMetric(m.in, prometheus.CounterValue, float64(p.InAll), row.Name)
		ch <- prometheus.MustNewConstMetric(m.out, prometheus.CounterValue, float64(p.OutAll), row.Name)
		ch <- prometheus.MustNewConstMetric(m.failed, prometheus.CounterValue, float64(p.FailedAll), row.Name)
		for flow, n := range p.Backlog {
			ch <- prometheus.MustNewConstMetric(m.behind, prometheus.GaugeValue, float64(n), row.Name, flow)
		}
	}
}
