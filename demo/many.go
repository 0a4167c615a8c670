package demo

import (
	"fmt"
	"math/rand/v2"
	"strings"
)

// more makes up n logins more, the same ones each time: shops and services of
// the coast, most with one of a few passwords, as people have them.
func more(n int) []row {
	rnd := rand.New(rand.NewPCG(7, 300)) //nolint:gosec // made-up data, the same each time
	pick := func(list string) string { l := strings.Fields(list); return l[rnd.IntN(len(l))] }
	out := make([]row, n)
	for i := range out {
		bird := pick(
			"Avocet Bittern Curlew Dotterel Eider Gannet Godwit Guillemot Heron Kittiwake Lapwing Merganser Petrel " +
				"Plover Puffin Razorbill Redshank Sanderling Scoter Shelduck Skua Snipe Turnstone Whimbrel Wigeon",
		)
		trade := pick(
			"Bakery Bikes Blankets Bookings Boots Broadband Cameras Candles Chandlery Cinema Coffee Courier Dental " +
				"Energy Fabrics Flowers Garage Holidays Insurance Kitchens Lamps Laundry Lottery Maps Museum Music " +
				"News Optics Paints Parking Pets Pharmacy Pottery Radio Recipes Savings Shoes Soap Sports " +
				"Stationery Taxis Theatre Tickets Tools Toys Travel Weather Wool",
		)
		name := fmt.Sprintf("%s %s", bird, trade)
		host := strings.ToLower(bird + "-" + trade)
		if i >= 500 {
			name, host = fmt.Sprintf("%s %d", name, i), fmt.Sprintf("%s-%d", host, i)
		}
		out[i] = row{
			name,
			"https://" + host + ".example/sign-in",
			pick(MarenEmail + " mtolliver maren.t m.tolliver"),
			pick(fmt.Sprintf("Tolliver85 winkle7 Tolliver85! %s-%d", trade, rnd.IntN(9000))),
			pick("Shops Travel Town Family Bills Old"),
		}
	}
	return out
}
