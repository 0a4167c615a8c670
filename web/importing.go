package web

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"strconv"
	"strings"

	"github.com/go-chi/chi/v5"

	"redlocket/app"
	"redlocket/app/importing"
	"redlocket/app/reauth"
	"redlocket/app/records"
	"redlocket/core/secret"
	"redlocket/core/transfer"
	"redlocket/wording"
)

// importPages take a file in, show its plan and carry it out.
type importPages struct{ *Server }

func (s importPages) routes(r routes) {
	r.get("/import", s.importPage)
	r.get("/import/", s.importPage)
	r.post("/import/columns", s.setColumns)
	r.post("/import/decide", s.decide)
	r.post("/import/show", s.showCandidate)
	r.get("/import/broken.csv", s.brokenRows)
	r.post("/import/start", s.startImport)
	r.post("/import/stop", s.stopImport)
	r.post("/import/put-back", s.putBack)
	r.post("/import/{id}/undo", s.undoImport)
	r.get("/import/{id}/originals/{n}", s.original)
	r.post("/import/{id}/forget", s.forgetOriginals)
}

// importData is the section Import: files and what they would do, or where to begin.
type importData struct {
	Files     []fileView
	Groups    []groupView
	Bar       []barPart
	Rows      int
	Logins    int // that are written
	Undecided int
	Reused    int // of the whole vault, once an import is done
	Sure      int // proposals to join, likewise
	Unsure    int
	Broken    int
	Told      []toldView // what is said of rows, line by line
	State     importing.State
	Percent   int
	Unread    []string
	Past      []transfer.Import
	Kept      []importing.Originals
	Backups   *importing.BackupPlan
	Lacks     []string // files that the last backup lacks
	Folder    string   // that was typed for backups and refused
	Columns   []transfer.CSVColumn
	Count     int    // items of the vault
	Chosen    string // ids, where not everything is to be written out
	ChosenN   int
	Books     []records.NamedBook // where there are several
	Book      string              // that is to be written out
	First     int                 // the step of setting up a vault that was just made; 0 for none
}

type fileView struct {
	Place   int
	Name    string
	Words   string
	Guessed bool // some of its columns by their content
	Unsure  bool // so that its user should look
	Columns []columnView
}

type columnView struct {
	transfer.Column
	Place   int
	Samples []string
}

type groupView struct {
	transfer.Count
	Group   transfer.Group
	Title   string
	Means   string
	Does    string // what happens with it
	Note    string
	Options []optionView
	List    []stepView
	More    int // that aren't drawn
	Open    bool
}

type optionView struct {
	Decision transfer.Decision
	Pick     int
	Words    string
	On       bool
}

type stepView struct {
	transfer.Step
	Where   string // file and line
	Options []optionView
	Choices []candidateView
}

type candidateView struct {
	Place int
	Words string // where it is from, and of when
}

// barPart is a part of the bar over a plan, in units of its view box.
type barPart struct {
	Group transfer.Group
	X, W  float64
}

const (
	drawnSteps = 60 // of a group at first
	barWidth   = 1000
)

var groupWords = map[transfer.Group]struct{ title, means string }{
	transfer.GroupNew:    {"new", "sites or user names that the vault doesn’t have"},
	transfer.GroupTwin:   {"twins in the files", "one login, saved more than once"},
	transfer.GroupKnown:  {"known already", "nothing of it is missing in the vault"},
	transfer.GroupMore:   {"known, with something to add", "the same login; the files have more of it"},
	transfer.GroupDiffer: {"in disagreement", "one site and user name, several passwords"},
}

func (s *Server) importPage(w http.ResponseWriter, r *http.Request) error {
	return s.showImport(w, r, http.StatusOK, nil, nil)
}

func (s *Server) showImport(
	w http.ResponseWriter,
	r *http.Request,
	status int,
	unread []*importing.FileError,
	err error,
) error {
	page := s.view(r, "Import", "import", nil)
	if err != nil && !page.bad(err) {
		page.Bad["form"] = errorWords(err)
	}
	d, err := readImport(r, page.Date)
	if err != nil {
		return err
	}
	for _, f := range unread {
		d.Unread = append(d.Unread, f.Name+": "+wording.Error(f.Err))
	}
	if vaultOf(r).Account.FirstDay(r.Context()).Now == app.FirstFiles {
		if d.First = stepFiles; len(d.Files) > 0 {
			d.First = stepPlan
		}
	}
	page.Data = d
	if fragment(r, "plan") {
		s.render(w, r, http.StatusOK, "plan", page)
		return nil
	}
	s.render(w, r, status, "import", page)
	return nil
}

