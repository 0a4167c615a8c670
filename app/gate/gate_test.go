package gate_test

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/app/gate"
)

type shelf struct{ books int }

func TestClosedGateLetsNobodyIn(t *testing.T) {
	g := gate.New(&shelf{2}, nil)
	require.NoError(t, g.Write(func(s *shelf) error { s.books++; return nil }))
	require.NoError(t, g.Read(func(s *shelf) error { assert.Equal(t, 3, s.books); return nil }))
	assert.True(t, g.Open())

	assert.Equal(t, 3, g.Close().books, "what was there is handed back")
	assert.False(t, g.Open())
	assert.Nil(t, g.Close())
	never := func(*shelf) error { t.Fatal("went through a closed gate"); return nil }
	assert.ErrorIs(t, g.Read(never), gate.ErrLocked)
	assert.ErrorIs(t, g.Write(never), gate.ErrLocked)
}

func TestNoLockIsLeftHeld(t *testing.T) {
	g := gate.New(&shelf{}, nil)
	trouble := errors.New("trouble")
	assert.ErrorIs(t, g.Write(func(*shelf) error { return trouble }), trouble)
	assert.Panics(t, func() { _ = g.Write(func(*shelf) error { panic("in the middle") }) })
	assert.Panics(t, func() { _ = g.Read(func(*shelf) error { panic("in the middle") }) })
	require.NoError(t, g.Write(func(*shelf) error { return nil }), "the lock is free again")
}

func TestEachEntryIsAStep(t *testing.T) {
	steps := 0
	var g *gate.Gate[shelf]
	g = gate.New(&shelf{}, func() {
		if steps++; steps == 3 {
			g.Close()
		}
	})
	pass := func(*shelf) error { return nil }
	assert.NoError(t, g.Read(pass))
	assert.NoError(t, g.Write(pass))
	assert.ErrorIs(t, g.Read(pass), gate.ErrLocked, "closed between two steps")
}
