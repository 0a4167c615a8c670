package demo

import (
	"strings"

	"redlocket/core/secret"
	"redlocket/core/vault"
	sites "redlocket/practice"
)

// The people of the demo, and their master passwords.
const (
	MarenEmail    = "maren.tolliver@cormorant.example"
	MarenPassword = "kelp ferry lantern forty"
	IdrisEmail    = "idris.tolliver@cormorant.example"
	IdrisPassword = "slack tide over ropewalk"
	WrenEmail     = "wren.tolliver@cormorant.example"
	WrenPassword  = "oar lamp tide winkle"
	RosaEmail     = "rosa.quayle@allotments.example"
	RosaPassword  = "runner beans by the gate"
)

// row is a login as the demo data writes it: title, address, user name,
// password, folder, tags, notes.
type row [7]string

// marens are Maren's logins: what years of saving leave behind, with twins,
// masks, capitals, missing user names and one short password used again and again.
var marens = []row{
	{
		"Gullwing Credit Union",
		"https://gullwing.example/sign-in",
		MarenEmail,
		"vq7RtumKaleW9oxBfent",
		"Bank/Joint account",
		"bank",
		"Branch on Ropewalk closes at four. Lost card: the number to ring is on the card's sheet.",
	},
	{
		"Gullwing Credit Union",
		"https://gullwing.example/sign-in",
		"idris.t",
		"Ropewalk-1984",
		"Bank/Joint account",
		"bank",
		"",
	},
	{
		"gullwing.example",
		"https://cards.gullwing.example/",
		"MAREN.TOLLIVER@CORMORANT.EXAMPLE",
		"Tolliver85",
		"",
		"",
		"",
	},
	{
		"Tidewater Library",
		"https://tidewater-library.example/account",
		"2204-88713",
		"winkle7",
		"Town",
		"",
		"Card number is the user name.",
	},
	{"Tidewater Library", "https://tidewater-library.example/account", "2204-90155", "wrenbooks", "Town", "wren", ""},
	{"Pantry & Pier", "https://pantryandpier.example/login", MarenEmail, "Tolliver85", "Shops", "groceries", ""},
	{"Pantry & Pier", "https://pantryandpier.example/login", "", "Tolliver85", "Shops", "", ""},
	{
		"Ferrylink",
		"https://ferrylink.example/",
		MarenEmail,
		"tide-TABLE-19",
		"Travel",
		"",
		"Season ticket runs out in March.",
	},
	{"Ferrylink", "https://ferrylink.example/", "mtolliver", "Tolliver85", "Travel", "", ""},
	{"Brackish Radio", "https://brackish.example/sign-in", "mtolliver", "longwave-Harbour-7", "Town", "forum", ""},
	{"Lanternfish", "https://lanternfish.example/sign-in", MarenEmail, "Cuttle!bone42", "Family", "films", ""},
	{"Lanternfish", "https://lanternfish.example/sign-in", "wren", "Cuttle!bone42", "Family", "films", ""},
	{"Lanternfish (old)", "https://www.lanternfish.example/", "mt*****er", "Tolliver85", "", "", ""},
	{
		"Cormorant Mail",
		"https://mail.cormorant.example/",
		MarenEmail,
		"nine herring gulls at dawn",
		"",
		"mail",
		"Everything can be reset through this one.",
	},
	{
		"Harbour Water",
		"https://harbourwater.example/my",
		"40-118-2207",
		"Tolliver85",
		"Bills",
		"",
		"Meter is under the stairs.",
	},
	{"Halyard Broadband", "https://halyard.example/account", "mtolliver", "Splice&Main7", "Bills", "", ""},
	{"Saltmarsh Power", "https://saltmarshpower.example/", "T-553190", "Tolliver85", "Bills", "", ""},
	{"Oystercatcher Pharmacy", "https://oystercatcher.example/", "m.tolliver", "Pill-Box-3", "Health", "", ""},
	{"Spindrift Surgery", "https://spindrift-surgery.example/patients", "943 476 5919", "winkle7", "Health", "", ""},
	{"Limpet Dental", "https://limpetdental.example/", MarenEmail, "Tolliver85", "Health", "", ""},
	{"Kelp & Crown", "https://kelpandcrown.example/", "mtolliver", "broad-BEANS-12", "Garden", "seeds", ""},
	{
		"Allotment Society",
		"https://saltmarsh-allotments.example/members",
		"plot 31",
		"winkle7",
		"Garden",
		"",
		"Gate code is on the padlock's note.",
	},
	{"Saltmarsh School", "https://school.saltmarsh.example/parents", "TOLLIVER-W-07", "7Hm2x9Lq", "Wren", "", ""},
	{"Saltmarsh School meals", "https://meals.saltmarsh.example/", "TOLLIVER-W-07", "7Hm2x9Lq", "Wren", "", ""},
	{"Sandpiper Rail", "https://sandpiper-rail.example/", "mtolliver", "Points&Signals2", "Travel", "", ""},
	{"Samphire Hotels", "https://samphirehotels.example/", MarenEmail, "Tolliver85", "Travel", "", ""},
	{"Windlass Car Hire", "https://windlass.example/", MarenEmail, "Tolliver85", "Travel", "", ""},
	{"Barnacle Books", "https://barnaclebooks.example/", MarenEmail, "Tolliver85", "Shops", "", ""},
	{"Cockle & Thread", "https://cockleandthread.example/", MarenEmail, "Cast0nStitch", "Shops", "", ""},
	{"Dunlin Outdoors", "https://dunlin.example/", MarenEmail, "Tolliver85", "Shops", "", ""},
	{"Eelgrass Furniture", "https://eelgrass.example/", "maren", "Tolliver85", "Shops", "", ""},
	{"Fulmar Shoes", "https://fulmar.example/", MarenEmail, "Tolliver85!", "Shops", "", ""},
	{"Grebe Toys", "https://grebetoys.example/", MarenEmail, "Tolliver85", "Shops", "wren", ""},
	{"Island Post", "https://islandpost.example/track", MarenEmail, "parcel-4-Wren", "Town", "", ""},
	{"Jetty Café", "https://jettycafe.example/", MarenEmail, "winkle7", "Town", "", "Tenth coffee is free."},
	{"Knot & Bowline", "https://knotandbowline.example/", "mtolliver", "Tolliver85", "Shops", "", ""},
	{
		"Lugger Insurance",
		"https://lugger.example/",
		"POL-7720194",
		"fair-WIND-8",
		"Bank",
		"insurance",
		"Renewal on 14 June.",
	},
	{"Mooring Mutual", "https://mooringmutual.example/", MarenEmail, "Anchor&Chain4", "Bank", "savings", ""},
	{"Nautilus Pensions", "https://nautilus-pensions.example/", "NP 88 41 72", "slow-Boat-2051", "Bank", "", ""},
	{"Osprey Council Tax", "https://council.saltmarsh.example/tax", "30047718", "Tolliver85", "Bills", "", ""},
	{"Periwinkle Photos", "https://periwinkle.example/", MarenEmail, "Shutter+Bulb6", "Family", "", ""},
	{"Quayside Tickets", "https://quaysidetickets.example/", MarenEmail, "Tolliver85", "Town", "", ""},
	{
		"Ropewalk Gym",
		"https://ropewalkgym.example/",
		"mtolliver",
		"Tolliver85",
		"Health",
		"",
		"Cancelled, kept in case.",
	},
	{"Samphire Recipes", "https://samphirerecipes.example/", MarenEmail, "winkle7", "", "", ""},
	{"Seaholly Garden Centre", "https://seaholly.example/", "mtolliver", "Tolliver85", "Garden", "", ""},
	{"Shearwater News", "https://shearwaternews.example/", MarenEmail, "Tolliver85", "", "", ""},
	{"Shearwater News", "https://shearwaternews.example/", "Mtolliver", "tolliver85", "", "", ""},
	{"Skerry Weather", "https://skerry.example/", "maren.t", "Tolliver85", "", "", ""},
	{"Sloop Music", "https://sloopmusic.example/", MarenEmail, "Bass-Clef-11", "Family", "", ""},
	{"Tern Translations", "https://tern.example/", "mtolliver", "Tolliver85", "Work", "", ""},
	{"Thrift Marketplace", "https://thriftmarket.example/", "saltmarsh_maren", "Second-Hand-5", "Shops", "", ""},
	{"Topsail Payroll", "https://topsail.example/sign-in", "E10442", "pay-DAY-every-28", "Work", "", ""},
	{
		"Undertow Games",
		"https://undertow.example/",
		"WrenTheBold",
		"dragonfly9",
		"Wren",
		"",
		"Wren's. Ask before changing.",
	},
	{"Viaduct Maps", "https://viaductmaps.example/", MarenEmail, "Tolliver85", "Travel", "", ""},
	{"Whelk Streaming", "https://whelk.example/", MarenEmail, "Tolliver85", "Family", "", ""},
	{"Wrasse Video Calls", "https://wrasse.example/", MarenEmail, "Wave&Hello3", "Family", "", ""},
	{"Yawl Messenger", "https://yawl.example/", "+44 1632 960117", "Tolliver85", "", "", ""},
	{"Zostera Seeds", "https://zostera.example/", "mtolliver", "Tolliver85", "Garden", "seeds", ""},
	{"192.0.2.1", "http://192.0.2.1/", "admin", "admin", "", "", "The router under the stairs."},
}

