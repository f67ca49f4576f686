package names

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNamesResembleEachOther(t *testing.T) {
	for _, c := range []struct {
		a, b  string
		given bool
		want  Likeness
	}{
		{"Quill", "QUILL", false, Same},
		{"O'Dell", "ODell", false, Same},
		{"Müller", "Mueller", false, Same},
		{"Ångström", "Angstrom", false, Same},
		{"Łucja", "Lucja", true, Same},
		{"van den Heuvel", "Heuvel", false, Partly},
		{"Müller-Voss", "Voss", false, Partly},
		{"Müller-Voss", "Mueller Voss", false, Same},
		{"Соколова", "Sokolova", false, Same},
		{"Наталья", "Natalya", true, Transcribed},
		{"Δημήτρης", "Dimitris", true, Same},
		{"Юрий", "Yuri", true, Transcribed},
		{"Евгений", "Yevgeny", true, Transcribed},
		{"佐藤", "Sato", false, Transcribed},
		{"佐藤", "佐藤", false, Same},
		{"佐藤", "田中", false, Unlike},
		{"Robert", "Bob", true, ShortForm},
		{"Elizabeth", "Liz", true, ShortForm},
		{"Robert", "Bob", false, Unlike},
		{"Anne-Marie", "Anne", true, Partly},
		{"Ada", "A.", true, InitialOnly},
		{"Ada", "B.", true, Unlike},
		{"Jean Pierre", "J P", true, InitialOnly},
		{"Marlowe", "Marlow", false, Near},
		{"Featherstone", "Fetherstoen", false, Near},
		{"Tern", "Turn", false, Near},
		{"Tern", "Quill", false, Unlike},
		{"Ada", "Ida", true, Unlike}, // too short for a typing error
		{"", "Quill", false, Unknown},
		{"de Mary Ann", "Maryann", false, Partly},
		{"Li Na", "Li Bo", false, Unlike}, // two letters are no part of a name
		{"Lia Na", "Lia Bo", false, Halves},
		{"Annamaria Rose", "Annamarie", true, Near},
		{"Annamaria Rose", "Annamarie", false, Unlike},
		{"Jo Ann", "J", true, InitialOnly},
		{"Jo Ann", "K", true, Unlike},
		{"Jo Ann Marie", "J A", true, InitialOnly},
		{"Jo Ann Marie", "J B", true, Unlike},
		{"Kim", "Kimberley", true, ShortForm}, // one begins the other
		{"Al", "Alan", true, Unlike},
		{"Featherstone", "Fetherstan", false, Sounding},
		{"Terne", "Turn", false, Sounding},
		// Scripts.
		{"Щербаков", "Schtscherbakow", false, Transcribed}, // German
		{"Щербаков", "Shcherbakov", false, Same},
		{"Жуков", "Joukov", false, Transcribed}, // French
		{"Цветков", "Cvetkov", false, Transcribed},
		{"Георгій", "Heorhii", true, Transcribed},
		{"Христов", "Hristov", false, Transcribed},
		{"Βασίλης", "Vasilis", true, Same},
		{"Παπαδόπουλος", "Papadopoulos", false, Same},
		{"Μπακογιάννη", "Bakogianni", false, Same},
		{"محمد", "Mohamed", true, Sounding},
		{"محمد", "Muhammad", true, Sounding},
		{"محمد", "Karim", true, Otherwise},
		{"المصري", "El-Masry", false, Sounding},
		{"عبد الرحمن", "Abdulrahman", false, Sounding},
		{"שפירא", "Shapira", false, Sounding},
		{"לוי", "Levy", false, Sounding},
		{"לוי", "Katz", false, Otherwise},
		{"王", "Wang", false, Transcribed},
		{"王", "Wong", false, Transcribed}, // as in Hong Kong
		{"王", "Chen", false, Otherwise},
		{"家輝", "Ka-fai", true, Sounding}, // Cantonese
		{"偉強", "Wai Keung", true, Sounding},
		{"子軒", "Tsz-hin", true, Sounding},
		{"淑儀", "Shuk-yee", true, Sounding},
		{"家輝", "Wai Keung", true, Otherwise},
		{"薛", "Hsue", false, Transcribed},
		{"曾", "Zeng", false, Transcribed}, // read so as a family name only
		{"建國", "Jianguo", true, Transcribed},
		{"建國", "Chien-Kuo", true, Transcribed},
		{"김", "Kim", false, Transcribed},
		{"이", "Lee", false, Transcribed},
		{"영준", "Young-Joon", true, Sounding},
		{"민준", "Minjun", true, Transcribed},
		{"渡辺", "Watanabe", false, Transcribed},
		{"タロウ", "Taro", true, Sounding},
		{"Հարություն", "Harutyun", true, Same},
		{"მაღალაძე", "Maghaladze", false, Same},
		{"ไชยา", "Chaiya", false, Unknown},
		{"李", "里", false, Sounding}, // read alike, and not the same
		{"Yıldız", "Yildiz", false, Same},
		// Romanisations among each other.
		{"Mohammed", "Muhamad", true, Sounding},
		{"Hussein", "Husain", true, Sounding},
		// Parts.
		{"Jean-Paul", "Jean-Marc", true, Halves},
		{"Иван Петрович", "Ivan", true, Partly},
		{"Minh Hạnh", "Hạnh", true, Partly},
		{"Minh Hạnh", "Minh", true, Unlike},
		{"Minh Hạnh", "Minh Phi", true, Unlike},
		{"Ek-Lindqvist", "Ek", false, Partly},
		{"Եվա", "Yeva", true, Transcribed},
		{"García Márquez", "García", false, Partly},
		{"Melgar Limón", "Mellgar Limon", false, Near},
		{"江古田 鈴木", "Ekoda", false, Partly},
		{"思遠 胤祥", "Ssu-Yuan", true, Partly},
		{"de la Mare", "Delamare", false, Same},
		// What is no name.
		{"Dr. Ada", "Ada", true, Same},
		{"Dipl.-Ing. Ada", "Ada", true, Same},
		{"Quill, MBA", "Quill", false, Same},
		{"Quill Jr.", "Quill", false, Same},
		{"Quill III", "Quill", false, Same},
		{"Quill - Office", "Quill", false, Same},
		{"Quill (Contractor)", "Quill", false, Same},
		{"Ing", "Ing", false, Same},
		{".", "Quill", false, Unknown},
		{"Саша", "Alexander", true, ShortForm},
		{"Þ.", "Þórgunna", true, InitialOnly},
		{"Я.", "Yana", true, InitialOnly},
		{"Ю.", "Juri", true, InitialOnly},
		{"Ю.", "Ada", true, Unlike},
	} {
		x, y := New(c.a), New(c.b)
		assert.Equal(t, c.want, compare(&x, &y, c.given), "%s %s", c.a, c.b)
		assert.Equal(t, c.want, compare(&y, &x, c.given), "%s %s, the other way round", c.b, c.a)
	}
}

