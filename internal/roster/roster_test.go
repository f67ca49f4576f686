package roster

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"yardbroom/internal/demo"
)

func read(t *testing.T, text string, opt Options) *Roster {
	t.Helper()
	r, err := Read(strings.NewReader(text), "people", opt)
	require.NoError(t, err, text)
	return r
}

func day(text string) time.Time {
	d, err := time.Parse(time.DateOnly, text)
	if err != nil {
		panic(err)
	}
	return d
}

// mapping writes a mapping briefly.
func mapping(r *Roster) string {
	var parts []string
	for _, m := range r.Mapping {
		parts = append(parts, fmt.Sprintf("%s=%d", m.Field, m.Column))
	}
	return strings.Join(parts, " ")
}

func TestHeadersAreFoundInTheirUsualSpellings(t *testing.T) {
	for header, want := range map[string]string{
		"Badge no,Last name,First name,E-mail,Department,Job title,Start,End,Status": "person-id=1 family=2 given=3 mail=4 department=5 title=6 start=7 end=8 status=9",
		"employeeId;surname;forename;emailAddress;lineManager":                       "person-id=1 family=2 given=3 mail=4 manager=5",
		"EMP_ID\tFull Name\tHire-Date\tTermination Date":                             "person-id=1 name=2 start=3 end=4",
		"Payroll Number|Family Name|Given Name":                                      "person-id=1 family=2 given=3",
		"\"Surname\",\"Given name\",\"Shoe size\"":                                   "family=1 given=2",
	} {
		r := read(t, header+"\n"+values(header), Options{})
		assert.Equal(t, want, mapping(r), header)
		assert.Len(t, r.Rows, 1, header)
	}
	r := read(t, "Surname,Given name,Shoe size\nQuill,Ada,38\n", Options{})
	assert.Equal(t, []string{"Shoe size"}, r.Unused)
	assert.Equal(t, "by its name", r.Mapping[0].How)
}

// values is a row that fits a header.
func values(header string) string {
	separator := ","
	for _, s := range []string{";", "\t", "|"} {
		if strings.Contains(header, s) {
			separator = s
		}
	}
	cells := strings.Split(header, separator)
	for i, h := range cells {
		cells[i] = "Quill"
		switch f, _ := named(strings.Trim(h, `"`), nil); f {
		case Start, End:
			cells[i] = "2020-01-01"
		case Status:
			cells[i] = "active"
		}
	}
	return strings.Join(cells, separator) + "\n"
}

func TestAFileWithoutAHeaderIsReadByPosition(t *testing.T) {
	r := read(t, "Quill,Ada\nTern,Bram\n", Options{})
	assert.Equal(t, "family=1 given=2", mapping(r))
	assert.Equal(t, "Ada", r.Rows[0].Values[Given])
	r = read(t, "20001;Quill;Ada;aquill@larkmoor.example\n20002;Tern;Bram;btern@larkmoor.example\n", Options{})
	assert.Equal(t, "person-id=1 family=2 given=3 mail=4", mapping(r))
	assert.Equal(t, "UTF-8, separated by semicolons", r.Form)
	for text, want := range map[string]string{
		"Quill,Ada,x7\nTern,Bram,y8\n":   "what column 3 means cannot be told",
		"Quill Ada\nTern Bram\n":         "one column without a header",
		"Quill,Ada,Archive\nTern,Bram,X": "what column 3 means cannot be told",
		"1,2\n3,4\n":                     "look like person-id too",
	} {
		_, err := Read(strings.NewReader(text), "people", Options{})
		assert.ErrorContains(t, err, want, text)
	}
	r = read(t, "Ada Quill\n\"Tern, Bram\"\n", Options{Map: map[Field]string{FullName: "1"}})
	assert.Equal(t, Values{FullName: "Ada Quill"}, r.Rows[0].Values, "where a name parts is not guessed")
	assert.Equal(t, Values{FullName: "Tern, Bram", Family: "Tern", Given: "Bram"}, r.Rows[1].Values)
}

func TestColumnsCanBeNamed(t *testing.T) {
	text := "Kennung,Zuruf,Mail A,Mail B\n7,Quill,a@larkmoor.example,b@larkmoor.example\n"
	r := read(t, text, Options{Map: map[Field]string{PersonID: "kennung", Family: "2", Mail: "mail b"}})
	assert.Equal(t, Values{PersonID: "7", Family: "Quill", Mail: "b@larkmoor.example"}, r.Rows[0].Values)
	r = read(t, text, Options{Names: map[Field][]string{PersonID: {"Kennung"}}})
	assert.Equal(t, "person-id=1", mapping(r))
	for want, opt := range map[string]Options{
		`no column is called "Badge"`:                      {Map: map[Field]string{PersonID: "Badge"}},
		"there is no column 9":                             {Map: map[Field]string{PersonID: "9"}},
		"column 1 is asked for as person-id and as family": {Map: map[Field]string{PersonID: "1", Family: "Kennung"}},
		"no column tells who is meant":                     {Map: map[Field]string{Department: "1"}},
	} {
		_, err := Read(strings.NewReader(text), "people", opt)
		assert.ErrorContains(t, err, want)
	}
	_, err := Read(strings.NewReader("Surname,Last name\nQuill,Tern\n"), "people", Options{})
	assert.ErrorContains(t, err, "columns 1 (Surname) and 2 (Last name) may both be the family")
}

