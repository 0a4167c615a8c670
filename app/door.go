package app

import (
	"context"
	"errors"
	"slices"
	"strings"

	"redlocket/app/records"
	"redlocket/core/vault"
)

// Door is how the front and lock pages of this computer show a vault before it is open. It is kept in clear.
type Door struct {
	Line   string `json:"line,omitempty"`   // a line of its user's own, which no page that imitates the lock page knows
	Colour string `json:"colour,omitempty"` // of the medallion, one of DoorColours
}

// DoorColours are the colours of a medallion; the first is that of Red Locket.
var DoorColours = []string{"", "sea", "moss", "plum", "slate", "umber"}

const maxDoorLine = 80 // characters

var errDoorLine = errors.New("a line of 80 characters at most")

// SetDoor sets how this computer shows the vault before it is open.
func (a *Account) SetDoor(ctx context.Context, d Door) error {
	d.Line = strings.Join(strings.Fields(d.Line), " ")
	if len([]rune(d.Line)) > maxDoorLine {
		return records.BadInput("door-line", errDoorLine)
	}
	if !slices.Contains(DoorColours, d.Colour) {
		return records.BadInput("door-colour", errNotListed)
	}
	return a.vault.identity.update(ctx, func(p *Profile) { p.Door = d })
}

// maxPersonName is the longest name of a person, in characters.
const maxPersonName = 80

var errNoName = errors.New("please give a name, of 80 characters at most")

// Rename gives the vault's person another name, on every device.
func (a *Account) Rename(ctx context.Context, name string) error {
	name = strings.TrimSpace(name)
	if n := len([]rune(name)); n == 0 || n > maxPersonName {
		return records.BadInput("person", errNoName)
	}
	err := a.vault.Items.Edit(ctx, a.vault.Profile().Vault, func(e vault.Entry, by vault.Stamp) (vault.Entry, error) {
		return e.With(by, vault.Changes{vault.FieldName: name})
	})
	if err != nil {
		return err
	}
	return a.takeName(ctx)
}

// takeName has this computer's front page say the person's name as the vault has it.
func (a *Account) takeName(ctx context.Context) error {
	name := a.vault.Book.Profile().Text(vault.FieldName)
	if name == "" || name == a.vault.Profile().Name {
		return nil
	}
	return a.vault.identity.update(ctx, func(p *Profile) { p.Name = name })
}
