package autofill

import (
	"encoding/json"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestCases reads the forms of testdata/pages/cases.html, of which each field's role and each form's kind was written
// down without looking at the rules.
func TestCases(t *testing.T) {
	b, err := os.ReadFile(corpus + "cases.json")
	require.NoError(t, err)
	var list []struct {
		Name     string   `json:"name"`
		Kind     string   `json:"kind"`
		Roles    []string `json:"roles"` // of the snapshot's fields
		Snapshot Snapshot `json:"snapshot"`
	}
	require.NoError(t, json.Unmarshal(b, &list))
	require.Greater(t, len(list), 120)
	for _, c := range list {
		t.Run(c.Name, func(t *testing.T) {
			kind, roles := "other", map[int]Role{}
			for i, r := range Read(c.Snapshot) {
				if i > 0 {
					kind += "+" + string(r.Kind)
				} else {
					kind = string(r.Kind)
				}
				for id, role := range r.Roles {
					if role.Login() && r.Kind != ForOther {
						roles[id] = role
					}
				}
			}
			assert.Equal(t, c.Kind, kind)
			require.Len(t, c.Snapshot.Fields, len(c.Roles))
			for i, f := range c.Snapshot.Fields {
				want := Role(c.Roles[i])
				if !want.Login() { // details aren't asked about here
					want = ""
				}
				assert.Equal(t, want, roles[f.ID], "%s %s", f.Name, f.Label)
			}
		})
	}
}
