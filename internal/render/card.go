package render

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
)

// AccountCard is everything to show of one account.
type AccountCard struct {
	Entry    *directory.Entry
	Account  *directory.Account
	Survey   *directory.Survey
	AsOf     time.Time
	Groups   []string // DNs
	Findings []audit.Finding
	Command  string // that would clear the first finding
	// Elsewhere are checks that only an audit of the whole yard can look at.
	Elsewhere []string
}

// Card writes an account for people: its state first.
func Card(w io.Writer, c *AccountCard, st Style) {
	a, s := c.Account, c.Survey
	name := c.Entry.First("displayName")
	if name == "" {
		name = directory.LeafValue(a.DN)
	}
	fmt.Fprintf(w, "%s (%s), %s: %s\n\n", st.paint(Visible(name), text.Bold), Visible(a.Name()), a.Kind, st.state(c))
	line := func(label, value string) {
		if value != "" {
			fmt.Fprintf(w, "  %-13s %s\n", label, value)
		}
	}
	line("Locked", lockText(c, st))
	line("Expires", expiryText(c, st))
	line("Last logon", logonText(c, st))
	line("Password set", momentText(a.PasswordSet, c.AsOf, st, "must change at next logon"))
	line("Created", momentText(a.Created, c.AsOf, st, ""))
	line("Place", Place(a.DN))
	line("DN", Visible(a.DN))
	for _, attr := range []struct{ label, name string }{{"Sign-in name", "userPrincipalName"}, {"Mail", "mail"}, {"Employee id", "employeeID"},
		{"Employee id", "employeeNumber"}, {"Department", "department"}, {"Title", "title"}, {"Manager", "manager"}} {
		if v := c.Entry.First(attr.name); v != "" {
			if attr.name == "manager" {
				v = directory.LeafValue(v)
			}
			line(attr.label, Visible(v))
		}
	}
	if a.BuiltIn {
		line("Built in", "yes: it takes part in few checks and is never changed")
	}
	var groups []string
	for _, dn := range c.Groups {
		groups = append(groups, Visible(directory.LeafValue(dn)))
	}
	line("Groups", strings.Join(groups, ", "))
	line("Read from", Visible(s.Source)+", as of "+Moment(c.AsOf, st.Zone))
	fmt.Fprintln(w)
	if len(c.Elsewhere) > 0 {
		defer fmt.Fprintln(w, Wrap("Only an audit of all accounts shows: "+strings.Join(c.Elsewhere, ", ")+".", st.Width, "  "))
	}
	if len(c.Findings) == 0 {
		fmt.Fprintln(w, "No findings.")
		return
	}
	for i := range c.Findings {
		f := &c.Findings[i]
		days := ""
		if f.Days > 0 {
			days = ", " + Count(f.Days, "day")
		}
		fmt.Fprintf(w, "  %s %s (%s%s): %s\n", st.severity(f.Severity), f.Check, f.Confidence, days, Visible(evidenceText(f)))
	}
	if c.Command != "" {
		fmt.Fprintf(w, "\nTo act on it: %s\n", Visible(c.Command))
	}
}

// state says in a few words whether the account can sign in.
func (st Style) state(c *AccountCard) string {
	a, s := c.Account, c.Survey
	switch {
	case s.Disabled(a, c.AsOf).Yes:
		text1 := "disabled"
		if a.FlagsSince.Known() {
			text1 += " since " + Day(a.FlagsSince.Time(), st.Zone)
		}
		return st.paint(text1, text.FgRed)
	case s.Expired(a, c.AsOf).Yes:
		return st.paint("expired on "+Day(a.Expires.Time(), st.Zone), text.FgRed)
	case s.LockedOut(a, c.AsOf).Yes:
		return st.paint("enabled, but locked out", text.FgRed)
	case !s.Enabled(a, c.AsOf).Yes:
		return "its state cannot be told"
	}
	return st.paint("enabled", text.FgGreen)
}

