package cargo

import (
	"bytes"
	"context"
	"fmt"
	"path"
	"strings"

	"crelvo/internal/ecosystem"
)

// Restamp implements ecosystem.Restamping: the name of the folder, and in Cargo.toml, what
// it was made of (Cargo.toml.orig) and Cargo.lock the version, and those of dependencies
// that are restamped too. .cargo_vcs_info.json names a commit, which stays what it is.
func (k Cargo) Restamp(ctx context.Context, f ecosystem.ToRestamp) (ecosystem.Rewriting, error) {
	inFolder := func(name string) (base string, ok bool) {
		folder, base := path.Split(path.Clean(name))
		return base, strings.Count(folder, "/") == 1
	}
	return ecosystem.RestampTarGz(ctx, f, k.FileName(f.Stamp.Name, f.Stamp.To), ecosystem.ArchiveEdit{
		Rename: func(name string) string {
			folder, rest, ok := strings.Cut(name, "/")
			if crate, cut := strings.CutSuffix(folder, "-"+f.Stamp.From); ok && cut {
				return crate + "-" + f.Stamp.To + "/" + rest
			}
			return name
		},
		Wants: func(name string) bool {
			base, ok := inFolder(name)
			return ok && (base == "Cargo.toml" || base == "Cargo.toml.orig" || base == "Cargo.lock")
		},
		Edit: func(name string, raw []byte) ([]byte, []ecosystem.Change, error) {
			places, err := ecosystem.ParseTOMLPlaces(raw)
			if err != nil {
				return nil, nil, fmt.Errorf("it is not TOML: %w", err)
			}
			e := edit{f: f, entry: name, raw: raw}
			if base, _ := inFolder(name); base == "Cargo.lock" {
				e.lock(places)
			} else {
				e.manifest(places)
			}
			return ecosystem.Spliced(raw, e.splices), e.changes, nil
		},
	})
}

type edit struct {
	f       ecosystem.ToRestamp
	entry   string
	raw     []byte
	splices []ecosystem.Splice
	changes []ecosystem.Change
}

// put changes a version that stands in a text.
func (e *edit) put(stamp ecosystem.Stamp, p ecosystem.TOMLPlace, what string) {
	text := (ecosystem.ToRestamp{Stamp: stamp, All: ecosystem.Stamps{stamp}}).Swap(p.Value, nil)
	if text != p.Value {
		e.splices = append(e.splices, ecosystem.Splice{Start: p.From, End: p.To, New: `"` + text + `"`})
		e.changes = append(e.changes, ecosystem.Change{Entry: e.entry, What: what, Old: p.Value, New: text})
	}
}

// manifest changes a Cargo.toml: dependencies stand in tables whose names end so, by their
// name or with another one beside it.
func (e *edit) manifest(places []ecosystem.TOMLPlace) {
	renamed := map[string]string{} // the true name, by the table of a dependency
	for _, p := range places {
		if n := len(p.Path) - 1; n > 0 && p.Path[n] == "package" {
			renamed[strings.Join(p.Path[:n], "\x00")] = p.Value
		}
	}
	for _, p := range places {
		n := len(p.Path)
		if n == 2 && p.Path[0] == "package" && p.Path[1] == "version" {
			e.put(e.f.Stamp, p, "version")
			continue
		}
		at := p.Path
		if n > 2 && at[n-1] == "version" {
			at = at[:n-1]
		}
		if len(at) < 2 || !strings.HasSuffix(at[len(at)-2], "dependencies") {
			continue
		}
		name := at[len(at)-1]
		if of := renamed[strings.Join(at, "\x00")]; of != "" {
			name = of
		}
		if stamp := e.f.All.Of("", strings.ToLower(name)); stamp != nil {
			e.put(*stamp, p, "dependency on "+name)
		}
	}
}

// lock changes a Cargo.lock. Of a dependency that is restamped too, the digest is not known
// yet, and left out: cargo writes it again.
func (e *edit) lock(places []ecosystem.TOMLPlace) {
	names := map[string]string{} // of the packages, by their index
	for _, p := range places {
		if len(p.Path) == 3 && p.Path[0] == "package" && p.Path[2] == "name" {
			names[p.Path[1]] = strings.ToLower(p.Value)
		}
	}
	for _, p := range places {
		if len(p.Path) < 3 || p.Path[0] != "package" {
			continue
		}
		switch name := names[p.Path[1]]; p.Path[2] {
		case "version":
			if stamp := e.f.All.Of("", name); stamp != nil && p.Value == stamp.From {
				e.put(*stamp, p, "version of "+name)
			}
		case "checksum":
			if e.f.All.Of("", name) != nil {
				from, to := bytes.LastIndexByte(e.raw[:p.From], '\n')+1, p.To
				if end := bytes.IndexByte(e.raw[p.To:], '\n'); end >= 0 {
					to += end + 1
				}
				e.splices = append(e.splices, ecosystem.Splice{Start: from, End: to})
				e.changes = append(e.changes, ecosystem.Change{Entry: e.entry, What: "digest of " + name, Old: p.Value,
					New: "(left out)"})
			}
		case "dependencies":
			name, _, _ := strings.Cut(p.Value, " ")
			if stamp := e.f.All.Of("", strings.ToLower(name)); stamp != nil {
				e.put(*stamp, p, "dependency on "+name)
			}
		}
	}
}
