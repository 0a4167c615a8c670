package web

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"redlocket/app/importing"
	"redlocket/app/reauth"
	"redlocket/app/records"
	"redlocket/core/secret"
	"redlocket/core/transfer"
	"redlocket/core/vault"
)

// exportPages make an export or a backup and read a backup back.
type exportPages struct{ *Server }

func (s exportPages) routes(r routes) {
	r.post("/export", s.export)
	r.post("/export/chosen", s.importPage)
	r.post("/export/may", s.mayExport)
	r.post("/backup", s.backup)
	r.post("/backup/plan", s.planBackups)
}

// mayExport answers whether the master password has to be shown first.
func (s exportPages) mayExport(w http.ResponseWriter, r *http.Request) error {
	if err := vaultOf(r).Guard.Grant(reauth.Export); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

func (s exportPages) export(w http.ResponseWriter, r *http.Request) error {
	sel := importing.Selection{Format: importing.Format(r.FormValue("format")), Archived: r.FormValue("archived") != ""}
	sel.Book = r.FormValue("book")
	if ids := strings.Fields(r.FormValue("ids")); len(ids) > 0 {
		sel.IDs = ids
	}
	for _, c := range transfer.CSVColumns() {
		if slices.Contains(r.Form["column"], string(c.Meaning)) {
			sel.Columns = append(sel.Columns, c.Meaning)
		}
	}
	var b bytes.Buffer
	_, err := vaultOf(r).Exports.Write(r.Context(), &b, sel)
	if err != nil {
		return s.importFailed(w, r, err)
	}
	name, kind := "red-locket-"+time.Now().Format(time.DateOnly), "application/json"
	switch sel.Format {
	case importing.FormatCSV:
		name, kind = name+".csv", "text/csv; charset=utf-8"
	case importing.FormatExchange:
		name += ".exchange.json"
	default:
		name += ".json"
	}
	download(w, name, kind)
	_, _ = b.WriteTo(w)
	return nil
}

// backup sends everything, sealed with a passphrase.
func (s exportPages) backup(w http.ResponseWriter, r *http.Request) error {
	p := secret.New(r.FormValue("passphrase"))
	err := vaultOf(r).Guard.Require(reauth.Export)
	if err == nil && !p.Equal(secret.New(r.FormValue("again"))) {
		err = &records.InputError{Field: "again", Err: errors.New("the two aren’t the same; nothing was written")}
	}
	out := &lateWriter{w: w, head: func() {
		download(w, "red-locket-"+time.Now().Format(time.DateOnly)+".age", "application/octet-stream")
	}}
	if err == nil {
		b := vaultOf(r).Backups
		if book := r.FormValue("book"); book != records.AllBooks {
			_, err = b.WriteBook(r.Context(), out, p, book)
		} else {
			_, err = b.Write(r.Context(), out, p)
		}
	}
	switch {
	case err == nil:
	case out.begun:
		panic(http.ErrAbortHandler) // the browser must not take a part for the whole
	default:
		return s.importFailed(w, r, err)
	}
	return nil
}

// restoreBackup brings a backup in, as it is uploaded. Its passphrase comes before it.
func (s *Server) restoreBackup(w http.ResponseWriter, r *http.Request) error {
	r.Body = http.MaxBytesReader(w, r.Body, vault.MaxFilesSize+importing.MaxBackup)
	parts, err := r.MultipartReader()
	var passphrase []byte
	for err == nil {
		part, err2 := parts.NextPart()
		if err2 != nil {
			err = &records.InputError{Field: "restore", Err: errors.New("choose a backup first")}
			break
		}
		if part.FormName() == "passphrase" {
			passphrase, err = io.ReadAll(io.LimitReader(part, 1<<12))
			continue
		}
		if part.FileName() == "" {
			continue
		}
		var done importing.Saved
		if done, err = vaultOf(r).Backups.Restore(r.Context(), part, secret.New(string(passphrase)), nil); err == nil {
			s.sessions.Put(
				r.Context(),
				sessionSaid,
				fmt.Sprintf(
					"Restored from the backup: %s and %s.",
					plural(done.Items, "item", "items"),
					plural(done.Files, "file", "files"),
				),
			)
			redirect(w, r, "/import")
			return nil
		}
		break
	}
	if errors.Is(err, importing.ErrWrongPassphrase) || errors.Is(err, importing.ErrBackupBroken) {
		err = &records.InputError{Field: "restore", Err: err}
	}
	return s.showImport(w, r, http.StatusUnprocessableEntity, nil, err)
}

// planBackups has backups written to a folder from here on, or no longer.
func (s exportPages) planBackups(w http.ResponseWriter, r *http.Request) error {
	v := vaultOf(r)
	var err error
	words := "No more backups are written by themselves. Those that are there stay."
	if r.FormValue("stop") != "" {
		err = v.Backups.Unschedule(r.Context())
	} else {
		days, _ := strconv.Atoi(r.FormValue("every")) // nonsense is refused as too often
		words = "A backup was written and read back. From here on that happens by itself while the vault is open."
		err = v.Backups.Schedule(r.Context(), r.FormValue("folder"), time.Duration(days)*24*time.Hour,
			secret.New(r.FormValue("passphrase")))
	}
	if err != nil {
		return s.importFailed(w, r, err)
	}
	s.sessions.Put(r.Context(), sessionSaid, words)
	redirect(w, r, "/import")
	return nil
}
