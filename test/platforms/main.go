// Platforms checks that everything on Linux, and elsewhere what runs on developers' own
// machines (its arguments), has right types on each processor that it is built for. The
// compiler would tell the same in ten times the time, since it would make code of all that
// is imported.
package main

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"slices"
	"strings"
	"sync"

	"golang.org/x/tools/go/packages"
)

// systems are those besides linux/amd64, on which everything is compiled and tested.
var systems = []string{"linux/arm64", "darwin/amd64", "darwin/arm64", "windows/amd64", "windows/arm64"}

// root is the folder of our own packages.
var root, _ = os.Getwd()

func main() {
	var mu sync.Mutex
	var checking sync.WaitGroup
	wrong := false
	for _, system := range systems {
		checking.Go(func() {
			patterns := os.Args[1:]
			if strings.HasPrefix(system, "linux/") {
				patterns = []string{"./..."}
			}
			said := check(system, patterns)
			mu.Lock()
			defer mu.Unlock()
			for _, line := range said {
				fmt.Fprintf(os.Stderr, "%s: %s\n", system, line)
				wrong = true
			}
			if said == nil {
				fmt.Println("types are right on", system)
			}
		})
	}
	checking.Wait()
	if wrong {
		os.Exit(1)
	}
}

// check reads packages and all that they import from their sources, and tells what is wrong.
func check(system string, patterns []string) (said []string) {
	goos, arch, _ := strings.Cut(system, "/")
	found, err := packages.Load(&packages.Config{Mode: packages.LoadAllSyntax, ParseFile: declared, Tests: true,
		Env: append(os.Environ(), "GOOS="+goos, "GOARCH="+arch, "CGO_ENABLED=0")}, patterns...)
	if err != nil {
		return []string{err.Error()}
	}
	if len(found) == 0 {
		return []string{"no package is there"}
	}
	packages.Visit(found, nil, func(p *packages.Package) {
		for _, e := range p.Errors {
			if ours(p.PkgPath) {
				said = append(said, e.Error())
			}
		}
	})
	slices.Sort(said) // a package and its tests may say the same
	return slices.Compact(said)
}

// ours tells whether a package is ours, and not the program that runs its tests.
func ours(path string) bool {
	return strings.HasPrefix(path, "crelvo/") && !strings.HasSuffix(path, ".test")
}

// declared reads a file, of others without what is inside functions: their types are all
// that ours depend on.
func declared(files *token.FileSet, name string, text []byte) (*ast.File, error) {
	file, err := parser.ParseFile(files, name, text, parser.SkipObjectResolution)
	if file == nil || strings.HasPrefix(name, root) {
		return file, err
	}
	for _, d := range file.Decls {
		if f, ok := d.(*ast.FuncDecl); ok {
			f.Body = nil
		}
	}
	return file, err
}
