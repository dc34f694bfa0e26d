package gateway

import (
	"bytes"
	"compress/gzip"
	"net/http"
	"slices"
	"strings"

	dto "github.com/prometheus/client_model/go"
	"github.com/prometheus/common/expfmt"
	"google.golang.org/protobuf/proto"

	"hollowbridge/core/network"
)

// mostScrapes is how many are answered at once.
const mostScrapes = 4

// metricsOf returns what answers GET /metrics: what a service says of itself to whoever collects
// numbers, in the format that is asked for (OpenMetrics, or the text that came before it).
func metricsOf(s *Service) http.Handler {
	places := make(chan struct{}, mostScrapes)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		select {
		case places <- struct{}{}:
			defer func() { <-places }()
		default:
			http.Error(w, "too many ask for metrics at once", http.StatusServiceUnavailable)
			return
		}
		families, err := s.metrics()
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		format := expfmt.NegotiateAccept(r.Header, expfmt.DefaultOpenMetricsAcceptedFormats()...)
		var text bytes.Buffer
		encoder := expfmt.NewEncoder(&text, format)
		for _, f := range families {
			if err := encoder.Encode(&f.MetricFamily); err != nil {
				http.Error(w, err.Error(), http.StatusInternalServerError)
				return
			}
		}
		if closer, ok := encoder.(expfmt.Closer); ok {
			_ = closer.Close() // into memory
		}
		w.Header().Set("Content-Type", string(format))
		if !strings.Contains(r.Header.Get("Accept-Encoding"), "gzip") {
			_, _ = text.WriteTo(w)
			return
		}
		w.Header().Set("Content-Encoding", "gzip")
		packed := gzip.NewWriter(w)
		_, _ = text.WriteTo(packed)
		_ = packed.Close()
	})
}

// A metric is a number with its labels, or several of one name.
type metric struct {
	dto.MetricFamily
	labels  []string
	gateway string
}

// add adds a number with the values of the labels.
func (m *metric) add(value int64, labels ...string) {
	one := &dto.Metric{Label: []*dto.LabelPair{{Name: proto.String("gateway"), Value: &m.gateway}}}
	for i, l := range labels {
		one.Label = append(one.Label, &dto.LabelPair{Name: &m.labels[i], Value: &l})
	}
	number := proto.Float64(float64(max(value, 0)))
	if m.GetType() == dto.MetricType_GAUGE {
		one.Gauge = &dto.Gauge{Value: number}
	} else {
		one.Counter = &dto.Counter{Value: number}
	}
	m.Metric = append(m.Metric, one)
}

// metrics returns what there is to say, each of those that have a number.
func (s *Service) metrics() (list []*metric, err error) {
	made := func(kind dto.MetricType, name, help string, labels ...string) *metric {
		m := &metric{labels: labels, gateway: s.name()}
		m.Name, m.Help, m.Type = proto.String("hollowbridge_"+name), &help, kind.Enum()
		list = append(list, m)
		return m
	}
	counter := func(name, help string, labels ...string) *metric {
		return made(dto.MetricType_COUNTER, name, help, labels...)
	}
	gauge := func(name, help string, value int64) { made(dto.MetricType_GAUGE, name, help).add(value) }
	status := s.Status()
	gauge("sessions", "Sessions that there are.", int64(status.Sessions))
	gauge("revision", "The revision that is in force; 0 is none.", int64(s.number()))
	applies := counter("applies_total", "What became of proposals: applied, refused, or gone back by itself.", "result")
	applies.add(s.applied.Load(), "applied")
	applies.add(s.refused.Load(), "refused")
	applies.add(s.wentBack.Load(), "went-back")
	if status.Table != nil {
		counter("table_restored_total", "How often the kernel's table was put back that another program changed.").add(status.Table.Restored)
		gauge("table_wrong", "1 where the kernel's table is not as it should be.", oneWhere(status.Table.Trouble))
	}
	if status.Outside != nil {
		gauge("outside_addresses", "Outside addresses of rules that the machine answers for.", int64(status.Outside.Held))
		gauge("outside_addresses_wrong", "1 where it can't answer for one.", oneWhere(status.Outside.Trouble))
	}
	counter("events_lost_total", "Events that there was no room for.").add(status.Lost)
	if status.Collector != nil {
		counter("syslog_lost_total", "Events that the collector did not take in time.").add(status.Collector.Lost)
	}
	pools, err := s.Pools()
	if err != nil {
		return list, err
	}
	taking := slices.ContainsFunc(pools.Pools, func(p Pool) bool { return len(p.Taken) > 0 })
	if len(pools.Pools) > 0 {
		gone := counter("pool_exhausted_total", "How often a connection got no outside port.", "rule")
		for _, p := range pools.Pools {
			gone.add(p.Exhausted, p.Rule)
		}
	}
	if taking {
		taken := made(dto.MetricType_GAUGE, "pool_ports_used", "Outside ports of a source-nat rule that sessions have; where others can have the same, those to the destination with most.", "rule", "family", "protocol")
		of := made(dto.MetricType_GAUGE, "pool_ports", "Outside ports that a source-nat rule has.", "rule", "family", "protocol")
		full := made(dto.MetricType_GAUGE, "pool_nearly_full", "1 where at least four fifths of them are taken.", "rule", "family", "protocol")
		for _, p := range pools.Pools {
			for _, t := range p.Taken {
				nearly := network.PortsTaken{Used: t.Used, Of: t.Of}.IsNearlyFull()
				taken.add(int64(t.Used), p.Rule, t.Family, t.Protocol)
				of.add(int64(t.Of), p.Rule, t.Family, t.Protocol)
				full.add(oneIf(nearly), p.Rule, t.Family, t.Protocol)
			}
		}
	}
	hits, err := s.Hits()
	if err != nil || len(hits.Hits) == 0 {
		return list, err
	}
	connections := counter("rule_connections_total", "Connections that a rule had a part in.", "list", "rule")
	stopped := counter("rule_stopped_total", "Of these, those that a later step stopped.", "list", "rule")
	packets := counter("rule_packets_total", "Packets of these connections.", "list", "rule", "direction")
	volume := counter("rule_bytes_total", "Bytes of these connections.", "list", "rule", "direction")
	for _, h := range hits.Hits {
		connections.add(h.Connections, h.List, h.Rule)
		stopped.add(h.Stopped, h.List, h.Rule)
		packets.add(h.Forth.Packets, h.List, h.Rule, "forth")
		packets.add(h.Back.Packets, h.List, h.Rule, "back")
		volume.add(h.Forth.Bytes, h.List, h.Rule, "forth")
		volume.add(h.Back.Bytes, h.List, h.Rule, "back")
	}
	return list, nil
}

// oneWhere is 1 where there is trouble.
func oneWhere(trouble string) int64 { return oneIf(trouble != "") }

func oneIf(is bool) int64 {
	if is {
		return 1
	}
	return 0
}
