// Crosscheck type-checks packages, and their tests, as another system would compile them. That takes a small part
// of the time that compiling takes: of packages of other modules only what they declare is read, not what their
// functions do. It prints what is wrong and exits with 1 if anything is. Packaging (tools/dist) compiles and links.
//
//	go run ./tools/crosscheck windows/amd64 ./...
package main

import (
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/tools/go/packages"
)

func main() {
	tests := flag.Bool("tests", true, "check the packages' tests too")
	flag.Parse()
	if flag.NArg() < 2 {
		fmt.Fprintln(os.Stderr, "usage: crosscheck [-tests=false] SYSTEM/PROCESSOR PACKAGE...")
		os.Exit(2)
	}
	target := flag.Arg(0)
	system, processor, _ := strings.Cut(target, "/")
	faults, err := check(system, processor, *tests, flag.Args()[1:])
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
	for _, f := range faults {
		fmt.Fprintf(os.Stderr, "%s: %s\n", target, f)
	}
	if len(faults) > 0 {
		os.Exit(1)
	}
}

// check returns what is wrong with the packages that the patterns name, for one system and processor.
func check(system, processor string, tests bool, patterns []string) (faults []string, err error) {
	here, err := os.Getwd()
	if err != nil {
		return nil, fmt.Errorf("failed to find the module: %w", err)
	}
	list, err := packages.Load(&packages.Config{
		Mode: packages.NeedName | packages.NeedFiles | packages.NeedCompiledGoFiles | packages.NeedImports |
			packages.NeedDeps | packages.NeedTypes | packages.NeedSyntax | packages.NeedTypesInfo,
		Env:       append(os.Environ(), "GOOS="+system, "GOARCH="+processor, "CGO_ENABLED=0"),
		Tests:     tests,
		ParseFile: declarationsOutside(here),
	}, patterns...)
	if err != nil {
		return nil, fmt.Errorf("failed to load packages for %s/%s: %w", system, processor, err)
	}
	if len(list) == 0 {
		return []string{"no packages"}, nil
	}
	packages.Visit(list, nil, func(p *packages.Package) {
		for _, e := range p.Errors {
			// without its body a function's imports and variables may go unused
			if len(p.GoFiles) > 0 && !inside(here, p.GoFiles[0]) && e.Kind == packages.TypeError {
				continue
			}
			faults = append(faults, e.Error())
		}
	})
	return faults, nil
}

func inside(dir, file string) bool { return strings.HasPrefix(file, dir+string(filepath.Separator)) }

// declarationsOutside parses files; those outside of a folder without their functions' bodies.
func declarationsOutside(dir string) func(*token.FileSet, string, []byte) (*ast.File, error) {
	return func(set *token.FileSet, name string, src []byte) (*ast.File, error) {
		file, err := parser.ParseFile(set, name, src, parser.SkipObjectResolution|parser.AllErrors)
		if file == nil || inside(dir, name) {
			return file, err
		}
		for _, d := range file.Decls {
			if f, ok := d.(*ast.FuncDecl); ok {
				f.Body = nil
			}
		}
		return file, err
	}
}
