package site

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNamesInTitlesOfPages(t *testing.T) {
	for _, title := range []string{
		"Lanternfish", "Sign in to Lanternfish", "Welcome to your Lanternfish", "Home · Lanternfish",
		"Anmelden bei Lanternfish", "Mein Lanternfish – Übersicht", "Bienvenue chez Lanternfish", "Accedi a Lanternfish",
		"Iniciar sesión en Lanternfish", "Zaloguj się do Lanternfish", "Logga in på Lanternfish",
	} {
		assert.Contains(t, namesIn(title), "lanternfish", title)
	}
	for _, title := range []string{"Sign in to Lanternfish Fans", "The Lanternfish", "Lantern", "Sign in to"} {
		assert.NotContains(t, namesIn(title), "lanternfish", title)
	}
}
