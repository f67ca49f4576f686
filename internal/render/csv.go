package render

import (
	"encoding/csv"
	"io"
	"strconv"
	"strings"
	"time"

	"yardbroom/internal/audit"
)

// SafeCell makes a cell harmless for spreadsheets, which take some texts for
// formulas: it gets a quote before it, which UnsafeCell takes off.
func SafeCell(s string) string {
	if s != "" && strings.ContainsRune("=+-@\t\r'", rune(s[0])) {
		return "'" + s
	}
	return s
}

// UnsafeCell is the inverse of SafeCell.
func UnsafeCell(s string) string {
	if len(s) > 1 && s[0] == '\'' && strings.ContainsRune("=+-@\t\r'", rune(s[1])) {
		return s[1:]
	}
	return s
}

// FindingColumns are the columns of findings in CSV.
var FindingColumns = []string{"check", "severity", "kind", "account", "dn", "confidence", "since", "days", "evidence", "suggest"}

// FindingsCSV writes findings by RFC 4180, times in UTC.
func FindingsCSV(w io.Writer, findings []audit.Finding) error {
	out := csv.NewWriter(w)
	out.UseCRLF = true
	columns := FindingColumns
	compared := len(findings) > 0 && findings[0].Change != ""
	if compared {
		columns = append(columns[:len(columns):len(columns)], "change")
	}
	if err := out.Write(columns); err != nil {
		return err
	}
	for i := range findings {
		f := &findings[i]
		since, days := "", ""
		if !f.Since.IsZero() {
			since, days = f.Since.Format(time.RFC3339), strconv.Itoa(f.Days)
		}
		row := []string{f.Check, f.Severity.String(), f.Kind, f.Account, f.DN, string(f.Confidence), since, days, evidenceText(f), strings.Join(f.Suggest, " ")}
		if compared {
			row = append(row, f.Change)
		}
		for i := range row {
			row[i] = SafeCell(row[i])
		}
		if err := out.Write(row); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

func evidenceText(f *audit.Finding) string {
	parts := make([]string, len(f.Evidence))
	for i, e := range f.Evidence {
		parts[i] = e.Attr + "=" + e.Value
	}
	return strings.Join(parts, "; ")
}
