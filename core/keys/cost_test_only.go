//go:build teststrength

package keys

// cost makes stretching quick, whatever the parameters say, for tests that open vaults by the
// hundred. No release is built with this tag: its vaults would open nowhere else, and could be
// guessed. (Argon2 needs 8 KiB a lane at least.)
func cost(p Params) (time, memory uint32) { return 1, 8 * uint32(p.Threads) }

// AgeWork is small here, too; such files open everywhere.
const AgeWork = 10
