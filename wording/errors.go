package wording

import (
	"errors"
	"fmt"
	"regexp"
	"strings"

	"github.com/dustin/go-humanize"

	"redlocket/core/directory"
	"redlocket/core/generator"
	"redlocket/core/keys"
	"redlocket/core/leaks"
	"redlocket/core/otp"
	"redlocket/core/share"
	"redlocket/core/site"
	"redlocket/core/strength"
	"redlocket/core/tidy"
	"redlocket/core/transfer"
	"redlocket/core/vault"
)

// told are the errors of core that people may meet, in words.
var told = []struct {
	err   error
	words string
}{
	{vault.ErrNotArchived, "only what is in the archive can be deleted for good"},
	{vault.ErrNotThere, "it wasn’t there yet at that moment"},
	{vault.ErrTooLarge, "it is larger than an item can be"},
	{vault.ErrFieldForm, "choose what kind of field this is"},
	{vault.ErrNoFieldName, "give the field a name"},
	{vault.ErrLongFieldName, fmt.Sprintf("a field’s name has %d characters at most", vault.MaxFieldName)},

	{site.ErrEmpty, "the address is empty"},
	{site.ErrTooLong, "the address is longer than " + humanize.Comma(site.MaxLength) + " characters"},
	{site.ErrNoHost, "the address names no site, like harbourwater.example"},
	{site.ErrScheme, "the address must begin with https:// or http://"},
	{site.ErrAssetLinks, "the site publishes no list of its programs"},

	{otp.ErrKey, "this isn’t a setup key: it has letters A to Z and digits 2 to 7 only, eight of them at least"},
	{otp.ErrAddress, "this isn’t an otpauth address of one-time codes"},
	{otp.ErrAlgorithm, "these codes use an algorithm other than SHA-1, SHA-256 and SHA-512"},
	{otp.ErrDigits, "codes have 6, 7 or 8 digits"},
	{otp.ErrPeriod, "a code is good for 1 to 3,600 seconds"},

	{generator.ErrLength, fmt.Sprintf("the length must be from %d to %d", generator.MinLength, generator.MaxLength)},
	{generator.ErrKinds, "choose at least one kind of character"},
	{generator.ErrRun, "no password within these rules was found; allow more kinds of characters"},
	{generator.ErrLeast, "the least numbers of digits and symbols don’t fit into the length"},
	{generator.ErrWords, fmt.Sprintf("a passphrase has from %d to %d words", generator.MinWords, generator.MaxWords)},
	{
		generator.ErrSayable,
		fmt.Sprintf("an easily said password has from %d to %d characters", generator.MinSayable, generator.MaxLength),
	},

	{keys.ErrPassword, "the master password is empty, too long, or contains characters that can’t be typed everywhere"},
	{keys.ErrWords, "no device that waits shows these words"},
	{keys.ErrNotWords, "these aren’t six words of the list: look again at how they are spelt"},

	{share.ErrMessage, "what came isn’t what belongs here"},
	{share.ErrCommitment, "what came isn’t what was promised before: somebody may be in between"},
	{share.ErrSecond, "it was answered already"},
	{share.ErrOwn, "these are your own keys"},
	{share.ErrNote, "the note can’t be read"},
	{share.ErrPast, "the note is older than a week"},
	{share.ErrThing, "this can’t be passed: it is too large, or nothing that is filed"},
	{share.ErrRoll, "the list of those who share it can’t be read"},
	{share.ErrNoManager, "somebody has to stay who decides who has it"},
	{share.ErrRule, "choose at least as many people as are needed, and five at most"},
	{share.ErrPart, "the share can’t be read"},
	{share.ErrFewParts, "more of your helpers are needed"},
	{share.ErrWrongParts, "these shares don’t open it"},
	{share.ErrNotTheirs, "it was signed by somebody who may not do that"},

	{transfer.ErrEmpty, "the file is empty"},
	{transfer.ErrBinary, "this isn’t a text file"},
	{transfer.ErrColumns, fmt.Sprintf("the file has more than %d columns", transfer.MaxColumns)},
	{
		transfer.ErrJSON,
		"this JSON is neither an export of Red Locket, nor in the Credential Exchange Format, nor a list of logins",
	},
	{transfer.ErrPacked, "this is a packed file; unpack it and import what is in it"},
	{transfer.ErrSealed, "this is an encrypted backup; “Restore a backup” takes it, with its passphrase"},
	{transfer.ErrPage, "this is a web page, not a file of logins"},
	{
		transfer.ErrTooLarge,
		fmt.Sprintf("the file is larger than %d MB; part it and import the parts", transfer.MaxBytes>>20),
	},
	{
		transfer.ErrTooMany,
		"the file has more than " + humanize.Comma(transfer.MaxItems) + " items; part it and import the parts",
	},
	{transfer.ErrNotOurs, "this isn’t a JSON file of items"},
	{transfer.ErrNewer, "this file was written by a newer version of the program"},
	{transfer.ErrTooDeep, "the file is nested too deeply to be one of items"},
	{transfer.ErrBadJSON, "the JSON can’t be read: it breaks off, or isn’t written as JSON is"},
	{transfer.ErrNoKind, "its kind is missing"},
	{transfer.ErrNoImport, "this import isn’t there, or it was taken back already"},

	{leaks.ErrKey, "the leak service’s key is none"},
	{leaks.ErrAnswer, "the leak service’s answer isn’t made with its key, or isn’t whole"},
	{leaks.ErrAsked, "this is no request for a lookup"},
	{leaks.ErrNoList, "this is no list of leaked passwords: lines of SHA-1 hashes, each with a colon and a number"},
	{leaks.ErrNoFilter, "the list of leaked passwords on this computer is damaged; take it in again"},
	{tidy.ErrChanged, "these logins have changed meanwhile; load the page again to see them as they are now"},
	{tidy.ErrNoDecision, "this was taken back already"},

	{directory.ErrTooLarge, fmt.Sprintf("the list of sites is larger than %d KB", directory.MaxBytes>>10)},
	{directory.ErrNotAList, "this isn’t a list of sites"},
	{directory.ErrFormat, "this isn’t a list of sites: its format should be " + directory.Format},
	{directory.ErrTooMany, fmt.Sprintf("the list has more than %d sites", directory.MaxSites)},
	{directory.ErrName, fmt.Sprintf("it needs a name of %d characters at most", directory.MaxText)},
	{directory.ErrNoDomain, "it needs a domain"},
	{directory.ErrTooMuch, fmt.Sprintf("it has more than %d domains, names or apps", directory.MaxEach)},
	{directory.ErrHost, "it is a host of %s; give the domain itself"},
	{directory.ErrForeign, "it is none of the site’s domains"},
	{directory.ErrTaken, "it belongs to “%s” already"},
}

