// Command dist makes what is handed out of a version: packages for Linux distributions, archives for the other systems,
// the extension for both browsers' shops with the texts of its listings, a list of what is in it, and checksums.
//
// The same source gives the same bytes: nothing in them tells when or where they were made. The moment in archives is
// that of SOURCE_DATE_EPOCH, in seconds since 1970 (reproducible-builds.org); 1980 without it, the first that all of
// them can tell.
//
// It is a module of its own, so that what only packing needs isn't fetched by whoever runs or tests the program.
package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"log"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goreleaser/nfpm/v2"
	_ "github.com/goreleaser/nfpm/v2/deb"
	"github.com/goreleaser/nfpm/v2/files"
	_ "github.com/goreleaser/nfpm/v2/rpm"

	"redlocket/core/version"
	"redlocket/extension"
	"redlocket/install"
)

func main() {
	log.SetFlags(0)
	d := dist{version: version.Number}
	targets := flag.String("targets", "linux/amd64,linux/arm64,darwin/amd64,darwin/arm64,windows/amd64,windows/arm64",
		"systems and processors")
	flag.StringVar(&d.out, "out", "dist", "folder for the results")
	flag.StringVar(&d.root, "root", ".", "the source")
	flag.StringVar(&d.built, "built", "", "names the source, like a commit")
	flag.Parse()
	if err := d.make(strings.Split(*targets, ",")); err != nil {
		log.Fatal(err)
	}
}

// dist makes everything in one folder.
type dist struct {
	root, out, version, built string
	at                        time.Time
	programs                  []string // that were built, for the list of what is in them
}

// file is one in an archive or a package.
type file struct {
	name string
	text []byte
	mode fs.FileMode
}

func (d *dist) make(targets []string) error {
	d.at = time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC)
	if s := os.Getenv("SOURCE_DATE_EPOCH"); s != "" {
		n, err := strconv.ParseInt(s, 10, 64)
		if err != nil {
			return fmt.Errorf("SOURCE_DATE_EPOCH is no number: %w", err)
		}
		d.at = time.Unix(n, 0).UTC()
	}
	if err := os.MkdirAll(d.out, 0o755); err != nil {
		return err
	}
	work, err := os.MkdirTemp("", "redlocket-dist-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	for _, t := range targets {
		system, arch, ok := strings.Cut(t, "/")
		if !ok {
			return fmt.Errorf("%q is no system and processor, like linux/amd64", t)
		}
		if err := d.target(work, system, arch); err != nil {
			return fmt.Errorf("%s: %w", t, err)
		}
	}
	if err := d.extensions(); err != nil {
		return err
	}
	if err := d.inventory(); err != nil {
		return err
	}
	return d.checksums()
}

// target builds the program for one system and packs it.
func (d *dist) target(work, system, arch string) error {
	program := filepath.Join(work, "redlocket-"+system+"-"+arch)
	cmd := exec.Command("go", "build", "-trimpath", "-buildvcs=false",
		"-ldflags=-s -w -buildid= -X redlocket/core/version.built="+d.built, "-o", program, "./cmd/redlocket")
	cmd.Dir, cmd.Env = d.root, append(os.Environ(), "CGO_ENABLED=0", "GOOS="+system, "GOARCH="+arch)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("failed to build: %w: %s", err, out)
	}
	d.programs = append(d.programs, program)
	b, err := os.ReadFile(program)
	if err != nil {
		return err
	}
	papers, err := d.papers()
	if err != nil {
		return err
	}
	name := fmt.Sprintf("redlocket-%s-%s-%s", d.version, system, arch)
	in := func(name string) string { return path.Join("redlocket-"+d.version, name) }
	var list []file
	for _, p := range papers {
		list = append(list, file{in(p.name), p.text, p.mode})
	}
	switch system {
	case "windows":
		return d.zip(name+".zip", append([]file{{in("redlocket.exe"), b, 0o755}}, list...))
	case "linux":
		if err := d.packages(b, papers, arch); err != nil {
			return err
		}
	}
	return d.tar(name+".tar.gz", append([]file{{in("redlocket"), b, 0o755}}, list...))
}

// papers are what goes with the program to be read.
func (d *dist) papers() (list []file, err error) {
	for _, name := range []string{
		"README.md", "LICENSE", "THIRD_PARTY.md", "CHANGELOG.md",
		"docs/operating.md", "docs/format.md", "docs/security.md",
		"deploy/redlocket-cloud.service",
	} {
		b, err := os.ReadFile(filepath.Join(d.root, name))
		if err != nil {
			return nil, err
		}
		list = append(list, file{path.Base(name), b, 0o644})
	}
	return list, nil
}

// write writes one of the results.
func (d *dist) write(name string, fn func(io.Writer) error) error {
	var b bytes.Buffer
	if err := fn(&b); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return os.WriteFile(filepath.Join(d.out, name), b.Bytes(), 0o644)
}

