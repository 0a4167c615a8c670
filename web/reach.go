package web

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"redlocket/core/audit"
)

// The drawing of a reach: the login in the middle, a ring for each step, a line from each login to what falls with it.
// It is measured in units of its view box.
const (
	reachWidth  = 760
	reachSlot   = 30  // from one name to the next, downwards
	reachRing   = 118 // from one ring to the next
	reachRings  = 3   // what is farther stands on the last
	reachLeaves = 22  // names at most; more are folded
	reachLetter = 17  // letters of a name at most
)

// reachNode is a login that falls, or several of them folded into one.
type reachNode struct {
	ID, Title string
	More      int // how many are folded; 0 for one login
	Same      int // further logins of the same site
	Why       audit.Link
	Step      int
	Held      bool
	X, Y      float64
	Right     bool // of the middle
	Line      string
	kids      []*reachNode
}

// reachDrawing is what the template draws.
type reachDrawing struct {
	Width, Height, MidX, MidY float64
	Title                     string
	Rings                     []reachRingView
	Nodes                     []*reachNode
	Links                     []audit.Link // those that are drawn, for the key
	Held                      bool
}

// linkClasses are how lines are drawn, by their reason.
var linkClasses = map[audit.Link]string{audit.NearPassword: "reach-similar", audit.Resets: "reach-resets"}

type reachRingView struct{ RX, RY float64 }

// Name is a title that fits.
func (n *reachNode) Name() string {
	if n.More > 0 {
		return fmt.Sprintf("and %d more", n.More)
	}
	name := n.Title
	if r := []rune(name); len(r) > reachLetter {
		name = strings.TrimSpace(string(r[:reachLetter-1])) + "…"
	}
	if n.Same > 0 {
		name += fmt.Sprintf(" ×%d", n.Same+1)
	}
	return name
}

// LabelX is where the name begins, or on the left ends.
func (n *reachNode) LabelX() float64 {
	if n.Right {
		return n.X + 9
	}
	return n.X - 9
}

// drawReach lays a reach out. Sites of which several logins fall alike are folded into one name, and so is what there
// is no room for.
func drawReach(r audit.Reach, title func(id string) string) *reachDrawing {
	top := fold(tree(r, title))
	d := &reachDrawing{Width: reachWidth, MidX: reachWidth / 2, Title: title(r.ID)}
	right, left := halves(top.kids)
	rows := max(leaves(right), leaves(left), 3)
	d.Height = float64(rows+1) * reachSlot
	d.MidY = d.Height / 2
	deepest := 0
	for _, side := range []struct {
		list  []*reachNode
		right bool
	}{{right, true}, {left, false}} {
		from := d.MidY - float64(leaves(side.list)-1)/2*reachSlot
		d.place(side.list, 1, &from, side.right)
	}
	for _, n := range d.Nodes {
		deepest = max(deepest, min(n.Step, reachRings))
		d.Held = d.Held || n.Held
		if !slices.Contains(d.Links, n.Why) {
			d.Links = append(d.Links, n.Why)
		}
	}
	for i := range deepest {
		d.Rings = append(d.Rings, reachRingView{float64(i+1) * reachRing, d.ringHeight(i + 1)})
	}
	slices.Sort(d.Links)
	return d
}

// ringHeight is half the height of a ring: so that the names in it have room one below the other.
func (d *reachDrawing) ringHeight(step int) float64 {
	return d.MidY * (0.75 + 0.25*float64(step)/reachRings) * 1.12
}

// place puts nodes on their ring, one below the other, each beside what falls with it.
func (d *reachDrawing) place(list []*reachNode, step int, y *float64, right bool) {
	for _, n := range list {
		n.Right = right
		if len(n.kids) == 0 {
			n.Y = *y
			*y += reachSlot
		} else {
			d.place(n.kids, step+1, y, right)
			n.Y = (n.kids[0].Y + n.kids[len(n.kids)-1].Y) / 2
		}
		ring := min(step, reachRings)
		up := (n.Y - d.MidY) / d.ringHeight(ring)
		x := float64(ring) * reachRing * math.Sqrt(max(0.05, 1-up*up))
		if !right {
			x = -x
		}
		n.X = d.MidX + x
		d.Nodes = append(d.Nodes, n)
	}
	for _, n := range list {
		for _, k := range n.kids {
			k.Line = line(n.X, n.Y, k.X, k.Y)
		}
		if step == 1 {
			n.Line = line(d.MidX, d.MidY, n.X, n.Y)
		}
	}
}

func line(x1, y1, x2, y2 float64) string {
	mid := (x1 + x2) / 2
	return fmt.Sprintf("M%.1f %.1fC%.1f %.1f %.1f %.1f %.1f %.1f", x1, y1, mid, y1, mid, y2, x2, y2)
}

// tree makes a tree of a reach: each login below the one that it falls with.
func tree(r audit.Reach, title func(id string) string) *reachNode {
	nodes := map[string]*reachNode{r.ID: {ID: r.ID}}
	add := func(list []audit.Fallen, held bool) {
		for _, f := range list {
			nodes[f.ID] = &reachNode{ID: f.ID, Title: title(f.ID), Why: f.Why, Step: f.Step, Held: held}
		}
	}
	add(r.Fell, false)
	add(r.Held, true)
	for _, f := range append(slices.Clone(r.Fell), r.Held...) {
		nodes[f.From].kids = append(nodes[f.From].kids, nodes[f.ID])
	}
	return nodes[r.ID]
}

// fold returns a tree that there is room for: logins of one site that fall alike are one name, and where there are too
// many, the first few of what falls with one login stand for the rest.
func fold(top *reachNode) *reachNode {
	for most := reachLeaves; ; most-- {
		if n := top.folded(most); most == 1 || leaves(n.kids) <= reachLeaves {
			return n
		}
	}
}

func (n *reachNode) folded(most int) *reachNode {
	out := *n
	out.kids = nil
	var rest *reachNode
	single := 0
	for _, k := range n.kids {
		if i := slices.IndexFunc(out.kids, k.alike); i >= 0 {
			out.kids[i].Same++
			continue
		}
		if single++; single > most {
			if rest == nil {
				rest = &reachNode{ID: k.ID, Why: k.Why, Step: k.Step}
			}
			rest.More += k.size()
			continue
		}
		out.kids = append(out.kids, k.folded(most))
	}
	if rest != nil {
		out.kids = append(out.kids, rest)
	}
	return &out
}

// size is how many logins a node and what falls with it are.
func (n *reachNode) size() int {
	all := 1
	for _, k := range n.kids {
		all += k.size()
	}
	return all
}

// alike reports whether a node is of the same site and falls as another one does.
func (n *reachNode) alike(o *reachNode) bool {
	return len(n.kids)+len(o.kids) == 0 && o.Title == n.Title && o.Why == n.Why && o.Held == n.Held
}

// leaves counts the names that need a line of their own.
func leaves(list []*reachNode) (n int) {
	for _, k := range list {
		n += max(1, leaves(k.kids))
	}
	return n
}

// halves parts nodes into those on the right and those on the left, of about the same height.
func halves(list []*reachNode) (right, left []*reachNode) {
	r, l := 0, 0
	for _, n := range list {
		if h := leaves([]*reachNode{n}); r <= l {
			right, r = append(right, n), r+h
		} else {
			left, l = append(left, n), l+h
		}
	}
	return right, left
}