func TestEncodingsAreToldApart(t *testing.T) {
	text := "Last name,First name\r\nÖst,Zoë\r\n"
	little, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(text)
	require.NoError(t, err)
	big, err := unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM).NewEncoder().String(text)
	require.NoError(t, err)
	western, err := charmap.Windows1252.NewEncoder().String(text)
	require.NoError(t, err)
	for form, raw := range map[string]string{"UTF-8": text, "UTF-8, ": "\ufeff" + text, "UTF-16": little, "UTF-16, ": big, "windows-1252": western} {
		r := read(t, raw, Options{})
		assert.Equal(t, "Öst", r.Rows[0].Values[Family], form)
		assert.Equal(t, "Zoë", r.Rows[0].Values[Given], form)
		assert.True(t, strings.HasPrefix(r.Form, strings.TrimSuffix(form, ", ")), "%s: %s", form, r.Form)
	}
	for raw, want := range map[string]string{"": "is empty", " \n": "is empty", "a\x00b\x00\x00\x00c": "holds zero characters", "ab\x00c": "holds zero octets", "\xef\xbb\xbfa,\xff\n": "says that it is UTF-8 and is not", "\xd0\xcf\x11\xe0rest": "save it as xlsx"} {
		_, err := Read(strings.NewReader(raw), "people", Options{})
		assert.ErrorContains(t, err, want)
	}
}

func TestDatesAsTheyAreWritten(t *testing.T) {
	for text, want := range map[string]string{
		"2024/03/15": "2024-03-15", "2024.03.15": "2024-03-15", "2024. 03. 15.": "2024-03-15", "20240315": "2024-03-15", "2024-03-15 00:00:00": "2024-03-15", "45366": "2024-03-15", "45366.5": "2024-03-15",
		"15.03.2024": "2024-03-15", "15. 3. 2024": "2024-03-15", "15/03/98": "1998-03-15", "98/03/15": "1998-03-15", "15 Mar 2024": "2024-03-15", "15-Mar-24": "2024-03-15", "March 15th, 2024": "2024-03-15",
		"15. März 2024": "2024-03-15", "15 mars 2024": "2024-03-15", "15 de marzo de 2024": "2024-03-15", "15 marzo 2024": "2024-03-15", "15 de março de 2024": "2024-03-15", "15 maart 2024": "2024-03-15",
		"15 marts 2024": "2024-03-15", "15. maaliskuuta 2024": "2024-03-15", "15 marca 2024": "2024-03-15", "15. března 2024": "2024-03-15", "2024. március 15.": "2024-03-15", "15 martie 2024": "2024-03-15",
		"15 Μαρτίου 2024": "2024-03-15", "15 Mart 2024": "2024-03-15", "15 марта 2024 г.": "2024-03-15", "15 березня 2024 р.": "2024-03-15", "2024年3月15日": "2024-03-15", "2024년 3월 15일": "2024-03-15",
		"ngày 15 tháng 3 năm 2024": "2024-03-15", "15 مارس 2024": "2024-03-15", "١٥/٠٣/٢٠٢٤": "2024-03-15", "15 במרץ 2024": "", "15 מרץ 2024": "2024-03-15", "２０２４/０３/１５": "2024-03-15",
		"2024/13/15": "", "15 Smarch 2024": "", "2024": "", "99999": "", "12345": "", "-45366": "", "20241315": "", "31.02.2024": "", "15/03": "",
	} {
		r := read(t, "id,last name,end date\n1,Quill,"+quote(text)+"\n2,Tern,\n", Options{})
		got := ""
		if len(r.Bad) == 0 {
			got = r.Rows[0].End.Format(time.DateOnly)
		}
		assert.Equal(t, want, got, text)
	}
	r := read(t, "id,end date\n1,03/04/27\n", Options{Dates: YearFirst})
	assert.Equal(t, day("2003-04-27"), r.Rows[0].End)
	r = read(t, "id,end date\n1,03/04/27\n2,03/04/98\n", Options{Dates: DayFirst})
	assert.Equal(t, day("2027-04-03"), r.Rows[0].End)
}

