package ecosystem

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"crelvo/internal/core/splice"
)

// Form is how a file of settings is written.
type Form struct {
	language string
	set      func(text string, path []string, value string) (string, error)
	get      func(text string, path []string) (string, bool)
	// keys are the names that stand at the end of a path.
	keys func(text string, path []string) []string
}

// The forms of files. Paths are keys; of TOML and INI the last is a key, and those before
// it are the table or section, of TOML perhaps one of an array, told by a key
// (index@name=NAME); of XML the names of elements, of which one may be told by an attribute
// (add@key=NAME), and at the end an attribute (@value).
var (
	TOML = Form{language: "toml",
		set: func(text string, path []string, value string) (string, error) {
			table, key := cutPath(path)
			table, by, want := oneOf(table)
			values := []splice.Setting{{Key: key, Value: value}}
			if by != "" {
				values = append([]splice.Setting{{Key: by, Value: want}}, values...)
			}
			return splice.SetTOML(text, table, by, values)
		},
		get: func(text string, path []string) (string, bool) {
			table, key := cutPath(path)
			table, by, want := oneOf(table)
			for _, t := range splice.GetTOML(text, table) {
				if value, ok := t[key]; ok && (by == "" || t[by] == want) {
					return value, true
				}
			}
			return "", false
		},
		keys: func(text string, path []string) (names []string) {
			if table, by, _ := oneOf(strings.Join(path, ".")); by != "" {
				for _, t := range splice.GetTOML(text, table) {
					names = append(names, t[by])
				}
				return names
			}
			for _, table := range splice.TablesTOML(text) {
				if name, ok := strings.CutPrefix(table, strings.Join(path, ".")+"."); ok {
					names = append(names, strings.Trim(name, `"`))
				}
			}
			return names
		}}
	INI = Form{language: "ini",
		set: func(text string, path []string, value string) (string, error) {
			section, key := cutPath(path)
			return splice.SetINI(text, section, key, value)
		},
		get: func(text string, path []string) (string, bool) {
			section, key := cutPath(path)
			return splice.GetINI(text, section, key)
		},
		keys: func(text string, _ []string) []string { return splice.SectionsINI(text) }}
	XML = Form{language: "xml",
		set: func(text string, path []string, value string) (string, error) {
			steps, attribute := xmlPath(path)
			return splice.SetXML(text, steps, attribute, value)
		},
		get: func(text string, path []string) (string, bool) {
			steps, attribute := xmlPath(path)
			for _, e := range xmlAt(text, steps) {
				if attribute == "" {
					return e.Text, true
				}
				if value, ok := e.Attrs[attribute]; ok {
					return value, true
				}
			}
			return "", false
		},
		keys: func(text string, path []string) (names []string) {
			last, attribute, told := strings.Cut(path[len(path)-1], "@")
			if !told {
				for _, e := range xmlAt(text, xmlSteps(path)) {
					for _, child := range e.Children {
						names = append(names, child.Name)
					}
				}
				return names
			}
			attribute, _, _ = strings.Cut(attribute, "=")
			for _, e := range xmlAt(text, xmlSteps(append(slices.Clone(path[:len(path)-1]), last))) {
				names = append(names, e.Attrs[attribute])
			}
			return names
		}}
)

// oneOf takes apart what tells one table of an array.
func oneOf(path string) (table, by, want string) {
	table, told, _ := strings.Cut(path, "@")
	by, want, _ = strings.Cut(told, "=")
	return table, by, want
}

func cutPath(path []string) (above, last string) {
	n := len(path) - 1
	return strings.Join(path[:n], "."), path[n]
}

func xmlPath(path []string) (steps []splice.Step, attribute string) {
	if last, ok := strings.CutPrefix(path[len(path)-1], "@"); ok {
		return xmlSteps(path[:len(path)-1]), last
	}
	return xmlSteps(path), ""
}

func xmlSteps(path []string) (steps []splice.Step) {
	for _, name := range path {
		name, told, _ := strings.Cut(name, "@")
		attribute, value, _ := strings.Cut(told, "=")
		steps = append(steps, splice.Step{Name: name, Attr: attribute, Value: value})
	}
	return steps
}

