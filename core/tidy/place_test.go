package tidy

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a title says beside a site's name is left out, in whatever language.
func TestNamesInTitles(t *testing.T) {
	for _, title := range []string{
		"Ferrylink", "Ferrylink login", "My Ferrylink account", "Mein Ferrylink Konto", "Ferrylink – Mon compte",
		"Mi cuenta Ferrylink", "Ferrylink accesso", "Mijn Ferrylink", "Konto Ferrylink", "Logga in Ferrylink",
		"Ferrylink přihlášení", "Ferrylink fiók", "Ferrylink giriş", "Личный кабинет Ferrylink", "Ferrylink пароль",
		"Ferrylink ログイン", "Ferrylink 密码", "Ferrylink 로그인",
	} {
		assert.Contains(t, namesOf(title), "ferrylink", title)
	}
	for _, title := range []string{"Ferrylink Freight", "Ferry", "Ferrylink 2 Wren", "login", "Пароль"} {
		assert.NotContains(t, namesOf(title), "ferrylink", title)
	}
}

// A host that a site gives itself says nothing of whose place it is; one that is called otherwise does.
func TestOwnHosts(t *testing.T) {
	for _, url := range []string{
		"https://login.cormorant.example/", "https://konto.cormorant.example/anmelden",
		"https://mijn.cormorant.example/inloggen/", "https://logowanie.cormorant.example/", "https://lk.cormorant.example/",
		"https://www.cormorant.example/iniciar-sesion?x=1",
	} {
		s, ok := spotOf(url)
		require.True(t, ok)
		assert.Empty(t, s.own+s.tenant, url)
	}
	s, _ := spotOf("https://quay-school.cormorant.example/")
	assert.Equal(t, "quay-school", s.own)
	s, _ = spotOf("https://cormorant.example/quay-school/")
	assert.Equal(t, "quay-school", s.tenant)
}
