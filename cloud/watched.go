package cloud

import (
	"cmp"
	"fmt"
	"net/http"
	"runtime/debug"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"redlocket/core/wire"
)

// counts are what is told about the cloud's work: never whose.
type counts struct {
	registry *prometheus.Registry
	requests *prometheus.CounterVec
	took     *prometheus.HistogramVec
	panics   prometheus.Counter
}

func newCounts(h *hub) *counts {
	c := &counts{
		registry: prometheus.NewRegistry(),
		requests: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "redlocket_requests_total", Help: "Requests, by route and status.",
		}, []string{"method", "route", "status"}),
		took: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: "redlocket_request_seconds", Help: "How long requests took, but for event streams.",
			Buckets: prometheus.ExponentialBuckets(.001, 4, 8), //nolint:mnd // a millisecond to a quarter of a minute
		}, []string{"method", "route"}),
		panics: prometheus.NewCounter(prometheus.CounterOpts{
			Name: "redlocket_panics_total", Help: "Requests that ended in a fault of the program.",
		}),
	}
	streams := prometheus.NewGaugeFunc(prometheus.GaugeOpts{
		Name: "redlocket_event_streams", Help: "Devices that are listening.",
	}, func() float64 { return float64(h.count()) })
	c.registry.MustRegister(c.requests, c.took, c.panics, streams)
	return c
}

// Metrics answers with what the cloud counts, in the text format of Prometheus. It belongs on an address of its own.
func (s *Server) Metrics() http.Handler {
	return promhttp.HandlerFor(s.counts.registry, promhttp.HandlerOpts{})
}

// watched counts requests, and turns a panic into an answer like any other trouble.
func (s *Server) watched(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		began := time.Now()
		seen := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		defer func() {
			p := recover()
			route, method := chi.RouteContext(r.Context()).RoutePattern(), r.Method
			if route == "" || seen.Status() == http.StatusMethodNotAllowed { // anybody can make up any number of them
				route, method = "none", "any"
			}
			if p != nil && p != http.ErrAbortHandler { //nolint:errorlint // the value itself is what net/http compares
				s.counts.panics.Inc()
				s.log.ErrorContext(r.Context(), "panic", "method", method, "route", route,
					"what", fmt.Sprintf("%T", p), "stack", string(debug.Stack()))
				if seen.Status() == 0 {
					fail(seen, http.StatusInternalServerError, wire.CodeInternal, "the cloud has trouble")
				}
			}
			s.counts.requests.WithLabelValues(method, route, strconv.Itoa(cmp.Or(seen.Status(), http.StatusOK))).Inc()
			if route != eventsRoute {
				s.counts.took.WithLabelValues(method, route).Observe(time.Since(began).Seconds())
			}
			if p == http.ErrAbortHandler { //nolint:errorlint // likewise
				panic(p)
			}
		}()
		next.ServeHTTP(seen, r)
	})
}

const eventsRoute = "/v1/events"
