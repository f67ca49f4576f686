package muddle

// variants are the ways in which one name is written.
type variants struct {
	written string // as most lists have it
	plain   string // in plain Latin letters
	short   string // what friends say
	native  string // in its own letters
	half    string // one part of a double name
}

var fronts = []string{"Ash", "Birch", "Black", "Bright", "Brook", "Carl", "Cliff", "Cold", "Copper", "Crow", "Dale", "Deer", "East", "Elm", "Fair", "Fen", "Finch", "Frost", "Gold",
	"Grass", "Green", "Grey", "Hart", "Hawk", "Hazel", "Heath", "High", "Hollow", "Horn", "Iron", "Kest", "Lang", "Lark", "Lind", "Marsh", "Mead", "Moor", "Nether", "North", "Oak",
	"Old", "Otter", "Pine", "Quarry", "Raven", "Reed", "Rose", "Rush", "Salt", "Sand", "Sedge", "Silver", "South", "Stone", "Swan", "Thorn", "Under", "West", "White", "Wood"}

var backs = []string{"acre", "bank", "berg", "borough", "bridge", "brook", "burn", "bury", "by", "combe", "cote", "croft", "dale", "den", "field", "ford", "gate", "grove", "ham", "hill",
	"holm", "hurst", "ing", "land", "leigh", "low", "man", "mark", "mere", "mond", "more", "ness", "quist", "ridge", "sen", "shaw", "son", "stead", "stone", "ström", "thorpe", "ton",
	"vale", "water", "way", "well", "wick", "win", "wood", "worth"}

var familyCount = len(fronts) * len(backs)

// plainFamily is the n-th family name; the first ones are common.
func plainFamily(n int) variants {
	// Neighbours in the list should not look alike.
	n = n * 1777 % familyCount
	front, back := fronts[n%len(fronts)], backs[n/len(fronts)]
	plain := back
	if back == "ström" {
		plain = "strom"
	}
	return variants{written: front + back, plain: front + plain}
}

func v(written, plain, short string) variants {
	return variants{written: written, plain: plain, short: short}
}

var givens = []variants{v("Maria", "Maria", ""), v("Thomas", "Thomas", "Tom"), v("Anna", "Anna", "Annie"), v("Robert", "Robert", "Bob"), v("Elizabeth", "Elizabeth", "Liz"),
	v("William", "William", "Bill"), v("Katharina", "Katharina", "Kathi"), v("Michael", "Michael", "Mike"), v("Sarah", "Sarah", "Sally"), v("Daniel", "Daniel", "Dan"),
	v("Zoë", "Zoe", ""), v("Alexander", "Alexander", "Alex"), v("Ingrid", "Ingrid", ""), v("Christopher", "Christopher", "Chris"), v("Jürgen", "Jurgen", ""), v("Margaret", "Margaret", "Peggy"),
	v("José", "Jose", "Pepe"), v("Samuel", "Samuel", "Sam"), v("Priya", "Priya", ""), v("Oliver", "Oliver", "Ollie"), v("Łucja", "Lucja", ""), v("Benjamin", "Benjamin", "Ben"),
	v("Anne-Marie", "AnneMarie", "Anne"), v("Kofi", "Kofi", ""), v("Nicholas", "Nicholas", "Nick"), v("Søren", "Soren", ""), v("Victoria", "Victoria", "Vicky"), v("Hugo", "Hugo", ""),
	v("Edward", "Edward", "Ted"), v("Ines", "Ines", ""), v("Joseph", "Joseph", "Joe"), v("Mira", "Mira", ""), v("Patricia", "Patricia", "Pat"), v("Jonas", "Jonas", ""),
	v("Rebecca", "Rebecca", "Becky"), v("Leon", "Leon", ""), v("Stephen", "Stephen", "Steve"), v("Farid", "Farid", ""), v("Charlotte", "Charlotte", "Lottie"), v("Otto", "Otto", ""),
	v("Andrew", "Andrew", "Andy"), v("Petra", "Petra", ""), v("Timothy", "Timothy", "Tim"), v("Quentin", "Quentin", ""), v("Deborah", "Deborah", "Debbie"), v("Rosa", "Rosa", ""),
	v("Matthew", "Matthew", "Matt"), v("Stefan", "Stefan", ""), v("Jennifer", "Jennifer", "Jenny"), v("Tilda", "Tilda", ""), v("Gregory", "Gregory", "Greg"), v("Ulla", "Ulla", ""),
	v("Philip", "Philip", "Phil"), v("Vera", "Vera", ""), v("Susan", "Susan", "Sue"), v("Wanda", "Wanda", ""), v("Frederick", "Frederick", "Fred"), v("Yara", "Yara", ""),
	v("Åsa", "Asa", ""), v("Zeno", "Zeno", ""), v("Amara", "Amara", ""), v("Thabo", "Thabo", ""), v("Linh", "Linh", ""), v("Mehmet", "Mehmet", ""), v("Ravi", "Ravi", ""),
	v("Sana", "Sana", ""), v("Tomas", "Tomas", ""), v("Uma", "Uma", ""), v("Viktor", "Viktor", ""), v("Bram", "Bram", ""), v("Clara", "Clara", ""), v("Dov", "Dov", ""),
	v("Edith", "Edith", ""), v("Greta", "Greta", ""), v("Kaja", "Kaja", ""), v("Nadia", "Nadia", "")}

func n(native, latin string) variants { return variants{written: latin, plain: latin, native: native} }

var foreignFamilies = []variants{n("Соколова", "Sokolova"), n("Παππάς", "Pappas"), n("Кузнецов", "Kuznetsov"), n("Щербаков", "Shcherbakov"), n("Παπαδόπουλος", "Papadopoulos"),
	n("Волков", "Volkov"), n("Зайцева", "Zaitseva"), n("Γεωργίου", "Georgiou"), n("Петров", "Petrov"), n("Ковальчук", "Kovalchuk"), n("Николаев", "Nikolaev"), n("佐藤", "Sato"),
	n("田中", "Tanaka"), n("김", "Kim"), n("王", "Wang")}

var foreignGivens = []variants{n("Наталья", "Natalya"), n("Δημήτρης", "Dimitris"), n("Юрий", "Yuri"), n("Евгений", "Yevgeny"), n("Ольга", "Olga"), n("Сергей", "Sergei"),
	n("Дмитрий", "Dmitri"), n("Ирина", "Irina"), n("Κατερίνα", "Katerina"), n("Νίκος", "Nikos"), n("Тарас", "Taras"), n("美咲", "Misaki"), n("健", "Ken"), n("민준", "Minjun"), n("伟", "Wei")}

var departments = []string{"Astronomy", "Instruments", "Archive", "Computing", "Administration", "Visitor Centre", "Workshop", "Library", "Night Crew", "Optics", "Outreach", "Grounds"}

var titles = []string{"Astronomer", "Night Observer", "Research Fellow", "Student", "Optical Engineer", "Detector Specialist", "Technician", "Archivist", "Data Curator", "Librarian",
	"Systems Administrator", "Software Developer", "Help Desk", "Accountant", "Personnel Officer", "Secretary", "Assistant", "Guide", "Presenter", "Shop Assistant", "Machinist",
	"Electrician", "Caretaker", "Driver", "Gardener"}
