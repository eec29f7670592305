package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"go/ast"
	"go/importer"
	"go/parser"
	"go/token"
	"go/types"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// loaded is a package with its types.
type loaded struct {
	Dir, ImportPath, Name string
	GoFiles               []string

	files *token.FileSet
	trees []*ast.File // in the order of GoFiles
	text  [][]byte    // of the files
	pkg   *types.Package
	info  *types.Info
}

// load reads a package and finds out the types of its expressions.
func load(ctx context.Context, dir string) (*loaded, error) {
	p := &loaded{files: token.NewFileSet()}
	raw, err := goList(ctx, "-json=Dir,ImportPath,Name,GoFiles", dir)
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(raw, p); err != nil {
		return nil, fmt.Errorf("read what the package %s is: %w", dir, err)
	}
	raw, err = goList(ctx, "-export", "-deps", "-f", "{{.ImportPath}} {{.Export}}", dir)
	if err != nil {
		return nil, err
	}
	exports := map[string]string{}
	for _, line := range strings.Split(string(raw), "\n") {
		path, file, _ := strings.Cut(line, " ")
		exports[path] = file
	}
	for _, name := range p.GoFiles {
		text, err := os.ReadFile(filepath.Join(p.Dir, name))
		if err != nil {
			return nil, fmt.Errorf("read the package %s: %w", dir, err)
		}
		tree, err := parser.ParseFile(p.files, name, text, parser.SkipObjectResolution)
		if err != nil {
			return nil, fmt.Errorf("read the package %s: %w", dir, err)
		}
		p.trees, p.text = append(p.trees, tree), append(p.text, text)
	}
	p.info = &types.Info{Types: map[ast.Expr]types.TypeAndValue{}}
	from := importer.ForCompiler(p.files, "gc", func(path string) (io.ReadCloser, error) { return os.Open(exports[path]) })
	if p.pkg, err = (&types.Config{Importer: from}).Check(p.ImportPath, p.files, p.trees, p.info); err != nil {
		return nil, fmt.Errorf("find out the types of the package %s: %w", dir, err)
	}
	return p, nil
}

func goList(ctx context.Context, args ...string) ([]byte, error) {
	raw, err := exec.CommandContext(ctx, "go", append([]string{"list"}, args...)...).Output()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return nil, fmt.Errorf("list the package: %s", bytes.TrimSpace(exit.Stderr))
	}
	if err != nil {
		return nil, fmt.Errorf("list the package: %w", err)
	}
	return raw, nil
}
