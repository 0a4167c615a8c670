package bridge

import (
	"redlocket/app/filling"
	"redlocket/core/site"
	"redlocket/wording"
)

// What the vault decides about pages, in the words and the form in which the extension
// draws it.
type (
	toldPage struct {
		filling.PageView
		Menus map[int]toldMenu `json:"menus"`
		Alarm *toldAlarm       `json:"alarm,omitempty"`
		Slip  *toldSlip        `json:"slip,omitempty"`
	}
	toldSlip struct {
		*filling.SavePrompt
		Bad string `json:"bad,omitempty"` // what is wrong with the password
	}
	toldMenu struct {
		NoClasp   bool       `json:"noClasp,omitempty"`
		Group     string     `json:"group,omitempty"`
		Elsewhere string     `json:"elsewhere,omitempty"`
		Framed    bool       `json:"framed,omitempty"`
		Say       string     `json:"say,omitempty"`
		Lines     []toldLine `json:"lines"`
		Acts      []toldLine `json:"acts"`
	}
	toldLine struct {
		Text  string       `json:"text"`
		Note  string       `json:"note,omitempty"`  // beside it, quieter
		Fills string       `json:"fills,omitempty"` // below it: what the form would get
		Do    filling.Do   `json:"do"`
		ID    string       `json:"id,omitempty"`
		Part  filling.Part `json:"part,omitempty"`
	}
	toldAlarm struct {
		ID    string      `json:"id"`
		Title string      `json:"title"`
		Kept  string      `json:"kept"`
		URL   string      `json:"url"`
		Why   string      `json:"why"`
		Here  []site.Part `json:"here"`
		There []site.Part `json:"there"`
	}
	toldValues struct {
		filling.Values
		Missed []toldMiss `json:"missed"`
		// Leave are the domains to sign out of when the vault locks.
		Leave []string `json:"leave,omitempty"`
	}
	toldMiss struct {
		Field int    `json:"field"`
		Label string `json:"label"`
		Why   string `json:"why"`
	}
)

func tellPage(v filling.PageView) toldPage {
	out := toldPage{PageView: v, Menus: make(map[int]toldMenu, len(v.Menus))}
	for field, m := range v.Menus {
		told := toldMenu{
			NoClasp: m.NoClasp, Group: m.Group, Elsewhere: m.Elsewhere, Framed: m.Framed,
			Say: topic(&v, m), Lines: []toldLine{}, Acts: []toldLine{},
		}
		for _, l := range m.Lines {
			told.Lines = append(told.Lines, toldLine{l.Name, beside(l), wording.Fills(l.Fills), l.Do, l.ID, l.Part})
		}
		for _, l := range m.Acts {
			told.Acts = append(told.Acts, toldLine{act(l), "", wording.Fills(l.Fills), l.Do, l.ID, l.Part})
		}
		out.Menus[field] = told
	}
	out.Alarm, out.Slip = tellAlarm(v.Alarm), tellSlip(v.Slip)
	return out
}

func tellSlip(s *filling.SavePrompt) *toldSlip {
	if s == nil {
		return nil
	}
	return &toldSlip{s, wording.Foreseen(s.Leaked, s.Others)}
}

func tellAlarm(a *filling.Alarm) *toldAlarm {
	if a == nil {
		return nil
	}
	return &toldAlarm{a.ID, a.Title, a.Kept, a.URL, wording.Likeness(a.Likeness), a.Here, a.There}
}

// topic says what a menu of a page is about.
func topic(v *filling.PageView, m *filling.Menu) string {
	switch m.Topic {
	case filling.TopicCardCode:
		return "The security code is filled by a press of its own."
	case filling.TopicCode:
		return "One-time code of"
	case filling.TopicNewOf:
		return "Make a new password for"
	case filling.TopicNew:
		return "A new password, made for this site and kept until you decide."
	case filling.TopicNewFor:
		return "A new password for " + m.Account + ". The present one stays at hand until the site has accepted it."
	case filling.TopicNothing:
		return nothing(v.Nothing, v.Domain)
	case filling.TopicNoCards:
		return nothing(v.NoCards, v.Domain)
	}
	return ""
}

func nothing(why filling.Nothing, domain string) string {
	switch why {
	case filling.NothingAsked:
		return "You asked that nothing be offered at " + domain + "."
	case filling.NothingInClear:
		return "This page came without https: others could read what is sent. No card is filled here."
	case filling.NothingNoHTTPS:
		return "This page came without https. The logins kept for this site are for https only, so none is offered."
	}
	return ""
}

func beside(l filling.MenuLine) string {
	switch l.State {
	case filling.PasswordJoining:
		return "not confirmed yet"
	case filling.PasswordPresent:
		return "the password until now"
	case filling.PasswordStaged:
		return "the new one, not confirmed yet"
	}
	return l.Beside
}

func act(l filling.MenuLine) string {
	switch l.Do {
	case filling.DoFind:
		return "Find another"
	case filling.DoDetails:
		return "Details"
	case filling.DoFillNew:
		return "Make and fill it"
	case filling.DoFill:
		return "All of " + l.Name
	}
	return l.Name
}

func tellValues(v filling.Values, leave []string) toldValues {
	out := toldValues{Values: v, Missed: []toldMiss{}, Leave: leave}
	for _, m := range v.Missed {
		out.Missed = append(out.Missed, toldMiss{m.Field, m.Label, wording.Miss(m)})
	}
	return out
}