func TestColumnsAreKnownInManyLanguages(t *testing.T) {
	for header, want := range map[string]string{
		"Personalnummer;Name;Vorname;E-Mail;Abteilung;Eintritt;Austritt;Status":    "person-id=1 family=2 given=3 mail=4 department=5 start=6 end=7 status=8",
		"Nachname;Vorname;Mitarbeiter-Nr.":                                         "person-id=3 family=1 given=2",
		"Matricule;Nom;Prénom;Courriel;Service;Poste;Date d'entrée;Date de sortie": "person-id=1 family=2 given=3 mail=4 department=5 title=6 start=7 end=8",
		"Nº empleado;Nombre;Apellidos;Correo electrónico;Puesto;Fecha de baja":     "person-id=1 family=3 given=2 mail=4 title=5 end=6",
		"Matricola;Cognome;Nome;Reparto;Data cessazione":                           "person-id=1 family=2 given=3 department=4 end=5",
		"Nº mecanográfico;Nome completo;Correio eletrónico;Data de saída":          "person-id=1 name=2 mail=3 end=4",
		"Personeelsnummer;Achternaam;Voornaam;Afdeling;Datum uit dienst":           "person-id=1 family=2 given=3 department=4 end=5",
		"Anställningsnr;Efternamn;Förnamn;E-post;Befattning;Slutdatum":             "person-id=1 family=2 given=3 mail=4 title=5 end=6",
		"Ansattnr;Etternavn;Fornavn;E-post;Stilling;Sluttdato":                     "person-id=1 family=2 given=3 mail=4 title=5 end=6",
		"Medarbejdernummer;Efternavn;Fornavn;Afdeling;Fratrædelsesdato":            "person-id=1 family=2 given=3 department=4 end=5",
		"Henkilönumero;Sukunimi;Etunimi;Sähköposti;Päättymispäivä":                 "person-id=1 family=2 given=3 mail=4 end=5",
		"Nr pracownika;Nazwisko;Imię;Dział;Stanowisko;Data zwolnienia":             "person-id=1 family=2 given=3 department=4 title=5 end=6",
		"Osobní číslo;Příjmení;Jméno;Oddělení;Datum ukončení":                      "person-id=1 family=2 given=3 department=4 end=5",
		"Törzsszám;Vezetéknév;Keresztnév;Osztály;Kilépés dátuma":                   "person-id=1 family=2 given=3 department=4 end=5",
		"Marca;Nume;Prenume;Funcție;Data plecării":                                 "person-id=1 family=2 given=3 title=4 end=5",
		"Αριθμός μητρώου;Επώνυμο;Όνομα;Τμήμα;Αποχώρηση":                            "person-id=1 family=2 given=3 department=4 end=5",
		"ΑΡΙΘΜΟΣ ΜΗΤΡΩΟΥ;ΕΠΩΝΥΜΟ;ΟΝΟΜΑ":                                            "person-id=1 family=2 given=3",
		"Sicil No;Adı;Soyadı;E-posta;Bölüm;İşten çıkış tarihi":                     "person-id=1 family=3 given=2 mail=4 department=5 end=6",
		"Табельный номер;Фамилия;Имя;Отдел;Должность;Дата увольнения":              "person-id=1 family=2 given=3 department=4 title=5 end=6",
		"Табельный номер;ФИО;Дата приема;Дата увольнения":                          "person-id=1 name=2 start=3 end=4",
		"Табельний номер;Прізвище;Ім'я;Відділ;Дата звільнення":                     "person-id=1 family=2 given=3 department=4 end=5",
		"社員番号;姓;名;メールアドレス;部署;退職日":                                                  "person-id=1 family=2 given=3 mail=4 department=5 end=6",
		"工号;姓名;部门;职位;入职日期;离职日期":                                                    "person-id=1 name=2 department=3 title=4 start=5 end=6",
		"사번;성명;이메일;부서;퇴사일;재직상태":                                                    "person-id=1 name=2 mail=3 department=4 end=5 status=6",
		"Mã nhân viên;Họ;Tên;Phòng ban;Ngày nghỉ việc":                             "person-id=1 family=2 given=3 department=4 end=5",
		"Ma nhan vien;Ho va ten;Phong ban":                                         "person-id=1 name=2 department=3",
		"الرقم الوظيفي;الاسم الأول;اسم العائلة;القسم;تاريخ الانتهاء":               "person-id=1 family=3 given=2 department=4 end=5",
		"מספר עובד;שם משפחה;שם פרטי;מחלקה;תאריך סיום":                              "person-id=1 family=2 given=3 department=4 end=5",
		"Nom;Matricule":                "person-id=2 name=1",
		"Name;Last name;First name;ID": "person-id=4 family=2 given=3 name=1",
	} {
		r := read(t, header+"\n"+strings.Repeat("x;", strings.Count(header, ";"))+"x\n", Options{Words: map[string]Word{"x": WordActive}})
		got := mapping(r)
		assert.Equal(t, want, got, header)
	}
}

