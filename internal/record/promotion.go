package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/promotion"
)

// Promotion is one act of taking versions across a hop, asked for or done.
type Promotion struct {
	ID         int64      `db:"id"`
	Track      string     `db:"track"`
	FromID     int64      `db:"from_id"`
	ToID       int64      `db:"to_id"`
	BuildID    int64      `db:"build_id"`
	Build      string     `db:"build"`
	State      string     `db:"state"`
	SignWith   string     `db:"sign_with"`
	GoOn       bool       `db:"go_on"`
	Notes      string     `db:"notes"`
	Why        string     `db:"why"` // it failed
	AskedBy    string     `db:"asked_by"`
	AskedByID  int64      `db:"asked_by_id"`
	AskedAt    time.Time  `db:"asked_at"`
	EndedAt    *time.Time `db:"ended_at"`
	Files      int        `db:"files"`
	FilesDone  int        `db:"files_done"`
	AliveAt    time.Time  `db:"alive_at"`
	UndoneBy   string     `db:"undone_by"`
	UndoneAt   *time.Time `db:"undone_at"`
	UndoReason string     `db:"undo_reason"`

	Gates  []string `db:"-"`
	Onward []string `db:"-"`
	// Restamps is what is restamped that is left alone otherwise.
	Restamps []string           `db:"-"`
	Answers  []promotion.Answer `db:"-"`
	// Plan is what was planned, as JSON.
	Plan  json.RawMessage `db:"-"`
	Items []PromotionItem `db:"-"`
	Votes []PromotionVote `db:"-"`
}

// The states of promotions.
const (
	PromotionWaiting   = "waiting"
	PromotionUnderway  = "underway"
	PromotionDone      = "done"
	PromotionFailed    = "failed"
	PromotionRefused   = "refused"
	PromotionCancelled = "cancelled"
	PromotionUndone    = "undone"
)

// PromotionItem is a version of a promotion.
type PromotionItem struct {
	PromotionID int64         `db:"promotion_id"`
	SourceID    int64         `db:"source_id"`
	TargetID    sql.NullInt64 `db:"target_id"`
	ToVersion   string        `db:"to_version"`
	Ecosystem   string        `db:"ecosystem"`
	Namespace   string        `db:"namespace"`
	Name        string        `db:"name"`
	Version     string        `db:"version"`
	Upload      string        `db:"upload"`
	// Labels that it had, and that it gets, where labels say what a version is; with spaces
	// between them.
	LabelsFrom string `db:"labels_from"`
	LabelsTo   string `db:"labels_to"`
}

// PromotionVote is what somebody said to a promotion.
type PromotionVote struct {
	PromotionID int64     `db:"promotion_id"`
	Who         string    `db:"who"`
	Teams       []string  `db:"-"`
	Approve     bool      `db:"approve"`
	Comment     string    `db:"comment"`
	At          time.Time `db:"at"`
}

// AddPromotion records one that was asked for, with its items' sources.
func (tx *Tx) AddPromotion(ctx context.Context, p Promotion) (id int64, err error) {
	answers, err := json.Marshal(p.Answers)
	if err != nil {
		return 0, err
	}
	if err := tx.GetContext(ctx, &id,
		`insert into promotion (track, from_id, to_id, build_id, state, gates, sign_with, onward, go_on, notes, answers,
			plan, why,
		asked_by, asked_by_id, asked_at, ended_at, files, alive_at, restamps) values ($1, $2, $3, nullif($4, 0), $5, $6, $7, $8, $9,
		$10, $11, $12, $13, $14, nullif($15, 0), $16::timestamptz, $17, $18, $16::timestamptz, $19)
		returning id`, p.Track, p.FromID, p.ToID, p.BuildID, p.State, append([]string{}, p.Gates...), p.SignWith,
		append([]string{}, p.Onward...), p.GoOn, p.Notes,
		string(storableJSON(answers)), string(storableJSON(p.Plan)), p.Why, p.AskedBy, p.AskedByID, p.AskedAt, p.EndedAt,
		p.Files, append([]string{}, p.Restamps...)); err != nil {
		return 0, err
	}
	sources, versions := make([]int64, len(p.Items)), make([]string, len(p.Items))
	from, to := make([]string, len(p.Items)), make([]string, len(p.Items))
	for i, item := range p.Items {
		sources[i], versions[i], from[i], to[i] = item.SourceID, item.ToVersion, item.LabelsFrom, item.LabelsTo
	}
	_, err = tx.ExecContext(ctx, `insert into promotion_item (promotion_id, position, source_id, to_version, labels_from,
			labels_to)
		select $1, n.position, n.source, n.version, n.labels_from, n.labels_to
		from unnest($2::bigint[], $3::text[], $4::text[], $5::text[]) with ordinality n(source, version, labels_from,
		labels_to, position)`, id, sources, versions, from, to)
	return id, err
}

