package maven

import (
	"encoding/json"
	"path"
	"slices"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// NamesBase implements ecosystem.Plain: the layout knows no addresses.
func (Maven) NamesBase() bool { return false }

// plainSums are the algorithms of the checksums beside a file, by their endings.
var plainSums = []string{"sha1", "md5", "sha256", "sha512"}

// Leaves implements ecosystem.Plain.
func (m Maven) Leaves(_ string, p *catalog.Package) (all []ecosystem.Leaf, gives []byte, err error) {
	var snapshots []string
	for i := range p.Versions {
		v := &p.Versions[i]
		at := purl.PURL{Ecosystem: Name, Namespace: p.Key.Namespace, Name: p.Key.Name, Version: v.Version}
		for _, f := range v.Files {
			file := m.Address(at, v.Upload, f)
			all = append(all, ecosystem.LeafOf(file, contentType(f.Extension), f))
			for _, algorithm := range plainSums {
				// Of signatures nobody asks for any.
				if f.Digests.Has(algorithm) && !isSignature(f.Extension) {
					all = append(all, plainSum(file, algorithm, f.Digests))
				}
			}
		}
		if v.Upload != "" && !slices.Contains(snapshots, v.Version) {
			snapshots = append(snapshots, v.Version)
		}
	}
	add := func(folder string, made repositoryMetadata) error {
		d, err := made.document(p.Changed)
		if err == nil {
			all = append(all, plainMetadata(folder, d)...)
		}
		return err
	}
	for _, version := range snapshots {
		if made, _, ok := snapshotMetadata(p, version); ok {
			if err := add(folderOf(p.Key.Namespace, p.Key.Name, version), made); err != nil {
				return nil, nil, err
			}
		}
	}
	if err := add(path.Dir(folderOf(p.Key.Namespace, p.Key.Name, "x")), artifactMetadata(p)); err != nil {
		return nil, nil, err
	}
	if plugin, ok := plainPlugin(p); ok {
		gives, err = json.Marshal(plugin)
	}
	return all, gives, err
}

func plainSum(file, algorithm string, d catalog.Digests) ecosystem.Leaf {
	return ecosystem.Leaf{Path: file + "." + algorithm, ContentType: "text/plain; charset=utf-8",
		Document: []byte(d.Hex(algorithm))}
}

// plainMetadata is a maven-metadata.xml with its checksums.
func plainMetadata(folder string, d ecosystem.Document) []ecosystem.Leaf {
	file := path.Join(folder, metadataName)
	all := []ecosystem.Leaf{ecosystem.LeafDocument(file, d)}
	for _, algorithm := range plainSums {
		all = append(all, plainSum(file, algorithm, d.Digests()))
	}
	return all
}

// plainPlugin is what a package says as a plugin of Maven; ok is false if it is none.
func plainPlugin(p *catalog.Package) (plugin ecosystem.Plugin, ok bool) {
	var newest *catalog.Version
	for _, v := range ecosystem.Newest(p) {
		if newest == nil || purl.Compare(Name, v.Version, newest.Version) > 0 {
			newest = v
		}
	}
	if newest == nil || newest.Details.Packaging != "maven-plugin" {
		return plugin, false
	}
	return ecosystem.Plugin{Name: p.Key.Name, Prefix: newest.Details.PluginPrefix, Title: newest.Details.Title}, true
}

// Roots implements ecosystem.Plain: the groups with plugins. Where a group is an artifact too, the artifact has
// the address.
func (m Maven) Roots(_ string, all []ecosystem.Given) (leaves []ecosystem.Leaf, err error) {
	artifacts, groups := map[string]bool{}, map[string][]ecosystem.Plugin{}
	var order []string
	for _, g := range all {
		artifacts[g.Namespace+"."+g.Name] = true
		if g.Gives == nil {
			continue
		}
		var plugin ecosystem.Plugin
		if err := json.Unmarshal(g.Gives, &plugin); err != nil {
			return nil, err
		}
		if groups[g.Namespace] == nil {
			order = append(order, g.Namespace)
		}
		groups[g.Namespace] = append(groups[g.Namespace], plugin)
	}
	for _, group := range order {
		if artifacts[group] {
			continue
		}
		d, err := repositoryMetadata{Plugins: pluginMetadata(groups[group])}.document(ecosystem.LastChanged(all))
		if err != nil {
			return nil, err
		}
		leaves = append(leaves, plainMetadata(strings.ReplaceAll(group, ".", "/"), d)...)
	}
	return leaves, nil
}