// readImport reads what the page shows.
func readImport(r *http.Request, date func(int64) string) (d importData, err error) {
	v := vaultOf(r)
	books, err := v.Books.List()
	if err != nil {
		return d, err
	}
	for _, b := range books {
		d.Count += b.Items
	}
	if d.Book = r.FormValue("book"); len(books) > 1 {
		d.Books = books
	}
	d.Columns, d.Chosen = transfer.CSVColumns(), r.FormValue("ids")
	d.ChosenN, d.Folder = len(strings.Fields(d.Chosen)), r.FormValue("folder")
	if d.Past, err = v.Imports.History(); err != nil {
		return d, err
	}
	if d.Kept, err = v.Imports.Originals(r.Context()); err != nil {
		return d, err
	}
	d.Lacks = v.Backups.Lacks(r.Context())
	if p, ok := v.Backups.Plan(r.Context()); ok {
		d.Backups = &p
	}
	if i, err := v.Imports.Current(); err == nil {
		i.View(func(p *transfer.Plan, st importing.State) {
			d.State = st
			if st.Of > 0 {
				d.Percent = 100 * st.Done / st.Of
			}
			if st.Result != nil {
				if s, err := v.Auditing.Survey(r.Context()); err == nil {
					d.Reused = len(s.Reused())
				}
				if l, err := v.Tidying.List(r.Context()); err == nil { // else the vault was locked meanwhile
					d.Sure, d.Unsure = len(l.Sure), l.Waiting()-len(l.Sure)
				}
			}
			for _, f := range st.Unread {
				d.Unread = append(d.Unread, f.Name+": "+wording.Error(f.Err))
			}
			if !st.Running {
				d.plan(p, date, r.FormValue("open"))
			}
		})
	}
	return d, nil
}

// mostTold bounds how many rows are named on the page.
const mostTold = 200

// toldView is a group of rows of which something is said.
type toldView struct {
	ID, Title, Means string
	N                int
	Rows             []string // at most mostTold of them
	Open, Save       bool     // shown from the start; and to be saved as a file
}

func (v *toldView) add(row string) {
	if v.N++; len(v.Rows) < mostTold {
		v.Rows = append(v.Rows, row)
	}
}

// plan reads what is shown out of a plan.
func (d *importData) plan(p *transfer.Plan, date func(int64) string, open string) {
	for i, src := range p.Sources {
		d.Files = append(d.Files, viewFile(i, src, p.Sum(i)))
	}
	for _, g := range transfer.Groups {
		if gv := viewGroup(p, g, date, open == string(g)); gv.Steps > 0 {
			d.Groups = append(d.Groups, gv)
			d.Rows += gv.Rows
			if g != transfer.GroupKnown {
				d.Logins += gv.In
			}
			d.Undecided += gv.Undecided
		}
	}
	looked := toldView{
		ID: "remarks", Title: "to look at", Means: "taken, but not quite as the file has them", Open: true,
	}
	skipped := toldView{ID: "skipped", Title: "skipped", Means: "lines that are no logins"}
	broken := toldView{
		ID: "broken", Title: "can’t be used", Means: "each with its line and the reason", Open: true, Save: true,
	}
	for _, t := range p.Told() {
		where := wording.Place(p, t)
		switch t.Fate {
		case transfer.FateBroken:
			broken.add(where + ": " + wording.Row(t.Why))
		case transfer.FateSkipped:
			skipped.add(where + ": " + wording.Skip(t.Skip))
		}
		for _, m := range t.Remarks {
			looked.add(where + ": " + wording.Remark(m))
		}
	}
	for _, v := range []toldView{looked, skipped, broken} {
		if v.N > 0 {
			d.Told = append(d.Told, v)
		}
	}
	d.Broken = broken.N
	d.Rows += d.Broken
	at := 0.0
	part := func(g transfer.Group, rows int) {
		if rows > 0 {
			w := max(6, float64(rows)*barWidth/float64(max(d.Rows, 1))-4)
			d.Bar = append(d.Bar, barPart{g, at, w})
			at += w + 4
		}
	}
	for _, g := range d.Groups {
		part(g.Group, g.Rows)
	}
	part("broken", d.Broken)
}

