package ledger_test

import (
	"crypto/rand"
	"errors"
	"fmt"

	"redlocket/core/keys"
	"redlocket/core/ledger"
)

// commit seals one revision of a record and the head that vouches for it.
func commit(v *keys.Vault, c ledger.Chain, id string) (ledger.SealedHead, ledger.SealedRecord) {
	rev := c.State[id].Rev + 1
	blob, err := v.SealRecord(id, rev, []byte("winkle"))
	if err != nil {
		panic(err)
	}
	head, _ := c.Next("desk", 1000, ledger.State{id: {Rev: rev, Hash: ledger.Sum(blob)}})
	sealed, err := v.SealHead(head.Number, head.Encode())
	if err != nil {
		panic(err)
	}
	return ledger.SealedHead{Number: head.Number, Blob: sealed}, ledger.SealedRecord{ID: id, Rev: rev, Blob: blob}
}

// A device takes what the cloud offers only if another device of the vault wrote it so.
func ExampleChain_Verify() {
	v := keys.NewVault("vault-1", keys.NewRing(keys.VaultKey{1}), rand.Reader)
	var laptop ledger.Chain // that has seen nothing yet
	head, record := commit(v, ledger.Chain{}, "ferry")

	next, opened, err := laptop.Verify(v, 1, []ledger.SealedHead{head}, []ledger.SealedRecord{record})
	fmt.Printf("at %d with %q, %v\n", next.Number, opened.Records[0].Plain, err)

	_, _, err = laptop.Verify(v, 1, []ledger.SealedHead{head}, nil)
	var fault *ledger.Fault
	fmt.Println(errors.As(err, &fault), fault.Kind)
	// Output:
	// at 1 with "winkle", <nil>
	// true incomplete
}

// The hash of a state covers every record's id, revision and bytes.
func ExampleStateHash() {
	at := func(rev uint64) ledger.State {
		return ledger.State{"ferry": {Rev: rev, Hash: ledger.Sum([]byte("sealed"))}}
	}
	first := ledger.StateHash(at(1))
	fmt.Println(first == ledger.StateHash(at(1)), first == ledger.StateHash(at(2)))
	// Output: true false
}
