// Longlines names the lines of Go that are longer than 120 columns, a tab counted as four (those
// of templates are templatefmt's affair). Texts of tests that stand between backquotes are left
// alone, and lines that can't be broken: directives, and what is marked with "//nolint:lll". It
// exits with 1 if there are any.
package main

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"strings"
)

const most = 120

func excused(file, line string) bool {
	return strings.HasPrefix(line, "//go:") || strings.Contains(line, "nolint:lll") ||
		strings.HasSuffix(file, "_test.go") && strings.ContainsAny(line, "`\"")
}

func main() {
	out, err := exec.Command("git", "ls-files", "-co", "--exclude-standard", "*.go").Output()
	if err != nil {
		fmt.Fprintln(os.Stderr, "failed to list the files:", err)
		os.Exit(2)
	}
	found := false
	for _, file := range strings.Fields(string(out)) {
		f, err := os.Open(file)
		if os.IsNotExist(err) {
			continue // deleted and not yet committed
		} else if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(2)
		}
		lines := bufio.NewScanner(f)
		lines.Buffer(nil, 1<<20)
		for n := 1; lines.Scan(); n++ {
			text := strings.ReplaceAll(lines.Text(), "\t", "    ")
			if len([]rune(text)) > most && !excused(file, text) {
				fmt.Printf("%s:%d: %d columns\n", file, n, len([]rune(text)))
				found = true
			}
		}
		f.Close()
	}
	if found {
		os.Exit(1)
	}
}
