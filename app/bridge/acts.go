package bridge

import (
	"context"
	"encoding/json"
	"errors"

	"redlocket/app"
	"redlocket/core/autofill"
	"redlocket/core/find"
	"redlocket/core/secret"
	"redlocket/core/site"
	"redlocket/core/vault"
)

// request is what a browser asks, after opening.
type request struct {
	Act      string            `json:"act"`
	URL      string            `json:"url"` // of the frame, by the browser's word
	Top      string            `json:"top"`
	Tab      string            `json:"tab"`
	Snapshot autofill.Snapshot `json:"snapshot"`
	Form     int               `json:"form"`
	ID       string            `json:"id"`
	Query    string            `json:"query"`
	Username string            `json:"username"`
	Values   map[int]string    `json:"values"`
	Slip     app.Slip          `json:"slip"`
}

// most bounds how many logins a search hands out.
const most = 30

// act does what was asked by one use case of the vault. The answer is an object;
// one with "error" says in words what was not done.
func (b *Bridge) act(ctx context.Context, v *app.Vault, plain []byte) any {
	var q request
	if err := json.Unmarshal(plain, &q); err != nil {
		return problem(errors.New("the message can't be read"))
	}
	page := app.Page{URL: q.URL, Top: q.Top, Tab: q.Tab, Snapshot: q.Snapshot}
	var out any = struct{}{}
	var err error
	switch q.Act {
	case "look":
		out, err = v.Look(ctx, page)
	case "fill":
		out, err = v.Fill(ctx, q.ID, page, q.Form)
	case "fill-new":
		out, err = v.FillNew(ctx, page, q.Form, q.Username)
	case "typed":
		values := map[int]secret.Text{}
		for k, s := range q.Values {
			values[k] = secret.New(s)
		}
		err = v.Typed(ctx, page, q.Form, values)
	case "slip-password":
		var p secret.Text
		p, err = v.SlipPassword(q.ID)
		out = map[string]string{"password": p.Reveal()}
	case "keep":
		v.Touch()
		err = v.KeepSlip(ctx, q.Slip)
	case "not-now":
		err = v.DropSlip(q.ID)
	case "never":
		err = errors.Join(v.Never(ctx, q.URL), v.DropSlip(q.ID))
	case "window":
		out, err = window(v, q)
	case "usernames":
		var names []string
		names, err = v.Usernames()
		out = map[string][]string{"usernames": names[:min(len(names), 8)]}
	case "lock":
		v.Lock()
	default:
		err = errors.New("this extension is newer than Red Locket here; please update it")
	}
	if err != nil {
		return problem(err)
	}
	return out
}

func problem(err error) any { return map[string]string{"error": err.Error()} }

// found is a login as the extension's window lists it.
type found struct {
	app.Offer
	Address string `json:"address"`
	Fits    bool   `json:"fits"`
}

// window lists the logins of the page's site, or those that a search finds.
func window(v *app.Vault, q request) (any, error) {
	card := v.Card()
	out := struct {
		Person string  `json:"person"`
		Site   string  `json:"site"`
		List   []found `json:"list"`
	}{Person: card.Name, Site: site.Domain(q.URL), List: []found{}}
	book, err := v.Find(find.Parse(q.Query), 0)
	if err != nil {
		return nil, err
	}
	sites := v.Sites()
	for _, s := range book.Sites {
		for _, it := range s.Accounts {
			if it.Archived || it.Type != vault.TypeLogin && it.Type != vault.TypeApp {
				continue
			}
			f := found{Offer: app.Offer{ID: it.ID, Title: it.Title, Username: it.Username, Folder: it.Folder}}
			for _, a := range it.Addresses {
				if f.Address == "" {
					f.Address = a.URL
				}
				f.Fits = f.Fits || sites.Matches(a, q.URL)
			}
			if (q.Query != "" || f.Fits) && len(out.List) < most {
				out.List = append(out.List, f)
			}
		}
	}
	return out, nil
}
