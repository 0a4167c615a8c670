package keys_test

import (
	"crypto/rand"
	"fmt"

	"redlocket/core/keys"
	"redlocket/core/secret"
)

// From what a person knows and has to the keys of their vault: the master password is made slow
// to guess, mixed with the carried half, and unwraps the vault key.
func Example() {
	salt := make([]byte, keys.SaltSize) // random for each vault
	stretched, err := keys.Stretch(secret.New("kelp ferry lantern forty"), keys.DefaultParams(salt))
	if err != nil {
		panic(err)
	}
	carried, err := keys.NewCode(rand.Reader)
	if err != nil {
		panic(err)
	}
	pair := keys.Derive(stretched, carried)
	fresh, err := keys.NewVaultKey(rand.Reader)
	if err != nil {
		panic(err)
	}
	key := keys.NewRing(fresh).Newest()
	locks, err := keys.NewLocks(rand.Reader)
	if err != nil {
		panic(err)
	}
	if locks[2], err = pair.Slot(); err != nil {
		panic(err)
	}
	wrapped, err := locks.Wrap("vault-1", key)
	if err != nil {
		panic(err)
	}
	again, slot, err := pair.Open("vault-1", wrapped)
	fmt.Println(again == key, slot, err)
	_, _, err = pair.Open("vault-2", wrapped)
	fmt.Println(err)
	// Output:
	// true 2 <nil>
	// not sealed under this key for this place
}

// What is sealed for one record and revision opens as that alone.
func ExampleVault_SealRecord() {
	v := keys.NewVault("vault-1", keys.NewRing(keys.VaultKey{1}), rand.Reader)
	sealed, err := v.SealRecord("ferry", 3, []byte("winkle"))
	if err != nil {
		panic(err)
	}
	plain, err := v.OpenRecord("ferry", 3, sealed)
	fmt.Printf("%s %v\n", plain, err)
	_, err = v.OpenRecord("ferry", 4, sealed)
	fmt.Println(err)
	// Output:
	// winkle <nil>
	// not sealed under this key for this place
}

// A code on paper is typed back as its groups, and a slip in one of them is named.
func ExampleParseCode() {
	code := keys.Code{1, 2, 3}
	groups := code.Print(keys.Carried)
	fmt.Println(len(groups), "groups")
	again, err := keys.ParseCode(groups[0]+" "+groups[1]+" "+groups[2]+groups[3]+groups[4]+groups[5]+groups[6]+groups[7],
		keys.Carried)
	fmt.Println(again.Equal(code), err)
	// Output:
	// 8 groups
	// true <nil>
}
