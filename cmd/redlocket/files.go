package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"redlocket/app"
	"redlocket/app/importing"
	"redlocket/core/find"
	"redlocket/core/secret"
	"redlocket/core/transfer"
	"redlocket/wording"
)

// The exit codes of the commands over files.
const (
	exitTrouble  = 1 // something failed; nothing was changed
	exitPassword = 2 // the master password or the passphrase isn't right
	exitRows     = 3 // some rows or files couldn't be used; the others were
	exitInUse    = 4 // Red Locket is running on the same data
)

// exit is an error with an exit code of its own.
type exit struct {
	code int
	err  error
}

func (e exit) Error() string { return e.err.Error() }
func (e exit) Unwrap() error { return e.err }

func exitCode(err error) int {
	var e exit
	var wrong *app.WrongPassword
	switch {
	case errors.As(err, &e):
		return e.code
	case errors.As(err, &wrong), errors.Is(err, importing.ErrWrongPassphrase):
		return exitPassword
	}
	return exitTrouble
}

// errNoVault is returned for a data folder that hasn't the vault that was asked for.
var errNoVault = errors.New("there is no such vault")

// errInUse is returned where another process works on the data.
var errInUse = errors.New("another Red Locket is running on this data already: use its pages, or end it first")

// holdFolder makes sure that one process at a time works on a data folder. The lock goes
// with the process, however that ends.
func holdFolder(dir string) (release func(), err error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	lock := flock.New(filepath.Join(dir, "in-use.lock"), flock.SetPermissions(0o600))
	switch held, err := lock.TryLock(); {
	case err != nil:
		return nil, fmt.Errorf("failed to lock %s: %w", dir, err)
	case !held:
		return nil, exit{exitInUse, errInUse}
	}
	return func() { _ = lock.Close() }, nil
}

// terminal asks for what must not be seen, and shows how far work is.
type terminal struct {
	in  *bufio.Reader
	out io.Writer
}

func newTerminal() *terminal { return &terminal{bufio.NewReader(os.Stdin), os.Stderr} }

// secret asks for a password: without showing it, or from a line of a pipe.
func (t *terminal) secret(question string) (secret.Text, error) {
	if term.IsTerminal(int(os.Stdin.Fd())) {
		fmt.Fprint(t.out, question+": ")
		b, err := term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(t.out)
		return secret.New(string(b)), err
	}
	line, err := t.in.ReadString('\n')
	if err == io.EOF && line != "" {
		err = nil
	}
	if err != nil {
		return secret.Text{}, fmt.Errorf("%s: nothing was given; write it on a line of the input", question)
	}
	return secret.New(strings.TrimRight(line, "\r\n")), nil
}

// bar draws how far work is, on a terminal only.
func (t *terminal) bar(what string) func(done, of int) {
	if !term.IsTerminal(int(os.Stderr.Fd())) {
		return func(int, int) {}
	}
	last := time.Time{}
	return func(done, of int) {
		if of == 0 || time.Since(last) < 50*time.Millisecond && done < of {
			return
		}
		last = time.Now()
		n := 30 * done / of
		fmt.Fprintf(t.out, "\r%s [%s%s] %d of %d ", what, strings.Repeat("=", n), strings.Repeat(" ", 30-n), done, of)
		if done >= of {
			fmt.Fprintln(t.out)
		}
	}
}

// fileOptions are those of all commands over files.
type fileOptions struct {
	device  deviceOptions
	profile string
}

func (o *fileOptions) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&o.device.dir, "data", "", "folder that keeps the profiles (default: your own)")
	cmd.Flags().StringVar(&o.profile, "profile", "", "e-mail address of the vault, where there are several")
}

// open opens the vault that is meant, with its master password.
func (o *fileOptions) open(ctx context.Context, t *terminal) (v *app.Vault, done func(), err error) {
	d, release, err := o.hold(ctx)
	if err != nil {
		return nil, nil, err
	}
	done = func() {
		_ = d.device.Close()
		release()
	}
	cards, err := d.device.Profiles(ctx)
	if err != nil {
		done()
		return nil, nil, err
	}
	var card *app.Profile
	for i := range cards {
		if o.profile == "" && len(cards) == 1 || strings.EqualFold(cards[i].Email, o.profile) {
			card = &cards[i]
		}
	}
	if card == nil {
		done()
		if len(cards) > 1 && o.profile == "" {
			return nil, nil, errors.New(
				"there are several vaults here; say which one with --profile and its e-mail address",
			)
		}
		return nil, nil, fmt.Errorf("%w in %s", errNoVault, o.device.dir)
	}
	password, err := t.secret("Master password of " + card.Email)
	if err == nil {
		v, err = d.device.Unlock(ctx, card.ID, password)
	}
	if err != nil {
		done()
		return nil, nil, err
	}
	return v, done, nil
}