// MovePromotion changes the state of a promotion from one of before. done is
// false if it was in none of them.
func (tx *Tx) MovePromotion(ctx context.Context, id int64, before []string, p Promotion) (done bool, err error) {
	answers, err := json.Marshal(p.Answers)
	if err != nil {
		return false, err
	}
	return changedOne(
		tx.ExecContext(ctx,
			`update promotion set state = $3, answers = case when $4 = 'null' then answers else $4::jsonb end, why = $5,
				ended_at = $6, alive_at = $7
		where id = $1 and state = any($2)`, id, before, p.State, string(storableJSON(answers)), p.Why, p.EndedAt, p.AliveAt))
}

// NoteProgress notes how far a promotion is that is underway.
func (db *DB) NoteProgress(ctx context.Context, id int64, filesDone int, at time.Time) error {
	_, err := db.ExecContext(ctx,
		`update promotion set files_done = $2, alive_at = $3 where id = $1 and state = 'underway'`, id, filesDone, at)
	return err
}

// UndonePromotion notes that a promotion was taken back.
func (tx *Tx) UndonePromotion(ctx context.Context, id int64, by, reason string, at time.Time) (done bool, err error) {
	return changedOne(
		tx.ExecContext(ctx, `update promotion set state = 'undone', undone_by = $2, undo_reason = $3, undone_at = $4
		where id = $1 and state = 'done'`, id, by, reason, at))
}

// Vote records what somebody says to a promotion; what they said before is
// replaced.
func (tx *Tx) Vote(ctx context.Context, v PromotionVote) error {
	_, err := tx.ExecContext(ctx,
		`insert into promotion_vote (promotion_id, who, teams, approve, comment, at) values ($1, $2, $3, $4, $5, $6)
		on conflict (promotion_id, who) do update set teams = excluded.teams, approve = excluded.approve,
		comment = excluded.comment, at = excluded.at`,
		v.PromotionID, v.Who, append([]string{}, v.Teams...), v.Approve, storable(v.Comment), v.At)
	return err
}

// PromotionFilter selects promotions; zero fields select all.
type PromotionFilter struct {
	ID      int64
	IDs     []int64
	Track   string
	States  []string
	ToID    int64
	AskedBy string
	BuildID int64
	Words   string // a part of the name of a version, of the build or of the notes
	Since   time.Time
	Before  int64
	Limit   int // 0 for no limit
	// Repositories, if not nil, are those of which it must go from or to one.
	Repositories []int64
	// OrApproved: also any whose gates ask for approval.
	OrApproved bool
}

