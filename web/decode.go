package web

import (
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/go-playground/form/v4"

	"redlocket/core/secret"
)

// decoder reads forms into structs, by the tags of their fields. A duration is in seconds; one that
// isn't a number is -1, which every use case refuses with its reason. Passwords come as they
// were typed, without a blank taken off.
var decoder = func() *form.Decoder {
	d := form.NewDecoder()
	d.SetMode(form.ModeExplicit) // what has no tag isn't read
	d.RegisterCustomTypeFunc(func(values []string) (any, error) {
		n, err := strconv.Atoi(strings.TrimSpace(values[0]))
		if err != nil {
			return time.Duration(-1), nil
		}
		return time.Duration(n) * time.Second, nil
	}, time.Duration(0))
	d.RegisterCustomTypeFunc(func(values []string) (any, error) { return secret.New(values[0]), nil }, secret.Text{})
	return d
}()

// decode reads the request's form. What can't be read stays as its type's zero value, and is
// refused with a reason by whoever needs it.
func decode[T any](r *http.Request) (out T) {
	if err := r.ParseForm(); err != nil {
		return out
	}
	_ = decoder.Decode(&out, r.Form)
	return out
}
