// Package schema holds the JSON Schemas (draft 2020-12) of what Yard Broom
// writes for programs, and of its settings. They are generated from the Go
// types:
//
//	go run ./docs/generate
package schema

import (
	"embed"
	"fmt"
	"io/fs"
	"slices"
	"strings"
)

//go:embed *.json
var files embed.FS

// Names returns the names of the schemas, sorted.
func Names() []string {
	paths, err := fs.Glob(files, "*.json")
	if err != nil {
		panic(err) // the pattern is well formed
	}
	for i := range paths {
		paths[i] = strings.TrimSuffix(paths[i], ".json")
	}
	slices.Sort(paths)
	return paths
}

// Named returns the text of a schema.
func Named(name string) ([]byte, error) {
	text, err := files.ReadFile(name + ".json")
	if err != nil || strings.Contains(name, "/") {
		return nil, fmt.Errorf("there is no schema %q: there are %s", name, strings.Join(Names(), ", "))
	}
	return text, nil
}
