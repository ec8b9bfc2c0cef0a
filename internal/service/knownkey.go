package service

import (
	"context"
	"fmt"
	"strings"

	"crelvo/internal/core/fault"
	"crelvo/internal/record"
	"crelvo/internal/service/secret"
)

// knowKey makes sure that what is kept secret can be opened with the server's key.
// With LoseSecrets, what cannot be opened is forgotten, and has to be given again.
func (s *Service) knowKey(ctx context.Context) error {
	repositories, err := s.db.Repositories(ctx)
	if err != nil {
		return err
	}
	destinations, err := s.db.Destinations(ctx)
	if err != nil {
		return err
	}
	keys, err := s.db.SigningKeys(ctx)
	if err != nil {
		return err
	}
	var lost record.LostSecrets
	var names []string
	for _, r := range repositories {
		if s.safe.Shut(r.Secret, secret.Upstream) {
			lost.Repositories, names = append(lost.Repositories, r.ID), append(names, "the credentials of the mirror "+r.Name)
		}
	}
	for _, d := range destinations {
		if s.safe.Shut(d.Secret, secret.Destination) {
			lost.Destinations, names = append(lost.Destinations, d.Name), append(names, "those of the destination "+d.Name)
		}
	}
	for _, k := range keys {
		if s.safe.Shut(k.Secret, secret.SigningKey) {
			lost.Keys, names = append(lost.Keys, k.Name), append(names, "the key "+k.Name)
		}
	}
	const most = 5
	if len(names) > most {
		names = append(names[:most], fmt.Sprintf("%d more", len(names)-most))
	}
	switch {
	case names == nil:
		return nil
	case !s.settings.LoseSecrets:
		return fault.New(fault.Internal, "other-key", "the server's key cannot open what was encrypted: %s", strings.Join(names, ", ")).
			WithHint("Give the key that it was encrypted with (--key-file). If that was lost, start once with --lose-secrets; then set these again.")
	}
	s.log.Warn("what another key encrypted is forgotten, and has to be set again", "what", strings.Join(names, ", "))
	return s.db.ForgetSecrets(ctx, lost)
}
