package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"redlocket/core/directory"
	"redlocket/core/tidy"
	"redlocket/core/transfer"
	"redlocket/core/vault"
	"redlocket/wording"
)

// The form of what is written stands in docs/tidy.md.
type suspectsJSON struct {
	Files     []string       `json:"files,omitempty"`
	Proposals []proposalJSON `json:"proposals"`
}

type proposalJSON struct {
	Sure     string       `json:"sure"` // sure, likely or question
	Rows     []rowJSON    `json:"rows"`
	Reasons  []reasonJSON `json:"reasons"`
	Survives survivesJSON `json:"survives"`
}

// rowJSON is a row of a file, or a login of the vault.
type rowJSON struct {
	File *int   `json:"file,omitempty"` // by place in files
	Line int    `json:"line,omitempty"`
	ID   string `json:"id,omitempty"`
}

type reasonJSON struct {
	Why  string `json:"why"`
	A    string `json:"a,omitempty"`
	B    string `json:"b,omitempty"`
	Says string `json:"says"`
}

type survivesJSON struct {
	Title      string   `json:"title"`
	Username   string   `json:"username"`
	Address    string   `json:"address,omitempty"`
	PasswordOf *rowJSON `json:"password_of,omitempty"`
}

func suspectsCommand() *cobra.Command {
	var o fileOptions
	cmd := &cobra.Command{
		Use: "suspects [FILE…]", Short: "Says which logins may be the same one, as JSON",
		Long: `Finds logins that may be one and the same, and says why, how sure that is, and what
would survive: of the rows of files, without a vault, or without files of the vault
itself. Nothing is changed, and no password is written. The form is described in
docs/tidy.md.

Exit codes: 0 all was read; 1 something failed; 2 wrong master password; 3 some rows
or files couldn't be used; 4 Red Locket is running.`,
		RunE: func(cmd *cobra.Command, names []string) error {
			if len(names) == 0 {
				return suspectsOfVault(cmd.Context(), o, cmd.OutOrStdout())
			}
			return suspectsOfFiles(cmd.Context(), names, cmd.OutOrStdout(), cmd.ErrOrStderr())
		},
	}
	o.flags(cmd)
	return cmd
}

// fileRows are the rows of files, all together, as entries whose ids say where each is from.
type fileRows struct {
	Files   []string
	Entries []vault.Entry
	rows    map[string]rowJSON
	left    int // rows and files that couldn't be used
}

func readRows(ctx context.Context, names []string, said io.Writer) (*fileRows, error) {
	f := &fileRows{rows: map[string]rowJSON{}}
	for i, name := range names {
		b, err := os.ReadFile(name)
		if err != nil {
			return nil, err
		}
		f.Files = append(f.Files, filepath.Base(name))
		src, err := transfer.Read(ctx, filepath.Base(name), b, nil)
		if err != nil {
			f.left++
			fmt.Fprintf(said, "not taken: %s: %s\n", filepath.Base(name), wording.Error(err))
			continue
		}
		f.left += len(src.Broken)
		for _, r := range src.Rows {
			e := r.Entry
			e.ID = fmt.Sprintf("%d:%d", i, r.Line)
			f.rows[e.ID] = rowJSON{File: &i, Line: r.Line}
			f.Entries = append(f.Entries, e)
		}
	}
	return f, nil
}

func (f *fileRows) row(id string) rowJSON { return f.rows[id] }

// done is the exit code where not everything could be used.
func (f *fileRows) done() error {
	if f.left > 0 {
		return exit{exitRows, fmt.Errorf("%d of the rows and files couldn't be used", f.left)}
	}
	return nil
}

// suspectsOfFiles looks at the rows of files, all together.
func suspectsOfFiles(ctx context.Context, names []string, out, said io.Writer) error {
	f, err := readRows(ctx, names, said)
	if err != nil {
		return err
	}
	found, err := tidy.Find(ctx, f.Entries, tidy.Options{Site: directory.New(directory.Shipped()).Of})
	if err != nil {
		return err
	}
	if err := writeSuspects(out, suspectsJSON{Files: f.Files}, found, f.row); err != nil {
		return err
	}
	return f.done()
}

// suspectsOfVault looks at the logins of a vault.
func suspectsOfVault(ctx context.Context, o fileOptions, out io.Writer) error {
	v, done, err := o.open(ctx, newTerminal())
	if err != nil {
		return err
	}
	defer done()
	l, err := v.Tidying.List(ctx)
	if err != nil {
		return err
	}
	return writeSuspects(out, suspectsJSON{}, l.Left(), rowOfVault)
}

func rowOfVault(id string) rowJSON { return rowJSON{ID: id} }

func writeSuspects(out io.Writer, j suspectsJSON, found []tidy.Proposal, row func(id string) rowJSON) error {
	j.Proposals = []proposalJSON{}
	for _, p := range found {
		one := proposalJSON{
			Sure: string(p.Sure),
			Survives: survivesJSON{
				Title: p.Survives.Title, Username: p.Survives.Username, Address: p.Survives.Address,
			},
		}
		for _, id := range p.IDs {
			one.Rows = append(one.Rows, row(id))
		}
		if id := p.Survives.PasswordOf; id != "" {
			r := row(id)
			one.Survives.PasswordOf = &r
		}
		for _, r := range p.Reasons {
			one.Reasons = append(one.Reasons, reasonJSON{string(r.Why), r.A, r.B, wording.Reason(r)})
		}
		j.Proposals = append(j.Proposals, one)
	}
	return writeJSON(out, j)
}

func writeJSON(out io.Writer, v any) error {
	e := json.NewEncoder(out)
	e.SetIndent("", " ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}
