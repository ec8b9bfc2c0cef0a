package secret

import (
	"context"
	"encoding/hex"
	"fmt"
	"strings"

	"crelvo/internal/core/fault"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// KnowKey makes sure that what is kept secret can be opened with the server's key.
// With LoseSecrets, what cannot be opened is forgotten, and has to be given again.
func KnowKey(ctx context.Context, s *act.Act, safe Safe) error {
	repositories, err := s.DB.Repositories(ctx)
	if err != nil {
		return err
	}
	targets, err := s.DB.Targets(ctx)
	if err != nil {
		return err
	}
	keys, err := s.DB.SigningKeys(ctx)
	if err != nil {
		return err
	}
	stores, err := s.DB.Stores(ctx)
	if err != nil {
		return err
	}
	var lost record.LostSecrets
	var names []string
	for _, r := range repositories {
		if safe.Shut(r.Secret, Upstream) {
			lost.Repositories, names = append(lost.Repositories, r.ID), append(names, "the credentials of the mirror "+r.Name)
		}
	}
	for _, d := range targets {
		if safe.Shut(d.Secret, Target) {
			lost.Targets, names = append(lost.Targets, d.Name), append(names, "those of the target "+d.Name)
		}
	}
	for _, k := range keys {
		if safe.Shut(k.Secret, SigningKey) {
			lost.Keys, names = append(lost.Keys, k.Name), append(names, "the key "+k.Name)
		}
	}
	for _, o := range stores {
		if safe.Shut(o.Secret, ObjectStore) {
			lost.Stores, names = append(lost.Stores, o.ID), append(names, "the key of the store "+o.Name)
		}
	}
	const most = 5
	if len(names) > most {
		names = append(names[:most], fmt.Sprintf("%d more", len(names)-most))
	}
	switch {
	case names == nil:
		return sameKey(ctx, s, safe)
	case !s.Settings.LoseSecrets:
		return fault.New(fault.Internal, "other-key", "the server's key cannot open what was encrypted: %s",
			strings.Join(names, ", ")).
			WithHint("Give the key that it was encrypted with (--key-file). If that was lost, start once with --lose-secrets; " +
				"then set these again.")
	}
	s.Log.Warn("what another key encrypted is forgotten, and has to be set again", "what", strings.Join(names, ", "))
	if err := s.DB.ForgetSecrets(ctx, lost); err != nil {
		return err
	}
	return sameKey(ctx, s, safe)
}

// keyOf is what the records note of the key: something that is sealed with it.
const keyOf = "key"

// sameKey makes sure that all nodes have the same key: passes that one gives out must be good
// at every other one.
func sameKey(ctx context.Context, s *act.Act, safe Safe) error {
	noted, err := s.DB.Identity(ctx, keyOf)
	if err != nil {
		return err
	}
	if raw, err := hex.DecodeString(noted); noted != "" && err == nil && !safe.Shut(raw, Pass) {
		return nil
	}
	if noted != "" && !s.Settings.LoseSecrets {
		return fault.New(fault.Internal, "other-key", "the key of this server is not the one that the others have, or had").
			WithHint("Copy the file secret-key from the data folder of the first one, or name it (--key-file). If it was " +
				"lost, start once with --lose-secrets; then set all credentials again.")
	}
	sealed, err := safe.Seal([]byte("known"), Pass)
	if err != nil {
		return err
	}
	set, err := s.DB.TakeIdentity(ctx, keyOf, noted, hex.EncodeToString(sealed))
	if err == nil && !set {
		return sameKey(ctx, s, safe) // another node was quicker
	}
	return err
}
