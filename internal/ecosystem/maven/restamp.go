package maven

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
)

// moduleFile is the extension of Gradle's module metadata.
const moduleFile = "module"

// Restamp implements ecosystem.Restamping.
func (m Maven) Restamp(ctx context.Context, f ecosystem.ToRestamp) (ecosystem.Rewriting, error) {
	name := fileName(f.Stamp.Name, f.Stamp.To, f.File.Classifier, f.File.Extension)
	if f.File.Extension == f.File.Name { // it stands beside the others
		name = strings.ReplaceAll(f.File.Name, f.Stamp.From, f.Stamp.To)
	} else if all := stems(f.Stamp.Name); !strings.HasPrefix(f.File.Name, all[0]+"-") {
		name = fileName(all[len(all)-1], f.Stamp.To, f.File.Classifier, f.File.Extension)
	}
	switch {
	case isSignature(f.File.Extension):
		return ecosystem.Rewriting{Name: name, Dropped: "it signs the bytes of before"}, nil
	case f.File.Extension == "pom" && f.File.Classifier == "":
		return ecosystem.RestampText(f, name, maxPOM,
			func(raw []byte, _ func(string) (catalog.Digests, bool)) ([]byte, []ecosystem.Edit, []ecosystem.Obstacle, error) {
				return restampPOM(f, raw)
			})
	case f.File.Extension == moduleFile:
		return restampModule(f, name)
	case slices.Contains(zipExtensions, f.File.Extension):
		return ecosystem.RestampZip(ctx, f, name, jarEdit(f))
	case f.File.Extension == "tar.gz":
		return ecosystem.RestampTarGz(ctx, f, name, ecosystem.ArchiveEdit{})
	}
	return ecosystem.RestampPlain(ctx, f, name)
}

// restampPOM changes the version of the project itself, and those by which it
// names others that are restamped: its parent, dependencies, plugins and
// extensions, and properties that stand for such a version.
func restampPOM(f ecosystem.ToRestamp, raw []byte) ([]byte, []ecosystem.Edit, []ecosystem.Obstacle, error) {
	root, err := ecosystem.ParseXMLPlaces(raw)
	if err != nil {
		return nil, nil, nil, err
	}
	w := pomWalk{f: f, group: root.TextOf("groupId"), uses: map[string]use{}}
	if w.group == "" {
		w.group = root.Child("parent").TextOf("groupId")
	}
	if v := root.Child("version"); v != nil {
		w.change(v, f.Stamp, "version")
	}
	w.walk(root)
	w.properties(root)
	return ecosystem.Spliced(raw, w.splices), w.changes, w.obstacles, nil
}

// use is for what a property stands in a pom.
type use struct {
	ours  []ecosystem.Stamp
	other string // something else that it is the version of
}

type pomWalk struct {
	f         ecosystem.ToRestamp
	group     string
	uses      map[string]use
	splices   []ecosystem.Splice
	changes   []ecosystem.Edit
	obstacles []ecosystem.Obstacle
}

// change changes the version at a place to that of a stamp, or notes which
// property stands there.
func (w *pomWalk) change(place *ecosystem.XMLPlace, stamp ecosystem.Stamp, what string) {
	if name, ok := strings.CutPrefix(place.Text, "${"); ok {
		name = strings.TrimSuffix(name, "}")
		u := w.uses[name]
		u.ours = append(u.ours, stamp)
		w.uses[name] = u
		return
	}
	w.put(place, stamp.Swap(place.Text), what)
}

func (w *pomWalk) put(place *ecosystem.XMLPlace, text, what string) {
	switch {
	case text == place.Text:
	case place.To == 0:
		w.obstacles = append(w.obstacles, ecosystem.Obstacle{Reason: what + " " + place.Text +
			" is written in a form that cannot be changed"})
	default:
		w.splices = append(w.splices, ecosystem.Splice{Start: place.From, End: place.To, New: text})
		w.changes = append(w.changes, ecosystem.Edit{What: what, Old: place.Text, New: text})
	}
}

// kinds are the elements that name another version.
var kinds = []string{"parent", "dependency", "plugin", "extension"}

func (w *pomWalk) walk(at *ecosystem.XMLPlace) {
	for _, child := range at.Children {
		if version := child.Child("version"); version != nil && slices.Contains(kinds, child.Name) {
			group := strings.NewReplacer("${project.groupId}", w.group, "${pom.groupId}", w.group, "${groupId}", w.group).
				Replace(child.TextOf("groupId"))
			artifact := strings.ReplaceAll(child.TextOf("artifactId"), "${project.artifactId}", w.f.Stamp.Name)
			if stamp := w.f.All.Of(group, artifact); stamp != nil {
				w.change(version, *stamp, child.Name+" on "+artifact)
			} else if name, ok := strings.CutPrefix(version.Text, "${"); ok {
				u := w.uses[strings.TrimSuffix(name, "}")]
				u.other = artifact
				w.uses[strings.TrimSuffix(name, "}")] = u
			}
		}
		w.walk(child)
	}
}

