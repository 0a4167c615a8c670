package main

import (
	"context"
	"io"
	"maps"
	"os"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"redlocket/core/audit"
	"redlocket/core/directory"
	"redlocket/core/leaks"
	"redlocket/core/secret"
	"redlocket/core/vault"
	"redlocket/wording"
)

// The form of what is written stands in docs/weak-spots.md.
type weakJSON struct {
	Files     []string      `json:"files,omitempty"`
	Spots     []spotJSON    `json:"spots"`
	Reach     []reachJSON   `json:"reach"`
	Mailboxes []mailboxJSON `json:"mailboxes"`
}

type spotJSON struct {
	Row    rowJSON     `json:"row"`
	Kind   string      `json:"kind"`
	Rank   float64     `json:"rank"`
	Faults []faultJSON `json:"faults"`
}

type faultJSON struct {
	Fault string    `json:"fault"`
	With  []rowJSON `json:"with,omitempty"`
	How   string    `json:"how,omitempty"`
	Says  string    `json:"says"`
}

type reachJSON struct {
	Row   rowJSON      `json:"row"`
	Falls []fallenJSON `json:"falls"`
	Held  []fallenJSON `json:"held"`
}

type fallenJSON struct {
	Row   rowJSON `json:"row"`
	Step  int     `json:"step"`
	From  rowJSON `json:"from"`
	Why   string  `json:"why"`
	Known bool    `json:"known"`
}

type mailboxJSON struct {
	Row    rowJSON   `json:"row"`
	Resets []rowJSON `json:"resets"`
}

func weakSpotsCommand() *cobra.Command {
	var o fileOptions
	var list string
	cmd := &cobra.Command{
		Use: "weak-spots [FILE…]", Short: "Says which passwords are weak spots and what falls with each, as JSON",
		Long: `Finds passwords that are weak, reused, nearly the same, old or sent over plain http, and
what falls if one of them is known: of the rows of files, without a vault, or without
files of the vault itself. Nothing is changed, nothing is asked of anybody, and no
password is written. The form is described in docs/weak-spots.md.

Exit codes: 0 all was read; 1 something failed; 2 wrong master password; 3 some rows
or files couldn't be used; 4 Red Locket is running.`,
		RunE: func(cmd *cobra.Command, names []string) error {
			if len(names) == 0 {
				return weakSpotsOfVault(cmd.Context(), o, list, cmd.OutOrStdout())
			}
			f, err := readRows(cmd.Context(), names, cmd.ErrOrStderr())
			if err != nil {
				return err
			}
			opt := audit.Options{Site: directory.New(directory.Shipped()).Of}
			if opt.Leaked, err = leakedOf(list, f.Entries); err != nil {
				return err
			}
			j := weakJSON{Files: f.Files}
			if err := writeWeakSpots(cmd.Context(), cmd.OutOrStdout(), j, f.Entries, opt, f.row); err != nil {
				return err
			}
			return f.done()
		},
	}
	o.flags(cmd)
	const form = "a list of leaked passwords: lines of SHA-1 hashes, with a colon and a number"
	cmd.Flags().StringVar(&list, "leaks", "", form)
	return cmd
}

// leakedOf looks the passwords of entries up in a list in a file; nil without one.
func leakedOf(name string, entries []vault.Entry) (func(secret.Text) (int64, bool), error) {
	if name == "" {
		return nil, nil
	}
	asked := map[leaks.Hash]bool{}
	for _, e := range entries {
		asked[leaks.HashOf(e.SignsInWith())] = false
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	_, err = leaks.Scan(f, func(h leaks.Hash, seen int64) error {
		if _, ok := asked[h]; ok && seen > 0 {
			asked[h] = true
		}
		return nil
	})
	return func(p secret.Text) (int64, bool) { return 0, asked[leaks.HashOf(p)] }, err
}

func weakSpotsOfVault(ctx context.Context, o fileOptions, list string, out io.Writer) error {
	v, done, err := o.open(ctx, newTerminal())
	if err != nil {
		return err
	}
	defer done()
	entries, err := v.Book.Entries(func(e vault.Entry) bool { return e.IsItem() })
	if err != nil {
		return err
	}
	opt := audit.Options{Site: v.Sites.Directory().Of}
	if opt.Leaked, err = leakedOf(list, entries); err != nil {
		return err
	}
	return writeWeakSpots(ctx, out, weakJSON{}, entries, opt, rowOfVault)
}

func writeWeakSpots(
	ctx context.Context, out io.Writer, j weakJSON, entries []vault.Entry, o audit.Options,
	row func(id string) rowJSON,
) error {
	now := time.Now().UnixMilli()
	o.Now = now
	s, err := audit.New(ctx, entries, o)
	if err != nil {
		return err
	}
	rows := func(ids []string) (out []rowJSON) {
		for _, id := range ids {
			out = append(out, row(id))
		}
		return out
	}
	titles := map[string]string{}
	for _, e := range entries {
		titles[e.ID] = e.Text(vault.FieldTitle)
	}
	title := func(id string) string { return titles[id] }
	j.Spots, j.Reach, j.Mailboxes = []spotJSON{}, []reachJSON{}, []mailboxJSON{}
	for _, sp := range s.Spots(s.Weak) {
		one := spotJSON{Row: row(sp.ID), Kind: string(sp.Worth.Kind), Rank: sp.Rank}
		for _, f := range sp.Findings {
			says := wording.Finding(f, title, now)
			one.Faults = append(one.Faults, faultJSON{string(f.Fault), rows(f.With), string(f.How), says})
		}
		j.Spots = append(j.Spots, one)
	}
	fallen := func(list []audit.Fallen) []fallenJSON {
		out := []fallenJSON{}
		for _, f := range list {
			out = append(out, fallenJSON{row(f.ID), f.Step, row(f.From), string(f.Why), f.Known})
		}
		return out
	}
	for _, e := range entries {
		if r := s.Reach(e.ID); len(r.Fell)+len(r.Held) > 0 {
			j.Reach = append(j.Reach, reachJSON{row(r.ID), fallen(r.Fell), fallen(r.Held)})
		}
	}
	boxes := s.Mailboxes()
	for _, id := range slices.Sorted(maps.Keys(boxes)) {
		resets := rows(boxes[id])
		if resets == nil {
			resets = []rowJSON{}
		}
		j.Mailboxes = append(j.Mailboxes, mailboxJSON{row(id), resets})
	}
	return writeJSON(out, j)
}