// Promotions lists promotions with their items and votes, the newest first.
func (r reads) Promotions(ctx context.Context, f PromotionFilter) ([]Promotion, error) {
	limit := any(f.Limit)
	if f.Limit == 0 {
		limit = nil
	}
	rows, err := r.q.QueryxContext(ctx, `select p.id, p.track, p.from_id, p.to_id, coalesce(p.build_id, 0) build_id,
		coalesce((select b.name || '#' || b.number from build b where b.id = p.build_id), '') build, p.state, p.sign_with,
		p.go_on, p.notes, p.why, p.asked_by,
		coalesce(p.asked_by_id, 0) asked_by_id, p.asked_at, p.ended_at, p.files, p.files_done, p.alive_at, p.undone_by,
		p.undone_at, p.undo_reason,
		p.gates, p.onward, p.restamps, p.answers, p.plan from promotion p
		where ($1 = 0 or p.id = $1) and ($2::bigint[] is null or p.id = any($2)) and ($3 = '' or p.track = $3)
		and ($4::text[] is null or p.state = any($4))
		and ($5 = 0 or p.to_id = $5) and ($6 = '' or p.asked_by = $6) and ($7 = 0 or p.build_id = $7)
		and coalesce(p.ended_at, p.asked_at) >= $8
		and ($9 = 0 or p.id < $9) and ($10::bigint[] is null or p.to_id = any($10) or p.from_id = any($10)
			or $13 and exists (select from unnest(p.gates) g where g like 'approved %'))
		and ($11 = '' or position(lower($11) in lower(p.notes)) > 0
			or exists (select from build b where b.id = p.build_id
			and position(lower($11) in lower(b.name || '#' || b.number)) > 0)
			or exists (select from promotion_item i join version v on v.id = i.source_id join package k on k.id = v.package_id
				where i.promotion_id = p.id and (position(lower($11) in k.words || '@' || lower(i.to_version)) > 0
					or position(regexp_replace(replace(lower($11), '%40', '@'), '^pkg:', '')
						in k.ecosystem || '/' || lower(concat_ws('/', nullif(k.namespace, ''), k.name) || '@' || i.to_version)) > 0)))
		order by p.id desc limit $12`, f.ID, f.IDs, f.Track, f.States, f.ToID, f.AskedBy, f.BuildID, f.Since, f.Before,
		f.Repositories, f.Words, limit, f.OrApproved)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Promotion
	at := map[int64]int{}
	var ids []int64
	for rows.Next() {
		var p Promotion
		var answers []byte
		if err := rows.Scan(&p.ID, &p.Track, &p.FromID, &p.ToID, &p.BuildID, &p.Build, &p.State, &p.SignWith, &p.GoOn,
			&p.Notes, &p.Why, &p.AskedBy,
			&p.AskedByID, &p.AskedAt, &p.EndedAt, &p.Files, &p.FilesDone, &p.AliveAt, &p.UndoneBy, &p.UndoneAt, &p.UndoReason,
			list(&p.Gates), list(&p.Onward), list(&p.Restamps), &answers, (*[]byte)(&p.Plan)); err != nil {
			return nil, err
		}
		if err := json.Unmarshal(answers, &p.Answers); err != nil {
			return nil, err
		}
		at[p.ID] = len(all)
		all, ids = append(all, p), append(ids, p.ID)
	}
	if err := rows.Err(); err != nil || len(all) == 0 {
		return all, err
	}
	var items []PromotionItem
	if err := sqlx.SelectContext(ctx, r.q, &items,
		`select i.promotion_id, i.source_id, i.target_id, i.to_version, i.labels_from, i.labels_to, k.ecosystem, k.namespace,
			k.name, v.version, v.upload
		from promotion_item i join version v on v.id = i.source_id join package k on k.id = v.package_id
		where i.promotion_id = any($1) order by i.promotion_id, i.position`, ids); err != nil {
		return nil, err
	}
	for _, item := range items {
		p := &all[at[item.PromotionID]]
		p.Items = append(p.Items, item)
	}
	votes, err := r.q.QueryxContext(ctx,
		`select promotion_id, who, teams, approve, comment, at from promotion_vote where promotion_id = any($1) order by at,
			who`, ids)
	if err != nil {
		return nil, err
	}
	defer votes.Close()
	for votes.Next() {
		var v PromotionVote
		if err := votes.Scan(&v.PromotionID, &v.Who, list(&v.Teams), &v.Approve, &v.Comment, &v.At); err != nil {
			return nil, err
		}
		p := &all[at[v.PromotionID]]
		p.Votes = append(p.Votes, v)
	}
	return all, votes.Err()
}

// PromotionsOf names the promotions that versions were part of, by version.
func (r reads) PromotionsOf(ctx context.Context, versionIDs []int64) (map[int64][]int64, error) {
	var rows []struct {
		Version   int64 `db:"version"`
		Promotion int64 `db:"promotion"`
	}
	err := sqlx.SelectContext(ctx, r.q, &rows,
		`select source_id "version", promotion_id "promotion" from promotion_item where source_id = any($1)
		union select target_id, promotion_id from promotion_item where target_id = any($1) order by 2`, versionIDs)
	of := map[int64][]int64{}
	for _, row := range rows {
		of[row.Version] = append(of[row.Version], row.Promotion)
	}
	return of, err
}

// PromotedBy is the promotion that put a version where it is, or took or is taking
// it further; 0 if there is none.
func (r reads) PromotedBy(ctx context.Context, versionID int64) (id int64, err error) {
	err = sqlx.GetContext(ctx, r.q, &id,
		`select coalesce(max(i.promotion_id), 0) from promotion_item i join promotion p on p.id = i.promotion_id
		where i.target_id = $1 or i.source_id = $1 and p.state in ('waiting', 'underway', 'done')`, versionID)
	return id, err
}

