package main

import (
	"compress/gzip"
	"fmt"
	"os"
	"path/filepath"

	"github.com/goreleaser/nfpm/v2"
	_ "github.com/goreleaser/nfpm/v2/deb" // the forms of packages
	"github.com/goreleaser/nfpm/v2/files"
	_ "github.com/goreleaser/nfpm/v2/rpm"
)

// description is what people see who look for it among other packages.
const description = `Keeps every package that an organisation makes or uses
 It hosts package repositories for many ecosystems, fetches and keeps packages
 from elsewhere, sweeps what nobody needs, and promotes versions from snapshots
 to releases.`

// packages makes a package for Debian and one for RPM. pages is the folder that pages made.
func (m making) packages(p platform, program, pages string) error {
	for form, completions := range map[string]string{"deb": "/usr/share/zsh/vendor-completions",
		"rpm": "/usr/share/zsh/site-functions"} {
		contents, cleanUp, err := m.installed(program, pages, completions)
		if err != nil {
			return err
		}
		if err := m.pack(form, p, contents); err != nil {
			return fmt.Errorf("the package as %s for %s: %w", form, p, err)
		}
		cleanUp()
	}
	return nil
}

func (m making) pack(form string, p platform, contents files.Contents) error {
	info := nfpm.WithDefaults(&nfpm.Info{Name: "crelvo", Arch: p.arch, Platform: p.os, Version: m.number(),
		VersionSchema: "none", Release: "1", Section: "devel", Priority: "optional",
		Maintainer: "The people of Crelvo <crelvo@skerry.example>", Description: description, MTime: m.at,
		DisableGlobbing: true, Overridables: nfpm.Overridables{Contents: contents,
			Depends: map[string][]string{"deb": {"passwd"}, "rpm": {"shadow-utils"}}[form],
			// Without a database of one's own, the service starts one.
			Recommends: map[string][]string{"deb": {"postgresql"}, "rpm": {"postgresql-server"}}[form],
			Scripts: nfpm.Scripts{PostInstall: "scripts/installed.sh", PreRemove: "scripts/removing.sh",
				PostRemove: "scripts/removed.sh"}}})
	if err := nfpm.PrepareForPackager(info, form); err != nil {
		return err
	}
	packager, err := nfpm.Get(form)
	if err != nil {
		return err
	}
	path := m.file(p, "."+form)
	file, err := os.Create(path)
	if err != nil {
		return err
	}
	if err := packager.Package(info, file); err != nil {
		file.Close()
		return err
	}
	return file.Close()
}

// installed are the files of a package.
func (m making) installed(program, pages, zsh string) (all files.Contents, cleanUp func(), err error) {
	add := func(from, to, kind string, mode os.FileMode) {
		all = append(all, &files.Content{Source: from, Destination: to, Type: kind,
			FileInfo: &files.ContentFileInfo{Mode: mode, MTime: m.at}})
	}
	add(program, "/usr/bin/crelvo", "", 0o755)
	add("../deploy/systemd/crelvo.service", "/usr/lib/systemd/system/crelvo.service", "", 0o644)
	add("../deploy/systemd/crelvo.yaml", "/etc/crelvo/crelvo.yaml", "config|noreplace", 0o644)
	add(filepath.Join(pages, "bash"), "/usr/share/bash-completion/completions/crelvo", "", 0o644)
	add(filepath.Join(pages, "zsh"), zsh+"/_crelvo", "", 0o644)
	add(filepath.Join(pages, "fish"), "/usr/share/fish/vendor_completions.d/crelvo.fish", "", 0o644)
	for _, name := range []string{"README.md", "CHANGELOG.md", "SECURITY.md"} {
		add(filepath.Join(m.root, name), "/usr/share/doc/crelvo/"+name, "", 0o644)
	}
	zipped, err := os.MkdirTemp("", "crelvo-man-")
	if err != nil {
		return nil, nil, err
	}
	cleanUp = func() { os.RemoveAll(zipped) }
	found, err := filepath.Glob(filepath.Join(pages, "man", "*.1"))
	if err == nil && len(found) == 0 {
		err = fmt.Errorf("there are no man pages in %s", pages)
	}
	for _, page := range found {
		name := filepath.Base(page) + ".gz"
		if err = compress(page, filepath.Join(zipped, name)); err != nil {
			break
		}
		add(filepath.Join(zipped, name), "/usr/share/man/man1/"+name, "", 0o644)
	}
	if err != nil {
		cleanUp()
	}
	return all, cleanUp, err
}

func compress(from, to string) error {
	text, err := os.ReadFile(from)
	if err != nil {
		return err
	}
	file, err := os.Create(to)
	if err != nil {
		return err
	}
	defer file.Close()
	zipping, err := gzip.NewWriterLevel(file, gzip.BestCompression)
	if err != nil {
		return err
	}
	if _, err := zipping.Write(text); err != nil {
		return err
	}
	if err := zipping.Close(); err != nil {
		return err
	}
	return file.Close()
}
