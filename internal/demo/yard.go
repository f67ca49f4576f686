// Package demo makes the demo yard: the directory, roster and settings of
// the Larkmoor Observatory, which does not exist. All dates are relative to
// the time it is made for, and one seed gives one yard.
package demo

import (
	"encoding/csv"
	"fmt"
	"io"
	"math/rand/v2"
	"strconv"
	"strings"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/ldif"
)

// Base, SID and Account are the demo directory's name, its domain's security
// identifier, and the logon name of the account that works on it.
const (
	Base    = "DC=larkmoor,DC=example"
	SID     = "S-1-5-21-1408237911-2204618837-3391045523"
	Account = "svc-yardkeeper"
)

// Yard makes entries.
type Yard struct {
	// People is how many of staff there are; 0 means 400.
	People int
	// AsOf is the moment that all dates are relative to.
	AsOf time.Time
	// Seed chooses one yard among many.
	Seed uint64

	rand   *rand.Rand
	w      *ldif.Writer
	err    error // the first that writing met
	rid    uint32
	usn    int
	logons map[string]int
	people []person
	locked []traced // who is locked out now
}

type person struct {
	dn, given, family, logon, mail, id, department, title, town string
	disabled                                                    bool
	sid                                                         string
	hired                                                       time.Time
}

const day = 24 * time.Hour

// WriteLDIF writes the whole directory.
func (y *Yard) WriteLDIF(w io.Writer) error {
	if y.People == 0 {
		y.People = 400
	}
	y.rand, y.w, y.rid = rand.New(rand.NewPCG(y.Seed, 7)), ldif.NewWriter(w), 1103
	y.err, y.logons, y.people, y.locked = nil, map[string]int{}, nil, nil
	for _, write := range []func(){y.frame, y.staff, y.groups, y.machines, y.services, y.specials, y.shelves} {
		if write(); y.err != nil {
			return y.err
		}
	}
	return y.w.Flush()
}

// shelves writes where ladders put people.
func (y *Yard) shelves() {
	for _, ou := range []string{"Shelf", "Leavers"} {
		y.unit(ou, "OU=Parked,"+Base)
	}
}

// attrs are the attributes of an entry, each with its values.
type attrs [][]string

// The classes of the entries that there are many of.
var (
	user     = []string{"objectClass", "top", "person", "organizationalPerson", "user"}
	computer = []string{"objectClass", "top", "person", "organizationalPerson", "user", "computer"}
	managed  = []string{"objectClass", "top", "person", "organizationalPerson", "user", "computer", "msDS-GroupManagedServiceAccount"}
)

// never is the time at which accounts expire that never do.
const never = "9223372036854775807"

// add writes an entry with an identity of its own.
func (y *Yard) add(dn string, a attrs) {
	e := directory.Entry{DN: dn}
	guid := make([]byte, 16)
	for i := range guid {
		guid[i] = byte(y.rand.Uint32())
	}
	y.usn++
	for _, one := range a {
		if len(one) > 1 && one[1] != "" {
			e.Set(one[0], one[1:]...)
		}
	}
	if classes := e.Get("objectClass"); len(classes) > 0 {
		if category := directory.AD.Schema().Category(classes[len(classes)-1]); category != "" {
			e.Set("objectCategory", "CN="+category+",CN=Schema,CN=Configuration,"+Base)
		}
	}
	e.Set("objectGUID", string(guid))
	if !e.Has("whenCreated") {
		e.Set("whenCreated", stamp(y.AsOf.Add(-4000*day)))
	}
	e.Set("uSNChanged", strconv.Itoa(y.usn))
	if err := y.w.Write(&e); y.err == nil {
		y.err = err
	}
}

// unit writes an organizational unit.
func (y *Yard) unit(ou, parent string) {
	y.add("OU="+ou+","+parent, attrs{{"objectClass", "top", "organizationalUnit"}, {"ou", ou}})
}

// plain writes an entry that has nothing but its classes.
func (y *Yard) plain(dn string, classes ...string) {
	y.add(dn, attrs{append([]string{"objectClass", "top"}, classes...)})
}

