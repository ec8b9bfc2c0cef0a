package demo

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha1"
	"encoding/hex"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math/rand/v2"
	"net/url"
	"slices"
	"strings"
	"time"

	"crelvo/internal/ecosystem/madeup"
)

// zones are those of the chart tiles.
var zones = []string{"north", "south", "strait"}

const (
	tilesPerZone = 24
	tileBytes    = 16 << 10
)

// tile is what a tile has since a survey.
func tile(zone, number, survey int) []byte {
	content := make([]byte, tileBytes)
	random := rand.New(rand.NewPCG(uint64(zone*1000+number), uint64(survey)))
	for i := range content {
		content[i] = byte(random.Uint32())
	}
	return content
}

// legend is a picture of the depths that the tiles know.
func legend() ([]byte, error) {
	const width, height = 480, 120
	picture := image.NewRGBA(image.Rect(0, 0, width, height))
	for x := range width {
		for y := range height {
			depth := uint8(x * 5 / width * 40)
			if y%24 == 0 {
				depth += 20
			}
			picture.SetRGBA(x, y, color.RGBA{R: 225 - depth, G: 240 - depth/2, B: 250, A: 255})
		}
	}
	var b bytes.Buffer
	err := png.Encode(&b, picture)
	return b.Bytes(), err
}

// charts are the files of the chart tiles after so many surveys, each of which changes a few.
func charts(surveys int) (map[string][]byte, error) {
	picture, err := legend()
	if err != nil {
		return nil, err
	}
	files := map[string][]byte{"legend.png": picture,
		"README.md": fmt.Appendf(nil, "# Chart tiles\n\nDepths between the islands, after %d surveys. One tile is one square "+
			"mile.\n\n- `tiles/` has the tiles, by zone\n- `index.csv` says where each is\n", surveys)}
	index := []byte("zone,tile,row,column,survey\n")
	for z, zone := range zones {
		for n := range tilesPerZone {
			last := 0
			for s := 1; s <= surveys; s++ {
				if (n+7*z+5*s)%17 == 0 {
					last = s
				}
			}
			files[fmt.Sprintf("tiles/%s/%02d.bin", zone, n)] = tile(z, n, last)
			index = fmt.Appendf(index, "%s,%02d,%d,%d,%d\n", zone, n, n/6, n%6, last)
		}
	}
	files["index.csv"] = index
	for s := range surveys {
		files[fmt.Sprintf("surveys/%d.txt", s+1)] = fmt.Appendf(nil, "Survey %d, by the echo sounder of MV Kittiwake.\n", s+1)
	}
	return files, nil
}

// packed is an archive of files that changed at a time, with a link to the last survey.
func packed(files map[string][]byte, link string, at time.Time) ([]byte, error) {
	var b bytes.Buffer
	compressed := gzip.NewWriter(&b)
	archive := tar.NewWriter(compressed)
	names := make([]string, 0, len(files))
	for name := range files {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		err := archive.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeReg, Mode: 0o644, ModTime: at,
			Size: int64(len(files[name]))})
		if err == nil {
			_, err = archive.Write(files[name])
		}
		if err != nil {
			return nil, err
		}
	}
	var err error
	if link != "" {
		err = archive.WriteHeader(&tar.Header{Name: "surveys/last.txt", Typeflag: tar.TypeSymlink, Linkname: link,
			ModTime: at})
	}
	err = errors.Join(err, archive.Close(), compressed.Close())
	return b.Bytes(), err
}

// firmwares are the programs of the turnstiles.
var firmwares = []string{"gate-control", "fare-reader"}

// firmware is what turnstiles run: programs without symbols and, where they were kept, these and the sources beside
// them.
func firmware(version string, kept bool) map[string][]byte {
	files := map[string][]byte{"VERSION": []byte(version + "\n"),
		"gate.conf": []byte("[gate]\nopen-for = 4s\nbeep = on\n")}
	for _, name := range firmwares {
		sum := sha1.Sum([]byte(name + " " + version))
		id := hex.EncodeToString(sum[:])
		files["bin/"+name] = madeup.ELF(id, true, false)
		if kept {
			files["debug/"+name+".debug"] = madeup.ELF(id, false, true)
			files["src/"+name+".c"] = fmt.Appendf(nil, "/* %s %s */\nint main(void) { return 0; }\n", name, version)
		}
	}
	return files
}

// sets publishes the file sets of the house: chart tiles, of which each version changes a little, and the firmware of
// the turnstiles, whose last build forgot its symbols.
func (y *yard) sets(ctx context.Context, start, today time.Time) error {
	for i, v := range []struct {
		version, repository, label, by string
		at                             time.Time
	}{
		{"2026.9.1", "releases", "", User, start.AddDate(0, 0, 6).Add(5 * time.Hour)},
		{"2026.10.1", "releases", "", User, start.AddDate(0, 0, 30).Add(5 * time.Hour)},
		{"2026.11.1", "releases", "current", User, today.AddDate(0, 0, -9).Add(5 * time.Hour)},
		{"2026.12.1-dev", "snapshots", "", "ci-berth", today.AddDate(0, 0, -1).Add(5 * time.Hour)},
	} {
		y.clock.set(v.at)
		files, err := charts(i + 1)
		if err != nil {
			return err
		}
		archive, err := packed(files, fmt.Sprintf("%d.txt", i+1), v.at.Add(-time.Hour))
		if err != nil {
			return err
		}
		query := url.Values{"unpack": {"tar.gz"}, "description": {"Depths between the islands, as tiles"}}
		if v.label != "" {
			query.Set("label", v.label)
		}
		if err := y.put(ctx, v.by, "/at/"+v.repository+"/generic/chart-tiles/"+v.version+"?"+query.Encode(),
			archive); err != nil {
			return err
		}
		build := fmt.Sprintf("3.%d.0%s", i, strings.TrimLeft(v.version, "0123456789."))
		if archive, err = packed(firmware(build, v.repository == "releases"), "", v.at.Add(-time.Hour)); err != nil {
			return err
		}
		if err := y.put(ctx, v.by, "/at/"+v.repository+"/generic/turnstile-firmware/"+build+
			"?unpack=tar.gz&description=What+turnstiles+run", archive); err != nil {
			return err
		}
		for day := 1; day < 5 && v.label != ""; day++ {
			y.clock.set(v.at.AddDate(0, 0, day))
			if err := y.get(ctx, []string{"deckhand", "purser"}[day%2],
				"/at/"+v.repository+"/generic/chart-tiles/"+v.version+"/?as=tar.gz"); err != nil {
				return err
			}
		}
	}
	return nil
}