func (o *fileOptions) hold(ctx context.Context) (*deviceApp, func(), error) {
	if err := o.device.ownFolder(); err != nil {
		return nil, nil, err
	}
	release, err := holdFolder(o.device.dir)
	if err != nil {
		return nil, nil, err
	}
	d, err := newDevice(o.device)
	if err != nil {
		release()
		return nil, nil, err
	}
	return d, release, nil
}

func importCommand() *cobra.Command {
	var o fileOptions
	var how importFlags
	cmd := &cobra.Command{
		Use: "import FILE…", Short: "Brings logins in from files, or says what it would " +
			"do", Args: cobra.MinimumNArgs(1),
		Long: `Brings logins in from files: tables and lists as browsers and other programs write them,
exports of Red Locket, and the Credential Exchange Format.

Where files disagree about a password the newer one becomes current if its date is
known; else all stay at hand until one was tried. Nothing is lost, and the
import can be taken back in the pages, under Import.

Exit codes: 0 all was imported; 1 nothing was, because something failed; 2 wrong
master password; 3 some rows or files couldn't be used; 4 Red Locket is running.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			return runImport(cmd.Context(), o, args, how, cmd.OutOrStdout())
		},
	}
	o.flags(cmd)
	cmd.Flags().BoolVar(&how.dry, "dry-run", false, "only say what would be done")
	cmd.Flags().BoolVar(&how.json, "json", false, "write the plan as JSON: what becomes of every row")
	cmd.Flags().StringVar(&how.columns, "columns", "",
		"what a table's columns are, in their order: title,address,username,password,notes,own,nothing …")
	cmd.Flags().BoolVar(&how.guess, "guess", false, "take columns for what they look like, even if that isn't sure")
	cmd.Flags().BoolVar(&how.keep, "keep", false, "keep the files sealed on this computer for 30 days")
	return cmd
}

type importFlags struct {
	dry, keep, json, guess bool
	columns                string
}

// meanings reads what the columns are said to be.
func (f importFlags) meanings() (out []transfer.Meaning, err error) {
	if f.columns == "" {
		return nil, nil
	}
	for word := range strings.SplitSeq(f.columns, ",") {
		m := transfer.Meaning(strings.ToLower(strings.TrimSpace(word)))
		if !m.Known() {
			return nil, fmt.Errorf("%q is nothing that a column can be; it can be: %v", word, transfer.Meanings())
		}
		out = append(out, m)
	}
	return out, nil
}

// errUnsure is returned where it isn't sure what a table's columns are, and nobody said it.
var errUnsure = errors.New("it isn't sure what the columns are, so nothing was imported; " +
	"say it with --columns, or take them as shown with --guess")

func runImport(ctx context.Context, o fileOptions, names []string, how importFlags, out io.Writer) error {
	columns, err := how.meanings()
	if err != nil {
		return err
	}
	var files []importing.File
	for _, name := range names {
		b, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		files = append(files, importing.File{Name: filepath.Base(name), Bytes: b, Columns: columns})
	}
	t := newTerminal()
	v, done, err := o.open(ctx, t)
	if err != nil {
		return err
	}
	defer done()
	i, unread, err := v.Imports.Prepare(ctx, files)
	if err != nil {
		return err
	}
	left := len(unread)
	said := out
	if how.json {
		said = t.out // what isn't the plan stays out of it
	}
	for _, f := range unread {
		fmt.Fprintf(said, "not taken: %s: %s\n", f.Name, wording.Error(f.Err))
	}
	var failed error
	unsure := false
	i.View(func(p *transfer.Plan, _ importing.State) {
		unsure = tellColumns(said, p)
		if how.json {
			left += len(p.Broken)
			failed = writePlan(out, p)
		} else {
			left += tell(out, p)
		}
	})
	if failed != nil {
		return failed
	}
	if unsure && !how.guess && !how.dry {
		return errUnsure
	}
	if !how.dry {
		if err := carryOut(ctx, t, i, how.keep, said); err != nil {
			return err
		}
	}
	if left > 0 {
		return exit{exitRows, fmt.Errorf("%d of the rows and files couldn't be used", left)}
	}
	return nil
}

// tellColumns says what is taken for what where that isn't sure, and reports whether there is such a file.
func tellColumns(out io.Writer, p *transfer.Plan) (unsure bool) {
	for _, src := range p.Sources {
		if !slices.ContainsFunc(src.Column, func(c transfer.Column) bool { return c.Unsure }) {
			continue
		}
		unsure = true
		fmt.Fprintf(out, "%s: it isn't sure what the columns are:\n", src.Name)
		for _, c := range src.Column {
			mark := ""
			if c.Unsure {
				mark = " ?"
			}
			fmt.Fprintf(out, "  %s: %s%s\n", c.Name, c.Meaning, mark)
		}
	}
	return unsure
}

// tell writes a plan down, and returns how many rows can't be used.
func tell(out io.Writer, p *transfer.Plan) int {
	words := map[transfer.Group]string{
		transfer.GroupNew:    "new",
		transfer.GroupTwin:   "new, from several rows each",
		transfer.GroupKnown:  "known already",
		transfer.GroupMore:   "known, with something to add",
		transfer.GroupDiffer: "in disagreement",
	}
	for _, g := range transfer.Groups {
		c := p.Count(g)
		if c.Rows == 0 {
			continue
		}
		fmt.Fprintf(out, "%6d rows, %d logins: %s", c.Rows, c.Steps, words[g])
		if c.Undecided > 0 {
			fmt.Fprintf(out, ", %d of them to be tried", c.Undecided)
		}
		fmt.Fprintln(out)
	}
	for i, src := range p.Sources {
		n := p.Sum(i)
		fmt.Fprintf(out, "%s: %d rows: %d taken, %d not used, %d skipped\n",
			src.Name, n.Rows, n.Taken, n.Broken, n.Skipped)
	}
	for _, r := range p.Told() {
		where := wording.Place(p, r)
		switch {
		case r.Fate == transfer.FateBroken:
			fmt.Fprintf(out, "not used: %s: %s\n", where, wording.Row(r.Why))
		case r.Fate == transfer.FateSkipped:
			fmt.Fprintf(out, "skipped: %s: %s\n", where, wording.Skip(r.Skip))
		}
		for _, m := range r.Remarks {
			fmt.Fprintf(out, "taken: %s: %s\n", where, wording.Remark(m))
		}
	}
	return len(p.Broken)
}

func carryOut(ctx context.Context, t *terminal, i *importing.Job, keep bool, out io.Writer) error {
	if err := i.Start(keep); err != nil {
		return err
	}
	show := t.bar("Bringing in")
	for {
		var st importing.State
		i.View(func(_ *transfer.Plan, s importing.State) { st = s })
		if !st.Running {
			if st.Err == nil {
				fmt.Fprintf(out, "imported: %d new, %d changed\n", st.Result.Made, st.Result.Changed)
			}
			return st.Err
		}
		if st.Step == importing.StepSealing {
			show(st.Done, st.Of)
		}
		select {
		case <-ctx.Done():
			i.Stop()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

func exportCommand() *cobra.Command {
	var o fileOptions
	var format, words string
	cmd := &cobra.Command{
		Use: "export FILE", Short: "Writes everything, or what a search finds, to a file in " +
			"clear", Args: cobra.ExactArgs(1),
		Long: `Writes everything to a file, in clear: whoever finds it has your passwords.
The format is json (everything), csv (a table) or exchange (Credential Exchange Format).
With --find only what a search finds is written, in the words of the book's own search
line: --find 'folder=Bank' or --find 'gull kind=login'.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			v, done, err := o.open(cmd.Context(), newTerminal())
			if err != nil {
				return err
			}
			defer done()
			s := importing.Selection{Format: importing.Format(format), Archived: true}
			for _, c := range transfer.CSVColumns() {
				s.Columns = append(s.Columns, c.Meaning)
			}
			if words != "" {
				if s.IDs, err = found(v, words); err != nil {
					return err
				}
			}
			return writeNew(args[0], func(w io.Writer) error {
				n, err := v.Exports.Write(cmd.Context(), w, s)
				if err == nil {
					fmt.Fprintf(cmd.OutOrStdout(), "written in clear: %d items\n", n)
				}
				return err
			})
		},
	}
	o.flags(cmd)
	cmd.Flags().StringVar(&format, "format", "json", "json, csv or exchange")
	cmd.Flags().StringVar(&words, "find", "", "write only what this search finds")
	return cmd
}

