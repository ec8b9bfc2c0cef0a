package promotion

import (
	"context"
	"slices"
	"strings"

	"crelvo/internal/core/attest"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// mostAbout is how many versions are looked at that are about another one.
const mostAbout = 200

// maxManifest is how large the own file of one of them may be, in bytes.
const maxManifest = 4 << 20

// endorsed finds out what stands beside a version of an ecosystem in which versions may be
// about others: of which types that is, and whose keys signed the version.
func (s *Promotion) endorsed(
	ctx context.Context, c *crossing, item crossingItem, signatures bool,
) (with []string, signers map[string][]string, err error) {
	m, ok := s.maturing(item)
	if !ok {
		return nil, nil, nil
	}
	key := item.Key()
	key.RepositoryID = c.from.ID
	about, err := s.DB.About(ctx, []int64{c.from.ID}, key, item.Version, "", mostAbout)
	if err != nil {
		return nil, nil, err
	}
	with = []string{}
	for _, v := range about {
		if _, _, what := m.Belongs(v.Details); what != "" {
			with = append(with, what)
		}
	}
	e, ok := m.(ecosystem.Endorsed)
	if !ok || !signatures {
		return with, nil, nil
	}
	known, err := s.keys.StatementKeys(ctx)
	if err != nil {
		return nil, nil, err
	}
	var by []string
	for _, v := range about {
		some, err := s.signersIn(ctx, e, key, v, item.Version, known)
		if err != nil {
			return nil, nil, err
		}
		by = append(by, some...)
	}
	return with, map[string][]string{purl.ShortVersion(item.Version): by}, nil
}

// signersIn are the keys by which a version that is about another one says that this is
// signed.
func (s *Promotion) signersIn(
	ctx context.Context, e ecosystem.Endorsed, key catalog.PackageKey, v catalog.Version, subject string,
	known []attest.Key,
) (by []string, err error) {
	raw, _, err := s.smallFile(ctx, catalog.FileQuestion{Key: key, Version: v.Version,
		Name: strings.Replace(v.Version, ":", "-", 1)})
	if err != nil {
		return nil, err
	}
	all, err := e.Endorsements(ctx, raw, v.Files[0].MediaType, subject, func(sum catalog.Sum) ([]byte, error) {
		raw, _, err := s.smallFile(ctx, catalog.FileQuestion{Key: key, Name: sum.FileName()})
		return raw, err
	})
	for _, one := range all {
		if one.Envelope == nil {
			by = append(by, attest.Signers(known, one.Message, one.Signature)...)
			continue
		}
		d, err := attest.Read(one.Envelope, known)
		if _, hex, _ := strings.Cut(subject, ":"); err == nil && slices.Contains(d.Subjects, hex) {
			by = append(by, d.SignedBy...)
		}
	}
	return by, err
}
