// Package autofill reads pages: what each field is for, what goes where, and
// what a submit meant.
//
// The extension sends a [Snapshot], a plain description of a frame's fields
// without their values. [Read] sorts the fields into forms and gives each form
// a [Kind] and each field a [Role]. [Plan] says which value goes into which
// field, in the form that the field wants; nothing is planned for a field whose
// role isn't certain enough, nor for one a person can't see. [Submitted] says what a
// submitted form would mean as a login, and [Judge] what the site made of it.
// [DemandsOf] reads what a page demands of a new password.
//
// # How a page is read
//
// Every text is brought to plain words, and the words are looked up in tables of
// more than ten languages (words.tsv, roles.tsv). The autocomplete attribute of the
// WHATWG HTML standard counts most where it is there, then a field's label, then
// its name, then where it stands. A form is weighed as a whole: the words of the
// button that sends it, its heading, its name, the page's title and path.
//
// # What is trusted
//
// A page is hostile until shown otherwise: all its texts are bounded, and no
// rule here trusts what a page says about its own address. Whether a login
// belongs to the page is package site's to say.
package autofill