// found returns the ids of what a search line finds. One that finds nothing, or that
// isn't understood, is an error: an empty file would look like all there is.
func found(v *app.Vault, line string) ([]string, error) {
	q := find.Parse(line)
	if trouble := wording.Query(q); trouble != "" {
		return nil, errors.New(trouble)
	}
	book, err := v.Book.Find(q, 0)
	if err != nil {
		return nil, err
	}
	var ids []string
	for _, s := range book.Sites {
		for _, it := range s.Accounts {
			ids = append(ids, it.ID)
		}
	}
	if len(ids) == 0 {
		return nil, fmt.Errorf("%q finds nothing; nothing was written", line)
	}
	return ids, nil
}

func backupCommand() *cobra.Command {
	var o fileOptions
	cmd := &cobra.Command{
		Use: "backup FILE", Short: "Writes everything to a file, encrypted with a passphrase", Args: cobra.ExactArgs(1),
		Long: `Writes everything, with its history and attached files, to a file that is encrypted
with a passphrase in the age format. It is read back before it counts as written.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			t := newTerminal()
			v, done, err := o.open(cmd.Context(), t)
			if err != nil {
				return err
			}
			defer done()
			p, err := t.secret("Passphrase of the backup")
			if err != nil {
				return err
			}
			again, err := t.secret("Again, to confirm")
			if err != nil {
				return err
			}
			if !p.Equal(again) {
				return exit{exitPassword, errors.New("the two passphrases aren't the same; nothing was written")}
			}
			err = writeNew(args[0], func(w io.Writer) error {
				saved, err := v.Backups.Write(cmd.Context(), w, p)
				if len(saved.Lacks) > 0 {
					fmt.Fprintf(cmd.ErrOrStderr(), "it lacks files that are nowhere to be had: %s\n",
						strings.Join(saved.Lacks, ", "))
				}
				return err
			})
			if err != nil {
				return err
			}
			f, err := os.Open(args[0])
			if err != nil {
				return err
			}
			defer f.Close()
			s, err := importing.CheckBackup(f, p)
			if err == nil {
				fmt.Fprintf(cmd.OutOrStdout(), "written and read back: %d items, %d files\n", s.Items, s.Files)
			}
			return err
		},
	}
	o.flags(cmd)
	return cmd
}

// writeNew writes a file that isn't there yet, whole or not at all, for its owner only.
func writeNew(name string, write func(io.Writer) error) (err error) {
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, os.ErrExist) {
		return fmt.Errorf("%s is there already; choose another name", name)
	}
	if err != nil {
		return err
	}
	defer func() {
		if err = errors.Join(err, f.Close()); err != nil {
			_ = os.Remove(name)
		}
	}()
	out := bufio.NewWriter(f)
	if err := write(out); err != nil {
		return err
	}
	return errors.Join(out.Flush(), f.Sync())
}

func restoreCommand() *cobra.Command {
	var o fileOptions
	var name, email string
	cmd := &cobra.Command{
		Use: "restore FILE", Short: "Makes a vault from a backup", Args: cobra.ExactArgs(1),
		Long: `Makes a vault from a backup, on a computer that has none of that e-mail address yet; or
brings what a backup has into a vault that is there. It asks for the backup's
passphrase, and for the new vault's master password.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			return runRestore(cmd.Context(), o, args[0], name, email, cmd.OutOrStdout())
		},
	}
	o.flags(cmd)
	cmd.Flags().StringVar(&email, "email", "", "e-mail address of the new vault")
	cmd.Flags().StringVar(&name, "name", "", "name of its owner")
	return cmd
}

