package vault_test

import (
	"fmt"

	"redlocket/core/secret"
	"redlocket/core/vault"
)

// An edit gives a new entry and keeps what it replaced.
func ExampleEntry_With() {
	e, err := vault.New("01", vault.TypeLogin, vault.Stamp{At: 1000, By: "desk"}, vault.Draft{
		Title: "Ferrylink", Username: "mtolliver", Password: secret.New("winkle"),
	}.Changes())
	if err != nil {
		panic(err)
	}
	later, err := e.With(vault.Stamp{At: 2000, By: "laptop"}, vault.Changes{vault.FieldPassword: secret.New("cockle")})
	if err != nil {
		panic(err)
	}
	before, _ := later.PreviousPassword()
	fmt.Println(later.Text(vault.FieldPassword), before.Reveal(), before)
	// Output: cockle winkle ••••••••
}

// Two devices set different passwords while they didn't hear of each other. Both are kept, and
// somebody who knows decides.
func ExampleMerge() {
	e, err := vault.New("01", vault.TypeLogin, vault.Stamp{At: 1000, By: "desk"},
		vault.Changes{vault.FieldPassword: secret.New("winkle")})
	if err != nil {
		panic(err)
	}
	desk, _ := e.With(vault.Stamp{At: 2000, By: "desk"}, vault.Changes{vault.FieldPassword: secret.New("cockle")})
	laptop, _ := e.With(vault.Stamp{At: 3000, By: "laptop"}, vault.Changes{vault.FieldPassword: secret.New("limpet")})
	both := vault.Merge(desk, laptop)
	fmt.Println(both.Text(vault.FieldPassword), len(both.Conflicts()), both.Equal(vault.Merge(laptop, desk)))
	decided, _ := both.Resolve(vault.Stamp{At: 4000, By: "desk"}, secret.New("cockle"))
	fmt.Println(decided.Text(vault.FieldPassword), len(decided.Conflicts()))
	// Output:
	// limpet 1 true
	// cockle 0
}
