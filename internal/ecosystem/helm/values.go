package helm

import (
	"strings"

	"crelvo/internal/ecosystem"
)

// imageIn tells what becomes of a place in values.yaml that is, or is part of, an exact
// reference to one of some images: HOST/REPOSITORY/NAME:TAG or @DIGEST in one text, or the
// tag or digest beside the repository, as charts mostly have it.
func imageIn(p ecosystem.TextPlace, images []ecosystem.Relabelled) (ecosystem.Stated, bool) {
	for _, image := range images {
		if becomes, ok := referenceIn(p, image); ok && becomes != p.Value {
			return ecosystem.Stated{Becomes: becomes, What: "image " + image.FullName()}, true
		}
	}
	return ecosystem.Stated{}, false
}

// referenceIn is what becomes of a place for the sake of one image; ok is false if it is no
// part of an exact reference to it.
func referenceIn(p ecosystem.TextPlace, image ecosystem.Relabelled) (becomes string, ok bool) {
	if repository := p.Beside("repository"); repository != "" {
		moved, names := named(repository, image)
		tag, tagged := exact(p.Beside("tag"), image)
		digest, digested := exact(p.Beside("digest"), image)
		if !names || !tagged || !digested || tag+digest == "" {
			return "", false
		}
		becomes, ok := map[string]string{"repository": moved, "tag": tag, "digest": digest}[p.Key()]
		return becomes, ok
	}
	name, rest := p.Value, ""
	if i := strings.IndexByte(name, '@'); i >= 0 {
		name, rest = name[:i], name[i:]
	}
	if i := strings.LastIndexByte(name, ':'); i > strings.LastIndexByte(name, '/') {
		name, rest = name[:i], name[i:]+rest
	}
	moved, names := named(name, image)
	mark := rest[:min(1, len(rest))] // a tag has a colon in front, a digest an @
	changed, ok := exact(strings.TrimPrefix(rest, mark), image)
	return moved + mark + changed, names && ok && rest != ""
}

// named tells whether a name of an image, with the host and the repository in front, or a
// part of these, is that of an image, and what it is where the image goes: in another
// repository, if it names the one that it comes from.
func named(name string, image ecosystem.Relabelled) (moved string, ok bool) {
	before, ok := strings.CutSuffix(name, image.FullName())
	if !ok || before != "" && !strings.HasSuffix(before, "/") || strings.Count(before, "/") > 2 {
		return "", false
	}
	if host, ok := strings.CutSuffix("/"+before, "/"+image.FromRepository+"/"); ok {
		before = strings.TrimPrefix(host+"/"+image.ToRepository+"/", "/")
	}
	return before + image.FullName(), true
}

// exact is what becomes of the tag, the digest or both of an image; ok is false if it is
// that of another one. Nothing stays nothing.
func exact(text string, image ecosystem.Relabelled) (becomes string, ok bool) {
	switch text {
	case "":
		return "", true
	case image.From:
		return image.To, true
	case image.FromVersion:
		return image.ToVersion, true
	case image.From + "@" + image.FromVersion:
		return image.To + "@" + image.ToVersion, true
	}
	return "", false
}
