package service

import (
	"net/http"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"
)

type metrics struct {
	registry *prometheus.Registry
	calls    *prometheus.CounterVec
	syncs    *prometheus.CounterVec
	checks   *prometheus.CounterVec
	jobs     *prometheus.CounterVec
}

func newMetrics() *metrics {
	count := func(name, help string, labels ...string) *prometheus.CounterVec {
		return prometheus.NewCounterVec(prometheus.CounterOpts{Namespace: "beacon", Name: name, Help: help}, labels)
	}
	m := &metrics{
		registry: prometheus.NewRegistry(),
		calls:    count("outside_requests_total", "Requests to providers and registrars.", "account", "outcome"),
		syncs:    count("syncs_total", "Syncs that ended.", "state"),
		checks:   count("checks_total", "Checks of domains.", "verdict"),
		jobs:     count("jobs_total", "Pieces of background work that were run.", "kind", "outcome"),
	}
	m.registry.MustRegister(m.calls, m.syncs, m.checks, m.jobs, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

func (m *metrics) handler() http.Handler {
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{})
}