// sid returns the raw security identifier with the next or the given RID.
func (y *Yard) sid(rid uint32) string {
	if rid == 0 {
		rid = y.rid
		y.rid++
	}
	raw, err := directory.EncodeSID(SID + "-" + strconv.FormatUint(uint64(rid), 10))
	if err != nil {
		panic(err) // SID is a constant
	}
	return raw
}

func stamp(t time.Time) string { return t.UTC().Format("20060102150405") + ".0Z" }

func ticks(t time.Time) string { return directory.FormatFileTime(t) }

func (y *Yard) ago(days float64) time.Time {
	return y.AsOf.Add(-time.Duration(days * float64(day))).Truncate(time.Second)
}

// between returns a time that lies between so many days ago.
func (y *Yard) between(from, to int) time.Time {
	return y.ago(float64(from) + y.rand.Float64()*float64(to-from))
}

// frame writes what stands around people: domain, containers, built-in
// accounts and groups, policies, sites.
func (y *Yard) frame() {
	y.add(Base, attrs{
		{"objectClass", "top", "domain", "domainDNS"},
		{"objectSid", mustSID(SID)},
		{"lockoutDuration", "-18000000000"},
		{"lockOutObservationWindow", "-18000000000"},
		{"lockoutThreshold", "5"},
		append([]string{"wellKnownObjects"}, directory.WellKnownObjects(Base)...),
		{"maxPwdAge", "-315360000000000"},
		{"msDS-LogonTimeSyncInterval", "14"},
		{"gPLink", "[LDAP://cn={31B2F340-016D-11D2-945F-00C04FB984F9},cn=policies,cn=system," + Base + ";0]"},
	})
	for _, cn := range []string{"Users", "Builtin", "Computers", "System", "LostAndFound"} {
		y.add("CN="+cn+","+Base, attrs{{"objectClass", "top", "container"}, {"isCriticalSystemObject", "TRUE"}})
	}
	for _, ou := range []string{
		"Staff", "Groups", "Machines", "Service Accounts", "Administrators", "Rooms", "Parked", "Domain Controllers", "Old Projects",
	} {
		y.unit(ou, Base)
	}
	for _, p := range posts {
		y.unit(p.department, "OU=Staff,"+Base)
	}
	y.plain("CN=Policies,CN=System,"+Base, "container")
	y.policy("31B2F340-016D-11D2-945F-00C04FB984F9", "Default Domain Policy")
	y.policy("6AC1786C-016F-11D2-945F-00C04FB984F9", "Default Domain Controllers Policy")
	y.policy("0D3F6C52-71E4-4B1B-9A52-3C8E51D0F6A1", "Dome screens off at night")
	y.policy("5E1B0A77-2C64-4F0E-8D19-77B0A3C94E02", "Old proxy, 2019")
	y.site()
	y.builtin("Administrator", 500, attrs{{"userAccountControl", "512"}, {"adminCount", "1"},
		{"lastLogon", ticks(y.ago(2))}, {"pwdLastSet", ticks(y.ago(900))}, {"lockoutTime", ticks(y.ago(0.01))}})
	y.builtin("Guest", 501, attrs{{"userAccountControl", "66082"}, {"lastLogon", "0"}, {"pwdLastSet", "0"}})
	y.builtin("krbtgt", 502, attrs{{"userAccountControl", "514"}, {"lastLogon", "0"}, {"pwdLastSet", ticks(y.ago(1200))}, {"adminCount", "1"}})
}

// site writes the site of the configuration, with its domain controllers.
func (y *Yard) site() {
	config := "CN=Configuration," + Base
	y.plain(config, "configuration")
	y.plain("CN=Sites,"+config, "sitesContainer")
	y.plain("CN=Larkmoor,CN=Sites,"+config, "site")
	y.plain("CN=Servers,CN=Larkmoor,CN=Sites,"+config, "serversContainer")
	for _, dc := range []string{"DC1", "DC2"} {
		at := "CN=" + dc + ",CN=Servers,CN=Larkmoor,CN=Sites," + config
		y.add(at, attrs{{"objectClass", "top", "server"}, {"dNSHostName", strings.ToLower(dc) + ".larkmoor.example"}})
		y.plain("CN=NTDS Settings,"+at, "applicationSettings", "nTDSDSA")
	}
}

