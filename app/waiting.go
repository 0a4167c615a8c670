package app

import (
	"context"
	"encoding/json"
	"time"

	"redlocket/core/autofill"
	"redlocket/core/keys"
	"redlocket/core/secret"
)

// Slips that wait while the vault is locked are sealed with it, and are there again when it
// is opened soon enough.

const localSlips = "slips"

type keptSlip struct {
	Key, ID, Title, URL, Username, Password, Login string
	Kind                                           autofill.Kind
	Since                                          int64
}

// openSlips are those that wait for an answer. v.mu is held.
func (v *Vault) openSlips() (out []keptSlip) {
	for k, s := range v.slip {
		if s.sent && !s.attempt.Password.IsEmpty() {
			out = append(out, keptSlip{k, s.ID, s.Title, s.url, s.attempt.Username, s.attempt.Password.Reveal(), s.login, s.attempt.Kind, s.since.UnixMilli()})
		}
	}
	return out
}

func (v *Vault) keepSlips(seal *keys.Vault, list []keptSlip) {
	if len(list) == 0 {
		return
	}
	b, err := json.Marshal(list)
	if err != nil {
		return
	}
	if sealed, err := seal.SealLocal(localSlips, b); err == nil {
		_ = v.store.SetLocal(context.Background(), localSlips, sealed) // they are a convenience
	}
}

func (v *Vault) loadSlips(ctx context.Context) error {
	b, err := v.local(ctx, localSlips)
	if err != nil || b == nil {
		return err
	}
	var list []keptSlip
	if err := json.Unmarshal(b, &list); err != nil {
		return err
	}
	for _, k := range list {
		since := time.UnixMilli(k.Since)
		if v.d.p.Now().Sub(since) < slipLife {
			v.slip[k.Key] = &SavePrompt{ID: k.ID, Title: k.Title, url: k.URL, since: since, sent: true, login: k.Login,
				attempt: autofill.Submission{Kind: k.Kind, Username: k.Username, Password: secret.New(k.Password)}}
		}
	}
	return v.store.SetLocal(ctx, localSlips, nil)
}
