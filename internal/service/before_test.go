package service

import (
	"archive/tar"
	"compress/gzip"
	"encoding/hex"
	"errors"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"crelvo/internal/core/access"
	"crelvo/internal/core/purl"
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/act"
	"crelvo/internal/service/rights"
	"crelvo/internal/service/search"
	"crelvo/internal/store"
)

// TestBefore: an instance of before the rooms starts with all that is in it: its records,
// bytes, rights and secrets, and the activity record is whole and goes on. What it has was
// made with the command line: three repositories, a chain and a mirror, people, a team and
// grants, snapshots and releases of three ecosystems, a build, a track with promotions, a
// key that signs, a policy, a pin, a saved search, a version that was withdrawn and one
// that was removed.
func TestBefore(t *testing.T) {
	ctx, url := t.Context(), recordtest.Empty(t)
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := conn.Exec(ctx, string(unpacked(t, "dump.sql.gz"))); err != nil {
		t.Fatal(err)
	}
	if err := conn.Close(ctx); err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	files := tar.NewReader(strings.NewReader(string(unpacked(t, "store.tar.gz"))))
	for {
		header, err := files.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		if header.Typeflag != tar.TypeReg {
			continue
		}
		content, err := io.ReadAll(files)
		path := filepath.Join(dir, header.Name)
		if err = errors.Join(err, os.MkdirAll(filepath.Dir(path), 0o755)); err == nil {
			err = os.WriteFile(path, content, 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	folder, err := store.OpenFolder(dir)
	if err != nil {
		t.Fatal(err)
	}
	settings := act.Settings{Log: slog.New(slog.DiscardHandler)}
	key, err := os.ReadFile("testdata/before/secret-key")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := hex.Decode(settings.SecretKey[:], key[:64]); err != nil {
		t.Fatal(err)
	}
	s, err := New(ctx, recordtest.Open(t, url), folder, settings)
	if err != nil {
		t.Fatal(err)
	}
	admin, err := s.Rights.BySecret(ctx, "admin", "a-token-for-the-first-instance-0000", rights.Origin{})
	if err != nil {
		t.Fatal(err)
	}
	if all := s.Directory.Readable(admin); len(all) != 5 {
		t.Errorf("%d repositories", len(all))
	}
	// Packages with their bytes.
	names := map[string]int{}
	found, err := s.Search.Search(ctx, admin, "", "", 50, 0)
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range found {
		p := purl.PURL{Ecosystem: f.Ecosystem, Namespace: f.Namespace, Name: f.Name}
		names[p.String()]++
		holdings, _, err := s.Search.Show(ctx, admin, p, "", search.VersionPage{Limit: 50})
		if err != nil {
			t.Fatal(err)
		}
		for _, h := range holdings {
			for _, v := range h.Package.Versions {
				for _, file := range v.Files {
					if content, err := s.Store.Open(ctx, file); err != nil {
						t.Errorf("%s %s: %v", p, file.Name, err)
					} else if err := content.Close(); err != nil {
						t.Error(err)
					}
				}
			}
		}
	}
	if len(names) != 3 || names["pkg:npm/%40skerry/deck-ui"] != 3 {
		t.Errorf("%v", names)
	}
	releases, err := s.Directory.Repository(admin, "releases", access.Read)
	if err != nil {
		t.Fatal(err)
	}
	if p, err := s.Resolving.Package(ctx, releases.Key("pypi", "", "tidecast")); err != nil ||
		p.Versions[0].Withdrawn == nil || p.Versions[0].Withdrawn.Reason != "too wet" {
		t.Errorf("%+v, %v", p, err)
	}
	if p, err := s.Resolving.Package(ctx, releases.Key("npm", "@skerry", "deck-ui")); err != nil ||
		p.Versions[0].Version != "1.0.0" {
		t.Errorf("%+v, %v", p, err)
	}
	// What the house decided.
	if grants, err := s.Rights.Grants(ctx, admin); err != nil || len(grants) != 3 {
		t.Errorf("%+v, %v", grants, err)
	}
	if policies, err := s.Retention.Policies(ctx, admin); err != nil || len(policies) != 1 || policies[0].Next == nil {
		t.Errorf("%+v, %v", policies, err)
	}
	if promoted, _, err := s.Promotion.Promotions(ctx, admin, record.PromotionFilter{Limit: 10}, ""); err != nil ||
		len(promoted) != 2 {
		t.Errorf("%d promotions, %v", len(promoted), err)
	}
	if keys, err := s.Keys.Keys(ctx); err != nil || len(keys) != 1 || !keys[0].Signs {
		t.Errorf("%+v, %v", keys, err)
	}
	sweeps, err := s.Retention.Sweeps(ctx, admin, record.SweepFilter{})
	if err != nil || len(sweeps) != 1 {
		t.Fatalf("%+v, %v", sweeps, err)
	}
	if _, err := s.Retention.UndoSweep(ctx, admin, sweeps[0].ID, nil); err != nil {
		t.Error(err)
	}
	if err := s.Repositories.RemoveRepository(ctx, admin, "shore-npm", true); err != nil {
		t.Error(err)
	}
	if verified, err := s.Rights.VerifyEvents(ctx, admin, 0, ""); err != nil || verified.Broken != 0 ||
		verified.Events < 31 {
		t.Errorf("%+v, %v", verified, err)
	}
	if mended, err := s.Retention.VerifyRecords(ctx, admin); err != nil || len(mended) > 0 {
		t.Errorf("records that did not agree: %+v, %v", mended, err)
	}
	if claims, err := s.Repositories.Claims(ctx, admin); err != nil || len(claims) != 1 {
		t.Errorf("%+v, %v", claims, err)
	}
}

func unpacked(t *testing.T, name string) []byte {
	t.Helper()
	f, err := os.Open("testdata/before/" + name)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	unzipped, err := gzip.NewReader(f)
	if err != nil {
		t.Fatal(err)
	}
	raw, err := io.ReadAll(unzipped)
	if err != nil {
		t.Fatal(err)
	}
	return raw
}