func TestNoWordMeansTwoThings(t *testing.T) {
	seen := map[string]string{}
	for meaning, word := range wordLists(headersText) {
		folded := foldHeader(word)
		if other, twice := seen[folded]; twice && other != meaning {
			assert.Equal(t, meaning, other, word)
		}
		seen[folded] = meaning
	}
	seen = map[string]string{}
	for meaning, word := range wordLists(statusesText) {
		folded := foldHeader(word)
		if other, twice := seen[folded]; twice && meaning != "yes" && meaning != "no" {
			assert.Equal(t, meaning, other, word)
		}
		seen[folded] = meaning
	}
}

func TestStatusesAreKnownInManyLanguages(t *testing.T) {
	for text, want := range map[string]Word{"Ausgeschieden": WordLeft, "in Elternzeit": "", "Elternzeit": WordLeave, "En congé": WordLeave, "baja": WordLeft, "Cessato": WordLeft, "uit dienst": WordLeft, "tjänstledig": WordLeave,
		"zwolniona": WordLeft, "УВОЛЕН": WordLeft, "в отпуске": WordLeave, "звільнено": WordLeft, "Αποχώρησε": WordLeft, "Ayrıldı": WordLeft, "退職": WordLeft, "离职": WordLeft, "재직중": WordActive, "Đã nghỉ việc": WordLeft,
		"مستقيل": WordLeft, "עזב": WordLeft, "入社予定": WordFuture} {
		got, err := readStatus(text, "Status", nil)
		if want == "" {
			assert.Error(t, err, "a word that nobody knows is not guessed")
		}
		assert.Equal(t, want, got, text)
	}
	for header, want := range map[string]Word{"Aktiv": WordLeft, "Actif": WordLeft, "在籍": WordLeft, "Ausgeschieden": ""} {
		got, _ := readStatus("Nein", header, nil)
		assert.Equal(t, want, got, header)
	}
}

func TestDatesAreReadInOneOrderOrNotAtAll(t *testing.T) {
	for text, want := range map[string]DateOrder{"2027-02-15": ISO, "15/02/2027": DayFirst, "02/15/2027": MonthFirst, "15.02.2027": DayFirst, "15 Feb 2027": ISO, "February 15, 2027": ISO, "2027-02-15T00:00:00": ISO} {
		r := read(t, "id,end date\n1,"+quote(text)+"\n", Options{})
		assert.Equal(t, want, r.DateOrder, text)
		assert.Equal(t, day("2027-02-15"), r.Rows[0].End, text)
	}
	r := read(t, "id,end date\n1,03/04/2027\n2,13/04/2027\n3,\n4,31/12/9999\n5,never\n", Options{})
	assert.Equal(t, day("2027-04-03"), r.Rows[0].End, "one date that is clear proves the others")
	assert.Zero(t, r.Rows[2].End)
	assert.Zero(t, r.Rows[3].End)
	assert.Zero(t, r.Rows[4].End)
	r = read(t, "id,end date\n1,03/04/2027\n", Options{Dates: MonthFirst})
	assert.Equal(t, day("2027-03-04"), r.Rows[0].End)
	for text, want := range map[string]string{
		"id,end date\n1,03/04/2027\n":               "may mean two days",
		"id,end date\n1,03/04/27\n":                 "may begin or end with the year",
		"id,end date\n1,98/04/03\n2,03/04/98\n":     "row 2 writes the year first and row 3 last",
		"id,end date\n1,13/04/2027\n2,04/13/2027\n": "row 2 writes the day first and row 3 the month",
	} {
		_, err := Read(strings.NewReader(text), "people", Options{})
		assert.ErrorContains(t, err, want)
	}
	_, err := Read(strings.NewReader("id,end date\n1,13/04/2027\n"), "people", Options{Dates: MonthFirst})
	assert.ErrorContains(t, err, "proves that dates are day-first")
}

func quote(s string) string { return `"` + s + `"` }

func TestRowsThatCannotBeReadAreListed(t *testing.T) {
	r := read(t, "id,last name,end date,status\n1,Quill,2027-02-30,active\n2,Tern,2027-02-15,on sabbatical\n3,Birk,,left\n,,,\n,,2027-01-01,active\n6,Öst,,left,too,many\n7,Hale,,Leave of Absence\n", Options{})
	var bad []string
	for _, b := range r.Bad {
		bad = append(bad, fmt.Sprintf("%d: %s", b.N, b.Why))
	}
	assert.Equal(t, []string{`2: end: "2027-02-30" is not a date`,
		`3: the status "on sabbatical" is not known: name it in the settings as active, leave, left or future`,
		`6: it says nobody: no id, name, mail address or logon name`, `7: it has 6 cells, the first row has 4`}, bad)
	require.Len(t, r.Rows, 2)
	assert.Equal(t, 4, r.Rows[0].N, "rows keep their numbers")
	assert.Equal(t, WordLeave, r.Rows[1].Status)
	r = read(t, "id,status\n1,on sabbatical\n", Options{Words: map[string]Word{"On Sabbatical": WordLeave}})
	assert.Equal(t, WordLeave, r.Rows[0].Status)
	r = read(t, "id,active\n1,yes\n2,No\n", Options{})
	assert.Equal(t, []Word{WordActive, WordLeft}, []Word{r.Rows[0].Status, r.Rows[1].Status})
	r = read(t, "id,terminated\n1,yes\n", Options{Map: map[Field]string{Status: "terminated"}})
	assert.Len(t, r.Bad, 1, "yes, under another question, is not active")
	_, err := Read(strings.NewReader("id,last name\n1,\"Quill\n"), "people", Options{})
	assert.ErrorContains(t, err, "people: row 2: ")
	_, err = Read(strings.NewReader("id,last name\n"), "people", Options{})
	assert.ErrorContains(t, err, "no rows below it")
}