func TestWholeNamesArePartedWhereTheySaySo(t *testing.T) {
	for whole, want := range map[string][2]string{
		"Quill, Ada":              {"Quill", "Ada"},
		"Ada Quill":               {"Quill", "Ada"},
		"Dr. Ada Quill":           {"Quill", "Ada"},
		"Ada Quill 2":             {"Quill", "Ada"},
		"Ada Quill (Astronomy)":   {"Quill", "Ada"},
		"Jan van den Heuvel":      {"van den Heuvel", "Jan"},
		"Anna Maria Quill":        {"Quill", "Anna Maria"},
		"svc-dome":                {"", ""},
		"":                        {"", ""},
		"Heuvel, Jan van den":     {"Heuvel", "Jan van den"},
		"(nobody)":                {"", ""},
		"Prof. Dr. Ulla Ångström": {"Ångström", "Ulla"},
		"Ada Quill, PhD":          {"Quill", "Ada"},
		"Ada Quill - Office":      {"Quill", "Ada"},
		"김민준":                     {"김", "민준"},
		"王伟":                      {"王", "伟"},
		"Nguyễn Thị Minh":         {"Nguyễn", "Thị Minh"},
		"Chen Hung-Hsuan P.":      {"Hung-Hsuan", "Chen P."},
		"Tô Hương Nhi":            {"Tô", "Hương Nhi"},
		"Trương P.":               {"Trương", "P."},
		"Front Office (shared)":   {"Office", "Front"},
	} {
		family, given, _ := Split(whole)
		assert.Equal(t, want, [2]string{family, given}, whole)
	}
}
