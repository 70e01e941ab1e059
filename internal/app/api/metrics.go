package api

import (
	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"

	"arithmon/internal/live/engine"
	"arithmon/internal/live/link"
)

// collector gives the engine's statistics to /metrics.
type collector struct {
	engine *engine.Engine
}

func newCollector(e *engine.Engine) collector { return collector{e} }

func desc(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("arithmon_"+name, help, labels, nil)
}

var (
	linkUp       = desc("link_up", "1 while the link is connected.", "link")
	linkBytes    = desc("link_bytes_total", "Bytes that crossed the link.", "link", "direction")
	linkDropped  = desc("link_dropped_answers_total", "Responses that belonged to no request under way.", "link", "kind")
	connections  = desc("link_connections_total", "How often the link was opened.", "link")
	stationUp    = desc("station_answering", "1 while the station answers.", "link", "station")
	requests     = desc("station_requests_total", "Requests sent.", "link", "station")
	answers      = desc("station_answers_total", "Responses received, refusals included.", "link", "station")
	failures     = desc("station_failures_total", "Exchanges that failed, by reason.", "link", "station", "reason")
	wrong        = desc("station_wrong_answers_total", "Responses that belonged to no request of their time, by kind.", "link", "station", "kind")
	retries      = desc("station_retries_total", "Requests that were repetitions.", "link", "station")
	roundTrips   = desc("station_round_trip_minute_seconds", "Round trip over the last minute.", "link", "station", "quantile")
	goodShare    = desc("station_good_minute_ratio", "Share of exchanges of the last minute that brought data.", "link", "station")
	occupancy    = desc("link_occupancy_minute_ratio", "Share of the last minute in which an exchange was under way.", "link")
	findings     = desc("findings", "Conclusions about communication that stand now, by code.", "code", "subject")
	polls        = desc("station_polls_total", "Polls done.", "link", "station")
	latePolls    = desc("station_late_polls_total", "Polls begun more than 50 ms after they were due.", "link", "station")
	roundTrip    = desc("station_round_trip_seconds", "Recent mean round trip.", "link", "station")
	pointQuality = desc("station_points", "Points by quality.", "link", "station", "quality")
)

// Describe is part of prometheus.Collector; what there is follows the site, so that nothing is promised.
func (collector) Describe(chan<- *prometheus.Desc) {}

// Collect is part of prometheus.Collector.
func (c collector) Collect(out chan<- prometheus.Metric) {
	counter := func(d *prometheus.Desc, v uint64, labels ...string) {
		out <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, float64(v), labels...)
	}
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		out <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	links, stations := c.engine.Status()
	for _, l := range links {
		gauge(linkUp, one(l.State == link.Up), l.Name)
		counter(linkBytes, l.Traffic.BytesSent, l.Name, "sent")
		counter(linkBytes, l.Traffic.BytesReceived, l.Name, "received")
		counter(linkDropped, l.Traffic.Late, l.Name, "late")
		counter(linkDropped, l.Traffic.Foreign, l.Name, "foreign")
		counter(connections, l.Connections, l.Name)
		gauge(occupancy, l.Figures.Minute.Occupancy, l.Name)
	}
	for _, f := range c.engine.Findings() {
		gauge(findings, f.Certainty, string(f.Code), f.Subject)
	}
	for _, st := range stations {
		s := st.Statistics
		gauge(stationUp, one(st.State == link.StationAnswering), st.Link, st.Name)
		counter(requests, s.Requests, st.Link, st.Name)
		counter(answers, s.Answers, st.Link, st.Name)
		for reason, n := range s.Failures {
			counter(failures, n, st.Link, st.Name, reason)
		}
		total, minute := st.Figures.Total, st.Figures.Minute
		for kind, n := range map[string]uint32{"late": total.Late, "foreign": total.Foreign, "stray": total.Stray} {
			counter(wrong, uint64(n), st.Link, st.Name, kind)
		}
		counter(retries, s.Retries, st.Link, st.Name)
		gauge(goodShare, minute.Good, st.Link, st.Name)
		for quantile, ms := range map[string]float64{"0": minute.RoundTrip.Least, "0.5": minute.RoundTrip.Median, "0.95": minute.RoundTrip.P95, "0.99": minute.RoundTrip.P99, "1": minute.RoundTrip.Most} {
			gauge(roundTrips, ms/1000, st.Link, st.Name, quantile)
		}
		counter(polls, s.Polls, st.Link, st.Name)
		counter(latePolls, s.LatePolls, st.Link, st.Name)
		gauge(roundTrip, s.RoundTripMS/1000, st.Link, st.Name)
		gauge(pointQuality, float64(st.Points.Good), st.Link, st.Name, "good")
		gauge(pointQuality, float64(st.Points.Uncertain), st.Link, st.Name, "uncertain")
		gauge(pointQuality, float64(st.Points.Bad), st.Link, st.Name, "bad")
	}
}

func one(b bool) float64 {
	if b {
		return 1
	}
	return 0
}

// metrics answers with the statistics as Prometheus reads them.
func (s *Server) metrics(c *gin.Context) error {
	s.exposition.ServeHTTP(c.Writer, c.Request)
	return nil
}
