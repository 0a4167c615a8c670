// Package extension has the browser extension's files and packs them for the
// two families of browsers, from one source.
package extension

import (
	"archive/zip"
	"bytes"
	"embed"
	"encoding/json"
	"fmt"
	"io/fs"
	"slices"
)

//go:embed files
var files embed.FS

// ID is the extension's id in Firefox.
const ID = "red-locket@redlocket.example"

// minFirefox is the oldest Firefox that the browser tests have filled in; 140.10 ESR connects but fills nothing.
const minFirefox = "153.0"

// Files returns the unpacked extension for Chromium, as it is in the source.
func Files() fs.FS {
	sub, err := fs.Sub(files, "files")
	if err != nil {
		panic(err) // the folder is compiled in
	}
	return sub
}

// Pack returns the extension as a ZIP file for "chromium" or "firefox".
func Pack(browser string) ([]byte, error) {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	err := fs.WalkDir(Files(), ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := fs.ReadFile(Files(), path)
		if err == nil && path == "manifest.json" {
			b, err = manifest(b, browser)
		}
		if err != nil {
			return err
		}
		w, err := z.Create(path)
		if err != nil {
			return err
		}
		_, err = w.Write(b)
		return err
	})
	if err == nil {
		err = z.Close()
	}
	if err != nil {
		return nil, fmt.Errorf("failed to pack the extension for %s: %w", browser, err)
	}
	return out.Bytes(), nil
}

// manifest turns Chromium's manifest into the browser's: Firefox runs the
// background as scripts of an event page, and wants an id.
func manifest(b []byte, browser string) ([]byte, error) {
	switch browser {
	case "chromium":
		return b, nil
	case "firefox":
	default:
		return nil, fmt.Errorf("there is no extension for %q", browser)
	}
	var m map[string]any
	if err := json.Unmarshal(b, &m); err != nil {
		return nil, err
	}
	delete(m, "incognito") // it keeps private tabs apart by their numbers
	m["background"] = map[string]any{"scripts": []string{"background.js"}}
	m["browser_specific_settings"] = map[string]any{"gecko": map[string]any{"id": ID, "strict_min_version": minFirefox}}
	delete(m, "minimum_chrome_version")
	m["host_permissions"] = []string{"<all_urls>"} // without it no picture may be taken of what is seen of a frame
	m["permissions"] = slices.DeleteFunc(
		m["permissions"].([]any),
		func(p any) bool { return p == "offscreen" },
	) // its background is a page
	return json.MarshalIndent(m, "", "  ")
}