// properties changes those that stand for a version that is restamped.
func (w *pomWalk) properties(at *ecosystem.XMLPlace) {
	for _, child := range at.Children {
		if child.Name != "properties" {
			w.properties(child)
			continue
		}
		for _, property := range child.Children {
			u := w.uses[property.Name]
			stamps := slices.Clone(u.ours)
			if len(stamps) == 0 && u.other == "" {
				stamps = slices.Clone(w.f.All) // used by modules whose parent this is
			}
			stamps = slices.DeleteFunc(stamps, func(s ecosystem.Stamp) bool {
				return property.Text != s.From && property.Text != s.Upload
			})
			if len(stamps) == 0 {
				continue
			}
			to := stamps[0].To
			what := "property " + property.Name
			switch {
			case slices.ContainsFunc(stamps, func(s ecosystem.Stamp) bool { return s.To != to }):
				w.obstacles = append(w.obstacles, ecosystem.Obstacle{Reason: what +
					" stands for versions that become different ones"})
			case u.other != "":
				w.obstacles = append(w.obstacles, ecosystem.Obstacle{Reason: what + " is also the version of " + u.other +
					", which is not restamped"})
			default:
				w.put(property, to, what)
			}
		}
	}
}

// jarEdit is what is changed inside of jars and the like.
func jarEdit(f ecosystem.ToRestamp) ecosystem.ArchiveEdit {
	javadoc := f.File.Classifier == "javadoc"
	return ecosystem.ArchiveEdit{
		Seal: func(name string) bool {
			folder, base := path.Split(strings.ToUpper(name))
			return folder == "META-INF/" && slices.Contains([]string{".SF", ".RSA", ".DSA", ".EC"}, path.Ext(base))
		},
		Wants: func(name string) bool {
			return name == "META-INF/MANIFEST.MF" || stampOfEntry(f, name) != nil || path.Ext(name) == ".properties" ||
				javadoc && (path.Ext(name) == ".html" || path.Ext(name) == ".js")
		},
		Edit: func(name string, raw []byte) ([]byte, []ecosystem.Edit, error) {
			if stamp := stampOfEntry(f, name); stamp != nil && path.Base(name) == "pom.xml" {
				inner := f
				inner.Stamp = *stamp
				edited, changes, _, err := restampPOM(inner, raw) // what could not be changed is found in it
				return edited, inEntry(name, changes), err
			}
			switch {
			case name == "META-INF/MANIFEST.MF":
				edited, changes := restampManifest(f, raw)
				return edited, inEntry(name, changes), nil
			case path.Ext(name) == ".properties":
				edited, changes := restampProperties(f, raw)
				return edited, inEntry(name, changes), nil
			}
			edited := f.Swap(string(raw), nil)
			if edited == string(raw) {
				return nil, nil, nil
			}
			return []byte(edited), []ecosystem.Edit{{Entry: name, What: "page", Old: f.Stamp.From, New: f.Stamp.To}}, nil
		},
	}
}

// stampOfEntry is the stamp of the version whose pom or properties an entry is.
func stampOfEntry(f ecosystem.ToRestamp, name string) *ecosystem.Stamp {
	parts := strings.Split(name, "/")
	if len(parts) != 5 || parts[0] != "META-INF" || parts[1] != "maven" ||
		parts[4] != "pom.xml" && parts[4] != "pom.properties" {
		return nil
	}
	return f.All.Of(parts[2], parts[3])
}

func inEntry(name string, changes []ecosystem.Edit) []ecosystem.Edit {
	for i := range changes {
		changes[i].Entry = name
	}
	return changes
}

// bundleForms are the ways in which a manifest writes a version: as it is, and
// as OSGi has it (Core Specification, 3.2.5), with a point before the qualifier.
func bundleForms(version string) []string {
	bundle := strings.Replace(version, "-", ".", 1)
	return []string{version, bundle}
}

// restampManifest changes attributes that name an old version. Others keep their
// bytes, and so their line breaks (JAR File Specification, "Notes on Manifest
// and Signature Files").
func restampManifest(f ecosystem.ToRestamp, raw []byte) ([]byte, []ecosystem.Edit) {
	text := string(raw)
	ending := "\n"
	if strings.Contains(text, "\r\n") {
		ending = "\r\n"
	}
	var out strings.Builder
	var changes []ecosystem.Edit
	for len(text) > 0 {
		line, rest := cutLine(text)
		whole, size := strings.TrimRight(line, "\r\n"), len(line)
		for strings.HasPrefix(rest, " ") {
			var more string
			more, rest = cutLine(rest)
			whole += strings.TrimRight(more[1:], "\r\n")
			size += len(more)
		}
		name, value, ok := strings.Cut(whole, ": ")
		edited := value
		if ok {
			edited = f.Swap(value, bundleForms)
		}
		if edited == value {
			out.WriteString(text[:size])
		} else {
			changes = append(changes, ecosystem.Edit{What: name, Old: value, New: edited})
			out.WriteString(folded(name+": "+edited, ending))
		}
		text = rest
	}
	return []byte(out.String()), changes
}