// other is something else than a login: kind, title, folder, notes and fields.
type other struct {
	kind                 vault.Type
	title, folder, notes string
	fields               vault.Changes
}

// others are what else Maren keeps. The card's number is one that payment providers
// publish for trying out.
var others = []other{
	{
		vault.TypeCard,
		"Gullwing debit card",
		"Bank/Joint account",
		"",
		vault.Changes{
			vault.FieldHolder:    "Maren Tolliver",
			vault.FieldNumber:    "4012888888881881",
			vault.FieldExpiry:    "2027-09",
			vault.FieldCode:      "118",
			vault.FieldPIN:       "4406",
			vault.FieldIssuer:    "Gullwing Credit Union",
			vault.FieldEmergency: "01632 960 911",
		},
	},
	{
		vault.TypeBank,
		"Joint account",
		"Bank/Joint account",
		"",
		vault.Changes{
			vault.FieldBank:   "Gullwing Credit Union",
			vault.FieldHolder: "Maren and Idris Tolliver",
			vault.FieldIBAN:   "GB29NWBK60161331926819",
			vault.FieldPhone:  "01632 960 910",
		},
	},
	{
		vault.TypePerson,
		"Maren at home",
		"",
		"",
		vault.Changes{
			"given-name":     "Maren",
			"family-name":    "Tolliver",
			"bday":           "1985-04-11",
			"street-address": "7 Ropewalk",
			"address-level2": "Saltmarsh Quay",
			"postal-code":    "SQ1 7RW",
			"country":        "GB",
			"tel":            "+44 1632 960117",
			"email":          MarenEmail,
		},
	},
	{
		vault.TypePaper,
		"Maren’s passport",
		"Family",
		"",
		vault.Changes{
			vault.FieldPaper:   "passport",
			vault.FieldHolder:  "Maren Tolliver",
			vault.FieldNumber:  "SQ5501882",
			vault.FieldCountry: "GB",
			vault.FieldIssued:  "2017-02-03",
			vault.FieldExpiry:  "2027-02-02",
		},
	},
	{
		vault.TypeMembership,
		"Tidewater Library card",
		"Town",
		"",
		vault.Changes{
			vault.FieldIssuer: "Tidewater Library",
			vault.FieldHolder: "Wren Tolliver",
			vault.FieldNumber: "2204-90155",
		},
	},
	{
		vault.TypeWiFi,
		"Home Wi-Fi",
		"Home",
		"The router is under the stairs.",
		vault.Changes{
			vault.FieldSSID:     "Tolliver Nest",
			vault.FieldPassword: "limpets on the hull",
			vault.FieldSecurity: "WPA",
		},
	},
	{vault.TypeNote, "Padlock of the allotment gate", "Garden", "0 4 2 7. Turn to 0 0 0 0 after locking.", nil},
	{
		vault.TypeSoftware,
		"Chart plotter",
		"Boat",
		"",
		vault.Changes{
			vault.FieldVersion: "3",
			vault.FieldLicence: "CHRT-7711-SALT-0098",
			vault.FieldHolder:  "Idris Tolliver",
		},
	},
}

