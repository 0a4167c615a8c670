package records

import (
	"context"
	"encoding/json"

	"redlocket/core/keys"
)

// Local keeps named bytes on this device alone, sealed. What a name holds is the user's
// affair; names must differ between them.
type Local struct{ core *core }

// Get returns what was kept under the name; nil if nothing was.
func (l *Local) Get(ctx context.Context, name string) ([]byte, error) {
	key, err := l.key()
	if err != nil {
		return nil, err
	}
	sealed, err := l.core.Store.Local(ctx, name)
	if err != nil || sealed == nil {
		return nil, err
	}
	return key.OpenLocal(name, sealed)
}

// Set keeps bytes under the name; nil removes what was there.
func (l *Local) Set(ctx context.Context, name string, plain []byte) error {
	if plain == nil {
		return l.core.Store.SetLocal(ctx, name, nil)
	}
	key, err := l.key()
	if err != nil {
		return err
	}
	sealed, err := key.SealLocal(name, plain)
	if err != nil {
		return err
	}
	return l.core.Store.SetLocal(ctx, name, sealed)
}

// GetJSON decodes what was kept under the name; to stays as it is if nothing was.
func (l *Local) GetJSON(ctx context.Context, name string, to any) error {
	b, err := l.Get(ctx, name)
	if err != nil || b == nil {
		return err
	}
	return json.Unmarshal(b, to)
}

// SetJSON keeps a value under the name.
func (l *Local) SetJSON(ctx context.Context, name string, value any) error {
	b, err := json.Marshal(value)
	if err != nil {
		return err
	}
	return l.Set(ctx, name, b)
}

// localDeviceKeys names the keys that this device has of its own.
const localDeviceKeys = "device-keys"

// MakeDeviceKeys draws the keys that this device has of its own, and returns the public parts. It is for a set that is
// being set up.
func (l *Local) MakeDeviceKeys(ctx context.Context) (keys.PublicIdentity, error) {
	d, err := keys.NewIdentity(l.core.Rand)
	if err != nil {
		return keys.PublicIdentity{}, err
	}
	return d.Public(), l.Set(ctx, localDeviceKeys, d.Bytes())
}

// DeviceKeys returns them.
func (l *Local) DeviceKeys(ctx context.Context) (d keys.Identity, err error) {
	err = l.core.gate.Read(func(in *content) error {
		d, err = l.core.deviceKeys(ctx, in)
		return err
	})
	return d, err
}

func (l *Local) key() (key *keys.Vault, err error) {
	err = l.core.gate.Read(func(in *content) error { key = in.key; return nil })
	return key, err
}