// xmlAt are the elements at the end of a way from the root.
func xmlAt(text string, steps []splice.Step) []*splice.Element {
	root, err := splice.ReadXML(text)
	if err != nil || root == nil || len(steps) == 0 || root.Name != steps[0].Name {
		return nil
	}
	found := []*splice.Element{root}
	for _, step := range steps[1:] {
		var next []*splice.Element
		for _, e := range found {
			for _, child := range e.Children {
				if child.Name == step.Name && (step.Attr == "" || child.Attrs[step.Attr] == step.Value) {
					next = append(next, child)
				}
			}
		}
		found = next
	}
	return found
}

// Setting is one of a client's: where it stands, and what it says. The same declares what
// is written and what is read back.
type Setting struct {
	// In is the file; none for what only a variable says.
	In Source
	// Path has {id} where what the client calls the repository stands.
	Path []string
	// Value has {address}, {id}, {user} and {token} where these stand.
	Value string
	// Env is a variable that goes before the file, with {ID} for the identity in capitals;
	// "" is none.
	Env string
	// Only tells when it is written; nil is always.
	Only func(p Pointing) bool
	// IfThere: it is only changed where it stands already.
	IfThere bool
	// List: it is a list of words in an INI file, of which this is one.
	List bool
	// Publishes: it is the address that is published to. Where a client has one, what it
	// uses without is only read.
	Publishes bool
	// Else is what it means that it says something else already, as "takes all from %s";
	// "" is nothing.
	Else string
}

func (one Setting) env(id string) string {
	return strings.ReplaceAll(one.Env, "{ID}", strings.ToUpper(strings.ReplaceAll(id, "-", "_")))
}

func (one Setting) value(p Pointing) string {
	return strings.NewReplacer("{address}", p.Address, "{id}", p.ID, "{user}", p.User, "{token}", p.Token()).
		Replace(one.Value)
}

// Source is a file of settings, and what its part of them is about.
type Source struct {
	File, Windows, Title string
	Form                 Form
	There                bool // it is changed only if it is there already
	// Read are the files in which it is looked for, in their order; nil is File alone.
	Read []string
}

func (s Source) read() []string {
	if s.Read == nil {
		return []string{s.File}
	}
	return s.Read
}

// Settings are all of a client's, in the order in which they are written.
type Settings struct {
	All []Setting
	// Name is how an identity is written in paths; nil is as it is.
	Name func(id string) string
	// Expand puts in variables; nil is Files.Expand.
	Expand func(f Files, value string) string
}

func (s Settings) name(id string) string {
	if s.Name != nil {
		return s.Name(id)
	}
	return id
}

// at is a path with an identity in it.
func (s Settings) at(path []string, id string) []string {
	out := make([]string, len(path))
	for i, part := range path {
		if out[i] = strings.ReplaceAll(part, "{id}", id); part == "{id}" {
			out[i] = s.name(id)
		}
	}
	return out
}

// Parts is what belongs in which file.
func (s Settings) Parts(p Pointing) []Piece {
	var pieces []Piece
	edits := map[string][]func(string) (string, error){}
	for _, one := range s.All {
		if one.In.File == "" || one.Only != nil && !one.Only(p) {
			continue
		}
		value, path := one.value(p), s.at(one.Path, p.ID)
		edits[one.In.File] = append(edits[one.In.File], func(text string) (string, error) {
			if _, there := one.In.Form.get(text, path); one.IfThere && !there {
				return text, nil
			}
			if one.List {
				section, key := cutPath(path)
				return splice.AddToINI(text, section, key, value)
			}
			return one.In.Form.set(text, path, value)
		})
		secret := strings.Contains(one.Value, "{token}")
		if i := slices.IndexFunc(pieces, func(piece Piece) bool { return piece.File == one.In.File }); i >= 0 {
			pieces[i].Secret = pieces[i].Secret || secret
			continue
		}
		pieces = append(pieces, Piece{Title: one.In.Title, File: one.In.File, Windows: one.In.Windows,
			Language: one.In.Form.language, Secret: secret, There: one.In.There})
	}
	for i := range pieces {
		pieces[i].Edit = Sequence(edits[pieces[i].File]...)
	}
	return pieces
}

// Variables are those that carry what the files would say.
func (s Settings) Variables(p Pointing) (all []splice.Setting) {
	for _, one := range s.All {
		if one.Env != "" && (one.Only == nil || one.Only(p)) {
			// A variable has a list as words.
			words := strings.NewReplacer(`["`, "", `", "`, " ", `"]`, "")
			all = append(all, splice.Setting{Key: one.env(p.ID), Value: words.Replace(one.value(p))})
		}
	}
	return all
}

