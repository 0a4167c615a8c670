package cloudclient

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"

	"redlocket/core/wire"
)

// A part of the changes is what it is, or refused; it never has more pieces than a part may have.
func FuzzChanges(f *testing.F) {
	f.Add([]byte(`{"latest":2,"tip":"ab","epoch":1,"heads":[{"n":2,"blob":"AA=="}],"records":[{"id":"r","rev":1,"blob":"AA=="}]}`))
	f.Add([]byte(`{"heads":null,"heads":[[]],"more":{}}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		var p wire.Changes
		_ = readChanges(bytes.NewReader(b), &p)
		assert.LessOrEqual(t, len(p.Heads)+len(p.Records), wire.MaxInPart)
	})
}
