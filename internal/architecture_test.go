package internal

import (
	"bytes"
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// layers are the packages of the house from the inside out. A package imports
// only from the rows before its own, and what is in its own folder.
var layers = [][]string{
	{"internal/core"},
	{"internal/traces"},
	{"internal/ecosystem", "internal/store", "internal/record", "internal/upstream", "internal/webspace",
		"internal/api"},
	{"internal/service", "internal/client"},
	{"internal/web", "internal/demo"},
	{"internal/cli"},
	{"cmd"},
}

// rooms are the packages of the service that are about one thing each, and whom of the
// others each may import. The service itself puts them together.
var rooms = map[string][]string{
	"act":          {},
	"secret":       {"act"},
	"counting":     {"act"},
	"directory":    {"act", "secret"},
	"nodes":        {"act", "directory"},
	"schedule":     {"act"},
	"store":        {"act", "directory", "secret"},
	"quotas":       {"act", "directory", "store"},
	"holdings":     {"act"},
	"keys":         {"act", "directory", "secret"},
	"builds":       {"act", "counting", "directory", "keys"},
	"rights":       {"act", "counting", "directory", "secret"},
	"repositories": {"act", "directory", "schedule", "secret", "store"},
	"mirrors":      {"act", "counting", "directory", "holdings", "repositories", "safety", "schedule", "store"},
	"safety":       {"act", "directory", "keys"},
	"resolving":    {"act", "counting", "directory", "holdings", "mirrors", "safety"},
	"vetting":      {"act", "directory", "mirrors", "resolving", "safety"},
	"publishing":   {"act", "builds", "directory", "holdings", "resolving", "rights", "store"},
	"promotion": {"act", "builds", "counting", "directory", "keys", "publishing", "rights", "safety", "store",
		"targets", "vetting"},
	"targets":   {"act", "directory", "holdings", "keys", "repositories", "safety", "secret", "store"},
	"retention": {"act", "directory", "publishing", "quotas", "schedule", "store"},
	"search":    {"act", "builds", "directory", "holdings", "publishing", "resolving"},
	"symbols":   {"act", "directory", "resolving", "search", "store"},
	"makeup":    {"act", "directory", "resolving", "search", "store"},
	"use":       {"act", "directory", "retention", "search", "store"},
	"pointing":  {"act", "directory", "rights"},
	"status": {"act", "backups", "directory", "mirrors", "promotion", "publishing", "quotas", "relays", "repositories", "retention",
		"rights", "safety", "store", "targets", "verifying", "vetting"},
	"verifying": {"act", "directory", "mirrors", "store"},
	"backups":   {"act", "directory", "secret", "store"},
	"bills":     {"act", "store"},
	"relays":    {"act", "directory", "keys", "safety", "schedule", "targets"},
	"landing":   {"act", "directory", "publishing", "safety", "store"},
	"bundles": {"act", "builds", "directory", "holdings", "keys", "landing", "mirrors", "publishing", "resolving", "safety",
		"store", "vetting"},
	"transfers": {"act", "builds", "directory", "holdings", "landing", "mirrors", "publishing", "resolving", "rights",
		"safety", "store"},
}

// folders are those of the console, one for each capability, and whose parts each may
// draw. The kernel (api, ui) and the calls of any capability are everybody's.
var folders = map[string][]string{
	"builds":       {"promotion"},
	"keys":         {},
	"mirrors":      {},
	"pointing":     {},
	"promotion":    {},
	"publishing":   {},
	"repositories": {"mirrors", "pointing", "promotion", "publishing", "resolving", "rights", "search", "use"},
	"resolving":    {},
	"quotas":       {},
	"retention":    {"pointing", "quotas", "use"},
	"safety":       {"pointing"},
	"rights":       {"pointing"},
	"schedule":     {},
	"makeup":       {"pointing"},
	"search":       {"makeup", "pointing", "retention", "safety", "use"},
	"nodes":        {},
	"status":       {"nodes"},
	"backups":      {},
	"store":        {"backups"},
	"transfers":    {},
	"bundles":      {},
	"relays":       {},
	"targets":      {},
	"use":          {},
	"api":          {},
	"ui":           {},
	"design":       {},
}

// TestConsoleFolders holds the console to its table.
func TestConsoleFolders(t *testing.T) {
	files, err := filepath.Glob("../console/src/*/*.ts*")
	if err != nil || len(files) < 50 {
		t.Fatalf("%d files, %v", len(files), err)
	}
	imports := regexp.MustCompile(`(?m)from "\.\./([a-z]+)/([a-z.-]+)"`)
	for _, file := range files {
		folder := filepath.Base(filepath.Dir(file))
		may, known := folders[folder]
		if !known {
			t.Errorf("%s is in no folder of the table", file)
		}
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range imports.FindAllStringSubmatch(string(text), -1) {
			if to := m[1]; to != "api" && to != "ui" && m[2] != "calls" && !slices.Contains(may, to) {
				t.Errorf("%s imports %s/%s; the table of folders does not let it", file, to, m[2])
			}
		}
	}
}

// roomOf names the room that a package is; "" if it is none.
func roomOf(path string) string {
	room, _ := strings.CutPrefix(path, "internal/service/")
	if room == path {
		return ""
	}
	return room
}

func layerOf(path string) int {
	return slices.IndexFunc(layers, func(row []string) bool {
		return slices.ContainsFunc(row, func(prefix string) bool {
			return path == prefix || strings.HasPrefix(path, prefix+"/")
		})
	})
}

func unit(path string) string {
	return strings.Join(strings.SplitN(path, "/", 3)[:min(2, strings.Count(path, "/")+1)], "/")
}

// outside is what the core must not touch: no network, files, clock of its
// own choosing, or database.
var outside = []string{"net/http", "database/sql", "os", "net", "github.com/jmoiron/sqlx",
	"github.com/labstack/echo/v5", "github.com/jackc/pgx/v5", "log/slog"}

// TestImportsRunOneWay holds the house to its plan.
func TestImportsRunOneWay(t *testing.T) {
	cmd := exec.Command("go", "list", "-json=ImportPath,Imports", "./...")
	cmd.Dir = ".."
	output, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	seen := 0
	for decoder := json.NewDecoder(bytes.NewReader(output)); ; {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := decoder.Decode(&p); err == io.EOF {
			break
		} else if err != nil {
			t.Fatal(err)
		}
		from := strings.TrimPrefix(p.ImportPath, "crelvo/")
		layer := layerOf(from)
		if layer < 0 {
			continue
		}
		seen++
		for _, imported := range p.Imports {
			to, ours := strings.CutPrefix(imported, "crelvo/")
			if layer == 0 && slices.Contains(outside, imported) {
				t.Errorf("%s imports %s; the core has no input or output", from, imported)
			}
			if room := roomOf(from); room != "" && ours {
				if _, known := rooms[room]; !known {
					t.Errorf("%s is no room of the table", from)
				}
				if other := roomOf(to); to == "internal/service" || other != "" && !slices.Contains(rooms[room], other) {
					t.Errorf("%s imports %s; the table of rooms does not let it", from, to)
				}
			}
			if !ours || layerOf(to) < 0 || unit(from) == unit(to) {
				continue
			}
			if layerOf(to) >= layer {
				t.Errorf("%s imports %s; imports run from the outside in", from, to)
			}
		}
	}
	if seen < 10 {
		t.Fatalf("only %d packages were looked at", seen)
	}
}

// What a function may have of lines, and a line of characters.
const longest, widest = 80, 120

// TestShape: a function that is longer does several things, which have names; and a line that is
// wider is read by nobody, unless one literal (a statement, a tag, foreign text) goes across its end.
func TestShape(t *testing.T) {
	seen := 0
	for _, root := range []string{".", "../cmd", "../test"} {
		err := filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
			if entry != nil && entry.IsDir() && entry.Name() == "node_modules" {
				return filepath.SkipDir
			}
			if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") {
				return err
			}
			raw, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			files := token.NewFileSet()
			file, err := parser.ParseFile(files, path, raw, parser.SkipObjectResolution)
			if err != nil {
				return err
			}
			lines := strings.Split(string(raw), "\n")
			checkWidth(t, path, lines, literals(files, file))
			for _, d := range file.Decls {
				f, ok := d.(*ast.FuncDecl)
				if !ok || root == "../test" || strings.HasSuffix(path, "_test.go") {
					continue
				}
				seen++
				if lines := files.Position(f.End()).Line - files.Position(f.Pos()).Line + 1; lines > longest {
					t.Errorf("%s: %s has %d lines, and may have %d", path, f.Name.Name, lines, longest)
				}
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if seen < 1000 {
		t.Fatalf("only %d functions were looked at", seen)
	}
}

// literals are where strings begin and end.
func literals(files *token.FileSet, file *ast.File) [][2]token.Position {
	var out [][2]token.Position
	ast.Inspect(file, func(n ast.Node) bool {
		if l, ok := n.(*ast.BasicLit); ok && l.Kind == token.STRING {
			out = append(out, [2]token.Position{files.Position(l.Pos()), files.Position(l.End())})
		}
		return true
	})
	return out
}

func checkWidth(t *testing.T, path string, lines []string, literals [][2]token.Position) {
	for i, line := range lines {
		characters := []rune(line)
		if len(characters) <= widest {
			continue
		}
		number, column := i+1, len(string(characters[:widest]))+1
		across := slices.ContainsFunc(literals, func(l [2]token.Position) bool {
			begins := l[0].Line < number || l[0].Line == number && l[0].Column <= column
			return begins && (l[1].Line > number || l[1].Line == number && l[1].Column >= column)
		})
		if !across {
			t.Errorf("%s:%d has %d characters, and may have %d", path, number, len(characters), widest)
		}
	}
}

// eachFile reads the sources below a folder, without their tests.
func eachFile(t *testing.T, root string, do func(path string, files *token.FileSet, file *ast.File)) {
	t.Helper()
	err := filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		files := token.NewFileSet()
		file, err := parser.ParseFile(files, path, nil, parser.SkipObjectResolution)
		if err == nil {
			do(path, files, file)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// TestActionsAreNamed: what the activity record may say stands in one place, and nowhere as
// a text of its own.
func TestActionsAreNamed(t *testing.T) {
	events := 0
	eachFile(t, "service", func(_ string, files *token.FileSet, file *ast.File) {
		ast.Inspect(file, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok || len(call.Args) < 2 {
				return true
			}
			named, ok := call.Fun.(*ast.SelectorExpr)
			if !ok || named.Sel.Name != "Event" && named.Sel.Name != "promotionEvent" {
				return true
			}
			events++
			if _, literal := call.Args[1].(*ast.BasicLit); literal {
				t.Errorf("%s: an action is written out; it belongs to record.Action", files.Position(call.Pos()))
			}
			return true
		})
	})
	if events < 40 {
		t.Fatalf("only %d events", events)
	}
}

// kinds are where the kind of a repository may be asked: where it is read from the record,
// made, and answered for. Elsewhere it is asked what it can do (Own, Fetches, Gathers).
var kinds = []string{"record/repositories.go", "service/repositories/repository.go", "service/resolving/source.go"}

// TestKindsAreNotAsked: what holds for a kind of repository because of what it can do is said so.
func TestKindsAreNotAsked(t *testing.T) {
	asked := map[string]bool{}
	eachFile(t, ".", func(path string, files *token.FileSet, file *ast.File) {
		ast.Inspect(file, func(n ast.Node) bool {
			var compared []ast.Expr
			switch n := n.(type) {
			case *ast.BinaryExpr:
				compared = []ast.Expr{n.X, n.Y}
			case *ast.CaseClause:
				compared = n.List
			}
			for _, e := range compared {
				s, ok := e.(*ast.SelectorExpr)
				if !ok || !slices.Contains([]string{"House", "Mirror", "Chain"}, s.Sel.Name) {
					continue
				}
				if of, ok := s.X.(*ast.Ident); !ok || of.Name != "catalog" {
					continue
				}
				asked[path] = true
				if !slices.Contains(kinds, path) {
					t.Errorf("%s asks for the kind of a repository", files.Position(e.Pos()))
				}
			}
			return true
		})
	})
	if len(asked) != len(kinds) {
		t.Fatalf("it is asked in %v", asked)
	}
}

// TestPatience: whoever is patient is so with every statement of what it begins. A context that
// is made patient for the beginning alone leaves those within with the limit of a request.
func TestPatience(t *testing.T) {
	within := regexp.MustCompile(`(Within|Facts)\((record\.)?Patiently\(`)
	files := 0
	err := filepath.WalkDir(".", func(path string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") {
			return err
		}
		text, err := os.ReadFile(path)
		if files++; within.Match(text) && !strings.HasSuffix(path, "architecture_test.go") {
			t.Errorf("%s: write ctx = record.Patiently(ctx) before it, so that what is within is patient too", path)
		}
		return err
	})
	if err != nil || files < 300 {
		t.Errorf("%d files, %v", files, err)
	}
}
