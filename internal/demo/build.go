package demo

import (
	"bytes"
	"context"
	"fmt"
	"mime/multipart"
	"net/http"
	"net/url"
	"strings"
	"time"

	"crelvo/internal/ecosystem/madeup"
)

// made is what the house makes besides the berth build.
type made struct {
	madeup.Package
	ecosystem string
	// dev writes a development version; the number is that of the CI run.
	dev func(version string, run int) string
	// releases are versions, and how many days after the start they came.
	releases []release
	// doing is the version that is being worked on.
	doing string
}

type release struct {
	version string
	day     int
	notes   string
}

const deckReadme = `# deck-ui

Buttons, dials and **warning lights** for everything on deck.

| Part | For |
| --- | --- |
| ` + "`ThrottleDial`" + ` | how fast |
| ` + "`FogLight`" + ` | when you cannot see |

` + "```js\nimport { FogLight } from '@skerry/deck-ui'\n```" + `

See the [bridge handbook](https://skerry.example/bridge) first.
`

const tideReadme = `# tidecast

Says when the tide turns, for **every berth** of the Skerry Line.

1. Give it a berth.
2. Wait for the moon.
`

func semver(version string, run int) string { return fmt.Sprintf("%s-dev.%d", version, run) }
func pep440(version string, run int) string { return fmt.Sprintf("%s.dev%d", version, run) }

var alsoMade = []made{
	{ecosystem: "npm", dev: semver, doing: "2.2.0",
		releases: []release{{"2.0.0", 6, "Dials turn both ways."}, {"2.1.0", 30, "Fog lights."}},
		Package: madeup.Package{Name: "@skerry/deck-ui", Description: "Buttons, dials and lights for everything on deck",
			Licence: "MIT", Author: "The Skerry Line deck team",
			Homepage: "https://skerry.example/deck-ui", Readme: deckReadme, Needs: map[string]string{"kelp-colors": "^3.0.0"}}},
	{ecosystem: "npm", dev: semver, doing: "1.2.0",
		releases: []release{{"1.0.0", 20, ""}, {"1.1.0", 51, "Shows how long the queue is."}},
		Package: madeup.Package{Name: "@skerry/ticket-widgets", Description: "Shows tickets, fares and queues",
			Licence: "MIT", Author: "The Skerry Line fare team",
			Readme: "# ticket-widgets\n\nSmall things to put on a page.\n",
			Needs:  map[string]string{"@skerry/deck-ui": "^2.0.0", "fathom-format": "^1.2.0"}}},
	{ecosystem: "pypi", dev: pep440, doing: "0.7.0",
		releases: []release{{"0.5.0", 12, ""}, {"0.6.0", 36, "Knows the moon over the outer islands."}},
		Package: madeup.Package{Name: "tidecast", Description: "Says when the tide turns", Licence: "Apache-2.0",
			Author:   "The Skerry Line berth team",
			Homepage: "https://skerry.example/tidecast", Readme: tideReadme,
			Needs: map[string]string{"soundings": ">=2.3", "moonphase-lite": "<1"}}},
	{ecosystem: "nuget", dev: semver, doing: "4.1.0", releases: []release{{"4.0.0", 28, "One wire for all gates."}},
		Package: madeup.Package{Name: "Skerry.TurnstileLink", Description: "Talks to turnstiles over a wire",
			Licence: "Apache-2.0", Author: "The Skerry Line turnstile team",
			Readme: "# Turnstile link\n\nOne wire, many gates.\n", Needs: map[string]string{"Openshore.Serial": "2.0.0"}}},
	{ecosystem: "cargo", dev: semver, doing: "1.5.0", releases: []release{{"1.4.0", 40, "Tells salt from rust."}},
		Package: madeup.Package{Name: "hull-sensor", Description: "Reads what the hull feels", Licence: "MIT OR Apache-2.0",
			Author:   "The Skerry Line hull team",
			Homepage: "https://skerry.example/hull-sensor", Readme: "# hull-sensor\n\nReads **salt, strain and rust**.\n",
			Keywords: []string{"hull", "sensor"}, Needs: map[string]string{"brine-codec": "^0.3"}}},
}

