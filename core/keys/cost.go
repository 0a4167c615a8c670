//go:build !teststrength

package keys

// cost returns the passes and the memory that stretching takes: those of the parameters. See cost_test_only.go.
func cost(p Params) (time, memory uint32) { return p.Time, p.Memory }

// AgeWork is what a passphrase costs that seals an age file: the binary logarithm of scrypt's N, as age
// itself chooses it (filippo.io/age, ScryptRecipient).
const AgeWork = 18
