package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// A module whose file for one system doesn't compile is found out there, and there alone; what its functions take from
// another module is checked, what functions there do isn't.
func TestCheck(t *testing.T) {
	dir := t.TempDir()
	t.Chdir(dir)
	for name, text := range map[string]string{
		"go.mod":          "module example.test/harbour\n\ngo 1.24\n",
		"quay.go":         "package harbour\n\nimport \"strings\"\n\nvar Quay = strings.ToUpper(name())\n",
		"name_linux.go":   "package harbour\n\nfunc name() string { return \"pier\" }\n",
		"name_darwin.go":  "package harbour\n\nfunc name() string { return \"mole\" }\n",
		"name_windows.go": "package harbour\n\nimport \"syscall\"\n\nfunc name() string { return syscall.Handle(1) }\n",
		"quay_test.go":    "package harbour\n\nimport \"testing\"\n\nfunc TestQuay(t *testing.T) { t.Log(name()) }\n",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	for system, wrong := range map[string]bool{"linux": false, "darwin": false, "windows": true} {
		faults, err := check(system, "amd64", true, []string{"./..."})
		require.NoError(t, err)
		require.Equal(t, wrong, len(faults) > 0, "%s: %q", system, faults)
	}
	require.NoError(t, os.WriteFile("more_test.go", []byte("package harbour\n\nvar _ int = name()\n"), 0o600))
	faults, err := check("darwin", "amd64", true, []string{"./..."})
	require.NoError(t, err)
	require.NotEmpty(t, faults, "tests are checked too")
	faults, err = check("darwin", "amd64", false, []string{"./..."})
	require.NoError(t, err)
	require.Empty(t, faults, "but not if nobody wants it")
}
