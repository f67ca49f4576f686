package tracing

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/logs"
)

// Trace is what logs say of one account.
type Trace struct {
	Number   int    // the caller's of the account, negative for a stranger
	Stranger string // the name that no account has, "" for an account

	Attempts []Attempt // and locks and changes, in the order of time
	Sources  []*Source // those of refused sign-ins first, the most of them first
	Refused  int
	SignedIn int
	Locks    int
}

// Attempt is one thing that happened, however many servers report it.
type Attempt struct {
	At      time.Time // UTC, the earliest report
	What    logs.What
	Why     logs.Why
	Code    string
	Machine string
	Address netip.Addr
	Via     string
	Type    logs.LogonType
	Servers []string
	By      string
	Change  string
	Source  *Source // of a sign-in

	kinds []int32
}

// Source is where an account signs in from, or tries to, and by what.
type Source struct {
	Machine   string // "" where only an address is known
	Addresses []netip.Addr
	Via       string
	Type      logs.LogonType

	Refused, SignedIn       int
	Whys                    map[logs.Why]int
	First, Last             time.Time // of the refused
	FirstSignIn, LastSignIn time.Time
	Rhythm                  Rhythm

	refusals []time.Time
}

// Name is what to call where it comes from: the machine, else its address.
func (s *Source) Name() string {
	switch {
	case s.Machine != "":
		return s.Machine
	case len(s.Addresses) > 0:
		return s.Addresses[0].String()
	}
	return ""
}

// Is tells whether a name, or an address, is this source's.
func (s *Source) Is(name string) bool {
	for _, a := range s.Addresses {
		if a.String() == name {
			return true
		}
	}
	return s.Machine != "" && s.Machine == MachineName(name)
}

