package oci

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
)

var _ ecosystem.Restating = OCI{}

// Restate implements ecosystem.Restating: the tag, or the version that it is, where an
// annotation of a manifest or index, or a label of an image, is exactly that; and the digests
// of what becomes another thing by it. Every other byte stays, and so do the layers.
func (o OCI) Restate(ctx context.Context, v ecosystem.ToRestate) (made ecosystem.Restated, err error) {
	sum, _ := catalog.ParseSum(v.Version)
	made.Version = v.Version
	m, err := readManifest(ctx, v.Raw, v.MediaType)
	if err != nil {
		return made, badManifest(sum.FileName(), err)
	}
	if !m.index && m.Config == nil {
		return made, nil // nothing is known of what it is
	}
	r := restating{ToRestate: v, became: map[string]ecosystem.Became{}}
	for _, child := range m.children() {
		if err := r.follow(child); err != nil {
			return made, err
		}
	}
	if m.Subject != nil {
		if err := r.follow(string(m.Subject.Digest)); err != nil {
			return made, err
		}
	}
	if config, ok := configOf(m); ok && v.From != v.To {
		file, err := r.config(config)
		if err != nil {
			return made, err
		}
		if file != nil {
			made.Files = append(made.Files, *file)
		}
	}
	raw, changes, err := r.manifest(v.Raw)
	if err != nil {
		return made, badManifest(sum.FileName(), err)
	}
	made.Mentions = r.mentions
	if changes == nil {
		return made, nil
	}
	is := sumOf(sum.Algorithm, raw)
	made.Version = is.String()
	made.Files = append(made.Files, ecosystem.RestatedFile{Was: sum.FileName(), Name: is.FileName(), Raw: raw,
		Changes: changes})
	return made, nil
}

// configOf is the digest of a configuration that has labels.
func configOf(m manifest) (catalog.Sum, bool) {
	if m.Config == nil || !isImage(m.Config.MediaType) {
		return catalog.Sum{}, false
	}
	return catalog.ParseSum(string(m.Config.Digest))
}

// restating is a version while it is restated.
type restating struct {
	ecosystem.ToRestate
	became   map[string]ecosystem.Became // by what it was; only what became another
	mentions []string
}

func (r *restating) follow(version string) error {
	b, err := r.Became(version)
	if err == nil && b.Version != version {
		r.became[version] = b
	}
	return err
}

// swap is what a text that states the tag becomes.
func (r *restating) swap(text string) string {
	switch text {
	case r.From:
		return r.To
	case strings.TrimPrefix(r.From, "v"):
		return strings.TrimPrefix(r.To, "v")
	}
	return text
}

// config restates a configuration; nil if it stays what it is.
func (r *restating) config(sum catalog.Sum) (*ecosystem.RestatedFile, error) {
	raw, err := r.Part(sum)
	if err != nil || raw == nil {
		return nil, err
	}
	edited, changes, err := r.edit(raw, func(p ecosystem.TextPlace) (string, string) {
		if p.Is("config", "Labels", "*") {
			return "label " + p.Key(), p.Quoted(r.swap(p.Value))
		}
		return "", ""
	})
	if err != nil {
		return nil, fmt.Errorf("its configuration cannot be read: %w", err)
	}
	if changes == nil {
		return nil, nil
	}
	is := sumOf(sum.Algorithm, edited)
	r.became[sum.String()] = ecosystem.Became{Version: is.String(), Size: int64(len(edited))}
	return &ecosystem.RestatedFile{Was: sum.FileName(), Name: is.FileName(), Raw: edited, Changes: changes}, nil
}

// manifest restates a manifest or an index.
func (r *restating) manifest(raw []byte) ([]byte, []ecosystem.Edit, error) {
	return r.edit(raw, func(p ecosystem.TextPlace) (string, string) {
		switch {
		case p.Is("annotations", "*") && !p.Number:
			return "annotation " + p.Key(), p.Quoted(r.swap(p.Value))
		case p.Ends("annotations", "*") && !p.Number && len(p.Path) > 2:
			// Of what it names, beside its digest: builders tell there what belongs together.
			if b, ok := r.became[p.Value]; ok {
				return p.Key(), p.Quoted(b.Version)
			}
			return "annotation " + p.Key(), p.Quoted(r.swap(p.Value))
		case !ofDescriptor(p):
		case p.Key() == "digest" && !p.Number:
			if b, ok := r.became[p.Value]; ok {
				return "digest of " + p.Path[0], p.Quoted(b.Version)
			}
		case p.Key() == "size" && p.Number:
			if b, ok := r.became[p.Beside("digest")]; ok {
				return "size of " + p.Path[0], strconv.FormatInt(b.Size, 10)
			}
		}
		return "", ""
	})
}

// ofDescriptor tells whether a place stands in the description of something that a manifest
// names.
func ofDescriptor(p ecosystem.TextPlace) bool {
	return p.Is("config", "*") || p.Is("subject", "*") || p.Is("manifests", "*", "*") || p.Is("layers", "*", "*")
}

// edit changes places of a document: which is what they are called and what is to stand
// there, as it is written; "" is that the place is none of those.
func (r *restating) edit(
	raw []byte, which func(p ecosystem.TextPlace) (what, written string),
) ([]byte, []ecosystem.Edit, error) {
	places, err := ecosystem.ParseJSONPlaces(raw)
	if err != nil {
		return nil, nil, err
	}
	var splices []ecosystem.Splice
	var changes []ecosystem.Edit
	for _, p := range places {
		if _, changed := r.became[p.Beside("digest")]; changed && p.Key() == "data" && ofDescriptor(p) {
			return nil, nil, fmt.Errorf("it has a copy of %.80q in itself, which becomes another", p.Beside("digest"))
		}
		what, written := which(p)
		switch {
		case what != "" && written != p.Quoted(p.Value) && written != p.Value:
			splices = append(splices, ecosystem.Splice{Start: p.From, End: p.To, New: written})
			if !p.Number { // a size follows from a digest
				changes = append(changes, ecosystem.Edit{What: what, Old: p.Value, New: strings.Trim(written, `"`)})
			}
		case r.From != r.To && !p.Number && strings.Contains(p.Value, r.From) && len(r.mentions) < mostMentions:
			if at := strings.Join(p.Path, " "); !slices.Contains(r.mentions, at) {
				r.mentions = append(r.mentions, at)
			}
		}
	}
	return ecosystem.Spliced(raw, splices), changes, nil
}

// mostMentions is how many places are told of that name the old tag, and stay.
const mostMentions = 20