// Strays are variables and settings that send the client elsewhere.
func (s Settings) Strays(f Files, p Pointing) (said []string) {
	if address := s.of("{address}"); address.Env != "" {
		said = f.Overridden(address.env(p.ID))
	}
	for _, one := range s.All {
		if one.Else == "" || one.Only != nil && !one.Only(p) {
			continue
		}
		path := s.at(one.Path, p.ID)
		if there, ok := one.In.Form.get(f.Read(one.In.File), path); ok && there != one.value(p) {
			said = append(said, fmt.Sprintf("%s "+one.Else+": write %s = %q there", one.In.File, there,
				strings.Join(path, "."), one.value(p)))
		}
	}
	return said
}

// of is the first setting whose value has a part.
func (s Settings) of(part string) Setting {
	for _, one := range s.All {
		if strings.Contains(one.Value, part) {
			return one
		}
	}
	return Setting{}
}

// names are what may be called so in a file, by a path with {id} in it.
func (one Setting) names(text string) []string {
	i := slices.IndexFunc(one.Path, func(part string) bool { return strings.Contains(part, "{id}") })
	if i < 0 {
		return nil
	}
	if one.Path[i] == "{id}" {
		return one.In.Form.keys(text, one.Path[:i])
	}
	return one.In.Form.keys(text, one.Path[:i+1])
}

// Uses reads from files which repositories of the server are used. A secret that stands
// under another name than the address is found out; one that stands in the address, or in
// ~/.netrc where the client has no file for it, is found as well.
func (s Settings) Uses(f Files) (uses []Use) {
	expand := s.Expand
	if expand == nil {
		expand = Files.Expand
	}
	address, user, secret := s.of("{address}"), s.of("{user}"), s.of("{token}")
	before, after, _ := strings.Cut(address.Value, "{address}")
	for _, file := range address.In.read() {
		text := f.Read(file)
		for _, id := range address.names(text) {
			value, _ := address.In.Form.get(text, s.at(address.Path, id))
			value, ok := strings.CutPrefix(expand(f, value), before)
			u := Use{ID: id, In: file, Publish: s.publishes(f, id)}
			u.Address, u.User, u.Secret = Separate(value)
			// A slash at the end may be missing.
			u.Address = strings.TrimSuffix(strings.TrimSuffix(u.Address, after), strings.TrimSuffix(after, "/"))
			if !ok || !f.Ours(u.Address) {
				continue
			}
			if u.SecretIn = file; u.Secret == "" {
				u.SecretIn = ""
				s.signIn(f, &u, user, secret, expand)
			}
			uses = append(uses, u)
		}
	}
	return uses
}

// publishes tells whether files say where to publish to under a name.
func (s Settings) publishes(f Files, id string) bool {
	i := slices.IndexFunc(s.All, func(one Setting) bool { return one.Publishes })
	if i < 0 {
		return true
	}
	for _, file := range s.All[i].In.read() {
		if _, ok := s.All[i].In.Form.get(f.Read(file), s.at(s.All[i].Path, id)); ok {
			return true
		}
	}
	return false
}

// signIn finds user and secret of what is used.
func (s Settings) signIn(f Files, u *Use, user, secret Setting, expand func(Files, string) string) {
	if name := secret.env(u.ID); f.Env(name) != "" {
		u.User, u.Secret, u.SecretIn = f.Env(user.env(u.ID)), f.Env(name), "the variable "+name
		return
	}
	if secret.In.File == "" {
		f.FromNetrc(u)
		return
	}
	other := ""
	for _, file := range secret.In.read() {
		text := f.Read(file)
		if value, ok := secret.In.Form.get(text, s.at(secret.Path, u.ID)); ok {
			u.Secret, u.SecretIn = expand(f, value), file
			if user.Path != nil {
				u.User, _ = user.In.Form.get(text, s.at(user.Path, u.ID))
			}
			return
		}
		for _, name := range secret.names(text) {
			if _, ok := secret.In.Form.get(text, s.at(secret.Path, name)); ok || secret.Path[len(secret.Path)-1] == name {
				other, u.SecretIn = cmp.Or(other, name), cmp.Or(u.SecretIn, file)
			}
		}
	}
	if other != "" {
		u.Elsewhere(other)
	}
}
