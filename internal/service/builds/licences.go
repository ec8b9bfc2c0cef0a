package builds

import (
	"context"

	"crelvo/internal/core/spdx"
)

// addLicences adds to versions the licences that they state.
func (s *Builds) addLicences(ctx context.Context, lists ...[]Output) error {
	var ids []int64
	for _, all := range lists {
		for _, o := range all {
			ids = append(ids, o.ID)
		}
	}
	known, err := s.DB.LicencesOf(ctx, ids)
	for _, all := range lists {
		for i := range all {
			for _, l := range known[all[i].ID] {
				if l.Name != "" {
					all[i].Licences = append(all[i].Licences, spdx.Identifier(l.Name))
				}
			}
		}
	}
	return err
}
