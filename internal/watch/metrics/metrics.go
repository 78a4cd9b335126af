package metrics

import (
	"net/http"
	"strconv"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"urbankeep/internal/keep"
)

// Metrics counts what happens and asks its sources for the rest.
type Metrics struct {
	registry   *prometheus.Registry
	operations *prometheus.CounterVec
	durations  *prometheus.HistogramVec
	refusals   *prometheus.CounterVec
	changes    *prometheus.CounterVec
	records    prometheus.Counter
	requests   *prometheus.HistogramVec
}

// Sources are asked at each scrape.
type Sources struct {
	Sessions  func() map[SessionKind]int
	Transfers func() int
	Moved     func() (up, down int64) // bytes, since the start
	Trail     func() (waiting, most int)
	Collector func() (waiting int64, connected bool) // ok when none is set
	Ports     func() []Ports
	Stores    func() []Store
}

// SessionKind is what live sessions are told apart by.
type SessionKind struct {
	Protocol  keep.Protocol
	Encrypted bool
}

// Ports are the passive ports of a listener.
type Ports struct {
	Listener             string
	Taken, Refused, Most int
}

// Store is where bytes live. Bytes is 0 where it isn't known how much room there is.
type Store struct {
	Store       string
	Kind        keep.StoreKind
	Away        bool
	Free, Bytes uint64
}

// seconds from a millisecond to about an hour, each four times the one before.
var buckets = prometheus.ExponentialBuckets(0.001, 4, 12)

// New makes the figures.
func New(from Sources) *Metrics {
	m := &Metrics{
		registry: prometheus.NewRegistry(),
		operations: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "urbankeep_operations_total",
			Help: "Operations of account holders, by protocol, action and outcome."}, []string{"protocol", "action", "outcome"}),
		durations: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "urbankeep_transfer_duration_seconds",
			Help: "How long uploads and downloads took.", Buckets: buckets}, []string{"protocol", "action"}),
		refusals: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "urbankeep_errors_total",
			Help: "Operations that were refused, failed or were interrupted, by reason."}, []string{"protocol", "reason"}),
		changes: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "urbankeep_operator_actions_total",
			Help: "What operators did, by action and outcome."}, []string{"action", "outcome"}),
		records: prometheus.NewCounter(prometheus.CounterOpts{Name: "urbankeep_audit_records_total",
			Help: "Audit records written."}),
		requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "urbankeep_http_request_duration_seconds",
			Help: "Requests of the API and the console, by route, method and status.", Buckets: buckets}, []string{"route", "method", "status"}),
	}
	m.registry.MustRegister(m.operations, m.durations, m.refusals, m.changes, m.records, m.requests, source(from),
		collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// Recorded counts records of the audit trail.
func (m *Metrics) Recorded(batch []keep.AuditRecord) {
	m.records.Add(float64(len(batch)))
	for i := range batch {
		r := &batch[i]
		if r.Operator != "" {
			m.changes.WithLabelValues(string(r.Action), string(r.Outcome)).Inc()
			continue
		}
		if r.Protocol == "" || r.Rehearsal {
			continue // the service itself, or only tried
		}
		m.operations.WithLabelValues(string(r.Protocol), string(r.Action), string(r.Outcome)).Inc()
		if r.Outcome != keep.Done {
			m.refusals.WithLabelValues(string(r.Protocol), string(r.Reason)).Inc()
		}
		if r.Action == keep.Uploading || r.Action == keep.Downloading {
			m.durations.WithLabelValues(string(r.Protocol), string(r.Action)).Observe(r.Duration.Seconds())
		}
	}
}

// Request counts one HTTP request; route is the pattern, not the path.
func (m *Metrics) Request(route, method string, status int, took time.Duration) {
	m.requests.WithLabelValues(route, method, strconv.Itoa(status)).Observe(took.Seconds())
}

// Handler answers a scrape.
func (m *Metrics) Handler() http.Handler {
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{MaxRequestsInFlight: 4})
}