// setups are setup keys of one-time codes, by title.
var setups = map[string]string{
	"Mooring Mutual": "otpauth://totp/Mooring:maren?" +
		"algorithm=SHA1&digits=6&period=30&secret=GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ",
	"Mooring Mutual " +
		"(practice)": "otpauth://totp/Mooring:maren?algorithm=SHA1&digits=6&period=30&secret=" + sites.CodeKey,
	"Island Post (practice)": "otpauth://totp/Post:maren?algorithm=SHA1&digits=6&period=30&secret=" + sites.CodeKey,
}

// idriss are Idris's logins.
var idriss = []row{
	{"Gullwing Credit Union", "https://gullwing.example/sign-in", "idris.t", "Ropewalk-1984", "Bank", "", ""},
	{"Cormorant Mail", "https://mail.cormorant.example/", IdrisEmail, "grapnel-Thole-Pin-6", "", "", ""},
	{"Chandlery Direct", "https://chandlery.example/", "idris.t", "Brass&Teak9", "Boat", "", ""},
	{"Slipway Moorings", "https://slipway.example/", "berth 14", "Low-Water-0620", "Boat", "", ""},
	{"Brackish Radio", "https://brackish.example/sign-in", "idris", "longwave-11", "", "", ""},
}

// wrens are Wren's logins.
var wrens = []row{
	{"Saltmarsh School", "https://saltmarsh-school.example/pupils", "wren.t", "otter-Pocket-31", "", "", ""},
	{"Lanternfish", "https://lanternfish.example/sign-in", WrenEmail, "Barnacle.goose8", "", "", ""},
	{"Cormorant Mail", "https://mail.cormorant.example/", WrenEmail, "three Crabs in a 7 bucket", "", "", ""},
}