func cutLine(text string) (line, rest string) {
	if i := strings.IndexByte(text, '\n'); i >= 0 {
		return text[:i+1], text[i+1:]
	}
	return text, ""
}

// folded breaks an attribute into lines of at most 72 bytes, their ends
// included.
func folded(attribute, ending string) string {
	var b strings.Builder
	limit := 72 - len(ending)
	for len(attribute) > limit {
		b.WriteString(attribute[:limit] + ending + " ")
		attribute = attribute[limit:]
		limit = 71 - len(ending)
	}
	return b.String() + attribute + ending
}

// restampProperties changes values that are an old version and nothing else.
func restampProperties(f ecosystem.ToRestamp, raw []byte) ([]byte, []ecosystem.Edit) {
	var out strings.Builder
	var changes []ecosystem.Edit
	for text := string(raw); len(text) > 0; {
		line, rest := cutLine(text)
		text = rest
		at := strings.IndexAny(line, "=:")
		value := ""
		if at >= 0 && !strings.HasPrefix(strings.TrimSpace(line), "#") {
			value = strings.TrimSpace(line[at+1:])
		}
		edited := f.Swap(value, nil)
		if value == "" || edited == value || value != f.Stamp.From && value != f.Stamp.Upload {
			out.WriteString(line)
			continue
		}
		changes = append(changes, ecosystem.Edit{What: strings.TrimSpace(line[:at]), Old: value, New: edited})
		out.WriteString(line[:at+1] + strings.Replace(line[at+1:], value, edited, 1))
	}
	return []byte(out.String()), changes
}

// restampModule changes Gradle's module metadata
// (Gradle Module Metadata 1.1):
// the component, what variants depend on, and names, sizes and digests of files.
func restampModule(f ecosystem.ToRestamp, name string) (ecosystem.Rewriting, error) {
	edit := func(raw []byte, sums func(string) (catalog.Digests, bool)) ([]byte, []ecosystem.Edit, []ecosystem.Obstacle,
		error) {
		places, err := ecosystem.ParseJSONPlaces(raw)
		if err != nil {
			return nil, nil, nil, fmt.Errorf("it is no JSON: %w", err)
		}
		edited, changes := moduleSplices(f, places, sums)
		return ecosystem.Spliced(raw, edited), changes, nil, nil
	}
	r, err := ecosystem.RestampText(f, name, maxPOM, edit)
	r.Late = true
	return r, err
}

func moduleSplices(
	f ecosystem.ToRestamp, places []ecosystem.TextPlace, sums func(string) (catalog.Digests, bool),
) (splices []ecosystem.Splice, changes []ecosystem.Edit) {
	put := func(p ecosystem.TextPlace, text, what string) {
		if text == p.Value {
			return
		}
		changes = append(changes, ecosystem.Edit{What: what, Old: p.Value, New: text})
		if !p.Number {
			text = ecosystem.JSONText(text)
		}
		splices = append(splices, ecosystem.Splice{Start: p.From, End: p.To, New: text})
	}
	digest := func(p ecosystem.TextPlace, file string, of func(catalog.Digests) string) {
		if d, ok := sums(file); ok {
			put(p, of(d), p.Key()+" of "+file)
		} else {
			changes = append(changes, ecosystem.Edit{What: p.Key() + " of " + file, Old: p.Value, New: "that of the new file"})
		}
	}
	for _, p := range places {
		file := f.Swap(p.Beside("name"), nil)
		inFiles := len(p.Path) > 2 && p.Path[len(p.Path)-3] == "files"
		switch key := p.Key(); {
		case p.Number && inFiles && key == "size":
			digest(p, file, func(d catalog.Digests) string { return fmt.Sprint(d.Size) })
		case inFiles && slices.Contains(catalog.Algorithms, key):
			digest(p, file, func(d catalog.Digests) string { return d.Hex(key) })
		case inFiles && key == "name" || key == "url":
			put(p, f.Swap(p.Value, nil), key)
		default:
			of := p.Beside
			if p.Ends("version", "*") {
				of = p.BesideParent // requires, prefers, strictly
			} else if key != "version" {
				continue
			}
			if stamp := f.All.Of(of("group"), of("module")); stamp != nil {
				put(p, stamp.Swap(p.Value), "version of "+of("module"))
			}
		}
	}
	return splices, changes
}

// SignsBeside implements ecosystem.SignedBeside: FILE.asc.
func (Maven) SignsBeside(string) bool { return true }
