package app

import "context"

// Token lets tests tell devices' requests apart.
func (v *Vault) Token(ctx context.Context) (string, error) { return v.token(ctx) }

// Look lets tests move the keeper's clock instead of waiting for it.
func (d *Device) LookNow(jump bool) {
	now := d.p.Now()
	last := now
	if jump {
		last = now.Add(-2 * sleepGap)
	}
	d.look(now, last)
}
