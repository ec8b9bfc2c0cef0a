package promotion

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/promotion"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// restamps tells whether something is restamped on the hop that is left alone otherwise.
func (c *crossing) restamps(what string) bool { return slices.Contains(c.stage.Restamps, what) }

// restating works out what becomes of versions that are named by their content when they
// state other labels inside.
type restating struct {
	s     *Promotion
	c     *crossing
	known map[naming]*restated
	// behind is why items that are about others stay behind; "" of those that go along.
	behind map[naming]string
	held   int // bytes of what became others
}

// mostHeld is how many bytes may become others in one promotion: they are in memory until
// they are written.
const mostHeld = 32 << 20

// naming is a version of a package in the repository that it comes from.
type naming struct {
	catalog.PackageKey
	version string
}

type restated struct {
	ecosystem.Restated
	from, to string // the label that it was restated for
}

// deepestNaming is how many versions may name one another in a row.
const deepestNaming = 10

// restate gives items that are named by their content what they become where the hop has
// them state their new labels; and where references to such items change, what those lead
// to.
func (s *Promotion) restate(ctx context.Context, c *crossing) error {
	var ids []int64
	for _, item := range c.items {
		if _, ok := s.maturing(item); ok {
			ids = append(ids, item.ID)
		}
	}
	if len(ids) == 0 || len(c.stage.Restamps) == 0 {
		return nil
	}
	details, err := s.DB.DetailsOf(ctx, ids)
	if err != nil {
		return err
	}
	for i := range c.items {
		if m, ok := s.maturing(c.items[i]); ok {
			_, c.items[i].about, _ = m.Belongs(details[c.items[i].ID])
		}
	}
	if c.restamps(promotion.ImageLabels) {
		if err := s.restateAll(ctx, c); err != nil {
			return err
		}
	}
	if c.restamps(promotion.ImageReferences) {
		for _, item := range c.items {
			if from, to := s.relabel(c, item); from != "" {
				c.relabelled = append(c.relabelled, ecosystem.Relabelled{Namespace: item.Namespace, Name: item.Name, From: from,
					To: to, FromVersion: item.Version, ToVersion: item.to, FromRepository: c.from.Name,
					ToRepository: c.to.Name})
			}
		}
	}
	return nil
}

// relabel is which label of an item becomes which; "" if none becomes another.
func (s *Promotion) relabel(c *crossing, item crossingItem) (from, to string) {
	m, ok := s.maturing(item)
	if !ok || item.about != "" || len(item.labels) == 0 {
		return "", ""
	}
	for _, label := range item.had {
		if _, snapshot := m.LabelMaturity(c.from, label); snapshot && !slices.Contains(item.labels, label) {
			if to := released(label); slices.Contains(item.labels, to) {
				return label, to
			}
			return label, item.labels[0]
		}
	}
	return "", ""
}

// restateAll restates the items that have labels with all that they name, and then what is
// about any of these.
func (s *Promotion) restateAll(ctx context.Context, c *crossing) error {
	r := &restating{s: s, c: c, known: map[naming]*restated{}, behind: map[naming]string{}}
	for _, item := range c.items {
		if from, to := s.relabel(c, item); from != "" {
			if _, err := r.become(ctx, item.Key(), item.Version, from, to, 0); err != nil {
				return err
			}
		}
	}
	var items []crossingItem
	for _, item := range c.items {
		if item.about != "" {
			why, err := r.follow(ctx, item)
			if err != nil {
				return err
			}
			if why != "" {
				c.left = append(c.left, leftOut{item.purl(), why})
				continue
			}
		}
		if done := r.known[naming{item.Key(), item.Version}]; done != nil && done.Files != nil {
			item.to, item.restated = done.Version, &done.Restated
		}
		items = append(items, item)
	}
	c.items = items
	return s.withoutThere(ctx, c)
}

// withoutThere leaves out what has no label of its own and is in the target already.
func (s *Promotion) withoutThere(ctx context.Context, c *crossing) error {
	var keys []catalog.PackageKey
	for _, item := range c.items {
		if s.unnamed(item) {
			key := item.Key()
			key.RepositoryID = c.to.ID
			keys = append(keys, key)
		}
	}
	there, err := s.DB.ReleasesOf(ctx, c.to.ID, keys)
	left := slices.DeleteFunc(slices.Clone(c.items), func(item crossingItem) bool {
		key := item.Key()
		key.RepositoryID = c.to.ID
		return s.unnamed(item) && slices.Contains(there[key], item.to)
	})
	if len(left) > 0 { // else all of it is there, which is said of it
		c.items = left
	}
	return err
}

// unnamed tells whether an item only belongs to others, and has no label.
func (s *Promotion) unnamed(item crossingItem) bool {
	_, ok := s.maturing(item)
	return ok && len(item.had) == 0
}

