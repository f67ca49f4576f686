package render

import (
	"fmt"
	"io"
	"net/netip"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"

	"yardbroom/internal/logs"
	"yardbroom/internal/sheet"
	"yardbroom/internal/work"
)

// HappeningLine writes what happens just now as a line.
func HappeningLine(w io.Writer, h *work.Happening, st Style) error {
	what := h.What.String()
	if h.What == logs.Refused {
		what += ": " + h.Why.String()
	}
	name := h.Account
	if !h.Known {
		name += " (no account)"
	}
	var from []string
	for _, part := range []string{h.Machine, addressText(h.Address), h.Via} {
		if part != "" {
			from = append(from, part)
		}
	}
	line := Visible(fmt.Sprintf("%s  %s  %s  %s", h.At.In(st.Zone).Format("2006-01-02 15:04:05"), name, what, strings.Join(from, ", ")))
	if h.Server != "" {
		line += Visible("  (" + h.Server + ")")
	}
	if h.What == logs.Refused || h.What == logs.Locked {
		line = st.paint(line, text.FgRed)
	}
	_, err := fmt.Fprintln(w, line)
	return err
}

func addressText(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

// HappeningShape is what happens just now, for programs.
type HappeningShape struct {
	Account string `json:"account"`
	Known   bool   `json:"is_account"`
	AttemptShape
}

// HappeningShapeOf makes the shape.
func HappeningShapeOf(h *work.Happening) *HappeningShape {
	out := &HappeningShape{Account: h.Account, Known: h.Known, AttemptShape: AttemptShape{Time: h.At, What: h.What.String(), Code: h.Code, Machine: h.Machine,
		Address: addressText(h.Address), Via: h.Via, By: h.By, Change: h.Change}}
	if h.What == logs.Refused {
		out.Why = h.Why.String()
	}
	if h.Server != "" {
		out.Servers = []string{h.Server}
	}
	return out
}

// AccountChanges writes who has changed an account, the latest first.
func AccountChanges(w io.Writer, t *work.AccountTrace, all []work.AccountChange, st Style) {
	fmt.Fprintln(w, Wrap(st.paint(traceTitle(t), text.Bold)+": "+Visible(traceState(t, st.Zone)), st.Width, "  "))
	if len(all) == 0 {
		fmt.Fprintln(w, "\nNobody tells of any change.")
	} else {
		limit := len(all)
		if st.Limit > 0 {
			limit = min(limit, st.Limit)
		}
		var rows [][]string
		for i := range all[:limit] {
			c := &all[i]
			what := c.What
			if c.More != "" {
				what += " (" + c.More + ")"
			}
			rows = append(rows, []string{c.At.In(st.Zone).Format("2006-01-02 15:04"), Visible(what), Visible(orWord(c.Who, "–")), Visible(c.From), Visible(changeTeller(c))})
		}
		fmt.Fprintf(w, "\n%s\n", st.paint("Changes, the latest first", text.Bold)+" (times in "+all[0].At.In(st.Zone).Format("MST")+")")
		drawTable(w, st, []string{"When", "What", "Who", "From", "Told by"}, rows, nil, []int{1, 2, 3})
		if limit < len(all) {
			fmt.Fprintf(w, "… %d more; --limit 0 shows all\n", len(all)-limit)
		}
		fmt.Fprintln(w, Wrap("The directory tells when each attribute was changed last and on which server, not by whom; logs and the journal do.", st.Width, "  "))
	}
	fmt.Fprintln(w)
	for _, line := range logLines(&t.Logs, t.AsOf, st.Zone) {
		fmt.Fprintln(w, Wrap(Visible(line), st.Width, "  "))
	}
}

func changeTeller(c *work.AccountChange) string {
	if c.Batch != 0 {
		return fmt.Sprintf("batch %d", c.Batch)
	}
	return string(c.By)
}

// AccountChangesSheet is the same as a table.
func AccountChangesSheet(all []work.AccountChange) sheet.Sheet {
	s := sheet.Sheet{Name: "changes", Title: "Changes", Columns: []sheet.Column{{Name: "time", Title: "When", Kind: sheet.Time}, {Name: "what", Title: "What", Key: true},
		{Name: "to", Title: "To what, or why"}, {Name: "who", Title: "Who"}, {Name: "from", Title: "From"}, {Name: "told_by", Title: "Told by"}, {Name: "batch", Title: "Batch", Kind: sheet.Number}}}
	for i := range all {
		c := &all[i]
		row := []any{c.At, c.What, c.More, c.Who, c.From, string(c.By), nil}
		if c.Batch != 0 {
			row[6] = c.Batch
		}
		s.Rows = append(s.Rows, row)
	}
	return s
}

// AccountChangesPage is the same as a page.
func AccountChangesPage(t *work.AccountTrace, all []work.AccountChange, zone *time.Location, made time.Time) *Page {
	return &Page{Title: traceTitle(t), Subtitle: traceState(t, zone), Zone: zone, Made: made, Notes: logLines(&t.Logs, t.AsOf, zone),
		Sections: []Section{{ID: "changes", Open: true, Sheet: AccountChangesSheet(all)}, {ID: "logs", Sheet: logSheet(&t.Logs)}}}
}

// AccountChangesShape is it for programs.
type AccountChangesShape struct {
	Schema  string               `json:"schema"` // yardbroom/account-changes/1
	Account string               `json:"account"`
	DN      string               `json:"dn,omitempty"`
	AsOf    time.Time            `json:"as_of"`
	Changes []AccountChangeShape `json:"changes"`
	Logs    []LogShape           `json:"logs"`
}

// AccountChangeShape is one change.
type AccountChangeShape struct {
	Time   time.Time `json:"time"`
	What   string    `json:"what"`
	To     string    `json:"to,omitempty"` // or why
	Who    string    `json:"who,omitempty"`
	From   string    `json:"from,omitempty"`
	ToldBy string    `json:"told_by"` // log, directory (the last change of an attribute) or journal
	Batch  int       `json:"batch,omitempty"`
}

// AccountChangesShapeOf makes the shape.
func AccountChangesShapeOf(t *work.AccountTrace, all []work.AccountChange) *AccountChangesShape {
	out := &AccountChangesShape{Schema: "yardbroom/account-changes/1", Account: t.Name, AsOf: t.AsOf.UTC(), Changes: []AccountChangeShape{}, Logs: logShapes(&t.Logs)}
	if t.Account != nil {
		out.Account, out.DN = t.Account.Name(), t.Account.DN
	}
	for i := range all {
		c := &all[i]
		out.Changes = append(out.Changes, AccountChangeShape{Time: c.At, What: c.What, To: c.More, Who: c.Who, From: c.From, ToldBy: string(c.By), Batch: c.Batch})
	}
	return out
}