// publishMade publishes what the house makes besides the berth build, day by
// day, and uses it.
func (y *yard) publishMade(ctx context.Context, start, today time.Time) error {
	for i, m := range alsoMade {
		run := 40 + 10*i
		short := strings.ToLower(m.Name[strings.LastIndexAny(m.Name, "/.")+1:])
		send := func(version string, at time.Time) error {
			y.clock.set(at)
			p := m.Package
			p.Version = m.dev(version, run)
			if err := y.publishPackage(ctx, "snapshots", "ci-berth", m.ecosystem, p); err != nil {
				return err
			}
			return y.record(ctx, short, run, at.Add(-time.Minute))
		}
		for _, r := range m.releases {
			at := start.AddDate(0, 0, r.day).Add(time.Duration(i) * time.Hour)
			for n := range 2 {
				run++
				if err := send(r.version, at.AddDate(0, 0, n-3)); err != nil {
					return err
				}
			}
			if err := y.sail(ctx, fmt.Sprintf("%s#%d", short, run), r.notes, at); err != nil {
				return err
			}
			for day := 2; day <= 6+i; day++ {
				y.clock.set(at.AddDate(0, 0, day))
				who := []string{"deckhand", "ci-berth", "purser"}[(day+i)%3]
				if at.AddDate(0, 0, day).Before(today) {
					if err := y.get(ctx, who, fileOf("releases", m.ecosystem, m.Name, r.version)); err != nil {
						return err
					}
				}
			}
		}
		for n := range 3 {
			run++
			if err := send(m.doing, today.AddDate(0, 0, n-4).Add(time.Duration(9+i)*time.Hour)); err != nil {
				return err
			}
		}
	}
	return y.sets(ctx, start, today)
}

// fileOf is the path of the main file of a release.
func fileOf(repository, ecosystem, name, version string) string {
	base := name[strings.LastIndexByte(name, '/')+1:]
	id := strings.ToLower(name)
	return "/at/" + repository + "/" + map[string]string{
		"npm":   fmt.Sprintf("npm/%s/-/%s-%s.tgz", name, base, version),
		"pypi":  fmt.Sprintf("pypi/files/%s/%s/%s", name, version, madeup.Package{Name: name, Version: version}.WheelName()),
		"nuget": fmt.Sprintf("nuget/flat/%[1]s/%[2]s/%[1]s.%[2]s.nupkg", id, version),
		"cargo": fmt.Sprintf("cargo/files/%[1]s/%[2]s/%[1]s-%[2]s.crate", name, version),
		"helm":  fmt.Sprintf("helm/files/%[1]s/%[2]s/%[1]s-%[2]s.tgz", name, version),
	}[ecosystem]
}

// publishPackage sends a package as the client of its ecosystem does.
func (y *yard) publishPackage(ctx context.Context, repository, who, ecosystem string, p madeup.Package) error {
	at := "/at/" + repository + "/" + ecosystem + "/"
	switch ecosystem {
	case "npm":
		tag := "latest"
		if strings.Contains(p.Version, "-") {
			tag = "next"
		}
		return y.put(ctx, who, at+url.PathEscape(p.Name), p.NPMDocument(tag, p.NPM()))
	case "nuget":
		return y.put(ctx, who, at+"package", p.NuGet())
	case "cargo":
		return y.put(ctx, who, at+"api/v1/crates/new", p.CargoUpload(p.Cargo("")))
	}
	for _, f := range []struct {
		name    string
		content []byte
	}{{p.WheelName(), p.Wheel()}, {p.SdistName(), p.Sdist()}} {
		body, contentType := UploadForm(p, f.name, f.content)
		if err := y.askWith(ctx, http.MethodPost, who, at, body, contentType); err != nil {
			return err
		}
	}
	return nil
}

// UploadForm is the form that uploads a file of a Python distribution.
func UploadForm(p madeup.Package, name string, content []byte) (body []byte, contentType string) {
	var b bytes.Buffer
	form := multipart.NewWriter(&b)
	for field, value := range map[string]string{":action": "file_upload", "protocol_version": "1", "name": p.Name,
		"version": p.Version, "summary": p.Description} {
		if err := form.WriteField(field, value); err != nil {
			panic(err) // writing to memory does not fail
		}
	}
	must(must(form.CreateFormFile("content", name)).Write(content))
	if err := form.Close(); err != nil {
		panic(err)
	}
	return b.Bytes(), form.FormDataContentType()
}

// useShelves installs third-party packages through the chain.
func (y *yard) useShelves(ctx context.Context, at time.Time) error {
	for _, who := range []string{"ci-berth", "deckhand"} {
		y.clock.set(at)
		if err := y.pull(ctx, who, "platform", "openshore/minimal", "1.1.0"); err != nil {
			return err
		}
	}
	if err := y.get(ctx, "deckhand", "/at/platform/symbols/buildid/"+brineID+"/debuginfo"); err != nil {
		return err
	}
	for i, who := range []string{"purser", "ci-berth", "deckhand"} {
		y.clock.set(at.AddDate(0, 0, -i))
		if err := y.get(ctx, who, fileOf("releases", "helm", "gangway", []string{"1.4.0", "1.4.0", "1.3.0"}[i])); err != nil {
			return err
		}
	}
	for i, e := range []string{"npm", "pypi", "nuget", "cargo", "helm"} {
		for j, p := range shoreShelves[e] {
			if p.Version == "99.0.0" {
				continue
			}
			y.clock.set(at.Add(time.Duration(10*i+j) * time.Minute))
			for _, who := range []string{"deckhand", "ci-berth"}[:1+(i+j)%2] {
				if err := y.get(ctx, who, fileOf("platform", e, p.Name, p.Version)); err != nil {
					return err
				}
			}
		}
	}
	return nil
}