// Rows are read on all processors at once; what comes of them is in the order of the file,
// and so are the people, by the first row of each.
func TestManyRowsAreReadInTheirOrder(t *testing.T) {
	var text strings.Builder
	text.WriteString("Id,Given,Family,Start,Department\n")
	var bad []int
	var ids []string // of people, in order
	rows := map[string][]int{}
	for n := 2; n < 5000; n++ {
		id, start := fmt.Sprint("E", n), "2020-01-31"
		switch {
		case n%7 == 0:
			start = "some day"
			bad = append(bad, n)
		case n%5 == 0:
			id = fmt.Sprint("E", n/2) // a second post of somebody, or the first of somebody else
		}
		if n%7 != 0 {
			if rows[id] == nil {
				ids = append(ids, id)
			}
			rows[id] = append(rows[id], n)
		}
		fmt.Fprintf(&text, "%s,Ada,Quill,%s,Dome %d\n", id, start, n)
	}
	r := read(t, text.String(), Options{})
	var told []int
	for _, b := range r.Bad {
		told = append(told, b.N)
	}
	assert.Equal(t, bad, told)
	at := 0
	for n := 2; n < 5000; n++ {
		if n%7 != 0 {
			require.Equal(t, n, r.Rows[at].N)
			require.Equal(t, fmt.Sprint("Dome ", n), r.Rows[at].Values[Department])
			at++
		}
	}
	assert.Len(t, r.Rows, at)
	people := r.People(time.Date(2026, 11, 30, 0, 0, 0, 0, time.UTC), TrustStatus)
	require.Len(t, people, len(ids))
	for i := range people {
		require.Equal(t, ids[i], people[i].Values[PersonID])
		require.Equal(t, rows[ids[i]], people[i].Rows)
	}
}

func TestJSONAndSCIM(t *testing.T) {
	r := read(t, `[{"employeeId": 12345678901234567890, "lastName": "Quill", "active": true}, {"employeeId": "7", "lastName": "Tern", "endDate": "2020-01-01"}]`, Options{})
	assert.Equal(t, "12345678901234567890", r.Rows[0].Values[PersonID])
	assert.Equal(t, WordActive, r.Rows[0].Status)
	assert.Equal(t, day("2020-01-01"), r.Rows[1].End)
	user := `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"externalId":"x1","userName":"aquill","name":{"givenName":"Ada","familyName":"Quill"},"active":false,
		"emails":[{"value":"ada@home.example","type":"home"},{"value":"aquill@larkmoor.example","type":"work","primary":true}],
		"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"employeeNumber":"7","department":"Archive","manager":{"value":"9"}}}`
	list := `{"schemas":["urn:ietf:params:scim:api:messages:2.0:ListResponse"],"totalResults":1,"Resources":[` + user + `]}`
	for _, text := range []string{list, "[" + user + "]"} {
		r = read(t, text, Options{})
		assert.Equal(t, Values{PersonID: "7", Given: "Ada", Family: "Quill", Mail: "aquill@larkmoor.example", Logon: "aquill", Department: "Archive", Manager: "9", Status: "left"}, r.Rows[0].Values)
		assert.Equal(t, "SCIM users", r.Form)
		assert.Equal(t, 1, r.Rows[0].N)
	}
	for text, want := range map[string]string{
		`{"a": 1}`: "neither an array of people nor a SCIM list",
		`{"schemas":["urn:ietf:params:scim:api:messages:2.0:ListResponse"],"totalResults":5,"Resources":[` + user + `]}`: "holds 1 of 5 people",
		"[{\"id\": 1},\n{\"id\": }]":                  "people: line 2: ",
		`[{"id": 1, "mail": ["a@larkmoor.example"]}]`: "people: mail: a list or an object",
		`[{"id": 1}, 7]`:                              "element 2 is 7: each person has to be an object",
		`[["id"], [1]]`:                               "element 1 is an array: each person",
		`{"staff": [{"id": 1}], "next": 2}`:           `its "staff" is an array: if that is all people and not one page`,
		"{\"id\": 1}\n{\"id\": 2}\n":                  "JSON with one object a line",
		`[{"id": 1}] x`:                               "follows the array",
		`[]`:                                          "holds no rows",
	} {
		_, err := Read(strings.NewReader(text), "people", Options{})
		assert.ErrorContains(t, err, want, text)
	}
}

