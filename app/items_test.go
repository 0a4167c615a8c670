package app_test

import (
	"bytes"
	"errors"
	"image"
	"image/color"
	"image/png"
	"slices"
	"testing"
	"time"

	"github.com/makiuchi-d/gozxing"
	"github.com/makiuchi-d/gozxing/qrcode"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app"
	"redlocket/app/filling"
	"redlocket/app/qrpicture"
	"redlocket/app/reauth"
	"redlocket/app/records"
	"redlocket/core/directory"
	"redlocket/core/find"
	"redlocket/core/otp"
	"redlocket/core/secret"
	"redlocket/core/site"
	"redlocket/core/vault"
)

func save(t *testing.T, v *app.Vault, kind vault.Type, typed records.Form) string {
	t.Helper()
	typed.Kind = kind
	if typed.Values == nil {
		typed.Values = map[vault.Field]string{}
	}
	c, err := v.Items.Check(&typed)
	require.NoError(t, err)
	id := records.NewID()
	require.NoError(t, v.Items.SaveAs(t.Context(), id, kind, c))
	return id
}

func found(t *testing.T, v *app.Vault, query string) (titles []string) {
	t.Helper()
	b, err := v.Book.Find(find.Parse(query), 0)
	require.NoError(t, err)
	for _, s := range b.Sites {
		for _, it := range s.Accounts {
			titles = append(titles, it.Title)
		}
	}
	return titles
}

func TestEveryKindIsKeptAndTravels(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	laptop := w.join(w.device("laptop"), desk)
	card := save(
		t,
		desk,
		vault.TypeCard,
		records.Form{
			Values: map[vault.Field]string{
				vault.FieldNumber: "4111 1111 1111 1111",
				vault.FieldIssuer: "Gullwing",
				vault.FieldExpiry: "3/27",
			},
		},
	)
	save(t, desk, vault.TypeNote, records.Form{Notes: "Padlock of the shed\n0-4-2"})
	save(
		t,
		desk,
		vault.TypeWiFi,
		records.Form{Values: map[vault.Field]string{vault.FieldSSID: "Tolliver Nest", vault.FieldPassword: "limpet"}},
	)
	save(
		t,
		desk,
		vault.TypePerson,
		records.Form{Values: map[vault.Field]string{"given-name": "Maren", "family-name": "Tolliver", "country": "gb"}},
	)
	assert.Equal(t, []string{"Gullwing Visa"}, found(t, desk, "kind=card"), "a title of what it is")
	assert.Equal(t, []string{"Padlock of the shed"}, found(t, desk, "shed"))
	assert.Equal(t, []string{"Tolliver Nest"}, found(t, desk, "nest"))
	require.Eventually(
		t,
		func() bool { return len(found(t, laptop, "kind=person")) == 1 },
		5*time.Second,
		time.Millisecond,
	)
	e, err := laptop.Items.Entry(card)
	require.NoError(t, err)
	assert.Equal(t, "4111111111111111", e.Text(vault.FieldNumber))

	// The kind can be changed, and nothing of what it was is lost.
	require.NoError(
		t,
		laptop.Items.SaveAs(t.Context(), card, vault.TypeMembership, vault.Changes{vault.FieldHolder: "Maren"}),
	)
	e, err = laptop.Items.Entry(card)
	require.NoError(t, err)
	assert.Equal(t, vault.TypeMembership, e.Kind())
	assert.Equal(t, "4111111111111111", e.Text(vault.FieldNumber))

	for _, bad := range []records.Form{
		{Kind: vault.TypeCard, Values: map[vault.Field]string{vault.FieldNumber: "4111 1111 1111 1112"}},
		{Kind: vault.TypeLogin, Values: map[vault.Field]string{vault.FieldSetup: "not base32!"}, Title: "x"},
		{Kind: vault.TypeLogin}, {Kind: "spaceship"},
		{Kind: vault.TypeNote, Title: "x", CustomFields: []vault.CustomField{{ID: "a", Label: "day",
			Form: vault.FormDate, Value: secret.New("never")}}},
	} {
		if bad.Values == nil {
			bad.Values = map[vault.Field]string{}
		}
		_, err := desk.Items.Check(&bad)
		var why records.FormErrors
		require.ErrorAs(t, err, &why)
		assert.NotEmpty(t, why)
	}
}

