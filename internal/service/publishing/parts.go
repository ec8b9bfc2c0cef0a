package publishing

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/retention"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	bytestore "crelvo/internal/store"
)

// unnamedStays is how long a part waits for a version that names it.
const unnamedStays = 24 * time.Hour

// partHouse is the house repository that a part goes to, if the caller may publish the
// package there.
func (s *Publishing) partHouse(caller access.Caller, key catalog.PackageKey) (catalog.Repository, error) {
	r := s.directory.Known().ByID[key.RepositoryID]
	if err := s.MayPublish(caller, r, key); err != nil {
		return r, err
	}
	if !r.Own() || key.AsOf != 0 {
		return r, fault.New(fault.Conflict, "not-a-house", "%s is a %s; only house repositories take what is published",
			r.At(), r.Kind)
	}
	return r, s.Insists(caller, r)
}

// partName names what arrives of a part, for its sender and its package alone; "" if the
// id can be none.
func partName(caller access.Caller, key catalog.PackageKey, id string) string {
	if len(id) != partIDLength || strings.Trim(id, "0123456789abcdefghijklmnopqrstuvwxyz") != "" || caller.Anonymous() {
		return ""
	}
	of := sha256.Sum256(fmt.Append(nil, key.RepositoryID, "/", key.Ecosystem, "/", key.Namespace, "/", key.Name))
	return begunName(caller, "part-"+hex.EncodeToString(of[:8])+"-"+id)
}

const partIDLength = 26

func noUpload(id string) *fault.Error {
	return fault.New(fault.NotFound, "no-such-upload", "no upload %.40q is going on", id).
		WithHint("It may have ended, or have waited for more than a day; begin again.")
}

// BeginPart implements ecosystem.PartTaker.
func (s *Publishing) BeginPart(ctx context.Context, caller access.Caller, key catalog.PackageKey) (string, error) {
	r, err := s.partHouse(caller, key)
	if err != nil {
		return "", err
	}
	if err := s.roomForPart(ctx, caller); err != nil {
		return "", err
	}
	id := strings.ToLower(rand.Text())
	name := partName(caller, key, id)
	if name == "" {
		return "", fault.New(fault.Denied, "sign-in-needed", "only somebody who is signed in can send a file in pieces")
	}
	_, err = s.store.Continue(ctx, r, name, 0, strings.NewReader(""))
	return id, s.store.Fault(err)
}

const (
	// maxParts is how many parts one caller may have begun to send.
	maxParts = 500
	// idlePart is after how long a part on which nobody goes on makes room for others: CI
	// that is cut again and again must not wait for the next day.
	idlePart = time.Hour
)

// roomForPart makes room for one more part, or refuses it.
func (s *Publishing) roomForPart(ctx context.Context, caller access.Caller) error {
	all, err := s.store.AllBegun(ctx, begunName(caller, "part-"))
	if err != nil {
		return err
	}
	left := len(all)
	for _, b := range all {
		if left >= maxParts && s.Now().Sub(b.Since) > idlePart {
			if err := s.store.DropBegun(ctx, b.Name); err != nil {
				return err
			}
			left--
		}
	}
	if left >= maxParts {
		return tooManyBegun(caller, left)
	}
	return nil
}

// PartArrived implements ecosystem.PartTaker.
func (s *Publishing) PartArrived(
	ctx context.Context, caller access.Caller, key catalog.PackageKey, id string,
) (int64, error) {
	name := partName(caller, key, id)
	if name == "" {
		return 0, noUpload(id)
	}
	all, err := s.store.AllBegun(ctx, name)
	if err != nil {
		return 0, err
	}
	if len(all) == 0 {
		return 0, noUpload(id)
	}
	return all[0].Size, nil
}

// ContinuePart implements ecosystem.PartTaker.
func (s *Publishing) ContinuePart(
	ctx context.Context, caller access.Caller, key catalog.PackageKey, id string, at int64, body io.Reader,
) (int64, error) {
	r, err := s.partHouse(caller, key)
	if err != nil {
		return 0, err
	}
	there, err := s.PartArrived(ctx, caller, key, id)
	if err != nil {
		return 0, err
	}
	if at < 0 {
		at = there
	}
	return s.continued(ctx, caller, r, partName(caller, key, id), at, body)
}

