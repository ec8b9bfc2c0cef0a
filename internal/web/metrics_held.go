package web

import (
	"context"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"crelvo/internal/record"
	"crelvo/internal/service"
	"crelvo/internal/service/act"
	"crelvo/internal/service/quotas"
)

// held gives figures of what the service holds, which are asked for when somebody reads the
// metrics. Those of the records are the same at every node.
type held struct{ service *service.Service }

var (
	connectionsDesc = prometheus.NewDesc("crelvo_database_connections",
		"Connections to the database, by what they do.", []string{"state"}, nil)
	waitsDesc = prometheus.NewDesc("crelvo_database_waits_total",
		"How often somebody waited for a connection to the database.", nil, nil)
	waitedDesc = prometheus.NewDesc("crelvo_database_waited_seconds_total",
		"How long it was waited for connections to the database.", nil, nil)
	storeBytesDesc = prometheus.NewDesc("crelvo_store_bytes", "Bytes of files in a store.", []string{"store"}, nil)
	storeFilesDesc = prometheus.NewDesc("crelvo_store_files", "Files in a store.", []string{"store"}, nil)
	quotaUsedDesc  = prometheus.NewDesc("crelvo_quota_used_bytes", "What is used of a quota.", []string{"of"}, nil)
	quotaDesc      = prometheus.NewDesc("crelvo_quota_bytes", "A quota.", []string{"of", "bound"}, nil)
	backupDesc     = prometheus.NewDesc("crelvo_backup_last_seconds",
		"When the last backup began that is whole, as seconds since 1970; 0 if there is none.", nil, nil)
	nodesDesc = prometheus.NewDesc("crelvo_nodes", "Nodes that gave a sign of life lately.", nil, nil)
)

// heldWithin is how long the records may take to answer; without them the rest is given.
const heldWithin = 5 * time.Second

// Describe implements prometheus.Collector.
func (h *held) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{connectionsDesc, waitsDesc, waitedDesc, storeBytesDesc, storeFilesDesc,
		quotaUsedDesc, quotaDesc, backupDesc, nodesDesc} {
		to <- d
	}
}

// Collect implements prometheus.Collector.
func (h *held) Collect(to chan<- prometheus.Metric) {
	gauge := func(d *prometheus.Desc, value float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, value, labels...)
	}
	stat := h.service.DB.Pool().Stat()
	gauge(connectionsDesc, float64(stat.AcquiredConns()), "used")
	gauge(connectionsDesc, float64(stat.IdleConns()), "idle")
	gauge(connectionsDesc, float64(stat.MaxConns()), "allowed")
	to <- prometheus.MustNewConstMetric(waitsDesc, prometheus.CounterValue, float64(stat.EmptyAcquireCount()))
	to <- prometheus.MustNewConstMetric(waitedDesc, prometheus.CounterValue, stat.EmptyAcquireWaitTime().Seconds())

	ctx, cancel := context.WithTimeout(context.Background(), heldWithin)
	defer cancel()
	if err := h.records(ctx, gauge); err != nil {
		h.service.Log.Warn("some figures could not be made", "error", err)
	}
}

func (h *held) records(ctx context.Context, gauge func(*prometheus.Desc, float64, ...string)) error {
	stores, err := h.service.DB.Stores(ctx)
	if err != nil {
		return err
	}
	totals, _, err := act.Figure(ctx, h.service.Act, "bytes of stores", h.service.DB.StoreTotals)
	if err != nil {
		return err
	}
	for _, s := range stores {
		var of record.StoreTotal
		for _, t := range totals {
			if t.StoreID == s.ID {
				of = t
			}
		}
		gauge(storeBytesDesc, float64(of.Bytes), s.Name)
		gauge(storeFilesDesc, float64(of.Files), s.Name)
	}
	bounds, err := h.service.Quotas.All(ctx)
	if err != nil {
		return err
	}
	for _, q := range bounds {
		of := quotas.Title(q.Quota)
		gauge(quotaUsedDesc, float64(q.Used), of)
		gauge(quotaDesc, float64(q.Soft), of, "soft")
		gauge(quotaDesc, float64(q.Hard), of, "hard")
	}
	last, err := h.service.DB.LastBackup(ctx)
	if err != nil {
		return err
	}
	began := float64(0)
	if last.ID != 0 {
		began = float64(last.BegunAt.Unix())
	}
	gauge(backupDesc, began)
	nodes, err := h.service.DB.Nodes(ctx, 20*time.Second)
	gauge(nodesDesc, float64(len(nodes)))
	return err
}