func TestActsOverManyAndUndo(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	desk := w.create(w.device("desk"))
	var ids []string
	for _, name := range []string{"Avocet", "Bittern", "Curlew"} {
		id := records.NewID()
		require.NoError(t, desk.Items.Save(t.Context(), id, login(name, "p")))
		ids = append(ids, id)
	}
	ctx := t.Context()
	moved, err := desk.Acts.Move(ctx, " Birds / Waders ", append(ids, "nobody", ids[0])...)
	require.NoError(t, err)
	assert.Equal(t, 3, moved.Count)
	assert.Len(t, found(t, desk, "folder=birds"), 3)
	_, err = desk.Acts.Tag(ctx, "#pond, far", ids[:2]...)
	require.NoError(t, err)
	_, err = desk.Acts.Tag(ctx, "-POND", ids[0])
	require.NoError(t, err)
	assert.Equal(t, []string{"Bittern"}, found(t, desk, "tag=pond"))
	_, err = desk.Acts.Pin(ctx, true, ids[1])
	require.NoError(t, err)
	assert.Equal(t, []string{"Bittern"}, found(t, desk, "=pinned"))

	require.NoError(t, desk.Items.Save(ctx, ids[2], vault.Changes{vault.FieldFolder: "Mine"}))
	u, err := desk.Acts.Undo(ctx, moved.Undo)
	require.NoError(t, err)
	assert.Equal(t, 3, u.Count)
	assert.Equal(t, []string{"Curlew"}, u.Kept, "its folder was changed since")
	assert.Empty(t, found(t, desk, "folder=birds"))
	assert.Equal(t, []string{"Curlew"}, found(t, desk, "folder=mine"))
	_, err = desk.Acts.Undo(ctx, moved.Undo)
	assert.ErrorIs(t, err, records.ErrNoAct)

	put, err := desk.Acts.Archive(ctx, ids...)
	require.NoError(t, err)
	assert.Equal(t, 3, put.Count)
	assert.Empty(t, found(t, desk, "kind=login"))
	again, err := desk.Acts.Archive(ctx, ids...)
	require.NoError(t, err)
	assert.Zero(t, again.Count, "nothing had to be changed")
	_, err = desk.Acts.Purge(ctx, ids[0])
	assert.ErrorIs(t, err, reauth.ErrNeeded)
	require.NoError(t, desk.Reauthenticate(secret.New(master)))
	gone, err := desk.Acts.Purge(ctx, ids[0])
	require.NoError(t, err)
	_, err = desk.Items.Entry(ids[0])
	assert.ErrorIs(t, err, records.ErrNoItem)
	_, err = desk.Acts.Undo(ctx, gone.Undo)
	require.NoError(t, err)
	assert.Equal(t, "p", password(t, desk, ids[0]), "until the vault is locked it can be undone")
	_, err = desk.Acts.Restore(ctx, ids...)
	require.NoError(t, err)
	assert.Len(t, found(t, desk, "kind=login"), 3)
	_, err = desk.Acts.Purge(ctx, ids[0])
	assert.Error(t, err, "only what is in the archive")

	fresh := records.NewID()
	require.NoError(t, desk.Items.Save(ctx, fresh, login("Dunlin", "p")))
	_, err = desk.Acts.Undo(ctx, desk.Acts.Last())
	require.NoError(t, err)
	assert.Empty(t, found(t, desk, "dunlin"), "writing down is undone by putting away")
}

func TestTheBookAsItWas(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	id := records.NewID()
	require.NoError(t, v.Items.Save(t.Context(), id, login("Ferrylink", "one")))
	then := time.Now().UnixMilli()
	w.now.Add((48 * time.Hour).Milliseconds())
	require.NoError(
		t,
		v.Items.Save(
			t.Context(),
			id,
			vault.Changes{vault.FieldTitle: "Quay Ferries", vault.FieldPassword: secret.New("two")},
		),
	)
	require.NoError(t, v.Items.Save(t.Context(), records.NewID(), login("Later", "x")))
	x, err := v.Book.AsOf(then + 1000)
	require.NoError(t, err)
	require.Len(t, x.Book("").Sites, 1)
	assert.Equal(t, "Ferrylink", x.Book("").Sites[0].Title)
	require.NoError(t, v.Items.RestoreAt(t.Context(), id, then+1000))
	assert.Equal(t, "one", password(t, v, id))
}