// builtin writes an account that every domain has.
func (y *Yard) builtin(name string, rid uint32, more attrs) {
	y.add("CN="+name+",CN=Users,"+Base, append(attrs{user, {"objectSid", y.sid(rid)}, {"sAMAccountName", name}, more[0],
		{"isCriticalSystemObject", "TRUE"}, {"accountExpires", never}, {"primaryGroupID", "513"}}, more[1:]...))
}

func (y *Yard) policy(guid, title string) {
	y.add("CN={"+guid+"},CN=Policies,CN=System,"+Base,
		attrs{{"objectClass", "top", "container", "groupPolicyContainer"}, {"displayName", title}})
}

func mustSID(text string) string {
	raw, err := directory.EncodeSID(text)
	if err != nil {
		panic(err)
	}
	return raw
}

// staff writes the people. Most are ordinary; the stories hand each check a
// few true cases and near misses.
func (y *Yard) staff() {
	for i := 0; i < y.People && y.err == nil; i++ {
		p, a := y.person(i)
		if tell := y.story(i); tell != nil {
			tell(y, &p, &a)
		}
		y.add(p.dn, a)
		if len(y.people) < 2000 {
			y.people = append(y.people, p)
		}
	}
}

// story is what is told of a person, nil for one of whom nothing is.
func (y *Yard) story(i int) story { return stories[i*7919%max(y.People, 400)] }

// person makes an ordinary member of staff.
func (y *Yard) person(i int) (person, attrs) {
	given, family := givenNames[y.rand.IntN(len(givenNames))], familyNames[y.rand.IntN(len(familyNames))]
	at := posts[y.rand.IntN(len(posts))]
	p := person{
		given:      given.written,
		family:     family.written,
		department: at.department,
		title:      at.titles[y.rand.IntN(len(at.titles))],
		town:       towns[y.rand.IntN(len(towns))],
		id:         strconv.Itoa(20000 + i),
		hired:      y.between(60, 4000),
	}
	logon := strings.ToLower(given.plain[:1] + family.plain)
	if len(logon) > 18 {
		logon = logon[:18]
	}
	y.logons[logon]++
	cn := p.given + " " + p.family
	if n := y.logons[logon]; n > 1 {
		logon += strconv.Itoa(n)
		cn += " " + strconv.Itoa(n)
	}
	p.logon, p.mail = logon, logon+"@larkmoor.example"
	p.sid = fmt.Sprintf("%s-%d", SID, y.rid) // which is the next
	p.dn = "CN=" + directory.EscapeDN(cn) + ",OU=" + p.department + ",OU=Staff," + Base
	last := y.between(0, 40)
	a := attrs{
		user, {"objectSid", y.sid(0)}, {"cn", cn}, {"sAMAccountName", logon}, {"userPrincipalName", p.mail},
		{"givenName", p.given}, {"sn", p.family}, {"displayName", p.given + " " + p.family},
		{"mail", p.mail}, {"proxyAddresses", "SMTP:" + p.mail}, {"employeeID", p.id},
		{"department", p.department}, {"title", p.title}, {"company", "Larkmoor Observatory"},
		{"l", p.town}, {"co", "Ireland"}, {"c", "IE"},
		{"physicalDeliveryOfficeName", fmt.Sprintf("Dome %d", 1+y.rand.IntN(4))},
		{"telephoneNumber", fmt.Sprintf("+353 1 555 %04d", i%10000)},
		{"userAccountControl", "512"}, {"accountExpires", never}, {"primaryGroupID", "513"},
		{"lastLogon", ticks(last)}, {"lastLogonTimestamp", ticks(last.Add(-time.Duration(y.rand.IntN(13*24)) * time.Hour))},
		{"logonCount", strconv.Itoa(y.rand.IntN(3000))}, {"pwdLastSet", ticks(y.between(5, 300))},
		{"whenCreated", stamp(p.hired)}, {"whenChanged", stamp(y.between(1, 60))}, {"badPwdCount", "0"},
	}
	if len(y.people) > 10 && i%3 != 0 {
		a.set("manager", y.people[i%10].dn)
	}
	return p, a
}

// set replaces the values of an attribute; without values it goes.
func (a *attrs) set(name string, values ...string) {
	for i, one := range *a {
		if one[0] == name {
			(*a)[i] = append([]string{name}, values...)
			return
		}
	}
	*a = append(*a, append([]string{name}, values...))
}

