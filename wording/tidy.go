package wording

import "redlocket/core/tidy"

// Reason is a sentence that says why rows may be one login.
func Reason(r tidy.Reason) string {
	switch r.Why {
	case tidy.WhySameName:
		return "The user name is the same, but for capitals and blanks: " + r.A + "."
	case tidy.WhyMask:
		return r.A + " is starred out, and " + r.B + " fits it."
	case tidy.WhyMailPart:
		return r.A + " is the first part of " + r.B + "."
	case tidy.WhyTelephone:
		return r.A + " and " + r.B + " are one telephone number."
	case tidy.WhyTyping:
		return r.A + " is " + r.B + " but for one letter."
	case tidy.WhyOldMail:
		return r.A + " and " + r.B + " may be two e-mail addresses of one person."
	case tidy.WhyNoName:
		return "One of them has no user name."
	case tidy.WhyNoNames:
		return "None of them has a user name."
	case tidy.WhySamePassword:
		return "They have the same password."
	case tidy.WhyPast:
		return "The password of one is in the history of the other."
	case tidy.WhyNear:
		return "Their passwords are almost the same."
	case tidy.WhyChanged:
		return "Their passwords differ: one of them is likely from before a change."
	case tidy.WhyOnePassword:
		return "One of them has no password."
	case tidy.WhySameHost:
		return "They sign in at the same place: " + r.A + "."
	case tidy.WhySameSite:
		return r.A + " and " + r.B + " belong to one site."
	case tidy.WhyOwner:
		return r.A + " and " + r.B + " are known to be one site."
	case tidy.WhyApp:
		return r.A + " is the app of " + r.B + "."
	case tidy.WhyTitle:
		return "One of them has no address. Its title, " + r.A + ", fits the other one."
	case tidy.WhyRenamed:
		return r.A + " and " + r.B + " share a user name and a password that a program made: " +
			"the site may have been renamed."
	case tidy.WhyKindred:
		return r.A + " and " + r.B + " have one name, and share a user name and a password."
	case tidy.WhyNote:
		return "The note of one of them names " + r.B + "."
	}
	return string(r.Why)
}

// Better names a way in which logins can be better, and says what it means: a clause that begins large, and one.
func Better(w tidy.What) (title, means string) {
	switch w {
	case tidy.BetterTitle:
		return "Titles that say more", "The site’s name in the place of its address, which stays as another name"
	case tidy.BetterSecure:
		return "Addresses with encryption", "These sites have it: https in the place of http"
	case tidy.BetterSignIn:
		return "Sign-in pages", "The page where one signs in, in the place of the front page"
	case tidy.BetterSite:
		return "Domains of one site", "What is kept for one is offered at the other. Settings can take it back"
	case tidy.BetterArchive:
		return "Not used for years", "They can go into the archive, and come back from there"
	}
	return string(w), ""
}

// Bettered says what was done in a way: a clause.
func Bettered(w tidy.What) string {
	switch w {
	case tidy.BetterTitle:
		return "titles changed"
	case tidy.BetterSecure:
		return "https"
	case tidy.BetterSignIn:
		return "sign-in pages"
	case tidy.BetterSite:
		return "one site"
	case tidy.BetterArchive:
		return "put into the archive"
	}
	return string(w)
}