func viewFile(place int, src transfer.Source, sum transfer.Sum) fileView {
	f := fileView{Place: place, Name: src.Name}
	n := sum.Rows
	if src.Table == nil {
		kind := "an export of Red Locket"
		if src.Kind == transfer.KindExchange {
			kind = "Credential Exchange Format"
		}
		f.Words = plural(n, "item", "items") + " · " + kind
		return f
	}
	names := map[rune]string{
		',': "comma", ';': "semicolon", '\t': "tab", '|': "bar",
		transfer.LabelledLines: "a label on each line", transfer.ValueLines: "a value on each line",
		transfer.Dashes: "dashes", transfer.JSONObjects: "a list of objects",
	}
	delimiter := cmp.Or(names[src.Table.Delimiter], string(src.Table.Delimiter))
	f.Words = plural(n, "row", "rows") + " · " + delimiter + ", " + src.Table.Encoding
	if src.Table.Header == nil {
		f.Words += " · no header"
	}
	if sum.Taken < sum.Rows {
		f.Words += fmt.Sprintf(" · %d taken, %d can’t be used, %d skipped", sum.Taken, sum.Broken, sum.Skipped)
	}
	for i, c := range src.Column {
		cv := columnView{Column: c, Place: i}
		for _, row := range src.Table.Rows[:min(3, len(src.Table.Rows))] {
			sample := ""
			if i < len(row.Cells) {
				sample = row.Cells[i]
			}
			if sample != "" && (c.Meaning == transfer.MeansPassword || c.Meaning == transfer.MeansSetup) {
				sample = secret.Dots
			}
			if runes := []rune(sample); len(runes) > 40 {
				sample = string(runes[:39]) + "…"
			}
			cv.Samples = append(cv.Samples, sample)
		}
		f.Columns = append(f.Columns, cv)
		f.Guessed = f.Guessed || c.How == "content"
		f.Unsure = f.Unsure || c.Unsure
	}
	return f
}

func viewGroup(p *transfer.Plan, g transfer.Group, date func(int64) string, all bool) groupView {
	gv := groupView{Group: g, Count: p.Count(g), Title: groupWords[g].title, Means: groupWords[g].means, Open: all}
	for _, st := range p.Steps {
		if st.Group != g {
			continue
		}
		if len(gv.List) >= drawnSteps && !all || len(gv.List) >= 2000 {
			gv.More++
			continue
		}
		gv.List = append(gv.List, viewStep(p, st, date))
	}
	left := gv.Steps - gv.In
	switch g {
	case transfer.GroupKnown:
		gv.Does, gv.Note = "left out", "nothing is lost"
	case transfer.GroupDiffer:
		gv.Does = "newer wins"
		gv.Note = fmt.Sprintf("%d decided", gv.Steps-gv.Undecided)
		if gv.Undecided > 0 {
			gv.Does = "both stay"
			gv.Note += fmt.Sprintf(", %d to be tried at the site", gv.Undecided)
		}
		gv.Options = []optionView{
			{transfer.DecideNewer, 0, "Newer wins", false},
			{transfer.DecideBoth, 0, "Both stay", false},
			{transfer.DecideSkip, 0, "Leave out", false},
		}
	default:
		gv.Does = "added"
		if g == transfer.GroupTwin {
			gv.Does = "joined into " + strconv.Itoa(gv.Steps)
		}
		if left > 0 {
			gv.Note = plural(left, "is left out", "are left out")
		}
		gv.Options = []optionView{
			{transfer.DecideAdd, 0, "Add all", left == 0},
			{transfer.DecideSkip, 0, "Leave all out", gv.In == 0},
		}
	}
	return gv
}

func viewStep(p *transfer.Plan, st transfer.Step, date func(int64) string) stepView {
	out := stepView{Step: st}
	var where []string
	for _, r := range st.Rows[:min(3, len(st.Rows))] {
		where = append(where, wording.Where(p.Sources[r.Source], r.Line))
	}
	if len(st.Rows) > 3 {
		where = append(where, "…")
	}
	out.Where = strings.Join(where, "; ")
	option := func(d transfer.Decision, pick int, words string) {
		out.Options = append(
			out.Options,
			optionView{d, pick, words, st.Decision == d && (d != transfer.DecideThis || st.Pick == pick)},
		)
	}
	switch st.Group {
	case transfer.GroupKnown:
	case transfer.GroupDiffer:
		for n, c := range st.Candidates {
			cv := candidateView{n, candidateFrom(p, c)}
			if c.At > 0 {
				cv.Words += ", of " + date(c.At)
			} else {
				cv.Words += ", no date"
			}
			out.Choices = append(out.Choices, cv)
			option(transfer.DecideThis, n, "Take "+candidateFrom(p, c))
		}
		if st.Dated() {
			option(transfer.DecideNewer, 0, "Newer wins")
		}
		option(transfer.DecideBoth, 0, "Both stay, to be tried")
		option(transfer.DecideApart, 0, "Logins of their own")
		option(transfer.DecideSkip, 0, "Leave out")
	default:
		option(transfer.DecideAdd, 0, "Add")
		option(transfer.DecideSkip, 0, "Leave out")
	}
	return out
}

