// Package service puts the rooms of the service together. Each of them is about one thing
// and stands in a folder of its own; which may ask which is in the table of
// internal/architecture_test.go. It is also what the ecosystems ask (Desk).
package service

import (
	"context"

	"github.com/riverqueue/river"

	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/kinds"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/backups"
	"crelvo/internal/service/bills"
	"crelvo/internal/service/builds"
	"crelvo/internal/service/bundles"
	"crelvo/internal/service/counting"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/holdings"
	"crelvo/internal/service/keys"
	"crelvo/internal/service/landing"
	"crelvo/internal/service/makeup"
	"crelvo/internal/service/mirrors"
	"crelvo/internal/service/nodes"
	"crelvo/internal/service/pointing"
	"crelvo/internal/service/promotion"
	"crelvo/internal/service/publishing"
	"crelvo/internal/service/quotas"
	"crelvo/internal/service/relays"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/resolving"
	"crelvo/internal/service/retention"
	"crelvo/internal/service/rights"
	"crelvo/internal/service/safety"
	"crelvo/internal/service/schedule"
	"crelvo/internal/service/search"
	"crelvo/internal/service/secret"
	"crelvo/internal/service/status"
	"crelvo/internal/service/store"
	"crelvo/internal/service/symbols"
	"crelvo/internal/service/targets"
	"crelvo/internal/service/transfers"
	"crelvo/internal/service/use"
	"crelvo/internal/service/verifying"
	"crelvo/internal/service/vetting"
	bytestore "crelvo/internal/store"
)

// Settings of a Service; zero fields take the defaults.
type Settings = act.Settings

// Service is Crelvo without its interfaces: its rooms.
type Service struct {
	*act.Act

	Counting     *counting.Counting
	Directory    *directory.Directory
	Schedule     *schedule.Schedule
	Store        *store.Store
	Quotas       *quotas.Quotas
	Holdings     *holdings.Holdings
	Keys         *keys.Keys
	Bills        *bills.Bills
	Builds       *builds.Builds
	Rights       *rights.Rights
	Repositories *repositories.Repositories
	Mirrors      *mirrors.Mirrors
	Safety       *safety.Safety
	Vetting      *vetting.Vetting
	Resolving    *resolving.Resolving
	Publishing   *publishing.Publishing
	Landing      *landing.Landing
	Targets      *targets.Targets
	Promotion    *promotion.Promotion
	Retention    *retention.Retention
	Search       *search.Search
	Makeup       *makeup.Makeup
	Symbols      *symbols.Symbols
	Use          *use.Use
	Pointing     *pointing.Pointing
	Nodes        *nodes.Nodes
	Verifying    *verifying.Verifying
	Backups      *backups.Backups
	Transfers    *transfers.Transfers
	Relays       *relays.Relays
	Bundles      *bundles.Bundles
	Status       *status.Status

	desk desk
}