// Error puts an error into words: a clause that begins small and has no full stop. Errors
// that aren't core's say themselves what they are.
func Error(err error) string {
	var (
		form   *vault.FormError
		code   *keys.CodeError
		length *strength.LengthError
		easy   *strength.CommonError
		rule   *generator.RuleError
		of     *directory.SiteError
		item   *transfer.ItemError
		row    *transfer.RowError
	)
	switch {
	case errors.As(err, &form):
		return formError(form)
	case errors.As(err, &code):
		return codeError(code)
	case errors.As(err, &length) && length.Has > strength.MaxMaster:
		return fmt.Sprintf("at most %d characters are taken", strength.MaxMaster)
	case errors.As(err, &length):
		return fmt.Sprintf("at least %d characters are needed, and more make it stronger: %d so far",
			strength.MinMaster, length.Has)
	case errors.As(err, &easy):
		return "it is among the first that a thief tries: " + Weakness(easy.Weakness)
	case errors.As(err, &of):
		return siteError(of)
	case errors.As(err, &rule):
		return ruleError(rule)
	case errors.As(err, &item):
		return fmt.Sprintf("item %d of the file: %s", item.Number, Error(item.Err))
	case errors.As(err, &row):
		return Row(*row)
	}
	if words, ok := diskError(err); ok {
		return words
	}
	for _, t := range told {
		if errors.Is(err, t.err) {
			return t.words
		}
	}
	return apostrophe.ReplaceAllString(err.Error(), "$1’$2")
}

