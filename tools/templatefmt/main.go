// Templatefmt formats html/template files: one element a line, at most 120 columns, nested
// by two spaces. It changes where lines break and nothing that is rendered: whitespace is
// added only beside block elements, in place of whitespace that was there, or behind a trim
// marker.
//
//	go run ./tools/templatefmt [-l] FILE...
//
// With -l it lists the files whose formatting differs and exits with 1; without, it rewrites them.
package main

import (
	"flag"
	"fmt"
	"os"
)

func main() {
	list := flag.Bool("l", false, "list files whose formatting differs")
	flag.Parse()
	differ := false
	for _, file := range flag.Args() {
		src, err := os.ReadFile(file)
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(2)
		}
		out := Format(string(src))
		if out == string(src) {
			continue
		}
		differ = true
		if *list {
			fmt.Println(file)
			continue
		}
		if err := os.WriteFile(file, []byte(out), 0o644); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(2)
		}
	}
	if *list && differ {
		os.Exit(1)
	}
}