func lockText(c *AccountCard, st Style) string {
	a := c.Account
	locked := c.Survey.LockedOut(a, c.AsOf)
	switch {
	case locked.Yes:
		return "yes, since " + Moment(a.LockedAt.Time(), st.Zone) + " (" + locked.By.String() + ")"
	case a.LockedAt.Known():
		return "no; it was, from " + Moment(a.LockedAt.Time(), st.Zone) + " on"
	}
	return "no"
}

func expiryText(c *AccountCard, st Style) string {
	switch x := c.Account.Expires; {
	case x.Unreadable():
		return "the date in " + x.Attr().String() + " cannot be read"
	case x.Known():
		return Moment(x.Time(), st.Zone) + " (" + x.Attr().String() + ")"
	case x.Present():
		return "never"
	}
	return "no date shown"
}

func logonText(c *AccountCard, st Style) string {
	last := c.Survey.LastSignIn(c.Account, c.AsOf)
	switch {
	case last.Unreadable():
		return "the time in " + last.Attr().String() + " cannot be read, or lies in the future"
	case !last.Known():
		return "none shown"
	}
	by := last.Attr().String()
	if last.Attr() == directory.AttrLastLogon && c.Survey.LogonServer(c.Account) != "" {
		by += " on " + c.Survey.LogonServer(c.Account)
	}
	out := Moment(last.Time(), st.Zone) + ", " + ago(last.Time(), c.AsOf) + " (" + Visible(by) + ")"
	if !c.Survey.EveryServerAsked() {
		out += "; other servers may know of a later one"
	}
	return out
}

func momentText(m directory.Moment, asOf time.Time, st Style, never string) string {
	switch {
	case m.Unreadable():
		return "the time in " + m.Attr().String() + " cannot be read"
	case m.Known():
		return Moment(m.Time(), st.Zone) + ", " + ago(m.Time(), asOf)
	case m.Present():
		return never
	}
	return ""
}

func ago(t, now time.Time) string {
	switch days := int(now.Sub(t) / (24 * time.Hour)); {
	case t.After(now):
		return "still to come"
	case days == 0:
		return "less than a day ago"
	default:
		return Count(days, "day") + " ago"
	}
}

// Shape is the card as JSON shows it. Times are in UTC, absent ones null.
func (c *AccountCard) Shape() any {
	a, s := c.Account, c.Survey
	at := func(m directory.Moment) *time.Time {
		if !m.Known() {
			return nil
		}
		t := m.Time()
		return &t
	}
	last := s.LastLogon(a, c.AsOf)
	var by string
	if last.Known() {
		by = last.Attr().String()
	}
	return struct {
		Schema      string     `json:"schema"`
		AsOf        time.Time  `json:"as_of"`
		DN          string     `json:"dn"`
		Account     string     `json:"account"`
		Kind        string     `json:"kind"`
		Enabled     bool       `json:"enabled"`
		Disabled    bool       `json:"disabled"`
		Expired     bool       `json:"expired"`
		LockedOut   bool       `json:"locked_out"`
		LastLogon   *time.Time `json:"last_logon"`
		LastLogonBy string     `json:"last_logon_by,omitempty"`
		Created     *time.Time `json:"created"`
		PasswordSet *time.Time `json:"password_set"`
		Expires     *time.Time `json:"expires"`
		Groups      []string   `json:"groups"`
		Findings    []finding  `json:"findings"`
	}{"yardbroom/account/1", c.AsOf.UTC(), a.DN, a.Name(), a.Kind.String(), s.Enabled(a, c.AsOf).Yes, s.Disabled(a, c.AsOf).Yes, s.Expired(a, c.AsOf).Yes,
		s.LockedOut(a, c.AsOf).Yes, at(last), by, at(a.Created), at(a.PasswordSet), at(a.Expires), append([]string{}, c.Groups...), shapes(c.Findings)}
}
