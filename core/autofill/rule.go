package autofill

import "slices"

// What a field is for is decided by tables of rules (cardrules.go, passwordrules.go). A [rule]
// is one piece of evidence: where it holds, it speaks for a role with a weight. The weights of
// the rules that speak are added up by role, and the role with the most has the field. A reading
// names the rules that spoke ([Reading.Why]), so that a wrong role can be traced to its rule.
//
// Within a table each weight is greater than all smaller ones together: a strong piece of
// evidence isn't outvoted by many weak ones. [ranked] gives the weights by the order of the table.

// rule is a piece of evidence.
type rule struct {
	name   string // in words, for whoever asks why
	role   Role   // that it speaks for
	when   func(clue) bool
	weight int // set by ranked
}

// clue is what a rule looks at: a field, what stands around it, and what its form is about.
type clue struct {
	*candidate
	i       int          // of the field in list
	list    []*candidate // the fields that are judged together, in the order of the page
	about   evidence     // what the form says it is for
	details int          // how many personal details it asks for
}

// before reports whether the field before has one of the roles.
func (x clue) before(roles ...Role) bool {
	return x.i > 0 && slices.Contains(roles, x.list[x.i-1].role)
}

// ranked gives rules their weights, the first the greatest.
func ranked(rules ...rule) []rule {
	for i := range rules {
		rules[i].weight = 1 << (len(rules) - 1 - i)
	}
	return rules
}

// decide gives the field the role for which the rules speak most, if any does, and notes which
// did.
func decide(rules []rule, x clue) {
	votes := map[Role]int{}
	best := Role("")
	for _, r := range rules {
		if !r.when(x) {
			continue
		}
		x.why = append(x.why, r.name)
		votes[r.role] += r.weight
		if votes[r.role] > votes[best] {
			best = r.role
		}
	}
	if best != "" {
		x.role = best
	}
}
