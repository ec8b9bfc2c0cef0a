package pypi

import (
	"errors"
	"net/http"
	"slices"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/safety"
	"crelvo/internal/ecosystem"
)

// aboutOf reads the path of a document about a project, or about one version of it:
// NAME/json, NAME/VERSION/json (https://docs.pypi.org/api/json/).
func aboutOf(path string) (name, version string, ok bool) {
	path, ok = strings.CutSuffix(path, "/json")
	name, version, _ = strings.Cut(path, "/")
	return name, version, ok && nameForm.MatchString(name) && name != "simple" && name != "files" &&
		(version == "" || purl.IsVersion(Name, version))
}

// about is what such a document says. Vulnerabilities is left out where no advisories are
// known: to say that there are none would be a false all-clear.
type about struct {
	Info            aboutInfo        `json:"info"`
	URLs            []aboutFile      `json:"urls"`
	Vulnerabilities *[]vulnerability `json:"vulnerabilities,omitempty"`
}

type aboutInfo struct {
	Name           string   `json:"name"`
	Version        string   `json:"version"`
	Summary        string   `json:"summary"`
	HomePage       string   `json:"home_page"`
	Author         string   `json:"author"`
	Licence        string   `json:"license"`
	RequiresDist   []string `json:"requires_dist"`
	RequiresPython string   `json:"requires_python"`
	Yanked         bool     `json:"yanked"`
	YankedReason   *string  `json:"yanked_reason"`
	PackageURL     string   `json:"package_url"`
}

type aboutFile struct {
	Filename       string            `json:"filename"`
	URL            string            `json:"url"`
	Digests        map[string]string `json:"digests"`
	Size           int64             `json:"size"`
	UploadTime     string            `json:"upload_time_iso_8601"`
	RequiresPython string            `json:"requires_python"`
	PackageType    string            `json:"packagetype"`
	Yanked         bool              `json:"yanked"`
}

type vulnerability struct {
	ID        string   `json:"id"`
	Aliases   []string `json:"aliases"`
	Summary   string   `json:"summary"`
	Details   string   `json:"details"`
	FixedIn   []string `json:"fixed_in"`
	Link      string   `json:"link"`
	Source    string   `json:"source"`
	Withdrawn *string  `json:"withdrawn"`
}

// getAbout answers about a version, or about the newest release.
func getAbout(c *ecosystem.Call, name, version string) error {
	key := c.Repository.Key(Name, "", purl.NormalName(Name, name))
	none := fault.New(fault.NotFound, "no-such-version", "%s holds no %s", c.Repository.At(),
		strings.TrimSuffix(name+" "+version, " "))
	p, err := c.Desk.Package(c.Request().Context(), key)
	if errors.Is(err, ecosystem.ErrNoPackage) {
		return c.Absent(key, version, none)
	}
	if err != nil {
		return err
	}
	newest := p.Newest(func(a, b string) int { return purl.Compare(Name, a, b) }, func(v catalog.Version) bool {
		if version != "" {
			return purl.Compare(Name, v.Version, version) == 0
		}
		return !v.Snapshot && v.Withdrawn == nil
	})
	if version != "" && purl.Compare(Name, newest.Version, version) != 0 {
		return c.Absent(key, version, none)
	}
	said := aboutVersion(c, p, newest)
	if desk, ok := c.Desk.(ecosystem.Adviser); ok {
		advice, known, err := desk.Advised(c.Request().Context(), []catalog.PackageKey{key})
		if err != nil {
			return err
		}
		if known {
			found := []vulnerability{}
			for _, k := range advice[catalog.PackageKey{Ecosystem: Name, Name: key.Name}].Standing(newest.Version) {
				found = append(found, vulnerabilityOf(c, k))
			}
			said.Vulnerabilities = &found
		}
	}
	c.Response().Header().Set("Cache-Control", "no-cache")
	return c.JSON(http.StatusOK, said)
}

func aboutVersion(c *ecosystem.Call, p *catalog.Package, v *catalog.Version) about {
	said := about{URLs: []aboutFile{}, Info: aboutInfo{Name: p.Key.Name, Version: v.Version,
		Summary:  v.Details.Description,
		HomePage: v.Details.Homepage, Author: strings.Join(v.Details.Authors, ", "), RequiresDist: []string{},
		PackageURL: c.Base() + "simple/" + p.Key.Name + "/", Yanked: v.Withdrawn != nil}}
	if v.Withdrawn != nil && v.Withdrawn.Reason != "" {
		said.Info.YankedReason = &v.Withdrawn.Reason
	}
	for _, l := range v.Details.Licences {
		said.Info.Licence = strings.TrimPrefix(said.Info.Licence+" AND "+l.Name, " AND ")
	}
	for _, d := range v.Details.Dependencies {
		if of, err := purl.Parse(d.PURL); err == nil {
			said.Info.RequiresDist = append(said.Info.RequiresDist, of.Name+d.Version)
		}
	}
	for _, f := range projectOf(p).Files {
		if !slices.ContainsFunc(v.Files, func(of catalog.File) bool { return of.Name == f.Filename }) {
			continue
		}
		kind := "sdist"
		if strings.HasSuffix(f.Filename, ".whl") {
			kind = "bdist_wheel"
		}
		said.Info.RequiresPython = f.RequiresPython
		said.URLs = append(said.URLs, aboutFile{Filename: f.Filename, URL: c.Base() + strings.TrimPrefix(f.URL, "../../"),
			Digests: f.Hashes, Size: f.Size, UploadTime: f.UploadTime, RequiresPython: f.RequiresPython, PackageType: kind,
			Yanked: f.Yanked.string != nil})
	}
	return said
}

func vulnerabilityOf(c *ecosystem.Call, k safety.Known) vulnerability {
	return vulnerability{ID: k.ID, Aliases: append([]string{}, k.Aliases...), Summary: k.Summary, Details: k.Summary,
		FixedIn: append([]string{}, k.FixedIn()...), Link: c.AdvisoryPage(k.ID), Source: "osv"}
}