// SetTargets notes what became of the items of a promotion, in their order.
func (tx *Tx) SetTargets(ctx context.Context, promotionID int64, targets []int64) error {
	_, err := tx.ExecContext(ctx, `update promotion_item i set target_id = n.target
		from unnest($2::bigint[]) with ordinality n(target, position) where i.promotion_id = $1 and i.position = n.position`,
		promotionID, targets)
	return err
}

// TakeBack takes versions out of use that a promotion put there at placed. With
// unseen, nobody had them, and their names are free for other bytes. Labels that
// moved to them go back. It gives how many versions there were.
func (tx *Tx) TakeBack(ctx context.Context, versionIDs []int64, unseen bool, placed, at time.Time) (int64, error) {
	// What was removed meanwhile is counted away already.
	var taken []int64
	if err := tx.SelectContext(ctx, &taken,
		`update version set visible_until = $2, unseen = $3, grace_until = $2::timestamptz + interval '14 days',
			changed_in = pg_current_xact_id()
		where id in (select id from version where id = any($1) and visible_until is null order by id for update) returning id`, versionIDs, at, unseen); err != nil {
		return 0, err
	}
	n := int64(len(taken))
	if err := tx.endMarks(ctx, taken, at); err != nil {
		return n, err
	}
	if _, err := tx.ExecContext(ctx, `insert into label (package_id, name, version, set_by, visible_from)
		select l.package_id, l.name, l.version, l.set_by, $2::timestamptz from label l where l.visible_until = $3
		and l.package_id in (select package_id from version where id = any($1))
		and exists (select from version v where v.package_id = l.package_id and v.version = l.version
		and v.visible_from is not null and v.visible_until is null)
		and not exists (select from label n where n.package_id = l.package_id and n.name = l.name
		and n.visible_until is null)`, taken, at, placed); err != nil {
		return n, err
	}
	return n, tx.recount(ctx, taken, -1, at)
}

// Downloaded counts the downloads of versions.
func (r reads) Downloaded(ctx context.Context, versionIDs []int64) (n int64, err error) {
	err = sqlx.GetContext(ctx, r.q, &n,
		`select coalesce(sum(downloads), 0)::bigint from version_use where version_id = any($1)`, versionIDs)
	return n, err
}

// Onwards names the promotion that took one of the versions further, and is not
// undone; 0 if none did.
func (r reads) Onwards(ctx context.Context, versionIDs []int64) (id int64, err error) {
	err = sqlx.GetContext(ctx, r.q, &id, `select p.id from promotion_item i join promotion p on p.id = i.promotion_id
		where i.source_id = any($1) and p.state in ('waiting', 'underway', 'done') order by p.id limit 1`, versionIDs)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return id, err
}

// Arrival is a version that can be seen in a repository since some time.
type Arrival struct {
	MadeVersion
	Build   string `db:"build"`
	AskedBy string `db:"asked_by"` // of the promotion
}

// Arrivals lists what came into a repository since a moment and is there, the
// newest first.
func (db *DB) Arrivals(ctx context.Context, scope Scope, since time.Time, limit int) (found []Arrival, err error) {
	arguments := []any{scope.Repositories, since, limit}
	err = db.SelectContext(ctx, &found,
		`select x.*, coalesce((select b.name || '#' || b.number from build b where b.id = x.build_id), '') build,
		coalesce((select q.asked_by from promotion q where q.id = x.promotion), '') asked_by
		from (select `+madeColumns+` and v.visible_until is null and p.repository_id = any($1) and v.visible_from >= $2`+
			scope.and(&arguments)+`
			order by v.visible_from desc, v.id desc limit $3) x`, arguments...)
	return found, err
}

// Standing is what of a build is in a repository, or the newest version of a
// package of which no build is known.
type Standing struct {
	RepositoryID int64     `db:"repository_id"`
	BuildID      int64     `db:"build_id"`
	Build        string    `db:"build"`
	Versions     int       `db:"versions"` // packages
	Numbers      int       `db:"numbers"`  // different versions
	Version      string    `db:"version"`  // the one that came last
	Name         string    `db:"name"`     // of its package
	Sample       string    `db:"sample"`   // the type, namespace and name of that
	Arrived      time.Time `db:"arrived"`
	// MovedOn: a promotion took it further.
	MovedOn bool `db:"moved_on"`
}

