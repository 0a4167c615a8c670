package importing

import (
	"archive/tar"
	"bytes"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/transfer"
)

// A backup that opens with its passphrase may hold anything: it is read, or refused.
func FuzzBackup(f *testing.F) {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for name, text := range map[string]string{backupItems: `{"format":"x"}`, backupFiles + "id/name.txt": "text"} {
		require.NoError(f, w.WriteHeader(&tar.Header{Name: name, Size: int64(len(text)), Mode: 0o600}))
		_, err := io.WriteString(w, text)
		require.NoError(f, err)
	}
	require.NoError(f, w.Close())
	f.Add(b.Bytes())
	f.Fuzz(func(t *testing.T, b []byte) {
		_, s, err := readOpened(tar.NewReader(bytes.NewReader(b)),
			func(_ transfer.Export, _, _ string, r io.Reader) error {
				_, err := io.Copy(io.Discard, r)
				return err
			})
		if err == nil {
			assert.GreaterOrEqual(t, s.Items, 0)
		}
	})
}