func (d *dist) tar(name string, list []file) error {
	return d.write(name, func(w io.Writer) error {
		z := gzip.NewWriter(w)
		t := tar.NewWriter(z)
		for _, f := range list {
			h := &tar.Header{
				Name: f.name, Mode: int64(f.mode), Size: int64(len(f.text)), ModTime: d.at, Format: tar.FormatPAX,
			}
			if err := t.WriteHeader(h); err != nil {
				return err
			}
			if _, err := t.Write(f.text); err != nil {
				return err
			}
		}
		if err := t.Close(); err != nil {
			return err
		}
		return z.Close()
	})
}

func (d *dist) zip(name string, list []file) error {
	return d.write(name, func(w io.Writer) error {
		z := zip.NewWriter(w)
		for _, f := range list {
			h := &zip.FileHeader{Name: f.name, Method: zip.Deflate, Modified: d.at}
			h.SetMode(f.mode)
			to, err := z.CreateHeader(h)
			if err != nil {
				return err
			}
			if _, err := to.Write(f.text); err != nil {
				return err
			}
		}
		return z.Close()
	})
}

// packages makes the packages of Linux distributions.
func (d *dist) packages(program []byte, papers []file, arch string) error {
	work, err := os.MkdirTemp("", "redlocket-package-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	all := []file{{"/usr/bin/redlocket", program, 0o755}}
	for _, f := range install.ForPackage() {
		all = append(all, file{f.Path, f.Text, f.Mode})
	}
	for _, f := range papers {
		all = append(all, file{"/usr/share/doc/redlocket/" + f.name, f.text, f.mode})
	}
	var contents files.Contents
	for i, f := range all {
		from := filepath.Join(work, strconv.Itoa(i))
		if err := os.WriteFile(from, f.text, f.mode); err != nil {
			return err
		}
		contents = append(contents, &files.Content{
			Source: from, Destination: f.name,
			FileInfo: &files.ContentFileInfo{Owner: "root", Group: "root", Mode: f.mode, MTime: d.at},
		})
	}
	for _, kind := range []string{"deb", "rpm"} {
		p, err := nfpm.Get(kind)
		if err != nil {
			return err
		}
		// The packager writes what it prepared back.
		list := make(files.Contents, 0, len(contents))
		for _, c := range contents {
			one, info := *c, *c.FileInfo
			one.FileInfo = &info
			list = append(list, &one)
		}
		info := nfpm.WithDefaults(&nfpm.Info{
			Name: "redlocket", Arch: arch, Platform: "linux", Version: d.version,
			Section: "utils", Priority: "optional",
			Maintainer: "Red Locket <packages@redlocket.example>",
			Description: "Keeps website and app logins in a vault that only you can open\n" +
				"Encrypted, synced, and filled in by a browser extension.",
			License: "Apache-2.0", MTime: d.at,
			Overridables: nfpm.Overridables{
				Contents: list, Recommends: []string{"xdg-utils"}, Deb: nfpm.Deb{Compression: "gzip"},
				RPM: nfpm.RPM{Compression: "gzip", BuildHost: "localhost"},
			},
		})
		if err := nfpm.PrepareForPackager(info, kind); err != nil {
			return err
		}
		err = d.write(p.ConventionalFileName(info), func(w io.Writer) error { return p.Package(info, w) })
		if err != nil {
			return err
		}
	}
	return nil
}

// extensions packs the extension for both kinds of browsers, with the texts of its listings.
func (d *dist) extensions() error {
	for browser, suffix := range map[string]string{"chromium": ".zip", "firefox": ".xpi"} {
		b, err := extension.Pack(browser)
		if err != nil {
			return err
		}
		name := fmt.Sprintf("redlocket-extension-%s-%s", d.version, browser)
		if err := os.WriteFile(filepath.Join(d.out, name+suffix), b, 0o644); err != nil {
			return err
		}
		text, err := os.ReadFile(filepath.Join(d.root, "extension", "listing", browser+".md"))
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(d.out, name+".md"), text, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// checksums writes the SHA-256 of each result, as sha256sum(1) checks them.
func (d *dist) checksums() error {
	list, err := os.ReadDir(d.out)
	if err != nil {
		return err
	}
	var lines []string
	for _, e := range list {
		if e.Name() == "SHA256SUMS" {
			continue
		}
		b, err := os.ReadFile(filepath.Join(d.out, e.Name()))
		if err != nil {
			return err
		}
		lines = append(lines, fmt.Sprintf("%x  %s\n", sha256.Sum256(b), e.Name()))
	}
	slices.SortFunc(lines, func(a, b string) int { return strings.Compare(a[66:], b[66:]) })
	return d.write("SHA256SUMS", func(w io.Writer) error {
		_, err := io.WriteString(w, strings.Join(lines, ""))
		return err
	})
}
