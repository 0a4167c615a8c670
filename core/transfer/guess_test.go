package transfer

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestGuesses says of small files what their columns are: by name and content, and where it should ask.
func TestGuesses(t *testing.T) {
	for name, c := range map[string]struct {
		text   string
		want   []Meaning
		unsure bool
	}{
		"name is the user": {
			"URL,Name,Password\nhttps://gullwing.example/,maren,vole-Cart-19\nhttps://ferrylink.example/,wren,tide7\n",
			[]Meaning{MeansAddress, MeansUsername, MeansPassword}, true,
		},
		"name is the user, by e-mail": {
			"Website,Name,Password\ngullwing.example,maren@cormorant.example,vole-Cart-19\n",
			[]Meaning{MeansAddress, MeansUsername, MeansPassword}, false,
		},
		"name is the title": {
			"Name,URL,Login,Password\nGullwing,https://gullwing.example/,maren,vole-Cart-19\n",
			[]Meaning{MeansTitle, MeansAddress, MeansUsername, MeansPassword}, false,
		},
		"site holds names": {
			"Site,Login,Password\nGullwing Bank,maren,vole-Cart-19\nFerrylink,wren,tide7\n",
			[]Meaning{MeansTitle, MeansUsername, MeansPassword}, true,
		},
		"site holds names beside addresses": {
			"Site,Link,Login,Password\nGullwing Bank,https://gullwing.example/,maren,vole-Cart-19\n",
			[]Meaning{MeansTitle, MeansAddress, MeansUsername, MeansPassword}, false,
		},
		"no header, two rows": {
			"https://gullwing.example/,maren@cormorant.example,vole-Cart-19\nhttps://ferrylink.example/,wren,tide-TABLE-7\n",
			[]Meaning{MeansAddress, MeansUsername, MeansPassword}, false,
		},
		"no header, addresses without a scheme": {
			"gullwing.example;maren;vole-Cart-19\n192.168.1.1;admin;Harbour!9\n",
			[]Meaning{MeansAddress, MeansUsername, MeansPassword}, false,
		},
		"no header, title first": {
			"Gullwing,https://gullwing.example/,maren.t,vole-Cart-19,\n" +
				"Ferrylink,https://ferrylink.example/,maren.t,tide-TABLE-7,my timetable is in here\n",
			[]Meaning{MeansTitle, MeansAddress, MeansUsername, MeansPassword, MeansNotes}, false,
		},
		"no header, the password before the user": {
			"https://gullwing.example/,vole-Cart-19,maren@cormorant.example\n" +
				"https://ferrylink.example/,tide-TABLE-7,maren@cormorant.example\n",
			[]Meaning{MeansAddress, MeansPassword, MeansUsername}, false,
		},
		"nothing tells": {
			"gull,tern\nreed,vole\n",
			[]Meaning{MeansUsername, MeansPassword}, true,
		},
		"a header in Turkish":  {"Site;Kullanıcı Adı;Şifre\ngull.example;maren;x1!\n", threeOf(), false},
		"a header in Swedish":  {"Webbplats;Användarnamn;Lösenord\ngull.example;maren;x1!\n", threeOf(), false},
		"a header in Japanese": {"ウェブサイト;ユーザー名;パスワード\ngull.example;maren;x1!\n", threeOf(), false},
		"a header in Greek":    {"Ιστοσελίδα;Όνομα χρήστη;Κωδικός\ngull.example;maren;x1!\n", threeOf(), false},
		"plurals":              {"URLs,Usernames,Passwords\nhttps://gull.example/,maren,x1!\n", threeOf(), false},
	} {
		table, err := ReadTable(context.Background(), []byte(c.text))
		require.NoError(t, err, name)
		var got []Meaning
		unsure := false
		for _, col := range Guess(table) {
			got = append(got, col.Meaning)
			unsure = unsure || col.Unsure
		}
		assert.Equal(t, c.want, got, name)
		assert.Equal(t, c.unsure, unsure, name)
	}
}

func threeOf() []Meaning { return []Meaning{MeansAddress, MeansUsername, MeansPassword} }

// TestHeadersInManyLanguages has headers as exporters may write them, each for title, address, user name, password and
// notes. They were written from memory, without looking at the names that are known.
func TestHeadersInManyLanguages(t *testing.T) {
	want := []Meaning{MeansTitle, MeansAddress, MeansUsername, MeansPassword, MeansNotes}
	for header := range strings.SplitSeq(strings.TrimSpace(manyHeaders), "\n") {
		table, err := ReadTable(context.Background(), []byte(header+"\nFerrylink,https://ferrylink.example,maren,tide-14,some "+
			"words here\nGullwing,https://gullwing.example,m.tolliver,gull22xX,other words here\n"))
		require.NoError(t, err, header)
		for i, c := range Guess(table) {
			assert.Equal(t, want[i], c.Meaning, "%s: %s", header, c.Name)
		}
	}
}

const manyHeaders = `
Název,Webová adresa,Uživatelské jméno,Heslo,Poznámka
Názov,Webová adresa,Používateľské meno,Heslo,Poznámky
Név,Webcím,Felhasználónév,Jelszó,Megjegyzés
Nume,Adresă web,Nume utilizator,Parolă,Note
Naziv,Web adresa,Korisničko ime,Lozinka,Bilješke
Başlık,Web adresi,Kullanıcı adı,Şifre,Notlar
Όνομα,Διεύθυνση,Όνομα χρήστη,Κωδικός πρόσβασης,Σημειώσεις
Nimi,Verkkosivu,Käyttäjätunnus,Salasana,Muistiinpanot
Название,Адрес сайта,Имя пользователя,Пароль,Заметки
Назва,Адреса,Ім'я користувача,Пароль,Нотатки
Име,Уеб адрес,Потребителско име,Парола,Бележки
タイトル,URL,ユーザー名,パスワード,メモ
名称,网址,用户名,密码,备注
標題,網址,使用者名稱,密碼,備註
제목,웹사이트,사용자 이름,비밀번호,메모
שם,כתובת,שם משתמש,סיסמה,הערות
الاسم,الموقع,اسم المستخدم,كلمة المرور,ملاحظات
Tên,Trang web,Tên đăng nhập,Mật khẩu,Ghi chú
Nama,Situs web,Nama pengguna,Kata sandi,Catatan
Navn,Webadresse,Brugernavn,Adgangskode,Noter
Namn,Webbadress,Användarnamn,Lösenord,Anteckningar
Tittel,Nettadresse,Brukernavn,Passord,Notater
Tytuł,Adres URL,Nazwa użytkownika,Hasło,Notatki
Título,Site,Nome de usuário,Senha,Anotações
Service,Web address,Login ID,Passwd,Memo
Site,Link,Account,Secret,Description
Entry,Web site URL,User name / e-mail,Pass,Extra
Account name,Login URL,Login,Password value,Additional info
System,Domain,UserID,PWD,Info
Dienst,Webseite,Nutzername,PW,Kommentar
Eintrag,Link,Login,Kennwort,Bemerkungen
Service,Adresse web,Nom d'utilisateur,Mot de passe,Commentaire
Libellé,Lien,Login,MDP,Infos
Título,Página web,Nombre de usuario,Clave,Comentarios
Titolo,Indirizzo web,Utente,Parola chiave,Commenti
Titel,Website,Gebruiker,Wachtwoord,Opmerking
`
