package web

import (
	"context"
	"net/url"
	"slices"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"crelvo/internal/record"
	"crelvo/internal/service"
	"crelvo/internal/service/act"
	"crelvo/internal/service/quotas"
	"crelvo/internal/service/rights"
)

// held gives figures of what the service holds, which are asked for when somebody reads the
// metrics. Those of the records are the same at every node.
type held struct{ service *service.Service }

// described are all figures that held gives.
var described []*prometheus.Desc

func figure(name, help string, labels ...string) *prometheus.Desc {
	d := prometheus.NewDesc(name, help, labels, nil)
	described = append(described, d)
	return d
}

var (
	connectionsDesc = figure("crelvo_database_connections", "Connections to the database, by what they do.", "state")
	waitsDesc       = figure("crelvo_database_waits_total",
		"How often somebody waited for a connection to the database.")
	waitedDesc = figure("crelvo_database_waited_seconds_total",
		"How long it was waited for connections to the database.")

	storeBytesDesc = figure("crelvo_store_bytes", "Bytes of files in a store.", "store")
	storeFilesDesc = figure("crelvo_store_files", "Files in a store.", "store")
	storeAwayDesc  = figure("crelvo_store_away", "Whether this node cannot reach a store: 1 if so.", "store")
	storeFreeDesc  = figure("crelvo_store_free_bytes", "Room for files in the folder that is the default store.")
	cacheBytesDesc = figure("crelvo_store_cache_bytes", "Bytes of this node's copies of what is read from a store.",
		"store")
	cacheMostDesc = figure("crelvo_store_cache_most_bytes", "What the copies may take.", "store")
	cacheReadDesc = figure("crelvo_store_cache_reads_total",
		"Files that were read from a store, by whether this node had a copy: hit or miss.", "store", "came")
	quotaUsedDesc = figure("crelvo_quota_used_bytes", "What is used of a quota.", "of")
	quotaDesc     = figure("crelvo_quota_bytes", "A quota.", "of", "bound")
	backupDesc    = figure("crelvo_backup_last_seconds",
		"When the last backup began that is whole, as seconds since 1970; 0 if there is none.")
	nodesDesc = figure("crelvo_nodes", "Nodes that gave a sign of life lately.")

	packagesDesc = figure("crelvo_packages", "Packages in a repository.", "repository")
	versionsDesc = figure("crelvo_versions", "Versions in a repository.", "repository")
	heldDesc     = figure("crelvo_repository_bytes", "Bytes of the files in a repository.", "repository")

	mirrorReadsDesc = figure("crelvo_mirror_reads_total",
		"What mirrors were asked for at this node: hit if it was kept, miss if not, stale if it could not be asked for again, "+
			"failed if there was nothing to give.", "mirror", "came")
	mirrorBytesDesc = figure("crelvo_mirror_bytes_total", "Bytes that mirrors fetched and gave at this node.", "mirror",
		"way")
	upstreamDesc = figure("crelvo_upstream_first_byte_seconds",
		"Time until upstreams began to answer this node.", "mirror", "upstream")
	upstreamFailedDesc = figure("crelvo_upstream_failures_total", "How often upstreams failed this node.", "mirror",
		"upstream")
	upstreamAwayDesc = figure("crelvo_upstream_away", "Whether an upstream fails: 1 if so.", "mirror", "upstream")

	jobsDesc = figure("crelvo_jobs",
		"Jobs in the background: waiting, running, and of those of the last day failed and done.", "kind", "state")
	oldestJobDesc  = figure("crelvo_job_oldest_seconds", "For how long the oldest job waits or runs.", "kind", "state")
	promotionsDesc = figure("crelvo_promotions", "Promotions, by their state.", "state")
	sweepsDesc     = figure("crelvo_sweeps", "Sweeps, by their state.", "state")
	deliveriesDesc = figure("crelvo_deliveries", "Deliveries to places outside, by their state.", "state")
	concernsDesc   = figure("crelvo_concerns", "What the status page shows that somebody should look at, by level.",
		"level")
)