func candidateFrom(p *transfer.Plan, c transfer.Candidate) string {
	var from []string
	if c.Vault {
		from = append(from, "the vault’s")
	}
	for _, s := range c.Sources {
		from = append(from, "that of "+p.Sources[s].Name)
	}
	return strings.Join(from, " and ")
}

// importFailed shows what was wrong with a form of the page, or that something failed.
func (s *Server) importFailed(w http.ResponseWriter, r *http.Request, err error) error {
	var in *records.InputError
	if errors.As(err, &in) {
		return s.showImport(w, r, http.StatusUnprocessableEntity, nil, err)
	}
	return err
}

// atOnce is how large files may be that are read while their user waits, in bytes.
const atOnce = 3 << 20

func totalSize(files []importing.File) (n int) {
	for _, f := range files {
		n += len(f.Bytes)
	}
	return n
}

// takeFiles takes files, or pasted text, into the import that is being prepared.
func (s *Server) takeFiles(w http.ResponseWriter, r *http.Request) error {
	r.Body = http.MaxBytesReader(w, r.Body, importing.MaxBytes+(2<<20))
	parts, err := r.MultipartReader()
	var files []importing.File
	for err == nil {
		part, err2 := parts.NextPart()
		if err2 == io.EOF {
			break
		}
		if err = err2; err != nil {
			break
		}
		var b []byte
		if b, err = io.ReadAll(io.LimitReader(part, transfer.MaxBytes+1)); err != nil {
			break
		}
		switch name := part.FileName(); {
		case name != "":
			files = append(files, importing.File{Name: name, Bytes: b})
		case part.FormName() == "text" && len(bytes.TrimSpace(b)) > 0:
			files = append(files, importing.File{Name: "pasted text", Bytes: b})
		}
	}
	var tooBig *http.MaxBytesError
	if errors.As(err, &tooBig) {
		err = importing.ErrTooMuch
	}
	if err != nil || len(files) == 0 {
		if err == nil {
			err = errors.New("choose a file first, or paste its text")
		}
		return s.showImport(w, r, http.StatusUnprocessableEntity, nil, err)
	}
	if totalSize(files) > atOnce {
		if err := vaultOf(r).Imports.PrepareInBackground(files); err != nil {
			return s.showImport(w, r, http.StatusUnprocessableEntity, nil, err)
		}
		redirect(w, r, "/import")
		return nil
	}
	_, unread, err := vaultOf(r).Imports.Prepare(r.Context(), files)
	if err != nil || len(unread) > 0 {
		return s.showImport(w, r, http.StatusUnprocessableEntity, unread, err)
	}
	redirect(w, r, "/import")
	return nil
}

// importing calls fn with the import that is being prepared, and shows what it made of it.
func (s importPages) importing(w http.ResponseWriter, r *http.Request, fn func(*importing.Job) error) error {
	i, err := vaultOf(r).Imports.Current()
	if err == nil {
		err = fn(i)
	}
	if err != nil {
		return s.showImport(w, r, http.StatusUnprocessableEntity, nil, err)
	}
	if r.Header.Get("HX-Request") == "" {
		redirect(w, r, "/import")
		return nil
	}
	return s.showImport(w, r, http.StatusOK, nil, nil)
}

func (s importPages) setColumns(w http.ResponseWriter, r *http.Request) error {
	return s.importing(w, r, func(i *importing.Job) error {
		file, err := strconv.Atoi(r.FormValue("file"))
		if err != nil {
			return importing.ErrNoImport
		}
		var list []transfer.Meaning
		for _, m := range r.Form["meaning"] {
			list = append(list, transfer.Meaning(m))
		}
		return i.SetColumns(r.Context(), file, list)
	})
}

