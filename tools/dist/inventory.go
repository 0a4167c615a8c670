package main

import (
	"debug/buildinfo"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"

	cdx "github.com/CycloneDX/cyclonedx-go"
)

// vendored are the packages of npm whose files are in the program, and where the file or the rule by which it was made
// says which version that is. What else package.json names is for tests.
var vendored = []struct{ name, file, version string }{
	{"htmx.org", "web/static/vendor/htmx.min.js", `version:"([0-9.]+)"`},
	{"bootstrap", "Makefile", `bootstrap@([0-9.]+)`},
}

func versions(root string) (map[string]string, error) {
	out := map[string]string{}
	for _, v := range vendored {
		b, err := os.ReadFile(filepath.Join(root, v.file))
		if err != nil {
			return nil, err
		}
		m := regexp.MustCompile(v.version).FindSubmatch(b)
		if m == nil {
			return nil, fmt.Errorf("%s doesn't tell the version of %s", v.file, v.name)
		}
		out[v.name] = string(m[1])
	}
	return out, nil
}

// inventory writes what is in the programs: the modules that their own build information names, and what of npm is
// shipped. The form is CycloneDX 1.5 (ECMA-424), with package URLs.
func (d *dist) inventory() error {
	modules := map[string]string{}
	goVersion := ""
	for _, p := range d.programs {
		info, err := buildinfo.ReadFile(p)
		if err != nil {
			return err
		}
		goVersion = info.GoVersion
		for _, m := range info.Deps {
			modules[m.Path] = m.Version
		}
	}
	var list []cdx.Component
	add := func(kind, name, version string) {
		url := fmt.Sprintf("pkg:%s/%s@%s", kind, name, version)
		list = append(list, cdx.Component{
			BOMRef: url, Type: cdx.ComponentTypeLibrary, Name: name, Version: version, PackageURL: url,
		})
	}
	add("golang", "std", goVersion)
	for _, name := range slices.Sorted(maps.Keys(modules)) {
		add("golang", name, modules[name])
	}
	npm, err := versions(d.root)
	if err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(npm)) {
		add("npm", name, npm[name])
	}
	b := cdx.NewBOM()
	b.Metadata = &cdx.Metadata{Component: &cdx.Component{
		BOMRef: "redlocket", Type: cdx.ComponentTypeApplication, Name: "redlocket", Version: d.version,
	}}
	b.Components = &list
	return d.write(fmt.Sprintf("redlocket-%s-contents.cdx.json", d.version), func(w io.Writer) error {
		return cdx.NewBOMEncoder(w, cdx.BOMFileFormatJSON).SetPretty(true).EncodeVersion(b, cdx.SpecVersion1_5)
	})
}