// moveTo gives the entry another parent.
func (p *person) moveTo(parent string) {
	rdn, _ := directory.SplitDN(p.dn)
	p.dn = rdn + "," + parent
}

// groups writes nested groups, with the privileged ones of every domain.
func (y *Yard) groups() {
	group := func(cn, parent string, sid string, members ...string) {
		y.add("CN="+cn+","+parent, attrs{{"objectClass", "top", "group"}, {"objectSid", sid}, {"sAMAccountName", cn},
			{"groupType", "-2147483646"}, append([]string{"member"}, members...)})
	}
	member := func(i int) string { return y.people[i%len(y.people)].dn }
	users, groups, builtin := "CN=Users,"+Base, "OU=Groups,"+Base, "CN=Builtin,"+Base
	group("Domain Users", users, y.sid(513))
	group("Domain Computers", users, y.sid(515))
	group("Domain Controllers", users, y.sid(516))
	group("Domain Admins", users, y.sid(512), "CN=Administrator,"+users, "CN=Server Keepers,"+groups, member(3))
	group("Enterprise Admins", users, y.sid(519), "CN=Administrator,"+users)
	group("Administrators", builtin, mustSID("S-1-5-32-544"), "CN=Domain Admins,"+users, "CN=Enterprise Admins,"+users)
	group("Backup Operators", builtin, mustSID("S-1-5-32-551"), "CN="+Account+",OU=Service Accounts,"+Base)
	group("Server Keepers", groups, y.sid(0), member(17), member(29), "CN=a-"+y.people[5].logon+",OU=Administrators,"+Base)
	group("Telescope Time", groups, y.sid(0), "CN=Night Crew,"+groups, member(1), member(2))
	group("Night Crew", groups, y.sid(0), "CN=Telescope Time,"+groups, member(7))
	group("Comet Campaign 2018", groups, y.sid(0))
	for _, p := range posts {
		var members []string
		for _, who := range y.people {
			if who.department == p.department && len(members) < 1600 {
				members = append(members, who.dn)
			}
		}
		group(p.department+" Staff", groups, y.sid(0), members...)
	}
}

// machines writes workstations and the domain controllers.
func (y *Yard) machines() {
	machine := func(cn, parent, flags, primary, system string, last time.Time) {
		y.add("CN="+cn+","+parent, attrs{
			computer, {"objectSid", y.sid(0)}, {"sAMAccountName", cn + "$"}, {"dNSHostName", strings.ToLower(cn) + ".larkmoor.example"},
			{"userAccountControl", flags}, {"primaryGroupID", primary}, {"operatingSystem", system}, {"accountExpires", never},
			{"lastLogon", ticks(last)}, {"lastLogonTimestamp", ticks(last)}, {"pwdLastSet", ticks(last)}, {"whenCreated", stamp(y.ago(1500))},
		})
	}
	for _, dc := range []string{"DC1", "DC2"} {
		machine(dc, "OU=Domain Controllers,"+Base, "532480", "516", "Linux", y.ago(0.5))
	}
	for i := range y.People / 4 {
		flags, last := "4096", y.between(0, 30)
		switch i % 25 {
		case 7:
			last = y.between(120, 700)
		case 11:
			flags = "4098"
		}
		machine(fmt.Sprintf("LARK-%04d", i), "OU=Machines,"+Base, flags, "515",
			[]string{"Debian 12", "Workstation 11", "Workstation 7"}[i%3], last)
	}
}