// New makes a service and looks after what an earlier process may have left. folder is the
// store in its data folder.
func New(ctx context.Context, db *record.DB, folder bytestore.Store, settings Settings) (*Service, error) {
	ctx = record.Patiently(ctx)
	a, safe := act.New(db, kinds.All(), settings), secret.New(settings.SecretKey)
	s := &Service{Act: a}
	s.Counting = counting.New(a)
	s.Directory = directory.New(a, safe)
	s.Nodes = nodes.New(a, s.Directory)
	s.Schedule = schedule.New(a)
	s.Store = store.New(a, safe, s.Directory, folder)
	s.Quotas = quotas.New(a, s.Directory, s.Store)
	s.Holdings = holdings.New(a)
	s.Keys = keys.New(a, safe, s.Directory)
	s.Bills = bills.New(a, s.Store)
	s.Builds = builds.New(a, s.Counting, s.Directory, s.Keys)
	s.Rights = rights.New(a, safe, s.Counting, s.Directory)
	s.Repositories = repositories.New(a, safe, s.Directory, s.Schedule, s.Store)
	s.Safety = safety.New(a, s.Directory, s.Keys)
	s.Mirrors = mirrors.New(a, s.Counting, s.Directory, s.Schedule, s.Store, s.Holdings, s.Repositories,
		s.Safety)
	s.Resolving = resolving.New(a, s.Counting, s.Directory, s.Holdings, s.Mirrors, s.Safety)
	s.Vetting = vetting.New(a, s.Directory, s.Resolving, s.Safety, s.Mirrors)
	s.Publishing = publishing.New(a, s.Directory, s.Store, s.Holdings, s.Builds, s.Rights, s.Resolving)
	s.Landing = landing.New(a, s.Directory, s.Store, s.Publishing, s.Safety)
	s.Targets = targets.New(a, safe, s.Directory, s.Store, s.Holdings, s.Safety)
	s.Promotion = promotion.New(a, s.Counting, s.Directory, s.Store, s.Keys, s.Builds, s.Rights, s.Publishing,
		s.Safety, s.Vetting, s.Targets)
	s.Retention = retention.New(a, s.Directory, s.Schedule, s.Store, s.Publishing, s.Quotas)
	s.Search = search.New(a, s.Directory, s.Holdings, s.Builds, s.Resolving, s.Publishing)
	s.Makeup = makeup.New(a, s.Directory, s.Store, s.Resolving, s.Search)
	s.Symbols = symbols.New(a, s.Directory, s.Store, s.Resolving, s.Search)
	s.Use = use.New(a, s.Store, s.Directory, s.Retention, s.Search)
	s.Pointing = pointing.New(a, s.Directory, s.Rights)
	s.Verifying = verifying.New(a, s.Directory, s.Store, s.Mirrors)
	s.Backups = backups.New(a, s.Directory, s.Store)
	s.Transfers = transfers.New(a, s.Directory, s.Store, s.Holdings, s.Mirrors, s.Resolving, s.Publishing, s.Safety,
		s.Rights, s.Builds, s.Landing)
	s.Relays = relays.New(a, s.Directory, s.Targets, s.Safety, s.Schedule)
	s.Bundles = bundles.New(a, s.Directory, s.Store, s.Holdings, s.Keys, s.Builds, s.Mirrors, s.Resolving, s.Publishing,
		s.Safety, s.Vetting, s.Landing)
	s.Status = status.New(a, s.Store, s.Quotas, s.Safety, s.Vetting, s.Backups, s.Verifying,
		s.Relays, s.Targets, s.Directory, s.Rights, s.Repositories, s.Mirrors,
		s.Publishing, s.Promotion, s.Retention)
	s.desk = desk{s.Resolving, s.Publishing, s.Store, s.Directory, s.Retention, s.Search, s.Rights, s.Safety, s.Symbols}
	s.Resolving.FoldersAsk(&s.desk)
	rooms := []any{s.Nodes, s.Counting, s.Directory, s.Schedule, s.Store, s.Quotas, s.Holdings, s.Keys, s.Bills,
		s.Builds, s.Rights, s.Repositories, s.Mirrors, s.Safety, s.Resolving, s.Vetting, s.Publishing, s.Landing, s.Targets,
		s.Promotion, s.Retention, s.Search, s.Makeup, s.Symbols, s.Use, s.Pointing, s.Verifying, s.Backups, s.Transfers,
		s.Relays,
		s.Bundles, s.Status}
	a.Add(rooms...)

	if err := secret.KnowKey(ctx, a, safe); err != nil {
		return nil, err
	}
	if err := s.Store.LoadFirst(ctx); err != nil {
		return nil, err
	}
	first, err := s.Nodes.Begin(ctx)
	if err != nil {
		return nil, err
	}
	if err := s.Store.Tidy(ctx, first); err != nil {
		return nil, err
	}
	workers := river.NewWorkers()
	for _, room := range rooms {
		if w, ok := room.(schedule.Worker); ok {
			w.Work(workers)
		}
	}
	if err := s.Schedule.Open(workers); err != nil {
		return nil, err
	}
	s.Retention.ScheduleNights()
	return s, s.Directory.Load(ctx)
}

// Ready tells whether the records can be reached.
func (s *Service) Ready(ctx context.Context) error { return s.DB.PingContext(ctx) }

// Run does what goes on in the background until ctx ends, and then writes what is still
// only in memory.
func (s *Service) Run(ctx context.Context) { s.RunAll(ctx) }

// Desk is what ecosystems ask.
func (s *Service) Desk() ecosystem.Desk { return &s.desk }

// desk is what the rooms together give to the ecosystems.
type desk struct {
	*resolving.Resolving
	*publishing.Publishing
	*store.Store
	*directory.Directory
	*retention.Retention
	*search.Search
	*rights.Rights
	*safety.Safety
	*symbols.Symbols
}

var _ interface {
	ecosystem.Desk
	ecosystem.Session
	ecosystem.PluginLister
	ecosystem.ChunkTaker
	ecosystem.LabelReader
	ecosystem.Lister
	ecosystem.Origins
	ecosystem.Adviser
	ecosystem.SymbolFinder
} = (*desk)(nil)