func runRestore(ctx context.Context, o fileOptions, file, name, email string, out io.Writer) error {
	t := newTerminal()
	passphrase, err := t.secret("Passphrase of the backup")
	if err != nil {
		return err
	}
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	if _, err := importing.CheckBackup(f, passphrase); err != nil { // before a vault is made for it
		return err
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	v, done, err := o.target(ctx, t, name, email)
	if err != nil {
		return err
	}
	defer done()
	s, err := v.Backups.Restore(ctx, f, passphrase, t.bar("Restoring"))
	if err == nil {
		fmt.Fprintf(out, "restored: %d items, %d files, into the vault of %s\n", s.Items, s.Files, v.Profile().Email)
	}
	return err
}

// target is the vault that a backup goes into: the one that is there, or a new one.
func (o *fileOptions) target(ctx context.Context, t *terminal, name, email string) (*app.Vault, func(), error) {
	if email == "" {
		v, done, err := o.open(ctx, t)
		if errors.Is(err, errNoVault) {
			err = errors.New("there is no vault here yet: give --email for the new one")
		}
		return v, done, err
	}
	d, release, err := o.hold(ctx)
	if err != nil {
		return nil, nil, err
	}
	done := func() {
		_ = d.device.Close()
		release()
	}
	p, err := t.secret("Master password of the new vault")
	if err == nil {
		var again secret.Text
		if again, err = t.secret("Again, to confirm"); err == nil {
			var v *app.Vault
			if v, err = d.device.Create(ctx, app.NewVault{Name: name, Email: email, Password: p,
				Repeat: again}); err == nil {
				return v, done, nil
			}
		}
	}
	done()
	return nil, nil, err
}