func TestAskAgainAndSettings(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	v := w.create(d)
	laptop := w.join(w.device("laptop"), v)
	assert.NoError(t, v.Guard.Require(reauth.Show), "not asked for until its user wants it")
	assert.ErrorIs(t, v.Guard.Require(reauth.Sheet), reauth.ErrNeeded)
	var wrong *app.WrongPassword
	assert.ErrorAs(t, v.Reauthenticate(secret.New("not it at all")), &wrong)
	require.NoError(t, v.Reauthenticate(secret.New(master)))
	assert.NoError(t, v.Guard.Require(reauth.Sheet))
	w.now.Add((6 * time.Minute).Milliseconds())
	v.Touch()
	assert.ErrorIs(t, v.Guard.Require(reauth.Sheet), reauth.ErrNeeded, "one answer counts for five minutes")

	s := v.Settings.Get()
	s.AskToShow, s.AskFor, s.Theme, s.Language, s.Clipboard = true, 0, "dark", "da-DK", 0
	require.NoError(t, v.Settings.Change(t.Context(), s))
	assert.ErrorIs(t, v.Guard.Require(reauth.Show), reauth.ErrNeeded)
	soon(t, "it is so", func() bool { return laptop.Settings.Get().AskToShow })
	assert.Equal(t, "da-DK", laptop.Settings.Get().Language, "for all devices")
	assert.Empty(t, laptop.Settings.Get().Theme, "for that device only")
	s.AskToShow = false
	assert.ErrorIs(t, v.Settings.Change(t.Context(), s), reauth.ErrNeeded, "to ask less often is itself asked for")
	require.NoError(t, v.Reauthenticate(secret.New(master)))
	w.now.Add((19 * time.Second).Milliseconds())
	require.NoError(t, v.Guard.Grant(reauth.Export))
	w.now.Add((10 * time.Second).Milliseconds())
	assert.NoError(t, v.Guard.Require(reauth.Export), "what was promised holds though the showing has lapsed")
	assert.ErrorIs(t, v.Guard.Require(reauth.Purge), reauth.ErrNeeded, "and holds for nothing else")
	assert.ErrorIs(t, v.Guard.Grant(reauth.Export), reauth.ErrNeeded, "nor is it made longer by another")
	w.now.Add((6 * time.Second).Milliseconds())
	assert.ErrorIs(t, v.Guard.Require(reauth.Export), reauth.ErrNeeded)
	require.NoError(t, v.Reauthenticate(secret.New(master)))
	require.NoError(t, v.Settings.Change(t.Context(), s))
	for _, bad := range []func(*app.Settings){func(s *app.Settings) { s.Theme = "pink" },
		func(s *app.Settings) { s.Language = "xx" }, func(s *app.Settings) { s.Clipboard = time.Second }, func(s *app.Settings) { s.AskFor = -1 }, func(s *app.Settings) { s.TextSize = "9" }, func(s *app.Settings) { s.Density = "9" }, func(s *app.Settings) { s.LockAfter = 15 * 24 * time.Hour }} {
		b := s
		bad(&b)
		assert.Error(t, v.Settings.Change(t.Context(), b))
	}
	v.Lock()
	v, err := d.Unlock(t.Context(), v.Profile().ID, secret.New(master))
	require.NoError(t, err)
	assert.Equal(t, "dark", v.Settings.Get().Theme, "kept, sealed")
	assert.Zero(t, v.Settings.Get().Clipboard)
}

func TestLockWhenTheLastPageIsClosed(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	d.SetCloseGrace(20 * time.Millisecond)
	v := w.create(d)
	s := v.Settings.Get()
	s.LockOnClose, s.LockOnSleep = true, false
	require.NoError(t, v.Settings.Change(t.Context(), s))
	one, two := v.PageOpened(), v.PageOpened()
	one()
	next := v.PageOpened()
	two()
	next()
	again := v.PageOpened() // the next page comes within the grace
	time.AfterFunc(60*time.Millisecond, again)
	d.LookNow(true)
	assert.False(t, v.Locked(), "sleep doesn't lock it when it isn't to")
	soon(t, "it is so", v.Locked)
}

func TestLockAtOnce(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	d.SetCloseGrace(20 * time.Millisecond)
	v := w.create(d)
	v.PageLeft()
	s := v.Settings.Get()
	s.LockAfter = app.AtOnce
	require.NoError(t, v.Settings.Change(t.Context(), s))
	v.PageLeft()
	v.Touch() // the next page
	time.AfterFunc(60*time.Millisecond, v.PageLeft)
	never(t, "it is locked", 50*time.Millisecond, v.Locked)
	soon(t, "it is so", v.Locked)
}

