package builds

import (
	"context"
	"errors"
	"slices"
	"strings"

	"crelvo/internal/core/access"
	"crelvo/internal/core/attest"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
)

// Attach adds a document to a build: an in-toto statement, in a signed envelope
// or not, or a bill of materials.
func (s *Builds) Attach(
	ctx context.Context, caller access.Caller, title, name string, content []byte,
) (record.BuildDocument, error) {
	var d record.BuildDocument
	name0, number, err := SplitBuild(title)
	if err != nil {
		return d, err
	}
	if err := s.directory.Allow(caller, access.SignedIn, act.Everything); err != nil {
		return d, err
	}
	b, err := s.DB.Build(ctx, record.BuildFilter{Name: name0, Number: number})
	if errors.Is(err, record.ErrNotFound) || err == nil && b.OwnerID != caller.ID &&
		s.directory.Allow(caller, access.Manage, act.Everything) != nil {
		return d, fault.New(fault.NotFound, "no-such-build", "there is no build %s that %s recorded", title, caller.Name).
			WithHint("Record it first: crelvo build record %s.", title)
	}
	if err != nil {
		return d, err
	}
	keys, err := s.keys.StatementKeys(ctx)
	if err != nil {
		return d, err
	}
	read, err := attest.Read(content, keys)
	if err != nil {
		return d, act.Invalid("bad-document", "%s: %v", name, err)
	}
	made, err := s.DB.MadeBy(ctx, b.ID)
	if err != nil {
		return d, err
	}
	if len(read.Subjects) > 0 {
		if err := s.aboutBuild(ctx, b, made, read.Subjects); err != nil {
			return d, err
		}
	}
	err = s.changeBuilds(ctx, func(tx *record.Tx) error {
		there, err := tx.Documents(ctx, b.ID)
		if err == nil && len(there) >= maxBuildDocuments {
			err = fault.New(fault.Conflict, "too-many-documents", "%s has %d documents; more are not taken", title,
				maxBuildDocuments)
		}
		if err != nil {
			return err
		}
		d = record.BuildDocument{BuildID: b.ID, Name: name, Kind: read.Kind, Type: read.Type, Builder: read.Builder,
			Signed:   read.Signed,
			SignedBy: read.SignedBy, ByName: caller.Name, At: s.Now(), Content: content, Size: int64(len(content))}
		if err := tx.AddDocument(ctx, d); err != nil {
			return err
		}
		event := s.Event(caller, record.EventDocumentAttached)
		event.Subject, event.Detail = title, map[string]string{"name": name, "kind": read.Kind, "type": read.Type,
			"signed by": strings.Join(read.SignedBy, " ")}
		return tx.Append(ctx, event, record.Change{Kind: record.OfBuild, Name: title})
	})
	return d, err
}

// aboutBuild checks that a statement is about something that the build made.
func (s *Builds) aboutBuild(ctx context.Context, b record.Build, made []record.MadeVersion, subjects []string) error {
	files, err := s.DB.FilesOf(ctx, versionIDs(made))
	if err != nil {
		return err
	}
	for _, list := range files {
		for _, f := range list {
			if slices.Contains(subjects, f.Digests.Hex("sha256")) {
				return nil
			}
		}
	}
	return act.Invalid("other-subject", "the statement is about files that %s did not make", b.Title()).
		WithHint("Record the build with what it made first, and attach the statement that its files are the subjects of.")
}

// Document gives the content of a document of a build that the caller may see.
func (s *Builds) Document(ctx context.Context, caller access.Caller, title string, id int64) ([]byte, error) {
	v, err := s.Build(ctx, caller, title)
	if err != nil {
		return nil, err
	}
	content, err := s.DB.DocumentContent(ctx, v.ID, id)
	if errors.Is(err, record.ErrNotFound) {
		return nil, fault.New(fault.NotFound, "no-such-document", "%s has no such document", title)
	}
	return content, err
}

// Difference is what one build has that another has not.
type Difference struct {
	PURL          purl.PURL // without a version
	Before, After string    // versions; "" where there is none
	// OtherBytes: the version is the same, and its files are not.
	OtherBytes bool
}

// CompareBuilds tells what changed from one build to another: in what they made
// and in what they used.
func (s *Builds) CompareBuilds(
	ctx context.Context, caller access.Caller, before, after string,
) (made, used []Difference, err error) {
	a, err := s.Build(ctx, caller, before)
	if err != nil {
		return nil, nil, err
	}
	b, err := s.Build(ctx, caller, after)
	if err != nil {
		return nil, nil, err
	}
	return differences(a.Made, b.Made), differences(a.Used, b.Used), nil
}

func differences(before, after []Output) []Difference {
	first := func(list []Output) (order []string, by map[string]Output) {
		by = map[string]Output{}
		for _, v := range list {
			of := act.PURLOf(v.Key(), "").String()
			if was, ok := by[of]; !ok || was.Promotion != 0 && v.Promotion == 0 ||
				was.Promotion == v.Promotion && v.ID > was.ID {
				if by[of] = v; !ok {
					order = append(order, of)
				}
			}
		}
		return order, by
	}
	namesA, a := first(before)
	namesB, b := first(after)
	names := slices.Compact(slices.Sorted(slices.Values(append(namesA, namesB...))))
	all := []Difference{}
	for _, name := range names {
		was, is := a[name], b[name]
		key := is.Key()
		if is.Name == "" {
			key = was.Key()
		}
		d := Difference{PURL: act.PURLOf(key, ""), Before: was.Version, After: is.Version}
		d.OtherBytes = d.Before == d.After && string(was.Digest) != string(is.Digest)
		if d.Before != d.After || d.OtherBytes {
			all = append(all, d)
		}
	}
	return all
}