// apostrophe is one as errors in code have it, in a short form or before an s: what is quoted, and names, stay.
var apostrophe = regexp.MustCompile(`(\pL)'(t|s|re|ve|ll|d|m)\b`)

var shapes = map[vault.Form]string{
	vault.FormDate:    "a date looks like 2027-03-31 or 31.3.2027",
	vault.FormMonth:   "a month looks like 03/27 or 2027-03",
	vault.FormPhone:   "a telephone number has digits, spaces and + ( ) - . / only",
	vault.FormEmail:   "an e-mail address looks like name@mail.example",
	vault.FormCard:    "this isn’t a card number: a digit is wrong, missing or too many",
	vault.FormCode:    "a security code is three or four digits",
	vault.FormIBAN:    "this isn’t an IBAN: a character is wrong, missing or too many",
	vault.FormBIC:     "a BIC is six letters and then letters or digits",
	vault.FormCountry: "choose a country of the list",
	vault.FormYesNo:   "write yes or no",
	vault.FormChoice:  "choose one of the list",
}

func formError(e *vault.FormError) string {
	switch {
	case e.Fault == vault.FaultLong:
		return fmt.Sprintf("this is %d characters long; there is room for %d", e.Has, e.Most)
	case e.Fault == vault.FaultCount && e.Form == vault.FormPhone:
		return "a telephone number has 3 to 20 digits"
	case e.Fault == vault.FaultCount && e.Form == vault.FormBIC:
		return "a BIC has 8 or 11 characters"
	}
	return shapes[e.Form]
}

func codeError(e *keys.CodeError) string {
	codes := map[keys.Use]string{keys.Carried: "carried half", keys.Recovery: "recovery code"}
	switch e.Fault {
	case keys.CodeCharacter:
		return fmt.Sprintf("group %d has a character that codes don’t use: %q", e.Group, e.Character)
	case keys.CodeLong:
		return fmt.Sprintf("the code is too long: it has %d groups of %d characters", keys.Groups, keys.GroupSize)
	case keys.CodeShort:
		all := keys.Groups * keys.GroupSize
		return fmt.Sprintf("the code is too short: %d of %d characters are there", e.Has, all)
	case keys.CodeOther:
		return fmt.Sprintf("this is the %s; the %s is the other one on the sheet",
			codes[e.Use^keys.Recovery], codes[e.Use])
	}
	return fmt.Sprintf("group %d has a mistake in it: please compare it with the sheet", e.Group)
}

func ruleError(e *generator.RuleError) string {
	switch e.Fault {
	case generator.RuleBounds:
		return fmt.Sprintf("a password can’t have %d characters at least and %d at most", e.Least, e.Most)
	case generator.RuleUnknown:
		return fmt.Sprintf("the rule “%s” isn’t known", e.Rule)
	}
	return fmt.Sprintf("the rule “%s” can’t be understood", e.Rule)
}

func siteError(e *directory.SiteError) string {
	words := Error(e.Err)
	if strings.Contains(words, "%s") {
		words = fmt.Sprintf(words, e.Other)
	}
	if e.Text != "" {
		words = "“" + e.Text + "”: " + words
	}
	if e.Number > 0 {
		words = fmt.Sprintf("site %d (“%s”): %s", e.Number, e.Name, words)
	}
	return words
}

