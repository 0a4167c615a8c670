package app

import (
	"context"
	"slices"
)

// FirstStep is a step of setting up a vault that was just made.
type FirstStep string

// The steps, in this order.
const (
	FirstSheet   FirstStep = "sheet"   // the recovery sheet is printed and checked
	FirstBrowser FirstStep = "browser" // this browser is connected
	FirstFiles   FirstStep = "files"   // the passwords that browsers kept are imported
	FirstDone    FirstStep = ""
)

var firstSteps = []FirstStep{FirstSheet, FirstBrowser, FirstFiles, FirstDone}

// FirstDay is how far a vault is set up on the computer where it was made.
type FirstDay struct {
	Now  FirstStep   `json:"now"`
	Left []FirstStep `json:"left"` // for later
}

// HasLeft reports whether a step was left for later.
func (f FirstDay) HasLeft(s FirstStep) bool { return slices.Contains(f.Left, s) }

const localFirst = "first-day"

// FirstDay returns how far the vault is set up. Where that can't be told, nothing is left to do.
func (a *Account) FirstDay(ctx context.Context) (f FirstDay) {
	if a.vault.Local.GetJSON(ctx, localFirst, &f) != nil {
		return FirstDay{}
	}
	return f
}

// PassStep goes on from a step, done or left for later, and returns the next. A step that is passed already isn't
// passed again; one that was left is done now.
func (a *Account) PassStep(ctx context.Context, step FirstStep, left bool) (next FirstStep, err error) {
	f, i := a.FirstDay(ctx), slices.Index(firstSteps, step)
	if i < 0 || step == FirstDone {
		return f.Now, nil
	}
	f.Left = slices.DeleteFunc(f.Left, func(s FirstStep) bool { return s == step })
	if left {
		f.Left = append(f.Left, step)
	}
	if f.Now == step {
		f.Now = firstSteps[i+1]
	}
	return f.Now, a.vault.Local.SetJSON(ctx, localFirst, f)
}