// heldWithin is how long the records may take to answer; without them the rest is given.
const heldWithin = 5 * time.Second

// Describe implements prometheus.Collector.
func (h *held) Describe(to chan<- *prometheus.Desc) {
	for _, d := range described {
		to <- d
	}
}

// given takes figures.
type given chan<- prometheus.Metric

func (g given) gauge(d *prometheus.Desc, value float64, labels ...string) {
	g <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, value, labels...)
}

func (g given) counter(d *prometheus.Desc, value float64, labels ...string) {
	g <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, value, labels...)
}

// Collect implements prometheus.Collector.
func (h *held) Collect(to chan<- prometheus.Metric) {
	g := given(to)
	stat := h.service.DB.Pool().Stat()
	g.gauge(connectionsDesc, float64(stat.AcquiredConns()), "used")
	g.gauge(connectionsDesc, float64(stat.IdleConns()), "idle")
	g.gauge(connectionsDesc, float64(stat.MaxConns()), "allowed")
	g.counter(waitsDesc, float64(stat.EmptyAcquireCount()))
	g.counter(waitedDesc, stat.EmptyAcquireWaitTime().Seconds())
	h.stores(g)
	h.mirrors(g)

	ctx, cancel := context.WithTimeout(context.Background(), heldWithin)
	defer cancel()
	for _, records := range []func(context.Context, given) error{h.bytes, h.contents, h.contacts, h.work, h.concerns} {
		if err := records(ctx, g); err != nil {
			h.service.Log.Warn("some figures could not be made", "error", err)
			return // the database is away: the others would wait for it too
		}
	}
}

func (h *held) stores(g given) {
	for _, f := range h.service.Store.Figures() {
		g.gauge(storeAwayDesc, is(f.Away), f.Store)
		if f.Cache.Most > 0 {
			g.gauge(cacheBytesDesc, float64(f.Cache.Bytes), f.Store)
			g.gauge(cacheMostDesc, float64(f.Cache.Most), f.Store)
			g.counter(cacheReadDesc, float64(f.Cache.Hits), f.Store, "hit")
			g.counter(cacheReadDesc, float64(f.Cache.Misses), f.Store, "miss")
		}
	}
	if free, ok, err := h.service.Store.Free(); err == nil && ok {
		g.gauge(storeFreeDesc, float64(free))
	}
}

func is(so bool) float64 {
	if so {
		return 1
	}
	return 0
}

// mirrors gives what mirrors did here. Those that are removed are left out.
func (h *held) mirrors(g given) {
	all, upstreams := h.service.Counting.Mirrors()
	for _, m := range all {
		r, ok := h.service.Directory.RepositoryByID(m.RepositoryID)
		if !ok {
			continue
		}
		for came, n := range map[string]int64{"hit": m.Hits, "miss": m.Misses, "stale": m.Stale, "failed": m.Failures} {
			g.counter(mirrorReadsDesc, float64(n), r.Name, came)
		}
		g.counter(mirrorBytesDesc, float64(m.BytesFetched), r.Name, "fetched")
		g.counter(mirrorBytesDesc, float64(m.BytesServed), r.Name, "given")
	}
	for _, u := range upstreams {
		if r, ok := h.service.Directory.RepositoryByID(u.Mirror); ok {
			at := withoutSecrets(u.URL)
			g <- prometheus.MustNewConstSummary(upstreamDesc, u.Answered, u.FirstByte.Seconds(), nil, r.Name, at)
			g.counter(upstreamFailedDesc, float64(u.Failed), r.Name, at)
		}
	}
}

// withoutSecrets is the address of an upstream without what may be a secret.
func withoutSecrets(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return "?"
	}
	u.User, u.RawQuery, u.Fragment = nil, "", ""
	return u.String()
}

