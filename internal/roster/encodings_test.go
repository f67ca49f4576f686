package roster

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"
)

// lists are what a file looks like in the encodings that its country uses.
var lists = map[string]string{
	"windows-1252":   "Personalnummer;Nachname;Vorname;Straße\n1;Müller;Jürgen;Öhringen\n2;Strömberg;Åsa;\n3;Lefèvre;François;\n4;Muñoz;José;\n5;Gonçalves;João;\n6;Søndergård;Bjørn;\n",
	"windows-1250":   "Osobní číslo;Příjmení;Jméno\n1;Dvořák;Jiří\n2;Růžička;Zdeněk\n3;Šťastný;Ondřej\n4;Żółkiewski;Łukasz\n5;Wiśniewski;Paweł\n6;Őry;Győző\n",
	"windows-1251":   "Табельный номер;Фамилия;Имя\n1;Соколова;Наталья\n2;Щербаков;Юрий\n3;Кузнецов;Евгений\n4;Ковальчук;Олександр\n",
	"koi8-r":         "Табельный номер;Фамилия;Имя\n1;Соколова;Наталья\n2;Щербаков;Юрий\n3;Кузнецов;Евгений\n",
	"ibm866":         "Табельный номер;Фамилия;Имя\n1;Соколова;Наталья\n2;Щербаков;Юрий\n3;Кузнецов;Евгений\n",
	"iso-8859-5":     "Табельный номер;Фамилия;Имя\n1;Соколова;Наталья\n2;Щербаков;Юрий\n3;Кузнецов;Евгений\n",
	"x-mac-cyrillic": "Табельный номер;Фамилия;Имя\n1;Соколова;Наталья\n2;Щербаков;Юрий\n3;Кузнецов;Евгений\n",
	"windows-1253":   "Αριθμός μητρώου;Επώνυμο;Όνομα\n1;Παπαδόπουλος;Δημήτρης\n2;Γεωργίου;Κατερίνα\n3;Άγγελος;Νίκος\n",
	"windows-1254":   "Sicil No;Soyadı;Adı\n1;Yıldız;Ayşe\n2;Şahin;Uğur\n3;Çağlar;İbrahim\n4;Öztürk;Doğan\n",
	"windows-1255":   "מספר עובד;שם משפחה;שם פרטי\n1;כהן;נועה\n2;לוי;יונתן\n3;מזרחי;שלמה\n",
	"windows-1256":   "الرقم الوظيفي;اسم العائلة;الاسم الأول\n1;المصري;محمد\n2;الحسيني;فاطمة\n3;خوري;طارق\n",
	"shift_jis":      "社員番号,姓,名\n1,佐藤,健\n2,田中,美咲\n3,渡辺,真由美\n4,小林,ひろし\n",
	"euc-jp":         "社員番号,姓,名\n1,佐藤,健\n2,田中,美咲\n3,渡辺,真由美\n4,小林,ひろし\n",
	"gb18030":        "工号,姓名,部门\n1,王伟,光学\n2,李娜,天文\n3,张丽华,图书馆\n4,刘国强,办公室\n",
	"big5":           "工號,姓名,部門\n1,王偉,光學\n2,李娜,天文\n3,張麗華,圖書館\n4,劉國強,辦公室\n",
	"euc-kr":         "사번,성명,부서\n1,김민준,광학\n2,이서연,천문\n3,박지훈,도서관\n4,최수빈,사무실\n",
}

func inEncoding(t *testing.T, name, text string) string {
	t.Helper()
	for _, c := range candidates {
		if c.name == name {
			raw, err := c.NewEncoder().String(text)
			require.NoError(t, err, name)
			return raw
		}
	}
	t.Fatalf("no encoding %s", name)
	return ""
}

func TestEncodingsAreFoundByLooking(t *testing.T) {
	for name, text := range lists {
		d, err := decode(inEncoding(t, name, text), Options{})
		require.NoError(t, err)
		assert.Equal(t, text, d.text, "%s was read as %s", name, d.name)
		assert.True(t, d.guessed)
	}
}

func TestAnEncodingThatIsNamedIsUsed(t *testing.T) {
	raw := inEncoding(t, "windows-1251", lists["windows-1251"])
	r := read(t, raw, Options{Encoding: "Windows-1251"})
	assert.Equal(t, "Соколова", r.Rows[0].Values[Family])
	assert.False(t, r.Guessed)
	assert.Equal(t, "windows-1251, separated by semicolons", r.Form)
	r = read(t, "id;family\n1;Öst\n", Options{Encoding: "utf8"})
	assert.Equal(t, "Öst", r.Rows[0].Values[Family])
	_, err := Read(strings.NewReader(raw), "people", Options{Encoding: "klingon"})
	assert.ErrorContains(t, err, `people: "klingon" is no encoding that is known`)
}

// Where letters leave it open, the names of the directory tell.
func TestTheNamesOfTheDirectoryTellTheEncoding(t *testing.T) {
	raw := inEncoding(t, "windows-1254", "id;family;given\n1;Yıldız;Ayşe\n2;Şahin;Doğan\n3;Güneş;Işıl\n")
	names := map[string]bool{"Yıldız": true, "Ayşe": true, "Şahin": true, "Doğan": true, "Güneş": true}
	r := read(t, raw, Options{})
	r = r.Fitting(func(name string) bool { return names[name] })
	assert.Equal(t, "Yıldız", r.Rows[0].Values[Family])
	assert.Contains(t, r.Form, "windows-1254")

	unknown := read(t, raw, Options{})
	assert.Same(t, unknown, unknown.Fitting(func(string) bool { return false }), "nothing is changed without a reason")
	said := read(t, raw, Options{Encoding: "windows-1252"})
	assert.Same(t, said, said.Fitting(func(name string) bool { return names[name] }), "what somebody said holds")
}

func TestTextThatWasEncodedTwiceIsDecodedTwice(t *testing.T) {
	const once = "id;family;given\n1;Müller;Jürgen\n2;Strömberg;Åsa\n"
	twice, err := charmap.Windows1252.NewDecoder().String(once)
	require.NoError(t, err)
	r := read(t, twice, Options{})
	assert.Equal(t, "Müller", r.Rows[0].Values[Family])
	assert.Equal(t, "UTF-8, encoded twice, separated by semicolons", r.Form)
	r = read(t, "id;family;given\n1;Ãvila;Zoë\n", Options{})
	assert.Equal(t, "Ãvila", r.Rows[0].Values[Family], "letters that are what they are")
}