// A page is left for the next one, which was asked for before and may take long to be shown.
func TestAPageOnItsWayHoldsTheLock(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	d.SetCloseGrace(time.Hour)
	v := w.create(d)
	s := v.Settings.Get()
	s.LockAfter = app.AtOnce
	require.NoError(t, v.Settings.Change(t.Context(), s))
	v.Touch()
	v.PageLeft()
	never(t, "it is locked", 2500*time.Millisecond, v.Locked)
	v.PageLeft() // nothing was asked for meanwhile
	soon(t, "it is so", v.Locked)
}

// A vault that closes is no longer open, but what opens it again waits until the rest is kept.
func TestOpenedWhileItCloses(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	v := w.create(d)
	id := v.Profile().ID
	end := v.LockInSteps()
	_, open := d.Vault(id)
	assert.False(t, open, "it takes nothing any more")
	again := make(chan *app.Vault, 1)
	go func() {
		v, err := d.Unlock(t.Context(), id, secret.New(master))
		assert.NoError(t, err)
		again <- v
	}()
	select {
	case <-again:
		t.Error("it was opened before it was closed")
	case <-time.After(300 * time.Millisecond):
	}
	end()
	next := <-again
	require.NotSame(t, v, next)
	now, open := d.Vault(id)
	assert.True(t, open)
	assert.Same(t, next, now)
}

func TestRecencyAndDirectory(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	d := w.device("desk")
	v := w.create(d)
	for _, name := range []string{"Gannet Books", "Gannet Tools"} {
		save(t, v, vault.TypeLogin, records.Form{Title: name})
	}
	ferry := save(t, v, vault.TypeLogin, records.Form{Addresses: []vault.Address{{URL: "ferrylink.example/sign-in"}}})
	e, err := v.Items.Entry(ferry)
	require.NoError(t, err)
	assert.Equal(t, "Ferrylink", vault.View(e).Title, "the directory knows its name")
	assert.Equal(t, []string{"Ferrylink"}, found(t, v, "quay ferr"), "and what else it is called")
	assert.Equal(t, []string{"Ferrylink"}, found(t, v, "quayferries.ex"))

	assert.Equal(t, "Gannet Books", found(t, v, "gannet")[0])
	b, err := v.Book.Find(find.Parse("tools"), 0)
	require.NoError(t, err)
	_ = v.Book.Use(b.Sites[0].Accounts[0].ID)
	assert.Equal(t, "Gannet Tools", found(t, v, "gannet")[0], "what was used lately is first")
	v.Lock()
	v, err = d.Unlock(t.Context(), v.Profile().ID, secret.New(master))
	require.NoError(t, err)
	assert.Equal(t, "Gannet Tools", found(t, v, "gannet")[0], "also after locking")
	assert.NotContains(t, found(t, v, "=never-used"), "Gannet Tools")

	own := []byte(
		`{"format":"` + directory.Format + `","sites":[{"name":"Slow Boat","domains":["slowboat.example","raft.example"]}]}`,
	)
	n, err := v.Sites.Add(t.Context(), own)
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	id := save(
		t,
		v,
		vault.TypeLogin,
		records.Form{
			Addresses: []vault.Address{{URL: "slowboat.example"}},
			Values:    map[vault.Field]string{vault.FieldUsername: "maren", vault.FieldPassword: "p"},
		},
	)
	assert.Equal(t, []string{"Slow Boat"}, found(t, v, "raft"))
	assert.True(t, v.Sites.Directory().Same("slowboat.example", site.Domain("https://www.raft.example/")))
	look, err := v.Pages.Read(t.Context(), filling.Page{URL: "https://raft.example/in", Top: "https://raft.example/in"})
	require.NoError(t, err)
	require.Len(t, look.Offers, 1, "offered at the site's other domain")
	assert.Equal(t, id, look.Offers[0].ID)
	_, err = v.Sites.Add(t.Context(), []byte("nonsense"))
	assert.Error(t, err)
	require.NoError(t, v.Sites.Remove(t.Context(), "slowboat.example"))
	assert.False(t, v.Sites.Directory().Same("slowboat.example", "raft.example"))
	assert.Empty(t, found(t, v, "raft"))
}

