package autofill_test

import (
	"fmt"

	"redlocket/core/autofill"
	"redlocket/core/secret"
)

// A page is described by a snapshot, which holds no values. Read says what its forms are for,
// and Plan what goes where.
func Example() {
	page := autofill.Snapshot{
		Forms: []autofill.Form{{ID: 1, Submit: "Sign in"}},
		Fields: []autofill.Field{
			{ID: 1, Form: 1, Type: "email", Label: "E-mail address", Visible: true},
			{ID: 2, Form: 1, Type: "password", Label: "Password", Visible: true},
		},
	}
	reading := autofill.Read(page)[0]
	fmt.Println(reading.Kind)
	fills, missed := autofill.Plan(page, reading, autofill.Values{
		Username: secret.New("maren@cormorant.example"), Password: secret.New("winkle"),
	})
	for _, f := range fills {
		fmt.Println(f.Field, f.Role)
	}
	fmt.Println(len(missed), "missed")
	// Output:
	// sign-in
	// 1 username
	// 2 current-password
	// 0 missed
}

// What was sent is understood by its form.
func ExampleSubmitted() {
	page := autofill.Snapshot{
		Forms: []autofill.Form{{ID: 1, Submit: "Sign in"}},
		Fields: []autofill.Field{
			{ID: 1, Form: 1, Type: "text", Label: "User name", Visible: true},
			{ID: 2, Form: 1, Type: "password", Label: "Password", Visible: true},
		},
	}
	sent, ok := autofill.Submitted(page, autofill.Read(page)[0], map[int]secret.Text{
		1: secret.New("mtolliver"), 2: secret.New("winkle"),
	})
	fmt.Println(ok, sent.Kind, sent.Username)
	// Output: true sign-in mtolliver
}