func TestWorkbooksHoldRealDates(t *testing.T) {
	book := excelize.NewFile()
	_, err := book.NewSheet("People")
	require.NoError(t, err)
	require.NoError(t, book.SetSheetRow("People", "A1", &[]any{"Badge no", "Last name", "End"}))
	require.NoError(t, book.SetSheetRow("People", "A2", &[]any{20001, "Quill", time.Date(2027, 4, 3, 0, 0, 0, 0, time.UTC)}))
	require.NoError(t, book.SetSheetRow("People", "A3", &[]any{"007", "Tern"}))
	var b bytes.Buffer
	require.NoError(t, book.Write(&b))
	r, err := Read(&b, "people.xlsx", Options{Sheet: "People"})
	require.NoError(t, err)
	assert.Equal(t, "workbook, sheet People", r.Form)
	assert.Equal(t, day("2027-04-03"), r.Rows[0].End, "however it is shown")
	assert.Equal(t, "20001", r.Rows[0].Values[PersonID])
	assert.Equal(t, "007", r.Rows[1].Values[PersonID])
	var again bytes.Buffer
	require.NoError(t, book.Write(&again))
	_, err = Read(&again, "people.xlsx", Options{Sheet: "Nobody"})
	assert.ErrorContains(t, err, `has no sheet "Nobody": there are Sheet1, People`)
	_, err = Read(strings.NewReader("PK\x03\x04 broken"), "people.xlsx", Options{})
	assert.ErrorContains(t, err, "zip file that is broken or cut off")
}

// What is nested is left out where nothing hangs on it.
func TestColumnsOfListsAreNotUsed(t *testing.T) {
	r := read(t, `[{"id": 1, "department": {"name": "Archive"}, "phones": ["1"]}, {"id": 2, "phones": "2"}]`, Options{})
	assert.Equal(t, []string{"department (a list or an object)", "phones (a list or an object)"}, r.Unused)
	assert.Len(t, r.Rows, 2)
}

// A quote that is never closed would otherwise take all rows up to the next
// quote into one cell, and who stands there would seem to have gone.
func TestAStrayQuoteCostsItsRowOnly(t *testing.T) {
	const header = "id,last name,first name,mail\n"
	for text, want := range map[string]string{
		"1,Quill,Ada,a@x.example\n2,\"Tern,Bram,b@x.example\n3,Birk,Clara,c@x.example\n":                            "1 3 / 3",
		"1,Quill \"Q,Ada,a@x.example\n2,Tern,Bram,b@x.example\n":                                                    "2 / 2",
		"1,\"Quill,Ada,a@x.example\n2,Tern,Bram,b@x.example\n3,Birk\",Clara,c@x.example\n4,Öst,Zoë,d@x.example\n":   "2 4 / 2 4",
		"1,\"Quill,Ada,a@x.example\n2,Tern\",Bram,b@x.example\n3,Birk,Clara,c@x.example\n":                          "3 / 2 3",
		"1,\"Quill\",Ada,a@x.example\n\n\r\n2,\"Tern\"x,Bram,b@x.example\n3,\"Birk\",Clara,c@x.example\n":           "1 3 / 5",
		"1,\"Qu\nill\",Ada,a@x.example\n2,\"Tern, or\nBirk\",Bram,b@x.example\n3,\"a \"\"b\"\"\",Clara,c@x.example": "1 2 3 / ",
		"1,\"Quill, \"\"Ada\"\"\",Ada,a@x.example\n2,\"Tern,Bram,b@x.example":                                       "1 / 3",
		"1,Quill,Ada,\"" + strings.Repeat("x", mostRecord) + "\n2,Tern,Bram,b@x.example\n":                          "2 / 2",
		strings.Repeat("1,Quill,\"Ada,a@x.example\n\n", mostStray+1):                                                "",
	} {
		r, err := Read(strings.NewReader(header+text), "people", Options{})
		if want == "" {
			assert.ErrorContains(t, err, "row 4002: a quote stands where none can", "a file of them is none")
			continue
		}
		require.NoError(t, err)
		var ids, bad []string
		for _, row := range r.Rows {
			ids = append(ids, row.Values[PersonID])
		}
		for _, b := range r.Bad {
			bad = append(bad, fmt.Sprint(b.N))
		}
		assert.Equal(t, want, strings.Join(ids, " ")+" / "+strings.Join(bad, " "), text)
	}
	_, err := Read(strings.NewReader("id,\"last name,first name\n1,Quill,Ada\n"), "people", Options{})
	assert.ErrorContains(t, err, "people: row 1: a quote stands where none can", "a header is not done without")
}

