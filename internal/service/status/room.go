// Package status is about what is wrong, will be soon, or waits for somebody.
package status

import (
	"crelvo/internal/service/act"
	"crelvo/internal/service/backups"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/mirrors"
	"crelvo/internal/service/promotion"
	"crelvo/internal/service/publishing"
	"crelvo/internal/service/quotas"
	"crelvo/internal/service/relays"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/retention"
	"crelvo/internal/service/rights"
	"crelvo/internal/service/safety"
	"crelvo/internal/service/store"
	"crelvo/internal/service/targets"
	"crelvo/internal/service/verifying"
	"crelvo/internal/service/vetting"
)

// Status gathers the concerns of all rooms. It is safe for use by several at once.
type Status struct {
	*act.Act
	store        *store.Store
	quotas       *quotas.Quotas
	safety       *safety.Safety
	vetting      *vetting.Vetting
	backups      *backups.Backups
	verifying    *verifying.Verifying
	relays       *relays.Relays
	targets      *targets.Targets
	directory    *directory.Directory
	rights       *rights.Rights
	repositories *repositories.Repositories
	mirrors      *mirrors.Mirrors
	publishing   *publishing.Publishing
	promotion    *promotion.Promotion
	retention    *retention.Retention
}

// New makes the room.
func New(
	a *act.Act,
	store *store.Store,
	quotas *quotas.Quotas,
	safety *safety.Safety,
	vetting *vetting.Vetting,
	backups *backups.Backups,
	verifying *verifying.Verifying,
	relays *relays.Relays,
	targets *targets.Targets,
	directory *directory.Directory,
	rights *rights.Rights,
	repositories *repositories.Repositories,
	mirrors *mirrors.Mirrors,
	publishing *publishing.Publishing,
	promotion *promotion.Promotion,
	retention *retention.Retention,
) *Status {
	return &Status{
		Act: a, store: store, quotas: quotas, safety: safety, vetting: vetting, backups: backups, verifying: verifying,
		relays: relays, targets: targets, directory: directory, rights: rights,
		repositories: repositories, mirrors: mirrors, publishing: publishing, promotion: promotion, retention: retention,
	}
}