func TestOneTimeCodes(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	id := save(
		t,
		v,
		vault.TypeLogin,
		records.Form{
			Title: "Gullwing",
			Values: map[vault.Field]string{
				vault.FieldSetup: "otpauth://hotp/Gullwing:maren?secret=GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ&counter=0",
			},
		},
	)
	for _, want := range []string{"755224", "287082"} { // RFC 4226, appendix D
		c, setup, err := v.Items.Code(id)
		require.NoError(t, err)
		assert.Equal(t, want, c.Text.Reveal())
		assert.True(t, setup.Counts())
		require.NoError(t, v.Items.NextCode(t.Context(), id))
	}
	plain := save(t, v, vault.TypeLogin, records.Form{Title: "None"})
	_, _, err := v.Items.Code(plain)
	assert.ErrorIs(t, err, records.ErrNoCode)
	assert.Equal(t, []string{"Gullwing"}, found(t, v, "=code"))
}

// picture draws a QR code: scaled, with paper around it, and colours turned if asked for.
func picture(t testing.TB, text string, scale int, light bool) []byte {
	m, err := qrcode.NewQRCodeWriter().Encode(text, gozxing.BarcodeFormat_QR_CODE, 0, 0, nil)
	require.NoError(t, err)
	img := image.NewRGBA(image.Rect(0, 0, (m.GetWidth()+20)*scale, (m.GetHeight()+30)*scale))
	for y := range img.Bounds().Dy() {
		for x := range img.Bounds().Dx() {
			mx, my := x/scale-10, y/scale-10
			dark := mx >= 0 && my >= 0 && mx < m.GetWidth() && my < m.GetHeight() && m.Get(mx, my)
			if dark != light {
				img.Set(x, y, color.RGBA{20, 30, 60, 255})
			} else {
				img.Set(x, y, color.RGBA{240, 240, 230, 255})
			}
		}
	}
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, img))
	return b.Bytes()
}

func TestReadSetup(t *testing.T) {
	t.Parallel()
	const text = "otpauth://totp/Gullwing:maren?secret=JBSWY3DPEHPK3PXP&algorithm=SHA256&digits=8&period=60"
	for _, light := range []bool{false, true} {
		s, err := qrpicture.ReadSetup(picture(t, text, 4, light))
		require.NoError(t, err)
		assert.Equal(t, otp.SHA256, s.Algorithm)
		assert.Equal(t, 8, s.Digits)
		assert.Equal(t, "Gullwing", s.Issuer)
	}
	for want, b := range map[error][]byte{
		qrpicture.ErrPicture: []byte("hello"), qrpicture.ErrNoQR: blank(t), otp.ErrAddress: picture(t,
			"https://gullwing.example/", 4, false),
		otp.ErrKey: picture(t, "otpauth://totp/x?secret=!", 4, false), qrpicture.ErrPixels: hugePNG(t),
	} {
		_, err := qrpicture.ReadSetup(b)
		assert.ErrorIs(t, err, want)
	}
	cut := picture(t, text, 4, false)
	_, err := qrpicture.ReadSetup(cut[:len(cut)/2])
	assert.ErrorIs(t, err, qrpicture.ErrPicture)
}

func blank(t testing.TB) []byte {
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, image.NewGray(image.Rect(0, 0, 300, 300))))
	return b.Bytes()
}

// hugePNG claims more pixels than anybody's screen has, in a few bytes.
func hugePNG(t testing.TB) []byte {
	b := slices.Clone(blank(t))
	copy(b[16:24], []byte{0, 0, 0xff, 0xff, 0, 0, 0xff, 0xff})
	crc := crcOf(b[12:29])
	copy(b[29:33], crc)
	return b
}

func TestWarnings(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	v := w.create(w.device("desk"))
	day := func(n int) string { return time.Now().UTC().AddDate(0, 0, n).Format(time.DateOnly) }
	for title, when := range map[string]string{"Passport": day(30), "Licence": day(-2), "Insurance": day(400)} {
		save(t, v, vault.TypePaper, records.Form{Title: title, Values: map[vault.Field]string{vault.FieldExpiry: when}})
	}
	list, err := v.Book.ExpiringSoon()
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, "Licence", list[0].Item.Title)
	assert.True(t, list[0].Over)
	assert.Equal(t, "Passport", list[1].Item.Title)
	assert.InDelta(t, 31, list[1].Days, 1)
}

var errCut = errors.New("the line broke")

// cutReader gives so many bytes and then breaks off.
type cutReader struct{ left int }

func (r *cutReader) Read(b []byte) (int, error) {
	if r.left <= 0 {
		return 0, errCut
	}
	n := min(len(b), r.left)
	r.left -= n
	return n, nil
}