func TestARosterHasBounds(t *testing.T) {
	small := Options{Limits: Limits{Octets: 1 << 10, Rows: 2, Columns: 4}}
	wide := strings.Repeat(",x", 4)
	for text, want := range map[string]string{
		"id,family,given,mail\n1,a,b,\n2,a,b,\n3,a,b,\n": "more rows than the 2 that a roster may have",
		"id" + wide + "\n1,a\n":                          "row 1 has 5 columns, more than the 4",
		"id,family\n1,a\n2" + wide + "\n":                "row 3 has 5 columns, more than the 4",
		strings.Repeat("x", 1<<10+1):                     "larger than 0 MB, which no roster is",
		`[{"id":1},{"id":2},{"id":3}]`:                   "more rows than the 2",
		`[{"id":1,"a":1,"b":1},{"c":1,"d":1}]`:           "the first 2 people have 5 different columns",
		"id" + strings.Repeat(",x", mostRecord):          "larger than 0 MB",
	} {
		_, err := Read(strings.NewReader(text), "people", small)
		assert.ErrorContains(t, err, want, text[:min(len(text), 60)])
	}
	_, err := Read(strings.NewReader("id"+strings.Repeat(",x", 1e6)+"\n"), "people", Options{})
	assert.ErrorContains(t, err, "row 1: it is longer than 256 KB")
	r := read(t, "id,family,given,mail\n1,a,b,\n2,a,b,", small)
	assert.Len(t, r.Rows, 2, "as many as may be")
}

func TestWhatIsNotClearIsShown(t *testing.T) {
	_, err := Read(strings.NewReader("Kennung,Gruppe,Anschrift\n7,Archive,a@larkmoor.example\n"), "people", Options{})
	var u *Unclear
	require.ErrorAs(t, err, &u)
	assert.Equal(t, &Unclear{"people", "UTF-8, separated by commas", []Seen{{"Kennung", "7", "person-id"}, {"Gruppe", "Archive", "name"}, {"Anschrift", "a@larkmoor.example", "mail"}}, u.Err}, u)
	_, err = Read(strings.NewReader("Gruppe,Department\n,\nArchive,Optics\n"), "people", Options{})
	require.ErrorAs(t, err, &u)
	assert.Equal(t, []Seen{{"Gruppe", "Archive", "name"}, {"Department", "Optics", "department"}}, u.Columns)
}

func TestFilesThatAreNoRostersAreNamed(t *testing.T) {
	for raw, want := range map[string]string{
		"\x1f\x8b\x08": "packed with gzip", "\x28\xb5\x2f\xfd": "packed with zstd", "%PDF-1.7": "is a PDF", "<html>": "is a page or XML",
		"\xd0\xcf\x11\xe0 E\x00n\x00c\x00r\x00y\x00p\x00t\x00e\x00d\x00P\x00a\x00c\x00k\x00a\x00g\x00e\x00": "locked with a password",
	} {
		_, err := Read(strings.NewReader(raw), "people", Options{})
		assert.ErrorContains(t, err, want)
	}
}

func TestPeopleAreMergedFromTheirRows(t *testing.T) {
	const today = "2026-11-20"
	for name, c := range map[string]struct {
		rows     string
		state    State
		left     string
		conflict string
	}{
		"active":                         {"1,2020-01-01,,active", Active, "", ""},
		"nothing said":                   {"1,,,", Active, "", ""},
		"last day today":                 {"1,,2026-11-20,", Active, "", ""},
		"last day yesterday":             {"1,,2026-11-19,", Left, "2026-11-19", ""},
		"left without a date":            {"1,,,left", Left, "", ""},
		"starts tomorrow":                {"1,2026-11-21,,active", Future, "", ""},
		"starts today":                   {"1,2026-11-20,,", Active, "", ""},
		"on leave":                       {"1,,,leave", Leave, "", ""},
		"came back, in one row":          {"1,2026-01-01,2025-01-01,", Active, "", ""},
		"comes back, in one row":         {"1,2027-01-01,2025-01-01,", Future, "", ""},
		"one post of two ended":          {"1,,2020-01-01,left\n1,2020-02-01,,active", Active, "", ""},
		"both posts ended":               {"1,,2020-01-01,left\n1,,2021-01-01,left", Left, "2021-01-01", ""},
		"left, and returns":              {"1,,2020-01-01,left\n1,2027-01-01,,", Future, "", ""},
		"status says active, date past":  {"1,,2020-01-01,active", Active, "", "the status says active, the end date 2020-01-01 is past"},
		"status says left, date to come": {"1,,2027-01-01,left", Active, "", "the status says left, the end date 2027-01-01 is still to come"},
	} {
		r := read(t, "id,start,end,status\n"+c.rows+"\n", Options{})
		people := r.People(day(today), TrustStatus)
		require.Len(t, people, 1, name)
		p := people[0]
		assert.Equal(t, c.state, p.State, name)
		assert.Equal(t, c.conflict, p.Conflict, name)
		left := ""
		if !p.LeftOn.IsZero() {
			left = p.LeftOn.Format(time.DateOnly)
		}
		assert.Equal(t, c.left, left, name)
	}
	r := read(t, "id,start,end,status\n1,,2020-01-01,active\n", Options{})
	p := r.People(day(today), TrustDates)[0]
	assert.Equal(t, Left, p.State, "the settings trust dates")
	assert.Empty(t, p.Conflict)

	r = read(t, "id,last name,first name,department,start\n1,Quill,Ada,Archive,2020-01-01\n1,Marlowe,Ada,,2024-01-01\n,Tern,Bram,Dome,\n,Tern,Bram,Archive,\n,Tern,Bram,Archive,\n", Options{})
	people := r.People(day(today), TrustStatus)
	require.Len(t, people, 3, "one name is not one person; the same row twice is")
	assert.Equal(t, []int{2, 3}, people[0].Rows)
	assert.Equal(t, "Marlowe", people[0].Values[Family], "the later post tells the name")
	assert.Equal(t, "Archive", people[0].Values[Department], "what it leaves open the other tells")
}

