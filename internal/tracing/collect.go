package tracing

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"yardbroom/internal/logs"
)

// most records are kept at a time, and most different texts; what is older than those
// that fit is given up, and Collector.Floor says so.
const (
	mostRecords = 4_000_000
	mostTexts   = 2_000_000
	mostNobody  = 200_000 // different names that no account has
)

// Collector gathers what logs say. Its memory is bounded.
type Collector struct {
	Book *Book
	// Everybody tells that the book knows all accounts, so that a name that it does
	// not know is of nobody.
	Everybody bool
	// Since is the time before which nothing is kept; zero is none.
	Since time.Time

	// Several counts events of names that more than one account has.
	Several int
	// First and Last are the times of the earliest and the latest event that was kept.
	First, Last time.Time
	// Floor is the time before which events were given up, zero where all are kept.
	Floor time.Time

	records []record
	texts   map[string]int32
	all     []string
	nobody  map[string]int32 // names that no account has: who is -1 - n
	names   []string
	sorted  bool
}

// record is an event as it is kept.
type record struct {
	at                                           int64 // µs since 1970
	address                                      netip.Addr
	who                                          int32
	machine, via, server, code, by, change, kind int32
	line                                         int32
	what                                         logs.What
	why                                          logs.Why
	logonType                                    logs.LogonType
}

// Take keeps an event if it is about the directory.
func (c *Collector) Take(e *logs.Event) error {
	if e.At.Before(c.Since) || e.At.Before(c.Floor) {
		return nil
	}
	number, m := c.Book.Find(e)
	switch m {
	case Elsewhere:
		return nil
	case Several:
		c.Several++
		return nil
	case Nobody:
		if e.What != logs.Refused && e.What != logs.SignedIn {
			return nil // of what is no account, or no more
		}
		if number = c.stranger(c.Book.plain(e)); number == 0 {
			return nil
		}
	case Known:
	}
	if c.texts == nil {
		c.texts, c.all = map[string]int32{"": 0}, []string{""}
	}
	c.sorted = false
	c.records = append(c.records, record{at: e.At.UnixMicro(), address: e.Address, who: int32(number), machine: c.text(e.Machine), via: c.text(e.Via),
		server: c.text(e.Server), code: c.text(e.Code), by: c.text(e.By), change: c.text(e.Change), kind: c.text(e.Kind), line: int32(min(e.Line, 1<<31-1)),
		what: e.What, why: e.Why, logonType: e.Type})
	if c.First.IsZero() || e.At.Before(c.First) {
		c.First = e.At
	}
	if e.At.After(c.Last) {
		c.Last = e.At
	}
	if len(c.records) >= mostRecords || len(c.all) >= mostTexts {
		c.giveUp()
	}
	return nil
}

// stranger numbers a name that no account has; 0 where there are too many of them.
func (c *Collector) stranger(name string) int {
	if c.nobody == nil {
		c.nobody = map[string]int32{}
	}
	n, known := c.nobody[name]
	if !known {
		if len(c.names) == mostNobody {
			return 0
		}
		n = int32(len(c.names))
		c.nobody[name], c.names = n, append(c.names, name)
	}
	return -1 - int(n)
}

func (c *Collector) text(s string) int32 {
	if n, known := c.texts[s]; known {
		return n
	}
	n := int32(len(c.all))
	c.texts[s], c.all = n, append(c.all, s)
	return n
}

// giveUp forgets the older half.
func (c *Collector) giveUp() {
	slices.SortFunc(c.records, func(a, b record) int { return cmp.Compare(a.at, b.at) })
	c.sorted = false
	c.records = slices.Clone(c.records[len(c.records)/2:])
	c.Floor = time.UnixMicro(c.records[0].at).UTC()
	c.First = c.Floor
	old := c.all
	c.texts, c.all = map[string]int32{"": 0}, []string{""}
	for i := range c.records {
		r := &c.records[i]
		for _, t := range []*int32{&r.machine, &r.via, &r.server, &r.code, &r.by, &r.change, &r.kind} {
			*t = c.text(old[*t])
		}
	}
}

// Each hands over what there is of each account and each name that nobody has, one after
// the other: the accounts in the order of their numbers, then the names.
func (c *Collector) Each(take func(*Trace)) {
	if !c.sorted {
		slices.SortFunc(c.records, compareRecords)
		c.sorted = true
	}
	// A machine has one name wherever a record has both its name and its address.
	aliases := c.aliases()
	for from := 0; from < len(c.records); {
		to := from
		for to < len(c.records) && c.records[to].who == c.records[from].who {
			to++
		}
		t := &Trace{Number: int(c.records[from].who)}
		if t.Number < 0 {
			t.Stranger = c.names[-1-t.Number]
		}
		t.gather(c, c.records[from:to], aliases)
		take(t)
		from = to
	}
}

// aliases are the machines that stand for addresses: those of which every record that
// has both says the same.
func (c *Collector) aliases() map[netip.Addr]string {
	all := map[netip.Addr]string{}
	for i := range c.records {
		r := &c.records[i]
		if r.machine == 0 || !r.address.IsValid() || r.address.IsLoopback() {
			continue
		}
		name := MachineName(c.all[r.machine])
		if other, is := all[r.address]; is && other != name {
			name = ""
		}
		all[r.address] = name
	}
	return all
}

func compareRecords(a, b record) int {
	if a.who != b.who {
		return cmp.Or(compareBool(a.who < 0, b.who < 0), cmp.Compare(a.who, b.who))
	}
	return cmp.Or(cmp.Compare(a.at, b.at), cmp.Compare(a.kind, b.kind), cmp.Compare(a.line, b.line))
}

func compareBool(a, b bool) int {
	switch {
	case a == b:
		return 0
	case b:
		return -1
	}
	return 1
}
