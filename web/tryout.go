package web

import (
	"errors"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"redlocket/app/tidying"
	"redlocket/core/tidy"
	"redlocket/core/vault"
)

// tryView is a try-out at hand.
type tryView struct {
	Key, IDs, Title string
	List            []candidateLine
	Now             *candidateLine
	Stopped         bool
	Most            int
	Left            int
}

// candidateLine is a password that is tried, or was.
type candidateLine struct {
	ID, Name, Address string
	As                string // the user name that it is tried with, if that isn't its own
	NameOf            string // the id of the row that has it
	From              string
	Changed           int64
	Place             int
	Tried, Taken      bool
	At                int64
	Slot              slotData
}

// beginTry begins a try-out, or goes on with one.
func (s tidyPages) beginTry(w http.ResponseWriter, r *http.Request) error {
	ids := strings.Fields(r.FormValue("ids"))
	_, err := vaultOf(r).Tidying.Try(r.Context(), ids)
	return s.went(w, r, err, "/tidy/try?"+url.Values{"at": {tidyKey(ids)}}.Encode())
}

// try shows the try-out of a proposal. One that wasn't begun leads to the question.
func (s tidyPages) try(w http.ResponseWriter, r *http.Request) error {
	v := vaultOf(r)
	l, err := v.Tidying.List(r.Context())
	if err != nil {
		return err
	}
	left := l.Left()
	i := slices.IndexFunc(left, func(p tidy.Proposal) bool { return tidyKey(p.IDs) == r.FormValue("at") })
	if i < 0 { // it was decided meanwhile, perhaps by the site
		http.Redirect(w, r, "/tidy", http.StatusSeeOther)
		return nil
	}
	t, err := v.Tidying.Trying(r.Context(), left[i].IDs)
	if errors.Is(err, tidy.ErrChanged) {
		http.Redirect(w, r, "/tidy?"+url.Values{"at": {r.FormValue("at")}}.Encode(), http.StatusSeeOther)
		return nil
	}
	if err != nil {
		return err
	}
	d, _, err := s.left(r)
	if err != nil {
		return err
	}
	d.Try, d.AtSheet = viewTry(t), true
	d.mark(d.Try.Key)
	return s.show(w, r, http.StatusOK, d)
}

func viewTry(t tidying.TryView) *tryView {
	p := t.Proposal
	out := &tryView{
		Key: tidyKey(p.IDs), IDs: strings.Join(p.IDs, " "), Title: p.Survives.Title, Stopped: t.Stopped,
		Most: tidy.MostRefusals,
	}
	for n, e := range t.Candidates {
		c := candidateLine{
			ID: e.ID, Name: e.Text(vault.FieldUsername), From: strings.Join(e.SourceFiles(), ", "), Place: n + 1,
			Changed: e.Modified().At, Address: p.Survives.Address,
			Slot: slotData{ID: e.ID, Field: string(vault.FieldPassword)},
		}
		c.NameOf = e.ID
		if as := tidy.NameToTry(e, p.Survives); as != c.Name {
			c.As = as
			for _, o := range t.Rows {
				if o.Text(vault.FieldUsername) == as {
					c.NameOf = o.ID
				}
			}
		}
		if try, ok := t.TryOut.Tried(e.ID); ok {
			c.Tried, c.Taken, c.At = true, try.Taken, try.At
		} else {
			out.Left++
		}
		out.List = append(out.List, c)
		if e.ID == t.Now {
			out.Now = &out.List[len(out.List)-1]
		}
	}
	if out.Now != nil {
		now := *out.Now // the list may have moved since
		out.Now = &now
	}
	return out
}

func (s tidyPages) tried(w http.ResponseWriter, r *http.Request) error {
	taken := r.FormValue("taken") != ""
	err := vaultOf(r).Tidying.Tried(r.Context(), strings.Fields(r.FormValue("ids")), r.FormValue("row"), taken)
	if taken && err == nil {
		s.sessions.Put(r.Context(), sessionSaid, "Joined, with the password that works. The others are in the history.")
		redirect(w, r, "/tidy")
		return nil
	}
	return s.went(w, r, err, "/tidy/try?"+url.Values{"at": {r.FormValue("at")}}.Encode())
}

func (s tidyPages) goOn(w http.ResponseWriter, r *http.Request) error {
	err := vaultOf(r).Tidying.GoOn(r.Context(), strings.Fields(r.FormValue("ids")))
	return s.went(w, r, err, "/tidy/try?"+url.Values{"at": {r.FormValue("at")}}.Encode())
}
