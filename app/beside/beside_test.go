package beside_test

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"redlocket/app/beside"
)

func TestOneRunAtATime(t *testing.T) {
	var l beside.Look
	now := time.UnixMilli(1_764_300_000_000)
	assert.True(t, l.Begin(now, nil), "the first one is late")
	assert.False(t, l.Begin(now, nil), "one is under way")
	l.Ask()
	assert.False(t, l.Begin(now, nil))
	assert.True(t, l.End(now, nil), "what was asked for meanwhile isn't lost")
	assert.True(t, l.Begin(now, nil))
	assert.False(t, l.End(now, nil))
	assert.False(t, l.Begin(now, nil), "nobody asks")
	assert.False(t, l.Begin(now, func() bool { return false }))
	assert.True(t, l.Begin(now, func() bool { return true }))
	assert.False(t, l.End(now, errors.New("away")), "what failed isn't tried again at once")
	assert.True(t, l.Begin(now, nil), "but the next time")
	assert.False(t, l.End(now, nil))
	assert.False(t, l.Begin(now.Add(59*time.Second), nil))
	wanted := func() bool { return true }
	assert.True(t, l.Begin(now, wanted))
	assert.False(t, l.Begin(now, wanted), "it came up while one is under way")
	assert.True(t, l.End(now, nil), "and isn't lost either")
	assert.True(t, l.Begin(now, nil))
	assert.False(t, l.End(now, nil))
	assert.True(t, l.Begin(now.Add(time.Minute), nil), "now and then by itself")
}

func TestWhatWaitsIsLookedAtAgainOnceThingsStandOtherwise(t *testing.T) {
	var l beside.Looked
	assert.False(t, l.At("a", ""), "even where nothing stands yet")
	l.Note("a", "one")
	assert.True(t, l.At("a", "one"))
	assert.False(t, l.At("b", "one"))
	assert.False(t, l.At("a", "two"), "also where that came up while it was looked at")
	l.Note("a", "two")
	assert.True(t, l.At("a", "two"))
	assert.False(t, l.At("a", "one"))
}
