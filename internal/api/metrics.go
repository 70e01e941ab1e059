package api

import (
	"github.com/prometheus/client_golang/prometheus"

	"arithmon/internal/engine"
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
	linkDropped  = desc("link_dropped_answers_total", "Answers that belonged to no request under way.", "link", "kind")
	connections  = desc("link_connections_total", "How often the link was opened.", "link")
	stationUp    = desc("station_answering", "1 while the station answers.", "link", "station")
	requests     = desc("station_requests_total", "Requests sent.", "link", "station")
	answers      = desc("station_answers_total", "Answers received, refusals included.", "link", "station")
	failures     = desc("station_failures_total", "Exchanges that failed, by reason.", "link", "station", "reason")
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
		gauge(linkUp, one(l.State == engine.LinkUp), l.Name)
		counter(linkBytes, l.Traffic.BytesSent, l.Name, "sent")
		counter(linkBytes, l.Traffic.BytesReceived, l.Name, "received")
		counter(linkDropped, l.Traffic.Late, l.Name, "late")
		counter(linkDropped, l.Traffic.Foreign, l.Name, "foreign")
		counter(connections, l.Connections, l.Name)
	}
	for _, st := range stations {
		s := st.Statistics
		gauge(stationUp, one(st.State == engine.StationAnswering), st.Link, st.Name)
		counter(requests, s.Requests, st.Link, st.Name)
		counter(answers, s.Answers, st.Link, st.Name)
		for reason, n := range s.Failures {
			counter(failures, n, st.Link, st.Name, reason)
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