func TestTheDemoRosterIsRead(t *testing.T) {
	var ldif, text bytes.Buffer
	yard := demo.Yard{AsOf: day("2026-11-20")}
	require.NoError(t, yard.WriteLDIF(&ldif))
	require.NoError(t, yard.WriteRoster(&text))
	r := read(t, text.String(), Options{})
	assert.Empty(t, r.Bad)
	assert.Equal(t, "person-id=1 family=2 given=3 mail=4 department=5 title=6 manager=7 start=8 end=9 status=10", mapping(r))
	states := map[State]int{}
	for _, p := range r.People(day("2026-11-20"), TrustStatus) {
		states[p.State]++
	}
	assert.Greater(t, states[Active], 300)
	assert.Positive(t, states[Left])
	assert.Positive(t, states[Leave])
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("id,last name,end date\n1,Quill,13/04/2027\n"))
	f.Add([]byte(`[{"id": 1}]`))
	f.Add([]byte("\xff\xfea\x00,\x00b\x00"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		r, err := Read(bytes.NewReader(raw), "people", Options{})
		if err != nil {
			return
		}
		for _, p := range r.People(day("2026-11-20"), TrustStatus) {
			assert.NotEmpty(t, p.Rows)
		}
	})
}

// TestOfSeveralAddressesTheOneAtWorkIsTaken holds which of those of a SCIM user
// counts.
func TestOfSeveralAddressesTheOneAtWorkIsTaken(t *testing.T) {
	for _, c := range []struct{ mails, places, mail, place string }{
		{`{"value":"a","type":"home"}`, `{"locality":"Tarn","type":"home"}`, "a", "Tarn"},
		{`{"value":"a","type":"home"},{"value":"b","type":"work"}`, `{"locality":"Tarn","type":"home"},{"locality":"Fell","type":"work"}`, "b", "Fell"},
		{`{"value":"a","type":"work"},{"value":"b","type":"home"}`, `{"locality":"Fell","type":"work"},{"locality":"Tarn","type":"home"}`, "a", "Fell"},
		{`{"value":"a","type":"home","primary":true},{"value":"b","type":"work"}`, `{"locality":"Tarn"},{"locality":"Fell"}`, "a", "Tarn"},
		{`{"value":"a","type":"work"},{"value":"b","type":"home","primary":true}`, ``, "b", ""},
		{`{"value":"a"},{"value":"b"}`, ``, "a", ""},
	} {
		r := read(t, `[{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"externalId":"1","userName":"aquill","name":{"givenName":"Ada","familyName":"Quill"},"emails":[`+c.mails+`],"addresses":[`+c.places+`]}]`, Options{})
		assert.Equal(t, []string{c.mail, c.place}, []string{r.Rows[0].Values[Mail], r.Rows[0].Values[Location]}, c.mails+c.places)
	}
}

// TestTheDelimiterIsTheOneOfMostLines holds that of two that are as good the
// usual one is taken.
func TestTheDelimiterIsTheOneOfMostLines(t *testing.T) {
	for text, want := range map[string]rune{
		"a,b;c\nd,e;f\n":         ',',
		"a;b\tc\nd;e\tf\n":       ';',
		"a,b;c;d\ne,f;g;h\n":     ';',
		"\"a,b\";c\n\"d,e\";f\n": ';',
		"a|b\nc|d\ne;f\n":        '|',
		"one\ntwo\n":             ',',
		"a,b\n\n\nc,d\n":         ',',
	} {
		got, _ := delimiter(text)
		assert.Equal(t, string(want), string(got), "%q", text)
	}
}