// DropPart implements ecosystem.PartTaker.
func (s *Publishing) DropPart(ctx context.Context, caller access.Caller, key catalog.PackageKey, id string) error {
	if _, err := s.PartArrived(ctx, caller, key, id); err != nil {
		return err
	}
	return s.store.DropBegun(ctx, partName(caller, key, id))
}

// EndPart implements ecosystem.PartTaker.
func (s *Publishing) EndPart(
	ctx context.Context, caller access.Caller, key catalog.PackageKey, id string, sum catalog.Sum,
) error {
	r, err := s.partHouse(caller, key)
	if err != nil {
		return err
	}
	name := partName(caller, key, id)
	if name == "" {
		return noUpload(id)
	}
	st, err := s.store.StagingBegun(ctx, r, name)
	switch {
	case errors.Is(err, bytestore.ErrMissing):
		return noUpload(id)
	case errors.Is(err, bytestore.ErrBusy):
		return fault.New(fault.Conflict, "being-sent", "the same upload is being sent by another request").
			WithHint("Wait until that has ended.")
	case err != nil:
		return s.store.Fault(err)
	}
	if !sum.Of(st.Digests()) {
		st.Discard() // it is begun again by that
		return errors.Join(otherSum(sum, st.Digests()), s.store.DropBegun(ctx, name))
	}
	defer st.Discard()
	return s.keepPart(ctx, caller, key, sum, st.File)
}

// otherSum refuses bytes that are not what they were said to be.
func otherSum(sum catalog.Sum, is catalog.Digests) error {
	return fault.New(fault.Invalid, "other-digest", "the %d bytes that arrived have the digest %s, and not %s", is.Size,
		catalog.Sum{Algorithm: sum.Algorithm, Hex: is.Hex(sum.Algorithm)}, sum).
		WithHint("Nothing of it was kept; send it again.")
}

// TakePart implements ecosystem.PartTaker.
func (s *Publishing) TakePart(
	ctx context.Context, caller access.Caller, key catalog.PackageKey, body io.Reader, length int64, sum catalog.Sum,
) error {
	r, err := s.partHouse(caller, key)
	if err == nil {
		err = s.fits(r, sum.String(), length)
	}
	if err != nil {
		return err
	}
	st, err := s.store.Staging(ctx, r, &atMost{from: body, left: s.largest(r)}, length, sum.String())
	if err != nil {
		return err
	}
	defer st.Discard()
	if err := s.fits(r, sum.String(), st.Size()); err != nil {
		return err
	}
	if !sum.Of(st.Digests()) {
		return otherSum(sum, st.Digests())
	}
	return s.keepPart(ctx, caller, key, sum, st.File)
}

// keepPart records staged bytes as a part.
func (s *Publishing) keepPart(
	ctx context.Context, caller access.Caller, key catalog.PackageKey, sum catalog.Sum, staged *bytestore.Staged,
) error {
	return s.keepPartWith(ctx, caller, key, sum, staged, func(*record.Tx) error { return nil })
}

// keepPartWith is keepPart with something else in the same transaction.
func (s *Publishing) keepPartWith(
	ctx context.Context, caller access.Caller, key catalog.PackageKey, sum catalog.Sum, staged *bytestore.Staged,
	also func(tx *record.Tx) error,
) error {
	part := record.Part{Key: key, Name: sum.FileName(), Digests: staged.Digests, At: s.Now(), By: caller.Name}
	err := s.store.Recorded(ctx, []*bytestore.Staged{staged}, func(tx *record.Tx) error {
		if err := s.stillMay(ctx, caller, access.Publish,
			access.Object{Repository: s.directory.Known().ByID[key.RepositoryID], Package: act.PURLOf(key, "")}); err != nil {
			return err
		}
		if _, err := tx.AddPart(ctx, part); err != nil {
			return err
		}
		return also(tx)
	})
	if err == nil {
		s.Changed(key)
	}
	return err
}

