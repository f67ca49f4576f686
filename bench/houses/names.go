package houses

import (
	_ "embed"
	"strings"
)

//go:embed names.tsv
var namesText string

// name is one name: as its culture writes it, how it is read (kana), and in
// Latin letters by one custom or several. Names of Latin cultures have no
// others.
type name struct {
	native, reading string
	latin           []string
}

// culture is how people of one language are called.
type culture struct {
	name                         string
	families, men, women         []name // families of men, where those of women differ
	womensFamilies               []name
	familyFirst, doubled, single bool
	native                       bool // written in other letters than Latin ones
}

// cultures are all there are names of, in the order of the list.
var cultures = func() []*culture {
	var all []*culture
	by := map[string]*culture{}
	for line := range strings.Lines(namesText) {
		if line[0] == '#' {
			continue
		}
		cells := strings.Split(strings.TrimRight(line, "\n"), "\t")
		c := by[cells[0]]
		if c == nil {
			c = &culture{name: cells[0]}
			by[cells[0]] = c
			all = append(all, c)
		}
		n := name{native: cells[2]}
		for _, cell := range cells[3:] {
			if reading, ok := strings.CutPrefix(cell, "="); ok {
				n.reading = reading
			} else {
				n.latin = append(n.latin, cell)
			}
		}
		c.native = c.native || len(n.latin) > 0
		switch cells[1] {
		case "f":
			c.families, c.womensFamilies = append(c.families, n), append(c.womensFamilies, n)
		case "fm":
			c.families = append(c.families, n)
		case "fw":
			c.womensFamilies = append(c.womensFamilies, n)
		case "m":
			c.men = append(c.men, n)
		case "w":
			c.women = append(c.women, n)
		}
	}
	for _, c := range all {
		switch c.name {
		case "hungarian", "chinese", "taiwanese", "cantonese", "japanese", "korean", "vietnamese":
			c.familyFirst = true
		case "spanish", "portuguese":
			c.doubled = true
		case "indonesian", "indian":
			c.single = true
		}
	}
	return all
}()

// shortForms are what colleagues say, by language.
var shortForms = map[string]string{
	"Alexander":    "Alex",
	"Katharina":    "Kathi",
	"Wolfgang":     "Wolfi",
	"Johannes":     "Hannes",
	"Sebastian":    "Basti",
	"Maximilian":   "Max",
	"Elisabeth":    "Lisa",
	"Francisco":    "Paco",
	"José":         "Pepe",
	"Guadalupe":    "Lupe",
	"Ignacio":      "Nacho",
	"Dolores":      "Lola",
	"Enrique":      "Quique",
	"Alejandro":    "Alex",
	"Eduardo":      "Edu",
	"Giuseppe":     "Beppe",
	"Francesco":    "Franco",
	"Antonio":      "Toni",
	"Giovanni":     "Gianni",
	"Александр":    "Саша",
	"Мария":        "Маша",
	"Екатерина":    "Катя",
	"Дмитрий":      "Дима",
	"Наталья":      "Наташа",
	"Анастасия":    "Настя",
	"Иван":         "Ваня",
	"Алексей":      "Лёша",
	"Елена":        "Лена",
	"Aleksandra":   "Ola",
	"Małgorzata":   "Gosia",
	"Katarzyna":    "Kasia",
	"Krzysztof":    "Krzysiek",
	"Joanna":       "Asia",
	"Jakub":        "Kuba",
	"František":    "Franta",
	"Josef":        "Pepa",
	"Jiří":         "Jirka",
	"Robert":       "Bob",
	"William":      "Bill",
	"Margaret":     "Peggy",
	"Elizabeth":    "Beth",
	"Jonathan":     "Jon",
	"Thomas":       "Tom",
	"Christopher":  "Chris",
	"Michael":      "Mike",
	"Benjamin":     "Ben",
	"Daniel":       "Dan",
	"Samuel":       "Sam",
	"Joseph":       "Joe",
	"Matthew":      "Matt",
	"Nicholas":     "Nick",
	"Patricia":     "Pat",
	"István":       "Pista",
	"László":       "Laci",
	"Erzsébet":     "Erzsi",
	"János":        "Jancsi",
	"Κωνσταντίνος": "Κώστας",
	"Ιωάννης":      "Γιάννης",
	"Δημήτριος":    "Δημήτρης",
	"Γεώργιος":     "Γιώργος",
	"Mehmet":       "Memo",
	"Mustafa":      "Musti",
	"Anders":       "Andy",
	"Margareta":    "Greta",
	"Jean-Pierre":  "JP",
	"Philippe":     "Phil",
	"Frédéric":     "Fred",
	"Олександр":    "Саша",
	"Володимир":    "Вова",
	"Михайло":      "Миша",
	"Gheorghe":     "Gigi",
	"Alexandru":    "Sandu",
	"João":         "Joca",
	"Manuel":       "Manel",
}

// shortLatin is how short forms in other letters are written in Latin ones.
var shortLatin = map[string]string{
	"Саша":     "Sasha",
	"Маша":     "Masha",
	"Катя":     "Katya",
	"Дима":     "Dima",
	"Наташа":   "Natasha",
	"Настя":    "Nastya",
	"Ваня":     "Vanya",
	"Лёша":     "Lyosha",
	"Лена":     "Lena",
	"Κώστας":   "Kostas",
	"Γιάννης":  "Giannis",
	"Δημήτρης": "Dimitris",
	"Γιώργος":  "Giorgos",
	"Вова":     "Vova",
	"Миша":     "Mykhas",
}
