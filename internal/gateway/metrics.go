package gateway

import (
	"net/http"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"
)

// Metrics are what a service says of itself to whoever collects numbers (OpenMetrics).
type metrics struct {
	service *Service

	sessions, revision, applies, connections, stopped, packets, bytes, lost, unsent *prometheus.Desc
}

// metricsOf returns what answers GET /metrics.
func metricsOf(s *Service) http.Handler {
	name := func(what, help string, labels ...string) *prometheus.Desc {
		return prometheus.NewDesc("hollowbridge_"+what, help, labels, prometheus.Labels{"gateway": s.options.Gateway})
	}
	rule := []string{"list", "rule"}
	m := &metrics{
		service:     s,
		sessions:    name("sessions", "Sessions that there are."),
		revision:    name("revision", "The revision that is in force; 0 is none."),
		applies:     name("applies_total", "What became of proposals: applied, refused, or gone back by itself.", "result"),
		connections: name("rule_connections_total", "Connections that a rule had a part in.", rule...),
		stopped:     name("rule_stopped_total", "Of these, those that a later step stopped.", rule...),
		packets:     name("rule_packets_total", "Packets of these connections.", append(rule, "direction")...),
		bytes:       name("rule_bytes_total", "Bytes of these connections.", append(rule, "direction")...),
		lost:        name("events_lost_total", "Events that there was no room for."),
		unsent:      name("syslog_lost_total", "Events that the collector did not take in time."),
	}
	registry := prometheus.NewRegistry()
	registry.MustRegister(m)
	return promhttp.HandlerFor(registry, promhttp.HandlerOpts{EnableOpenMetrics: true, MaxRequestsInFlight: 4})
}

// Describe is prometheus.Collector's.
func (m *metrics) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{m.sessions, m.revision, m.applies, m.connections, m.stopped, m.packets, m.bytes, m.lost, m.unsent} {
		to <- d
	}
}

// Collect is prometheus.Collector's.
func (m *metrics) Collect(to chan<- prometheus.Metric) {
	gauge := func(d *prometheus.Desc, value int) {
		to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, float64(value))
	}
	counter := func(d *prometheus.Desc, value int64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, float64(max(value, 0)), labels...)
	}
	status := m.service.Status()
	gauge(m.sessions, status.Sessions)
	gauge(m.revision, m.service.number())
	counter(m.applies, m.service.applied.Load(), "applied")
	counter(m.applies, m.service.refused.Load(), "refused")
	counter(m.applies, m.service.wentBack.Load(), "went-back")
	counter(m.lost, status.Lost)
	if status.Collector != nil {
		counter(m.unsent, status.Collector.Lost)
	}
	hits, err := m.service.Hits()
	if err != nil {
		to <- prometheus.NewInvalidMetric(m.connections, err)
		return
	}
	for _, h := range hits.Hits {
		counter(m.connections, h.Connections, h.List, h.Rule)
		counter(m.stopped, h.Stopped, h.List, h.Rule)
		for direction, count := range map[string]Count{"forth": h.Forth, "back": h.Back} {
			counter(m.packets, count.Packets, h.List, h.Rule, direction)
			counter(m.bytes, count.Bytes, h.List, h.Rule, direction)
		}
	}
}