// Row says why a row of a file can't be used.
func Row(e transfer.RowError) string {
	switch e.Fault {
	case transfer.FaultNowhere:
		return "it has neither an address nor a name"
	case transfer.FaultNothing:
		return "it has neither user name nor password"
	case transfer.FaultCells:
		return fmt.Sprintf("it has %d cells where the others have %d: a quote may be missing", e.Cells, e.Columns)
	case transfer.FaultNotAnItem:
		return fmt.Sprintf("its kind, “%s”, isn’t one of items", e.Kind)
	case transfer.FaultForeign:
		return "it holds nothing that can be kept here, such as a passkey alone"
	}
	return "it can’t be used"
}

// Skip says why a line of a file is no row.
func Skip(s transfer.Skip) string {
	return map[transfer.Skip]string{
		transfer.SkipSeparator: "it says what parts the cells",
		transfer.SkipHeading:   "it stands above the names of the columns",
		transfer.SkipHeader:    "the names of the columns again",
		transfer.SkipEmpty:     "all its cells are empty",
	}[s]
}

// Group says how rows stand to the vault.
func Group(g transfer.Group) string {
	return map[transfer.Group]string{
		transfer.GroupNew:    "new",
		transfer.GroupTwin:   "new, from several rows",
		transfer.GroupKnown:  "known already",
		transfer.GroupMore:   "known, with something to add",
		transfer.GroupDiffer: "the passwords differ",
	}[g]
}

// Place names a row of a plan: by its file and lines, and an item by its title.
func Place(p *transfer.Plan, r transfer.Told) string {
	name := p.Sources[r.Source].Name
	title := r.Title
	if r.Step >= 0 {
		title = p.Steps[r.Step].Title
	}
	switch {
	case p.Sources[r.Source].Table == nil && title != "":
		return fmt.Sprintf("%s, “%s”", name, title)
	case p.Sources[r.Source].Table != nil && r.End > r.Line:
		return fmt.Sprintf("%s, lines %d to %d", name, r.Line, r.End)
	}
	return Where(p.Sources[r.Source], r.Line)
}

// Where names a place in a file: a line, or an item of a list.
func Where(s transfer.Source, line int) string {
	what := "line"
	if s.Table == nil || s.Table.Delimiter == transfer.JSONObjects {
		what = "item"
	}
	return fmt.Sprintf("%s, %s %d", s.Name, what, line)
}

// Remark says what became of a value of a row that was taken, or what isn't sure of the row.
func Remark(r transfer.Remark) string {
	name := "a value"
	if r.Name != "" {
		name = "“" + r.Name + "”"
	}
	switch r.What {
	case transfer.RemarkQuote:
		return name + " begins with a quotation mark that is never closed; it was taken as part of the value"
	case transfer.RemarkLines:
		return "several lines were taken as one row: a quotation mark may be missing"
	case transfer.RemarkLong:
		return name + " is too long for its field and becomes an attached file"
	case transfer.RemarkCut:
		return name + " is shortened; the whole is kept in a field of its own"
	case transfer.RemarkControl:
		return name + " has characters that can’t be shown; they are left out"
	case transfer.RemarkUnread:
		return name + " has characters that were lost before the file was written"
	case transfer.RemarkAddress:
		return "an address that can’t be opened is kept as a field"
	case transfer.RemarkSetup:
		return "a setup key that can’t be used is kept as a field"
	case transfer.RemarkUntitled:
		return "it has neither a title nor an address, and is named by what it has"
	case transfer.RemarkPasskey:
		return "its passkey can’t be kept here"
	case transfer.RemarkUnknown:
		return "its part “" + r.Name + "” is of an unknown kind; what could be read of it is kept in fields"
	case transfer.RemarkGuard:
		return name + " began with an apostrophe, which tables put there for spreadsheets; it was taken off, and " +
			"the value with it is kept as a field"
	case transfer.RemarkProgram:
		return "another program that it belongs to, " + r.Name + ", is kept as a field"
	}
	return "something of it couldn’t be taken as it was"
}
