package transfer

import (
	"context"
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