func (s importPages) decide(w http.ResponseWriter, r *http.Request) error {
	return s.importing(w, r, func(i *importing.Job) error {
		d, pick, _ := strings.Cut(r.FormValue("decision"), " ")
		n, _ := strconv.Atoi(pick) // none is 0
		return i.Decide(r.FormValue("key"), transfer.Group(r.FormValue("group")), transfer.Decision(d), n)
	})
}

func (s importPages) startImport(w http.ResponseWriter, r *http.Request) error {
	return s.importing(w, r, func(i *importing.Job) error { return i.Start(r.FormValue("keep") != "") })
}

func (s importPages) stopImport(w http.ResponseWriter, r *http.Request) error {
	return s.importing(w, r, func(i *importing.Job) error {
		i.Stop()
		return nil
	})
}

func (s importPages) putBack(w http.ResponseWriter, r *http.Request) error {
	if err := vaultOf(r).Imports.Drop(); err != nil {
		return err
	}
	redirect(w, r, "/import")
	return nil
}

func (s importPages) undoImport(w http.ResponseWriter, r *http.Request) error {
	u, err := vaultOf(r).Imports.Undo(r.Context(), chi.URLParam(r, "id"))
	if errors.Is(err, transfer.ErrNoImport) {
		return s.showImport(w, r, http.StatusConflict, nil, err)
	}
	if err == nil {
		err = vaultOf(r).Imports.Drop() // its summary is over
	}
	words := fmt.Sprintf(
		"Taken back: %s gone, %s as before.",
		plural(u.Gone, "item", "items"),
		plural(u.Back, "item", "items"),
	)
	if len(u.Kept) > 0 {
		words += " What was edited since stays: " + strings.Join(u.Kept[:min(5, len(u.Kept))], ", ")
		if len(u.Kept) > 5 {
			words += " and " + plural(len(u.Kept)-5, "other", "others")
		}
		words += "."
	}
	if err != nil {
		return err
	}
	s.sessions.Put(r.Context(), sessionSaid, words)
	redirect(w, r, "/import")
	return nil
}

// showCandidate shows one of several passwords of a step.
func (s importPages) showCandidate(w http.ResponseWriter, r *http.Request) error {
	err := vaultOf(r).Guard.Require(reauth.Show)
	var i *importing.Job
	if err == nil {
		i, err = vaultOf(r).Imports.Current()
	}
	if err != nil {
		return err
	}
	var groups []Group
	pick, _ := strconv.Atoi(r.FormValue("pick"))
	i.View(func(p *transfer.Plan, _ importing.State) {
		for _, st := range p.Steps {
			if st.Key == r.FormValue("key") && pick >= 0 && pick < len(st.Candidates) {
				groups = grouped(st.Candidates[pick].Password.Reveal())
			}
		}
	})
	s.render(w, r, http.StatusOK, "shown-candidate", View{Data: groups})
	return nil
}

// brokenRows sends the rows that can't be used as a table to mend.
func (s importPages) brokenRows(w http.ResponseWriter, r *http.Request) error {
	i, err := vaultOf(r).Imports.Current()
	if err != nil {
		return err
	}
	var b bytes.Buffer
	i.View(func(p *transfer.Plan, _ importing.State) {
		var header []string
		for _, src := range p.Sources {
			if src.Table != nil && len(src.Broken) > 0 && header == nil {
				header = src.Table.Header
			}
		}
		err = transfer.WriteBroken(&b, header, p.Broken, wording.Row)
	})
	if err != nil {
		return err
	}
	download(w, "to-mend.csv", "text/csv; charset=utf-8")
	_, _ = b.WriteTo(w)
	return nil
}

func download(w http.ResponseWriter, name, kind string) {
	w.Header().Set("Content-Type", kind)
	w.Header().Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": name}))
}

func (s importPages) original(w http.ResponseWriter, r *http.Request) error {
	n, _ := strconv.Atoi(chi.URLParam(r, "n"))
	name, b, err := vaultOf(r).Imports.Original(r.Context(), chi.URLParam(r, "id"), n)
	if err != nil {
		return err
	}
	download(w, name, "application/octet-stream")
	_, _ = w.Write(b)
	return nil
}

func (s importPages) forgetOriginals(w http.ResponseWriter, r *http.Request) error {
	if err := vaultOf(r).Imports.ForgetOriginals(r.Context(), chi.URLParam(r, "id")); err != nil {
		return err
	}
	s.sessions.Put(r.Context(), sessionSaid, "The kept files are gone from this computer.")
	redirect(w, r, "/import")
	return nil
}