// MachineName makes spellings of one machine equal: SRV1, \\srv1, srv1.larkmoor.example
// are one. An address stays what it is.
func MachineName(name string) string {
	if isAddress(name) {
		return name
	}
	name, _, _ = strings.Cut(strings.TrimLeft(name, `\`), ".")
	return strings.ToUpper(name)
}

// sameReport is how far apart two servers may write the same attempt down.
const sameReport = 2 * time.Second

// mostOpen attempts are looked at for each report.
const mostOpen = 64

// gather makes attempts of records that are sorted by time.
func (t *Trace) gather(c *Collector, records []record, aliases map[netip.Addr]string) {
	open := 0 // the first attempt that a report may still belong to
	for i := range records {
		r := &records[i]
		a := Attempt{At: time.UnixMicro(r.at).UTC(), What: r.what, Why: r.why, Code: c.all[r.code], Address: r.address, Via: c.all[r.via],
			Type: r.logonType, By: c.all[r.by], Change: c.all[r.change], kinds: []int32{r.kind}}
		if m := c.all[r.machine]; m != "" {
			if a.Machine = MachineName(m); isAddress(m) {
				a.Machine = "" // an address stands where a name should
			}
		} else if r.address.IsValid() {
			a.Machine = aliases[r.address]
		}
		if s := c.all[r.server]; s != "" {
			a.Servers = []string{s}
		}
		for open < len(t.Attempts) && a.At.Sub(t.Attempts[open].At) > sameReport {
			open++
		}
		merged := false
		for j := max(open, len(t.Attempts)-mostOpen); j < len(t.Attempts) && !merged; j++ {
			merged = t.Attempts[j].merge(&a)
		}
		if !merged {
			t.Attempts = append(t.Attempts, a)
		}
	}
	t.count()
}

func isAddress(name string) bool {
	_, err := netip.ParseAddr(name)
	return err == nil
}

// merge takes another report of the same attempt: of another kind, with the same
// outcome, and from nowhere else.
func (a *Attempt) merge(b *Attempt) bool {
	switch {
	case a.What != b.What, slices.Contains(a.kinds, b.kinds[0]):
		return false
	case a.Address.IsValid() && b.Address.IsValid() && a.Address != b.Address:
		return false
	case a.Machine != "" && b.Machine != "" && a.Machine != b.Machine:
		return false
	case !a.What.IsChange() && a.Why != b.Why && a.Why != logs.WrongOrLocked && b.Why != logs.WrongOrLocked && a.Why != logs.Revoked && b.Why != logs.Revoked:
		return false
	}
	a.kinds = append(a.kinds, b.kinds[0])
	if !a.Address.IsValid() {
		a.Address = b.Address
	}
	a.Machine = cmp.Or(a.Machine, b.Machine)
	if a.Why == logs.WrongOrLocked || a.Why == logs.Revoked {
		a.Why, a.Code = b.Why, b.Code
	}
	if a.Type == 0 && b.Type != 0 { // who knows the kind of sign-in knows more
		a.Type, a.Via = b.Type, b.Via
	}
	a.Via, a.By, a.Change = cmp.Or(a.Via, b.Via), cmp.Or(a.By, b.By), cmp.Or(a.Change, b.Change)
	for _, s := range b.Servers {
		if !slices.Contains(a.Servers, s) {
			a.Servers = append(a.Servers, s)
		}
	}
	return true
}

// count sums the attempts up by where they come from, and by what.
func (t *Trace) count() {
	type key struct{ where, via string }
	sources := map[key]*Source{}
	for i := range t.Attempts {
		a := &t.Attempts[i]
		if a.What == logs.Locked {
			t.Locks++
		}
		if a.What != logs.Refused && a.What != logs.SignedIn {
			continue
		}
		k := key{a.Machine, a.Via}
		if a.Machine == "" && a.Address.IsValid() {
			k.where = a.Address.String()
		}
		s := sources[k]
		if s == nil {
			s = &Source{Machine: a.Machine, Via: a.Via, Type: a.Type, Whys: map[logs.Why]int{}}
			sources[k] = s
			t.Sources = append(t.Sources, s)
		}
		a.Source = s
		if a.Address.IsValid() && !slices.Contains(s.Addresses, a.Address) && len(s.Addresses) < 8 {
			s.Addresses = append(s.Addresses, a.Address)
		}
		if a.What == logs.SignedIn {
			t.SignedIn++
			s.SignedIn++
			if s.LastSignIn = a.At; s.FirstSignIn.IsZero() {
				s.FirstSignIn = a.At
			}
			continue
		}
		t.Refused++
		s.Refused++
		s.Whys[a.Why]++
		if s.Last = a.At; s.First.IsZero() {
			s.First = a.At
		}
		s.refusals = append(s.refusals, a.At)
	}
	for _, s := range t.Sources {
		s.Rhythm = rhythmOf(s.refusals)
	}
	slices.SortStableFunc(t.Sources, func(a, b *Source) int {
		return cmp.Or(cmp.Compare(b.Refused, a.Refused), cmp.Compare(b.SignedIn, a.SignedIn), strings.Compare(a.Name(), b.Name()))
	})
}

// FirstRefused is when the account was refused first, zero where it never was.
func (t *Trace) FirstRefused() time.Time { return t.find(logs.Refused, false) }

// LastRefused is when it was refused last.
func (t *Trace) LastRefused() time.Time { return t.find(logs.Refused, true) }

// LastSignIn is when it signed in last.
func (t *Trace) LastSignIn() time.Time { return t.find(logs.SignedIn, true) }

// LastLock is when it was locked out last.
func (t *Trace) LastLock() time.Time { return t.find(logs.Locked, true) }

func (t *Trace) find(what logs.What, last bool) time.Time {
	is := func(a Attempt) bool { return a.What == what }
	if !last {
		if i := slices.IndexFunc(t.Attempts, is); i >= 0 {
			return t.Attempts[i].At
		}
		return time.Time{}
	}
	for i := len(t.Attempts) - 1; i >= 0; i-- {
		if is(t.Attempts[i]) {
			return t.Attempts[i].At
		}
	}
	return time.Time{}
}

// Changes are what happened to the account that was no sign-in.
func (t *Trace) Changes() []Attempt {
	var all []Attempt
	for i := range t.Attempts {
		if t.Attempts[i].What.IsChange() || t.Attempts[i].What == logs.Locked {
			all = append(all, t.Attempts[i])
		}
	}
	return all
}
