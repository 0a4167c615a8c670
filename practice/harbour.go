package practice

import (
	"fmt"
	"hash/fnv"
	"strings"
)

// The harbour is the town's front page as a picture: three rows of houses above the water, one for each site. It is
// measured in units of its view box.
const (
	harbourWidth  = 1120
	housesInRow   = 9
	harbourGround = 190 // where the first row stands
	harbourRow    = 150 // from one row to the next
)

// House is a site's house.
type House struct {
	Site
	X, Y    float64 // the middle of its foot
	Wall    string  // path
	Roof    string  // path
	Panes   []Pane
	Door    Pane
	TitleAt float64 // y of its name
}

// Pane is a window or a door: a rectangle.
type Pane struct{ X, Y, W, H float64 }

// Short is the house's name, as long as there is room.
func (h House) Short() string {
	const letters = 16
	if r := []rune(h.Title); len(r) > letters {
		return strings.TrimSpace(string(r[:letters-1])) + "…"
	}
	return h.Title
}

// Houses are the sites' houses, in rows from the hill down to the quay. Their shapes follow from their names.
func Houses() (out []House) {
	for i, s := range Sites {
		f := fnv.New32a()
		_, _ = f.Write([]byte(s.Name)) // a hash takes all
		n := float64(f.Sum32()%97) / 97
		row, place := i/housesInRow, i%housesInRow
		step := float64(harbourWidth-80) / housesInRow
		h := House{Site: s, X: 40 + step*(float64(place)+0.5), Y: harbourGround + float64(row*harbourRow)}
		h.Y += 10 * float64((place+row)%3-1) // the ground isn't even
		w, tall := 56+22*n, 56+30*(1-n)
		left, right, top := h.X-w/2, h.X+w/2, h.Y-tall
		h.Wall = fmt.Sprintf("M%.1f %.1fV%.1fH%.1fV%.1fZ", left, h.Y, top, right, h.Y)
		switch f.Sum32() % 3 {
		case 0: // a gable
			h.Roof = fmt.Sprintf("M%.1f %.1fL%.1f %.1fL%.1f %.1fZ", left-5, top, h.X, top-30, right+5, top)
		case 1: // a roof that leans
			h.Roof = fmt.Sprintf("M%.1f %.1fV%.1fL%.1f %.1fZ", left-4, top, top-26, right+4, top)
		default: // steps
			h.Roof = fmt.Sprintf("M%.1f %.1fV%.1fh%.1fv-9h%.1fv-9h%.1fv9h%.1fv9h%.1fV%.1fZ",
				left, top, top-9, w/5, w/5, w/5, w/5, w/5, top)
		}
		for c := range 3 {
			x := left + w*(float64(c)+0.5)/3 - 5
			h.Panes = append(h.Panes, Pane{x, top + 10, 10, 13})
			if c != 1 {
				h.Panes = append(h.Panes, Pane{x, top + 32, 10, 13})
			}
		}
		h.Door = Pane{h.X - 6, h.Y - 22, 12, 22}
		h.TitleAt = h.Y + 17
		out = append(out, h)
	}
	return out
}

// GoodFor says what a site is good for trying.
func (s Site) GoodFor() string {
	out := []string{string(s.Shape)}
	switch s.Code {
	case "boxes":
		out = append(out, "a one-time code in six boxes")
	case "box":
		out = append(out, "a one-time code")
	}
	switch s.Sells {
	case "":
	case "hosted":
		out = append(out, "paying in frames of another company")
	default:
		out = append(out, "paying")
	}
	if s.Company {
		out = append(out, "a company’s code beside the user name")
	}
	if s.Asks {
		out = append(out, "a sign-up that asks for more")
	}
	if s.Says != "" || s.Rules != "" || s.Plain {
		out = append(out, "rules for passwords")
	}
	if s.Locks {
		out = append(out, "it locks after five wrong passwords")
	}
	if s.Silent {
		out = append(out, "it says nothing of a wrong password")
	}
	if s.Knows {
		out = append(out, "it tells where the password is changed")
	}
	if s.Lang != "" && s.Lang != "en" {
		out = append(out, "another language")
	}
	return strings.Join(out, "; ")
}