// become works out what becomes of a version, and of those that it names.
func (r *restating) become(
	ctx context.Context, key catalog.PackageKey, version, from, to string, depth int,
) (*restated, error) {
	of := naming{key, version}
	if done := r.known[of]; done != nil {
		if done.Files != nil && (done.from != from || done.to != to) {
			r.c.problem("%s belongs to %s and to %s, and states one of them", act.PURLOf(key, version), done.from, from)
		}
		return done, nil
	}
	done := &restated{Restated: ecosystem.Restated{Version: version}, from: from, to: to}
	r.known[of] = done
	sum, _ := catalog.ParseSum(version)
	raw, mediaType, err := r.s.smallFile(ctx, catalog.FileQuestion{Key: key, Version: version, Name: sum.FileName()})
	e, ok := r.s.Ecosystem(key.Ecosystem).(ecosystem.Restating)
	if err != nil || raw == nil || !ok {
		return done, err
	}
	if depth > deepestNaming {
		return done, fault.New(fault.Invalid, "too-deep", "%s names others in more than %d steps",
			act.PURLOf(key, version), deepestNaming)
	}
	var failed error
	made, err := e.Restate(ctx, ecosystem.ToRestate{Version: version, Raw: raw, MediaType: mediaType, From: from, To: to,
		Part: func(sum catalog.Sum) (raw []byte, err error) {
			raw, _, failed = r.s.smallFile(ctx, catalog.FileQuestion{Key: key, Name: sum.FileName()})
			return raw, failed
		},
		Became: func(named string) (ecosystem.Became, error) {
			var other *restated
			if other, failed = r.become(ctx, key, named, from, to, depth+1); failed != nil {
				return ecosystem.Became{}, failed
			}
			return ecosystem.Became{Version: other.Version, Size: other.size()}, nil
		}})
	if failed != nil {
		return done, failed
	}
	if err != nil {
		r.c.problem("%s: %v", act.PURLOf(key, version), err)
		return done, nil
	}
	for _, f := range made.Files {
		r.held += len(f.Raw)
	}
	if r.held > mostHeld {
		return done, fault.New(fault.TooLarge, "too-much-restamped",
			"what states its labels anew has more than %d MiB of manifests and configurations", mostHeld>>20).
			WithHint("Promote fewer at once.")
	}
	done.Restated = made
	return done, nil
}

// size is how many bytes the own file of a version has that became another.
func (d *restated) size() int64 {
	if d.Files == nil {
		return 0
	}
	return int64(len(d.Files[len(d.Files)-1].Raw))
}

// follow restates an item that is about another one, after that where it is about a third
// itself. why is the reason for which it cannot go along.
func (r *restating) follow(ctx context.Context, item crossingItem) (why string, err error) {
	of := naming{item.Key(), item.Version}
	if why, known := r.behind[of]; known {
		return why, nil
	}
	r.behind[of] = ""
	i := slices.IndexFunc(r.c.items, func(o crossingItem) bool {
		return o.about != "" && o.Key() == item.Key() && o.Version == item.about
	})
	if i >= 0 {
		if why, err = r.follow(ctx, r.c.items[i]); err == nil && why != "" {
			why = "it is about what stays behind"
		}
	}
	if err == nil && why == "" {
		why, err = r.followed(ctx, item)
	}
	r.behind[of] = why
	return why, err
}

// followed is follow for what is about something that was decided.
func (r *restating) followed(ctx context.Context, item crossingItem) (why string, err error) {
	subject := r.known[naming{item.Key(), item.about}]
	if subject == nil || subject.Files == nil {
		return "", nil
	}
	if len(item.had) > 0 {
		return "its tag names the bytes of before", nil
	}
	signs, err := r.s.signs(ctx, item)
	if err != nil || signs {
		return "it signs the bytes of before", err
	}
	_, err = r.become(ctx, item.Key(), item.Version, subject.from, subject.to, 0)
	return "", err
}

// signs tells whether an item is a signature of what it is about.
func (s *Promotion) signs(ctx context.Context, item crossingItem) (bool, error) {
	e, ok := s.Ecosystem(item.Ecosystem).(ecosystem.Endorsed)
	if !ok {
		return false, nil
	}
	sum, _ := catalog.ParseSum(item.Version)
	raw, mediaType, err := s.smallFile(ctx, catalog.FileQuestion{Key: item.Key(), Version: item.Version,
		Name: sum.FileName()})
	if err != nil || raw == nil {
		return false, err
	}
	found, err := e.Endorsements(ctx, raw, mediaType, item.about, func(sum catalog.Sum) ([]byte, error) {
		raw, _, err := s.smallFile(ctx, catalog.FileQuestion{Key: item.Key(), Name: sum.FileName()})
		return raw, err
	})
	return len(found) > 0, err
}

// smallFile reads a file that is kept, and its media type; nil if it is not there, or is
// larger than any that has to be understood.
func (s *Promotion) smallFile(ctx context.Context, q catalog.FileQuestion) (raw []byte, mediaType string, err error) {
	f, err := s.DB.File(ctx, q)
	if errors.Is(err, record.ErrNotFound) || err == nil && f.Digests.Size > maxManifest {
		return nil, "", nil
	}
	if err != nil {
		return nil, "", err
	}
	raw, err = s.content(ctx, f)
	return raw, f.MediaType, err
}

// rewriting is what becomes of a file of an item that was restated.
func (item crossingItem) rewriting(f catalog.File) ecosystem.Rewriting {
	for _, made := range item.restated.Files {
		if made.Was == f.Name {
			r := ecosystem.Rewriting{Name: made.Name, Changes: made.Changes, WriteTo: writing(made.Raw)}
			if f.Name == strings.Replace(item.Version, ":", "-", 1) {
				r.Mentions = item.restated.Mentions
				r.Changes = append(slices.Clip(r.Changes), ecosystem.Edit{What: "digest", Old: item.Version, New: item.to})
			}
			return r
		}
	}
	return ecosystem.Rewriting{Name: f.Name}
}

func writing(raw []byte) func(io.Writer, func(string) (catalog.Digests, bool)) error {
	return func(w io.Writer, _ func(string) (catalog.Digests, bool)) error {
		_, err := w.Write(raw)
		return err
	}
}

// leftOut is what belongs to an item, and does not go along.
type leftOut struct {
	what fmt.Stringer
	why  string
}