// town are logins at the practice sites, which really work in the demo.
func town(practice func(name, path string) string) []row {
	rows := []row{
		{
			"Lanternfish (practice)",
			practice("lanternfish", "/sign-in"),
			MarenEmail,
			"Cuttle!bone42",
			"Practice town",
			"",
			"",
		},
		{
			"Gullwing (practice)",
			practice("gullwing", "/sign-in"),
			"mtolliver",
			"vq7RtumKaleW9oxBfent",
			"Practice town",
			"",
			"",
		},
		{
			"Cormorant Mail (practice)",
			practice("cormorant", "/sign-in"),
			MarenEmail,
			"nine herring gulls at dawn",
			"Practice town",
			"",
			"",
		},
	}
	for _, s := range sites.Sites[len(rows):] {
		r := row{
			s.Title + " (practice)",
			practice(s.Name, "/sign-in"),
			"mtolliver",
			"Sea-Glass.27x",
			"Practice town",
			"",
			"",
		}
		switch {
		case s.Mail:
			r[2] = MarenEmail
		case s.Name == "yawl":
			r[2] = "+441632960117"
		}
		if s.Plain {
			r[3] = "winkle77"
		}
		rows = append(rows, r)
	}
	return rows
}

func drafts(rows []row) []vault.Draft {
	var out []vault.Draft
	for _, r := range rows {
		d := vault.Draft{
			Title:     r[0],
			Username:  r[2],
			Password:  secret.New(r[3]),
			Folder:    r[4],
			Notes:     r[6],
			Addresses: []vault.Address{{URL: r[1]}},
		}
		if r[5] != "" {
			d.Tags = strings.Split(r[5], ",")
		}
		out = append(out, d)
	}
	return out
}
