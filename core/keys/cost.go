//go:build !teststrength

package keys

// cost is what stretching takes: what the parameters say. See cost_test_only.go.
func cost(p Params) (time, memory uint32) { return p.Time, p.Memory }