// LendPart implements ecosystem.PartTaker.
func (s *Publishing) LendPart(
	ctx context.Context, caller access.Caller, key catalog.PackageKey, from ecosystem.Lender, sum catalog.Sum,
) (lent bool, err error) {
	r, err := s.partHouse(caller, key)
	if err != nil {
		return false, err
	}
	var is catalog.Digests
	if lender, err := s.directory.Repository(caller, from.Repository, access.Read); from.Name != "" && err == nil {
		found, err := s.resolving.File(ctx, catalog.FileQuestion{
			Key: lender.Key(key.Ecosystem, from.Namespace, from.Name), Name: sum.FileName()})
		if err == nil && found.Arriving == nil {
			is = found.File.Digests
		} else if err != nil && !errors.Is(err, ecosystem.ErrNoFile) {
			return false, err
		}
	}
	if !is.Has("sha256") {
		if is.SHA256, err = s.readable(ctx, caller, sum); err != nil || !is.Has("sha256") {
			return false, err
		}
	}
	err = s.DB.Within(ctx, func(tx *record.Tx) error {
		// What nothing names any more may be reclaimed at this very moment.
		known, err := tx.StoredAs(ctx, is.SHA256)
		if err != nil {
			return err
		}
		if err := s.fits(r, sum.String(), known.Size); err != nil {
			return err
		}
		if _, err := tx.AddPart(ctx, record.Part{Key: key, Name: sum.FileName(), Digests: known, At: s.Now(),
			By: caller.Name}); err != nil {
			return err
		}
		// From here on nobody can reclaim what the records name.
		has, err := s.store.HasBytes(ctx, is.SHA256)
		if err == nil && !has {
			err = errNotStored
		}
		if err != nil {
			return err
		}
		return s.store.WantIn(ctx, tx, r, nil, [][]byte{is.SHA256[:]})
	})
	if record.BytesGone(err) || errors.Is(err, errNotStored) || errors.Is(err, record.ErrNotFound) {
		return false, nil
	}
	if err == nil {
		s.Changed(key)
	}
	return err == nil, err
}

// readable finds bytes with a digest among all that the caller may read; zero if there are
// none.
func (s *Publishing) readable(ctx context.Context, caller access.Caller, sum catalog.Sum) (sha256 [32]byte, err error) {
	scope := s.directory.ScopeOf(s.directory.Readable(caller)...)
	if sum.Algorithm != "sha256" {
		sha256, err = s.DB.PartIn(ctx, sum.FileName(), scope)
		if errors.Is(err, record.ErrNotFound) {
			return [32]byte{}, nil
		}
		return sha256, err
	}
	var is catalog.Digests
	is.ParseHex("sha256", sum.Hex)
	there, err := s.DB.BytesIn(ctx, [][]byte{is.SHA256[:]}, scope)
	if _, ok := there[is.SHA256]; !ok {
		return [32]byte{}, err
	}
	return is.SHA256, err
}

// errNotStored is that the store does not have what is on record.
var errNotStored = errors.New("the bytes are not in the store")

// RemovePart implements ecosystem.PartTaker.
func (s *Publishing) RemovePart(
	ctx context.Context, caller access.Caller, key catalog.PackageKey, sum catalog.Sum,
) error {
	r := s.directory.Known().ByID[key.RepositoryID]
	if err := s.directory.Allow(caller, access.Remove,
		access.Object{Repository: r, Package: act.PURLOf(key, "")}); err != nil {
		return err
	}
	if !r.Own() || key.AsOf != 0 {
		return fault.New(fault.Conflict, "not-a-house", "%s is a %s; only what house repositories hold can be changed",
			r.At(), r.Kind)
	}
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		done, named, err := tx.RemovePart(ctx, key, sum.FileName())
		switch {
		case err != nil:
			return err
		case named:
			return fault.New(fault.Conflict, "part-named", "%s is part of something that is published", sum).
				WithHint("Remove the manifests that name it.")
		case !done:
			return fault.New(fault.NotFound, "no-such-part", "%s has no %s", act.PURLOf(key, "").Typed(), sum)
		}
		return tx.Tell(ctx, record.Change{Kind: record.OfPackage, RepositoryID: key.RepositoryID, Repository: r.Name,
			Ecosystem: key.Ecosystem, Namespace: key.Namespace, Name: key.Name})
	})
}

