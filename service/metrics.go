package service

import (
	"time"

	"github.com/labstack/echo/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"usherbench/api"
	"usherbench/engine"
	"usherbench/store"
)

// benchCollector reads the engine when metrics are asked for, so that nothing has to be counted twice.
type benchCollector struct {
	engine *engine.Engine
	store  *store.Store
	copied func() time.Time // when the newest copy of the records was made; zero: there is none
}

var (
	liveRun = prometheus.NewDesc("usher_bay_live", "1 while a run is live in the bay.", []string{"bay"}, nil)
	alarm   = prometheus.NewDesc("usher_bay_alarm",
		"1 while an output of the bay may be on that could not be confirmed off.", []string{"bay"}, nil)
	held = prometheus.NewDesc("usher_bay_held", "1 while nothing begins by itself in the bay after a stop.",
		[]string{"bay"}, nil)
	wardenUp = prometheus.NewDesc("usher_warden_up",
		"1 while the second process watches; without it nothing is energised.", nil, nil)
	unwritten = prometheus.NewDesc("usher_unwritten", "Ends of runs and a journal that cannot be written now.", nil,
		nil)
	recordsWhole = prometheus.NewDesc("usher_records_whole",
		"1 while the database is the one that was opened, and nothing damaged was found in it.", nil, nil)
	recordsBytes  = prometheus.NewDesc("usher_records_bytes", "What the records take on the disk.", nil, nil)
	recordsCopied = prometheus.NewDesc("usher_records_copied_timestamp_seconds",
		"When the newest copy was made of those that the service makes by itself; 0: there is none.", nil, nil)
	failedWrites = prometheus.NewDesc("usher_failed_writes_total", "Writes of records that the disk did not take.",
		nil, nil)
	frameRate = prometheus.NewDesc("usher_bay_frames_per_second", "Frames a second of bench time.", []string{"bay"},
		nil)
	messages = prometheus.NewDesc("usher_instrument_messages_total", "Messages sent to the instrument.",
		[]string{"instrument"}, nil)
	errorsOf = prometheus.NewDesc("usher_instrument_errors_total", "Messages without a usable answer.",
		[]string{"instrument"}, nil)
	latency = prometheus.NewDesc("usher_instrument_latency_seconds",
		"Time of an answer over the last thousand messages.", []string{"instrument", "quantile"}, nil)
	connects = prometheus.NewDesc("usher_instrument_connects_total", "Connections opened to the instrument.",
		[]string{"instrument"}, nil)
)

func newMetrics(en *engine.Engine, s *store.Store, copied func() time.Time) *prometheus.Registry {
	r := prometheus.NewRegistry()
	r.MustRegister(benchCollector{en, s, copied}, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return r
}

func (b benchCollector) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{liveRun, alarm, held, wardenUp, unwritten, recordsWhole, recordsBytes,
		recordsCopied, failedWrites, frameRate, messages, errorsOf, connects, latency} {
		ch <- d
	}
}

func (b benchCollector) Collect(ch chan<- prometheus.Metric) {
	gauge := func(d *prometheus.Desc, x float64, label string) {
		ch <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, x, label)
	}
	if up, watched := b.engine.Watched(); watched {
		ch <- prometheus.MustNewConstMetric(wardenUp, prometheus.GaugeValue, truth(up))
	}
	ch <- prometheus.MustNewConstMetric(unwritten, prometheus.GaugeValue, float64(b.engine.Unwritten()))
	_, failed, _ := b.store.Failing()
	ch <- prometheus.MustNewConstMetric(failedWrites, prometheus.CounterValue, float64(failed))
	ch <- prometheus.MustNewConstMetric(recordsBytes, prometheus.GaugeValue, float64(b.store.Size()))
	at := 0.0
	if copied := b.copied(); !copied.IsZero() {
		at = float64(copied.Unix())
	}
	ch <- prometheus.MustNewConstMetric(recordsCopied, prometheus.GaugeValue, at)
	ch <- prometheus.MustNewConstMetric(recordsWhole, prometheus.GaugeValue, truth(b.store.Whole() == nil))
	for _, bay := range b.engine.Bays() {
		s := bay.Status()
		gauge(liveRun, truth(s.State == api.BayLive), s.Name)
		gauge(alarm, truth(s.Alarm != ""), s.Name)
		gauge(held, truth(s.Held != nil), s.Name)
		gauge(frameRate, s.FrameRate, s.Name)
	}
	for name, stats := range b.engine.Bench().Statistics() {
		ch <- prometheus.MustNewConstMetric(messages, prometheus.CounterValue, float64(stats.Messages), name)
		ch <- prometheus.MustNewConstMetric(errorsOf, prometheus.CounterValue, float64(stats.Errors), name)
		ch <- prometheus.MustNewConstMetric(connects, prometheus.CounterValue, float64(stats.Connects), name)
		ch <- prometheus.MustNewConstMetric(latency, prometheus.GaugeValue, stats.Median.Seconds(), name, "0.5")
		ch <- prometheus.MustNewConstMetric(latency, prometheus.GaugeValue, stats.P99.Seconds(), name, "0.99")
	}
}

func truth(b bool) float64 {
	if b {
		return 1
	}
	return 0
}

func (s *Service) showMetrics(c *echo.Context) error {
	promhttp.HandlerFor(s.metrics, promhttp.HandlerOpts{DisableCompression: true}).ServeHTTP(c.Response(), c.Request())
	return nil
}
