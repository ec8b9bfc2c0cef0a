package record

import (
	"context"
	"encoding/json"

	"github.com/jmoiron/sqlx"

	"crelvo/internal/core/bundle"
)

// SetOrigins notes where versions came from; nil is from nowhere else.
func (tx *Tx) SetOrigins(ctx context.Context, versionIDs []int64, origins []*bundle.Origin) error {
	var ids []int64
	var told []string
	for i, o := range origins {
		if o == nil {
			continue
		}
		raw, err := json.Marshal(o)
		if err != nil {
			return err
		}
		ids, told = append(ids, versionIDs[i]), append(told, string(storableJSON(raw)))
	}
	if ids == nil {
		return nil
	}
	_, err := tx.ExecContext(ctx, `insert into origin (version_id, told)
		select n.id, n.told::jsonb from unnest($1::bigint[], $2::text[]) n(id, told)`, ids, told)
	return err
}

// OriginsOf tells where those of some versions came from that came from elsewhere, by version id.
func (r reads) OriginsOf(ctx context.Context, versionIDs []int64) (map[int64]bundle.Origin, error) {
	var rows []struct {
		ID   int64  `db:"version_id"`
		Told []byte `db:"told"`
	}
	if err := sqlx.SelectContext(ctx, r.q, &rows, `select version_id, told from origin where version_id = any($1)`,
		versionIDs); err != nil {
		return nil, err
	}
	all := map[int64]bundle.Origin{}
	for _, row := range rows {
		var o bundle.Origin
		if err := json.Unmarshal(row.Told, &o); err != nil {
			return nil, err
		}
		all[row.ID] = o
	}
	return all, nil
}

// PromotedTo tells which promotions put versions where they are, by version id.
func (r reads) PromotedTo(ctx context.Context, versionIDs []int64) (map[int64]bundle.Promotion, error) {
	var rows []struct {
		ID int64 `db:"target_id"`
		bundle.Promotion
	}
	if err := sqlx.SelectContext(ctx, r.q, &rows, `select distinct on (i.target_id) i.target_id, p.track,
			coalesce(f.name, '') as "from", coalesce(t.name, '') as "to", p.asked_by as by, coalesce(p.ended_at, p.asked_at) as at
		from promotion_item i join promotion p on p.id = i.promotion_id
		left join repository f on f.id = p.from_id left join repository t on t.id = p.to_id
		where i.target_id = any($1) and p.state = 'done' order by i.target_id, p.id`, versionIDs); err != nil {
		return nil, err
	}
	all := map[int64]bundle.Promotion{}
	for _, row := range rows {
		all[row.ID] = row.Promotion
	}
	return all, nil
}