// services writes service accounts, administrators' second accounts, rooms.
func (y *Yard) services() {
	account := func(cn, logon, parent string, more ...[]string) {
		a := attrs{
			user, {"objectSid", y.sid(0)}, {"sAMAccountName", logon}, {"userPrincipalName", logon + "@larkmoor.example"},
			{"displayName", cn}, {"userAccountControl", "66048"}, {"accountExpires", "0"}, {"primaryGroupID", "513"},
			{"lastLogon", ticks(y.between(0, 10))}, {"lastLogonTimestamp", ticks(y.between(10, 20))},
			{"pwdLastSet", ticks(y.ago(1400))}, {"whenCreated", stamp(y.ago(1500))},
		}
		for _, one := range more {
			a.set(one[0], one[1:]...)
		}
		y.add("CN="+cn+","+parent, a)
	}
	services, rooms := "OU=Service Accounts,"+Base, "OU=Rooms,"+Base
	account(Account, Account, services, []string{"description", "Works on the directory for Yard Broom"})
	for _, name := range []string{"svc-dome", "svc-spectrograph", "svc-weather", "svc-backup", "svc-print"} {
		more := [][]string{{"servicePrincipalName", "dome/" + name + ".larkmoor.example"}}
		if name == "svc-spectrograph" {
			more = append(more,
				[]string{"msDS-AllowedToDelegateTo", "cifs/archive.larkmoor.example", "http/archive.larkmoor.example"})
		}
		account(name, name, services, more...)
	}
	account("svc-plate-scanner", "svc-plate-scanner", services, []string{"lastLogon", ticks(y.ago(410))},
		[]string{"lastLogonTimestamp", ticks(y.ago(415))})
	y.add("CN=gmsa-archive,"+services, attrs{
		managed, {"objectSid", y.sid(0)}, {"sAMAccountName", "gmsa-archive$"}, {"userAccountControl", "4096"},
		{"managedBy", y.people[4].dn}, {"accountExpires", never}, {"lastLogon", ticks(y.ago(1))},
		{"lastLogonTimestamp", ticks(y.ago(3))}, {"pwdLastSet", ticks(y.ago(12))}, {"whenCreated", stamp(y.ago(700))}, {"primaryGroupID", "515"},
	})
	for i := range 3 {
		owner := y.people[(5+i*12)%len(y.people)]
		account("a-"+owner.logon, "a-"+owner.logon, "OU=Administrators,"+Base, []string{"employeeID", owner.id}, []string{"adminCount", "1"})
	}
	for i := range 4 {
		account(fmt.Sprintf("Meeting Room %d", i+1), fmt.Sprintf("room%d", i+1), rooms, []string{"msExchRecipientTypeDetails", "16"},
			[]string{"userAccountControl", "514"}, []string{"lastLogon", "0"})
	}
}

// specials writes entries with hostile or odd values.
func (y *Yard) specials() {
	y.add(`CN=Tern\, Ada "the Comet",OU=Astronomy,OU=Staff,`+Base, attrs{
		user, {"objectSid", y.sid(0)}, {"sAMAccountName", "atern-comet"}, {"displayName", `=HYPERLINK("http://larkmoor.example","Ada")`},
		{"userAccountControl", "512"}, {"accountExpires", never}, {"lastLogon", ticks(y.ago(200))}, {"lastLogonTimestamp", ticks(y.ago(205))},
		{"description", "bell \a and \x1b[31mred\x1b[0m"}, {"pwdLastSet", ticks(y.ago(220))}, {"whenCreated", stamp(y.ago(800))},
		{"primaryGroupID", "513"},
	})
	y.leftovers()
	y.add("CN=Visiting Lecturers,OU=Groups,"+Base,
		attrs{{"objectClass", "top", "contact"}, {"displayName", "Visiting Lecturers"}, {"mail", "lecturers@larkmoor.example"}})
	y.plain("CN=Lost\nCNF:7c1f2a30-4a7e-4f0e-9b51-02d7f8f1b0aa,OU=Old Projects,"+Base, "container")
}

