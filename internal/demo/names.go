package demo

// A name as it is written and as it stands in a logon name.
type name struct{ written, plain string }

func same(all ...string) []name {
	out := make([]name, len(all))
	for i, s := range all {
		out[i] = name{s, s}
	}
	return out
}

// All people are made up. The names come from many languages, since real
// staff lists do.
var givenNames = append(
	same("Ada", "Bram", "Clara", "Dov", "Edith", "Farid", "Greta", "Hugo", "Ines", "Jonas", "Kaja", "Leon", "Mira",
		"Nadia", "Otto", "Petra", "Quentin", "Rosa", "Stefan", "Tilda", "Ulla", "Vera", "Wanda", "Yara", "Zeno",
		"Amara", "Kofi", "Thabo", "Linh", "Mehmet", "Priya", "Ravi", "Sana", "Tomas", "Uma", "Viktor"),
	name{
		"Zoë",
		"Zoe",
	},
	name{"Søren", "Soren"},
	name{"José", "Jose"},
	name{"Łucja", "Lucja"},
	name{"Åsa", "Asa"},
	name{"Jürgen", "Jurgen"},
	name{
		"Наталья",
		"Natalya",
	},
	name{"Δημήτρης", "Dimitris"},
	name{"美咲", "Misaki"},
	name{"Хасан", "Khasan"},
	name{"نور", "Nour"},
	name{"Anne-Marie", "Annemarie"},
)

var familyNames = append(
	same("Quill", "Tern", "Marlowe", "Ashdown", "Birk", "Castell", "Dunmore", "Ekholm", "Fairley", "Grantham", "Hollis",
		"Ivarsen", "Jessop", "Kestrel", "Lindqvist", "Moorcroft", "Nakata", "Okafor", "Pereira", "Quiroga", "Rosendal",
		"Sandoval", "Thackeray", "Umarov", "Vasquez", "Wexford", "Yilmaz", "Zielinski", "Abernathy", "Bellweather",
		"Corrigan", "Drummond"),
	name{
		"O'Dell",
		"ODell",
	},
	name{"Müller-Voss", "MullerVoss"},
	name{"Ångström", "Angstrom"},
	name{"Dvořák", "Dvorak"},
	name{"Peña", "Pena"},
	name{
		"Соколова",
		"Sokolova",
	},
	name{"Παππάς", "Pappas"},
	name{"佐藤", "Sato"},
	name{"van den Heuvel", "vandenHeuvel"},
	name{"Nguyễn", "Nguyen"},
	name{"Featherstonehaugh-Cholmondeley", "FeatherstonehaughCholmondeley"},
	name{"McAllister", "McAllister"},
)

type post struct {
	department string
	titles     []string
}

var posts = []post{
	{"Astronomy", []string{"Astronomer", "Night Observer", "Research Fellow", "Student"}},
	{"Instruments", []string{"Optical Engineer", "Detector Specialist", "Technician"}},
	{"Archive", []string{"Archivist", "Data Curator", "Librarian"}},
	{"Computing", []string{"Systems Administrator", "Software Developer", "Help Desk"}},
	{"Administration", []string{"Accountant", "Personnel Officer", "Secretary", "Director's Assistant"}},
	{"Visitor Centre", []string{"Guide", "Planetarium Presenter", "Shop Assistant"}},
	{"Workshop", []string{"Machinist", "Electrician", "Caretaker"}},
}

var towns = []string{"Larkmoor", "Larkmoor", "Larkmoor", "Upper Fell", "Port Selby"}
