// Package autofill reads pages: what each field is for, what goes where, and
// what a submit meant.
//
// The extension sends a [Snapshot], a plain description of a frame's fields
// without their values. [Read] sorts the fields into forms and gives each form
// a [Kind] and each field a [Role]. [Plan] says which value goes into which
// field; nothing is ever planned for a field whose role isn't certain enough, nor
// for one a person can't see. [Typed] says what a submitted form would mean as a login.
//
// A page is hostile until shown otherwise: all its texts are bounded, and no
// rule here trusts what a page says about its own address. Whether a login
// belongs to the page is package site's to say.
package autofill