// leftovers writes what a directory gathers over the years besides people.
func (y *Yard) leftovers() {
	strangers := "CN=ForeignSecurityPrincipals," + Base
	y.add(strangers, attrs{{"objectClass", "top", "container"}, {"isCriticalSystemObject", "TRUE"}})
	y.add("CN=S-1-5-11,"+strangers, attrs{{"objectClass", "top", "foreignSecurityPrincipal"}, {"objectSid", mustSID("S-1-5-11")}})
	y.add("CN=Print Operators,CN=Builtin,"+Base, attrs{
		{"objectClass", "top", "group"}, {"objectSid", mustSID("S-1-5-32-550")}, {"sAMAccountName", "Print Operators"},
		{"groupType", "-2147483643"}, {"isCriticalSystemObject", "TRUE"}, {"member", "CN=S-1-5-11," + strangers},
	})
	y.add("OU=Comet 2018,OU=Old Projects,"+Base,
		attrs{{"objectClass", "top", "organizationalUnit"}, {"ou", "Comet 2018"}, {"whenCreated", stamp(y.ago(2900))}})
	y.add("CN=LARK-SPARE,OU=Machines,"+Base, attrs{
		computer, {"objectSid", y.sid(0)}, {"sAMAccountName", "LARK-SPARE$"}, {"userAccountControl", "4128"}, {"primaryGroupID", "515"},
		{"accountExpires", never}, {"lastLogon", "0"}, {"pwdLastSet", ticks(y.ago(64))}, {"whenCreated", stamp(y.ago(64))},
	})
	y.add("CN=gmsa-weather,OU=Service Accounts,"+Base, attrs{
		managed, {"objectSid", y.sid(0)}, {"sAMAccountName", "gmsa-weather$"}, {"userAccountControl", "4096"}, {"accountExpires", never},
		{"lockoutTime", "0"}, {"lastLogon", ticks(y.ago(1))}, {"lastLogonTimestamp", ticks(y.ago(4))}, {"pwdLastSet", ticks(y.ago(9))},
		{"whenCreated", stamp(y.ago(300))}, {"primaryGroupID", "515"},
	})
	y.add("CN=Control Room,OU=Rooms,"+Base, attrs{
		user, {"objectSid", y.sid(0)}, {"sAMAccountName", "controlroom"}, {"displayName", "Control Room"}, {"msExchRecipientTypeDetails", "16"},
		{"userAccountControl", "512"}, {"accountExpires", "0"}, {"lastLogon", ticks(y.ago(3))}, {"pwdLastSet", ticks(y.ago(800))},
		{"whenCreated", stamp(y.ago(1500))}, {"primaryGroupID", "513"},
	})
}

// leftOn is the last day of somebody who left so many days ago, a month after
// the first day at least.
func (y *Yard) leftOn(p person, days float64) string {
	left := y.ago(days)
	if least := p.hired.AddDate(0, 1, 0); left.Before(least) {
		left = least
	}
	return left.Format(time.DateOnly)
}

// WriteRoster writes the list of people as a personnel office would export
// it: most of the staff, some who left, and the usual dirt.
func (y *Yard) WriteRoster(w io.Writer) error {
	out := csv.NewWriter(w)
	out.UseCRLF = true
	write := func(cells ...string) { _ = out.Write(cells) } // Error has what went wrong
	write("Badge no", "Last name", "First name", "E-mail", "Department", "Job title", "Manager badge no", "Start", "End", "Status")
	for i, p := range y.people {
		id, family, given, mail, manager, end, status := p.id, p.family, p.given, p.mail, "", "", "active"
		if i > 10 && i%3 != 0 {
			manager = y.people[i%10].id
		}
		if p.disabled && i%4 != 0 {
			end, status = y.leftOn(p, float64(30+i)), "left"
		}
		switch i % 40 {
		case 3:
			end, status = y.leftOn(p, float64(10+i)), "left"
		case 9:
			continue // nobody told the personnel office
		case 14:
			family = " " + strings.ToUpper(family) + " "
		case 18: // a new name, and no number and address yet
			id, mail = "", ""
		case 21:
			mail = ""
		case 24: // typed by hand
			id, mail, family = "", "", strings.Replace(family, "e", "ee", 1)
		case 27:
			status = "leave"
		case 33:
			id = ""
		case 36:
			if i < 100 {
				end = y.ago(20).Format(time.DateOnly) // and active
			}
		}
		write(id, family, given, mail, p.department, p.title, manager, p.hired.Format(time.DateOnly), end, status)
	}
	soon, lately := y.ago(-14).Format(time.DateOnly), y.ago(6).Format(time.DateOnly)
	write("20901", "Larch", "Ottilie", "", "Archive", "Archivist", "20002", lately, "", "active")
	write("20902", "Fenwick", "Bo", "", "Workshop", "Machinist", "20005", lately, "", "active")
	write("20903", "Osei", "Adwoa", "", "Astronomy", "Research Fellow", "20001", soon, "", "planned")
	out.Flush()
	return out.Error()
}
