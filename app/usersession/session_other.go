//go:build !linux && !windows && !darwin

package usersession

import (
	"context"

	"redlocket/app"
)

// Watch tells nothing here.
func Watch(context.Context, app.SessionEvents) {}
