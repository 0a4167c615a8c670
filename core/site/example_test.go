package site_test

import (
	"fmt"

	"redlocket/core/site"
	"redlocket/core/vault"
)

// What is kept of an address: the page, without query and session.
func ExampleClean() {
	address, err := site.Clean("gullwing.example/sign-in?session=81#top")
	fmt.Println(address, err)
	// Output: https://gullwing.example/sign-in <nil>
}

// The registrable domain decides what belongs to a site, not what a name begins with.
func ExampleMatches() {
	kept := vault.Address{URL: "https://bank.example/sign-in"}
	for _, page := range []string{"https://my.bank.example/", "https://bank.example.trickster.example/"} {
		fmt.Println(site.Matches(kept, page))
	}
	// Output:
	// true
	// false
}

// A page that imitates a kept site is named, with what gives it away.
func ExampleGuard_Check() {
	g := site.NewGuard([]string{"gullwing.example"})
	found, ok := g.Check("https://gu1lwing.example/", func(string) bool { return false })
	fmt.Println(ok, found.Kept)
	// Output: true gullwing.example
}