// dropParts drops parts that nobody named.
func (s *Publishing) dropParts(ctx context.Context) error {
	now := s.Now()
	return s.DB.DropUnnamedParts(ctx, now.Add(-unnamedStays), now.Add(-retention.DefaultGrace))
}

// nameParts adds the parts of a publication to its version, which is open still.
func (s *Publishing) nameParts(ctx context.Context, tx *record.Tx, r *recording, version record.Added) error {
	if r.MediaType == "" && len(r.Parts) == 0 {
		return nil
	}
	parts := make([]record.NamedPart, len(r.Parts))
	for i, p := range r.Parts {
		parts[i] = record.NamedPart{Name: p.FileName(), Extension: p.Extension, MediaType: p.MediaType}
	}
	by := record.NamedPart{Name: r.Files[0].Place.FileName, MediaType: r.MediaType}
	sizes, err := tx.NameParts(ctx, version.VersionID, version.Sends, by, parts, r.caller.Name, s.Now())
	if err != nil {
		return err
	}
	lacks := func(what string) error {
		return fault.New(fault.NotFound, "part-unknown", "%s names %s, which %s does not have", r.published.PURL.Version,
			what, act.PURLOf(r.key, "").Typed()).WithHint("Send that first.")
	}
	for _, p := range r.Parts {
		switch size, there := sizes[p.FileName()]; {
		case !there:
			return lacks(p.String())
		case size != p.Size:
			return fault.New(fault.Invalid, "other-size", "%s says that %s has %d bytes; it has %d", r.published.PURL.Version,
				p.Sum, p.Size, size)
		}
	}
	missing, err := tx.Lacking(ctx, r.key, r.Needs)
	if err == nil && missing != "" {
		err = lacks(missing)
	}
	return err
}

// MaturityByLabels checks, for an ecosystem in which labels give a version its maturity,
// that those which it is to get belong in a repository.
func (s *Publishing) MaturityByLabels(m ecosystem.Maturing, r catalog.Repository, labels []string) error {
	for _, label := range labels {
		if !m.IsLabel(label) {
			return fault.New(fault.Invalid, "bad-tag", "%.140q cannot be a label", label)
		}
		release, snapshot := m.LabelMaturity(r, label)
		if release && !r.Holds.Takes(false) || snapshot && !r.Holds.Takes(true) {
			return fault.New(fault.Conflict, "wrong-maturity", "%s holds %s, and %s is a %s", r.Name, r.Holds, label,
				Maturity(snapshot))
		}
	}
	return nil
}

// Moved are those of some labels that do not point to a version yet, in a transaction. A
// label that makes a release of its version stays where it is, and does not come back
// somewhere else.
func (s *Publishing) Moved(
	ctx context.Context, tx *record.Tx, m ecosystem.Maturing, r catalog.Repository, key catalog.PackageKey,
	labels []string, version string,
) (moved []string, err error) {
	ever, err := tx.LabelsEver(ctx, key, labels, s.Now())
	if err != nil {
		return nil, err
	}
	for _, label := range labels {
		past, there := ever[label]
		if there && past.Version == version && past.Ended == nil {
			continue
		}
		if release, _ := m.LabelMaturity(r, label); release && there && past.Version != version {
			was := "is a release"
			if past.Ended != nil {
				was = "was a release until " + past.Ended.UTC().Format(act.TimeForm)
			}
			return nil, fault.New(fault.Conflict, "label-stays", "%s of %s %s, which is %s, and does not move", label, key.Name,
				was, past.Version).WithHint("Publish it under another label, such as the next version.")
		}
		moved = append(moved, label)
	}
	return moved, nil
}

var _ ecosystem.PartTaker = (*Publishing)(nil)