// bytes gives what is in stores, of quotas and in backups.
func (h *held) bytes(ctx context.Context, g given) error {
	stores, err := h.service.DB.Stores(ctx)
	if err != nil {
		return err
	}
	totals, _, err := act.Figure(ctx, h.service.Act, "bytes by store", h.service.DB.StoreTotals)
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
		g.gauge(storeBytesDesc, float64(of.Bytes), s.Name)
		g.gauge(storeFilesDesc, float64(of.Files), s.Name)
	}
	bounds, err := h.service.Quotas.All(ctx)
	if err != nil {
		return err
	}
	for _, q := range bounds {
		of := quotas.Title(q.Quota)
		g.gauge(quotaUsedDesc, float64(q.Used), of)
		g.gauge(quotaDesc, float64(q.Soft), of, "soft")
		g.gauge(quotaDesc, float64(q.Hard), of, "hard")
	}
	last, err := h.service.DB.LastBackup(ctx)
	if err != nil {
		return err
	}
	began := float64(0)
	if last.ID != 0 {
		began = float64(last.BegunAt.Unix())
	}
	g.gauge(backupDesc, began)
	nodes, err := h.service.DB.Nodes(ctx, 20*time.Second)
	g.gauge(nodesDesc, float64(len(nodes)))
	return err
}

// contents gives what is in repositories.
func (h *held) contents(ctx context.Context, g given) error {
	repositories := h.service.Directory.Repositories()
	totals, _, err := act.Figure(ctx, h.service.Act, "contents of all repositories",
		func(ctx context.Context) (map[int64]record.Total, error) {
			return h.service.Repositories.Totals(ctx, repositories...)
		})
	if err != nil {
		return err
	}
	for _, r := range repositories {
		if r.Gathers() {
			continue
		}
		g.gauge(packagesDesc, float64(totals[r.ID].Packages), r.Name)
		g.gauge(versionsDesc, float64(totals[r.ID].Versions), r.Name)
		g.gauge(heldDesc, float64(totals[r.ID].Bytes), r.Name)
	}
	return nil
}

// contacts gives how upstreams are.
func (h *held) contacts(ctx context.Context, g given) error {
	all, err := h.service.Mirrors.MirrorContacts(ctx)
	for id, contacts := range all {
		r, ok := h.service.Directory.RepositoryByID(id)
		if !ok || r.Mirror == nil {
			continue
		}
		for _, u := range r.Mirror.Upstreams {
			fails := slices.ContainsFunc(contacts, func(c record.UpstreamContact) bool {
				return c.URL == u.URL && c.FailingSince != nil
			})
			g.gauge(upstreamAwayDesc, is(fails), r.Name, withoutSecrets(u.URL))
		}
	}
	return err
}

// work gives what is done, and was, in the background.
func (h *held) work(ctx context.Context, g given) error {
	jobs, err := h.service.DB.JobCounts(ctx)
	if err != nil {
		return err
	}
	for _, j := range jobs {
		g.gauge(jobsDesc, float64(j.Jobs), j.Kind, j.State)
		if j.State == "waiting" || j.State == "running" {
			g.gauge(oldestJobDesc, max(time.Since(j.Oldest).Seconds(), 0), j.Kind, j.State)
		}
	}
	for _, of := range []struct {
		desc *prometheus.Desc
		ask  func(context.Context) ([]record.StateCount, error)
	}{{promotionsDesc, h.service.DB.PromotionCounts}, {sweepsDesc, h.service.DB.SweepCounts},
		{deliveriesDesc, h.service.DB.DeliveryCounts}} {
		states, err := of.ask(ctx)
		if err != nil {
			return err
		}
		for _, s := range states {
			g.gauge(of.desc, float64(s.Count), s.State)
		}
	}
	return nil
}

func (h *held) concerns(ctx context.Context, g given) error {
	all, err := h.service.Status.Concerns(ctx, rights.Bootstrapper)
	levels := map[string]int{"wrong": 0, "soon": 0, "waits": 0}
	for _, c := range all {
		levels[c.Level]++
	}
	for level, n := range levels {
		g.gauge(concernsDesc, float64(n), level)
	}
	return err
}