// newestNamed is an order of versions: those that people name come first, and then digests.
const newestNamed = "v.version like 'sha%:%', v.visible_from desc, v.id desc"

// Standings lists what stands in repositories, the newest first, at most so many
// of each. What is about another version stands with that, and is left out.
func (db *DB) Standings(ctx context.Context, scope Scope, limit int) (found []Standing, err error) {
	arguments := []any{scope.Repositories, limit}
	err = db.SelectContext(ctx, &found,
		`select g.*, coalesce((select b.name || '#' || b.number from build b where b.id = g.build_id), '') build
		from unnest($1::bigint[]) r(id) cross join lateral (
			select p.repository_id, coalesce(v.build_id, 0) build_id, case
			when v.build_id is null then 1 else count(distinct p.id) end versions,
				case when v.build_id is null then 1
					else greatest(1, count(distinct v.version) filter (where v.version not like 'sha%:%')) end numbers,
				(array_agg(v.version order by `+newestNamed+`))[1] "version", (array_agg(p.name order by `+newestNamed+`))[1] "name",
				(array_agg(p.ecosystem || '/' || `+fullName+` order by `+newestNamed+`))[1] sample, max(v.visible_from) arrived,
				(array_agg(exists (select from promotion_item i join promotion q on q.id = i.promotion_id where i.source_id = v.id
				and q.state = 'done') order by `+newestNamed+`))[1] moved_on
			from version v join package p on p.id = v.package_id
			where v.visible_until is null and v.visible_from is not null and p.repository_id = r.id
				and (v.version not like 'sha%:%' or v.details->'native'->>'subject' is null)`+scope.and(&arguments)+`
			group by p.repository_id, v.build_id, case when v.build_id is null then p.id end
			order by arrived desc limit $2) g order by g.repository_id, g.arrived desc`, arguments...)
	return found, err
}

// GoneFile is a file of a release that was removed.
// GoneFile is a file of a release that was removed.
type GoneFile struct {
	Ecosystem, Namespace, Name, Version, File string
	SHA256                                    [32]byte
}

// Other tells whether a file would be something else under the same name.
func (g GoneFile) Other(name string, sha256 [32]byte) bool {
	return g.File == name && g.SHA256 != sha256 && name != catalog.DerivedFile
}

// GoneFiles lists the files of those of some releases that were in a repository and
// were removed, once somebody may have had them.
func (r reads) GoneFiles(ctx context.Context, repositoryID int64, named []NamedVersion) ([]GoneFile, error) {
	ecosystems, namespaces, names, versions := make([]string, len(named)), make([]string, len(named)),
		make([]string, len(named)), make([]string, len(named))
	for i, n := range named {
		ecosystems[i], namespaces[i], names[i], versions[i] = n.Key.Ecosystem, n.Key.Namespace, n.Key.Name, n.Version
	}
	var rows []struct {
		Ecosystem string `db:"ecosystem"`
		Namespace string `db:"namespace"`
		Name      string `db:"name"`
		Version   string `db:"version"`
		File      string `db:"file"`
		SHA256    []byte `db:"sha256"`
	}
	err := sqlx.SelectContext(ctx, r.q, &rows, `select p.ecosystem, p.namespace, p.name, g.version, o.name file, o.sha256
		from unnest($2::text[], $3::text[], $4::text[], $5::text[]) n(ecosystem, namespace, name, version)
		join package p on p.repository_id = $1 and p.ecosystem = n.ecosystem and p.namespace = n.namespace and p.name = n.name
		join version g on g.package_id = p.id and g.version = n.version
		join (select version_id, name, sha256 from file union all select version_id, name, sha256 from past_file) o
		on o.version_id = g.id
		where not g.snapshot and g.visible_from is not null and g.visible_until is not null and not g.unseen`, repositoryID,
		ecosystems, namespaces, names, versions)
	all := make([]GoneFile, len(rows))
	for i, row := range rows {
		all[i] = GoneFile{Ecosystem: row.Ecosystem, Namespace: row.Namespace, Name: row.Name, Version: row.Version,
			File: row.File}
		copy(all[i].SHA256[:], row.SHA256)
	}
	return all, err
}
