package app

import (
	"context"
	"errors"
	"strconv"
	"time"

	"redlocket/app/records"
	"redlocket/core/keys"
	"redlocket/core/secret"
)

// Unsent is what would be lost if a vault were taken off this computer now.
type Unsent struct {
	Everything     bool // no cloud has it
	Records, Files int  // that the cloud doesn't have yet
}

// Any reports whether something would be lost.
func (u Unsent) Any() bool { return u.Everything || u.Records > 0 || u.Files > 0 }

// Unsent returns what only this computer has, as far as it knows.
func (v *Vault) Unsent(ctx context.Context) (u Unsent, err error) {
	if v.Profile().Cloud == "" {
		return Unsent{Everything: true}, nil
	}
	u.Records = v.Replica.Waiting()
	list, err := v.Files.Stored(ctx)
	for _, f := range list {
		if f.Whole && !f.Sent {
			u.Files++
		}
	}
	return u, err
}

// ErrWouldLose is returned where something is on this computer only, and nobody said that it may be lost.
var ErrWouldLose = errors.New("something is on this computer only: say that it may be lost")

// leaveTime is how long a cloud is told that this device leaves.
const leaveTime = 5 * time.Second

// TakeOff takes the vault off this computer: its keys are destroyed first, then its file. What isn't at the cloud yet
// is lost, which lose has to say. The cloud is told if it can be reached; the other devices keep what they have.
func (v *Vault) TakeOff(ctx context.Context, password secret.Text, lose bool) error {
	if err := v.Reauthenticate(password); err != nil {
		return err
	}
	u, err := v.Unsent(ctx)
	if err != nil {
		return err
	}
	if u.Any() && !lose {
		return records.BadInput("take-off", ErrWouldLose)
	}
	p, d := v.Profile(), v.device
	v.Sync.Stop()
	v.sayGoodbye(ctx, p)
	// From here on nobody is shown it any more, not even who hears that it was locked.
	if err := v.identity.update(ctx, func(p *Profile) { p.destroyKeys() }); err != nil {
		return err
	}
	v.Lock()
	return d.stores.remove(ctx, p.ID)
}

// destroyKeys takes everything out of a profile by which its vault could be opened.
func (p *Profile) destroyKeys() {
	p.Leaving = true
	p.Wrapped, p.Ring, p.Carried, p.CarriedBefore, p.RecoveryWrapped, p.Unlocks = nil, nil, nil, nil, nil, nil
	p.Params = keys.Params{}
}

// sayGoodbye notes in the vault that this device is out, and ends its session at the cloud. Both can fail, and the
// other devices can shut it out later.
func (v *Vault) sayGoodbye(ctx context.Context, p Profile) {
	cloud := v.Account.at()
	if cloud == nil {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, leaveTime)
	defer cancel()
	at := strconv.FormatInt(v.device.ports.Now().UnixMilli(), 10)
	if v.Epochs.noteOut(ctx, p.Device, at) != nil || v.Sync.Sync(ctx) != nil {
		return
	}
	if credential, err := v.Sync.Credential(ctx); err == nil {
		_ = cloud.EndDevice(ctx, credential, p.Device)
	}
}
