package metrics

import (
	"strconv"

	"github.com/prometheus/client_golang/prometheus"
)

// source is what is asked for at each scrape. It implements [prometheus.Collector].
type source Sources

func gauge(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("urbankeep_"+name, help, labels, nil)
}

var (
	sessions      = gauge("sessions", "Live sessions.", "protocol", "encrypted")
	transfers     = gauge("transfers", "Transfers that run.")
	moved         = gauge("transferred_bytes_total", "Bytes moved by transfers since the service started.", "direction")
	trailWaiting  = gauge("audit_queue_records", "Audit records that wait for the disk.")
	trailMost     = gauge("audit_queue_capacity_records", "Audit records that may wait before their senders do.")
	sentWaiting   = gauge("collector_waiting_records", "Audit records that the syslog collector has not got yet.")
	sentConnected = gauge("collector_connected", "1 when the syslog collector is connected, 0 when it is set and isn't.")
	portsTaken    = gauge("passive_ports_taken", "Passive ports in use.", "listener")
	portsMost     = gauge("passive_ports", "Passive ports there are.", "listener")
	portsRefused  = gauge("passive_ports_exhausted_total", "How often no passive port was left.", "listener")
	diskFree      = gauge("store_free_bytes", "Bytes that are free where a store lies.", "store")
	storeUp       = gauge("store_up", "1 when a store can be used, 0 when it is away.", "store", "kind")
	diskBytes     = gauge("store_size_bytes", "Bytes of the file system where a store lies.", "store")
)

// Describe implements [prometheus.Collector].
func (s source) Describe(to chan<- *prometheus.Desc) { prometheus.DescribeByCollect(s, to) }

// Collect implements [prometheus.Collector].
func (s source) Collect(to chan<- prometheus.Metric) {
	give := func(of *prometheus.Desc, kind prometheus.ValueType, value float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(of, kind, value, labels...)
	}
	for kind, n := range s.Sessions() {
		give(sessions, prometheus.GaugeValue, float64(n), string(kind.Protocol), strconv.FormatBool(kind.Encrypted))
	}
	give(transfers, prometheus.GaugeValue, float64(s.Transfers()))
	up, down := s.Moved()
	give(moved, prometheus.CounterValue, float64(up), "in")
	give(moved, prometheus.CounterValue, float64(down), "out")
	waiting, most := s.Trail()
	give(trailWaiting, prometheus.GaugeValue, float64(waiting))
	give(trailMost, prometheus.GaugeValue, float64(most))
	behind, connected := s.Collector()
	give(sentWaiting, prometheus.GaugeValue, float64(behind))
	is := 0.0
	if connected {
		is = 1
	}
	give(sentConnected, prometheus.GaugeValue, is)
	for _, p := range s.Ports() {
		give(portsTaken, prometheus.GaugeValue, float64(p.Taken), p.Listener)
		give(portsMost, prometheus.GaugeValue, float64(p.Most), p.Listener)
		give(portsRefused, prometheus.CounterValue, float64(p.Refused), p.Listener)
	}
	for _, d := range s.Stores() {
		up := 1.0
		if d.Away {
			up = 0
		}
		give(storeUp, prometheus.GaugeValue, up, d.Store, string(d.Kind))
		if d.Bytes == 0 {
			continue // nobody knows how much room there is
		}
		give(diskFree, prometheus.GaugeValue, float64(d.Free), d.Store)
		give(diskBytes, prometheus.GaugeValue, float64(d.Bytes), d.Store)
	}
}
