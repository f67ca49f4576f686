package demo

import (
	"encoding/binary"
	"strings"
	"time"
)

// story changes one ordinary person into a case for a check.
type story func(y *Yard, p *person, a *attrs)

// stories are told to the people whose turn it is. The order is fixed, so
// that one seed gives one yard.
var stories = func() map[int]story {
	var all []story
	tell := func(n int, s story) {
		for range n {
			all = append(all, s)
		}
	}
	signedIn := func(days float64) story {
		return func(y *Yard, p *person, a *attrs) {
			last := y.ago(days + 0.01)
			p.hired = y.ago(days + 400)
			a.set("lastLogon", ticks(last))
			a.set("lastLogonTimestamp", ticks(last.Add(-5*day)))
			a.set("whenCreated", stamp(p.hired))
		}
	}
	for _, days := range []float64{106, 118, 127, 140, 166, 203, 255, 301, 377, 412, 530, 811, 1240} {
		tell(1, signedIn(days))
	}
	tell(2, signedIn(92))                        // stale by this server's word only
	tell(3, signedIn(88))                        // not yet
	tell(2, func(y *Yard, _ *person, a *attrs) { // signed in lately, at another server
		a.set("lastLogon", ticks(y.ago(300)))
		a.set("lastLogonTimestamp", ticks(y.ago(9)))
	})
	tell(7, func(y *Yard, p *person, a *attrs) { neverSignedIn(y, p, a, 75) })
	tell(4, func(y *Yard, p *person, a *attrs) { neverSignedIn(y, p, a, 12) })
	tell(18, func(y *Yard, p *person, a *attrs) { switchOff(y, p, a); p.moveTo("OU=Parked," + Base) })
	tell(6, func(y *Yard, p *person, a *attrs) { switchOff(y, p, a) })
	tell(4, func(y *Yard, p *person, a *attrs) {
		if len(y.locked) == 0 {
			a.set("pwdLastSet", ticks(y.ago(2.1))) // but not on the phone
		}
		y.locked = append(y.locked, y.remember(p))
		a.set("lockoutTime", ticks(y.ago(0.008)))
		a.set("badPwdCount", "5")
		a.set("badPasswordTime", ticks(y.ago(0.008)))
	})
	tell(3, func(y *Yard, _ *person, a *attrs) { a.set("lockoutTime", ticks(y.ago(3))) }) // over by itself
	tell(1, func(y *Yard, p *person, a *attrs) {                                          // locked, but disabled too
		a.set("lockoutTime", ticks(y.ago(0.008)))
		switchOff(y, p, a)
	})
	tell(5, func(y *Yard, _ *person, a *attrs) { a.set("accountExpires", ticks(y.between(3, 90))) })
	tell(4, func(y *Yard, _ *person, a *attrs) { a.set("accountExpires", ticks(y.between(-90, -2))) })
	set := func(name string, values ...string) story {
		return func(_ *Yard, _ *person, a *attrs) { a.set(name, values...) }
	}
	tell(4, set("userAccountControl", "66048"))   // password never expires
	tell(2, set("userAccountControl", "544"))     // no password required
	tell(1, set("userAccountControl", "4194816")) // no Kerberos pre-authentication
	tell(1, set("userAccountControl", "640"))     // reversible password
	tell(3, set("pwdLastSet", "0"))
	tell(2, set("servicePrincipalName", "http/wiki.larkmoor.example"))
	tell(3, set("adminCount", "1"))
	tell(1, set("sIDHistory", mustSID("S-1-5-21-1-2-3-1177")))
	tell(4, func(y *Yard, _ *person, a *attrs) { a.set("pwdLastSet", ticks(y.ago(500))) })
	for _, v := range []string{"astronomy", "Astronomy ", "Astronmy", "Visitor Center", "visitor-centre", "Work shop"} {
		tell(1, set("department", v))
	}
	tell(2, set("company", "Larkmoor Observatory Ltd"))
	tell(2, set("l", "larkmoor"))
	tell(2, set("displayName"))
	tell(2, set("givenName"))
	tell(2, set("mail", "not an address"))
	tell(2, set("telephoneNumber", "ask Rosa"))
	tell(1, set("c", "Ireland"))
	tell(3, set("sn", "Newname")) // renamed by half
	tell(2, set("userPrincipalName", "someone.else@larkmoor.example"))
	tell(2, set("employeeID", "20001"))
	tell(2, set("whenCreated", "last spring"))
	out := map[int]story{}
	for i, s := range all {
		out[i*3+1] = s
	}
	return out
}()

func neverSignedIn(y *Yard, p *person, a *attrs, days float64) {
	p.hired = y.ago(days)
	a.set("whenCreated", stamp(p.hired))
	a.set("lastLogon", "0")
	a.set("lastLogonTimestamp")
}

// switchOff disables an account some time ago, with the metadata that dates
// it.
func switchOff(y *Yard, p *person, a *attrs) {
	p.disabled = true
	off := y.between(20, 600)
	a.set("userAccountControl", "514")
	a.set("lastLogon", ticks(off.Add(-3*day)))
	a.set("lastLogonTimestamp", ticks(off.Add(-9*day)))
	a.set("replPropertyMetaData", flagsMetaData(off))
}

// flagsMetaData makes a replPropertyMetaData value with one attribute in it:
// userAccountControl, last changed at t.
func flagsMetaData(t time.Time) string {
	b := binary.LittleEndian.AppendUint64(nil, 1)
	b = binary.LittleEndian.AppendUint64(b, 1)
	b = binary.LittleEndian.AppendUint32(b, 0x00090008)
	b = binary.LittleEndian.AppendUint32(b, 2)
	b = binary.LittleEndian.AppendUint64(b, uint64(t.Unix()+11644473600)) // seconds since 1601
	return string(b) + strings.Repeat("\x00", 32)
}
