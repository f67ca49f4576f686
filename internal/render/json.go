package render

import (
	"bytes"
	"encoding/json"
	"io"
	"time"

	"yardbroom/internal/audit"
)

// Schema is the version of the JSON shapes. Fields may be added under one
// version; a change of meaning makes a new one.
const Schema = "yardbroom/audit/1"

type finding struct {
	Check      string           `json:"check"`
	Severity   audit.Severity   `json:"severity"`
	Kind       string           `json:"kind"`
	DN         string           `json:"dn"`
	Account    string           `json:"account"`
	Confidence audit.Confidence `json:"confidence"`
	Since      *time.Time       `json:"since"`
	Days       *int             `json:"days"`
	Evidence   evidenceObject   `json:"evidence"`
	Suggest    []string         `json:"suggest"`
	Change     string           `json:"change,omitempty"`
}

// evidenceObject is written as one JSON object in the order of the evidence.
type evidenceObject []audit.Evidence

// MarshalJSON keeps the order, which a map would lose.
func (o evidenceObject) MarshalJSON() ([]byte, error) {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	b.WriteByte('{')
	for i, e := range o {
		if i > 0 {
			b.WriteByte(',')
		}
		for j, text := range []string{e.Attr, e.Value} {
			if j == 1 {
				b.WriteByte(':')
			}
			if err := enc.Encode(text); err != nil {
				return nil, err
			}
		}
	}
	b.WriteByte('}')
	return b.Bytes(), nil
}

func shape(f *audit.Finding) finding {
	out := finding{Check: f.Check, Severity: f.Severity, Kind: f.Kind, DN: f.DN, Account: f.Account, Confidence: f.Confidence,
		Evidence: f.Evidence, Suggest: append([]string{}, f.Suggest...), Change: f.Change}
	if !f.Since.IsZero() {
		since, days := f.Since.UTC(), f.Days
		out.Since, out.Days = &since, &days
	}
	return out
}

// FindingsJSONL writes one finding a line.
func FindingsJSONL(w io.Writer, findings []audit.Finding) error {
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	for i := range findings {
		if err := enc.Encode(shape(&findings[i])); err != nil {
			return err
		}
	}
	return nil
}

type surveyShape struct {
	Source   string     `json:"source"`
	Server   string     `json:"server,omitempty"`
	Dialect  string     `json:"dialect"`
	Base     string     `json:"base"`
	Taken    *time.Time `json:"taken"`
	Entries  int        `json:"entries"`
	Accounts int        `json:"accounts"`
}

// ReportJSON writes a whole report as one object.
func ReportJSON(w io.Writer, r *audit.Report) error {
	s := surveyShape{Source: r.Survey.Source, Server: r.Survey.Server, Dialect: r.Survey.Dialect.Name, Base: r.Survey.Base,
		Entries: r.Survey.Entries, Accounts: r.Survey.Accounts.Len()}
	if !r.Survey.Taken.IsZero() {
		s.Taken = &r.Survey.Taken
	}
	return JSON(w, struct {
		Schema   string          `json:"schema"`
		AsOf     time.Time       `json:"as_of"`
		Survey   surveyShape     `json:"survey"`
		Summary  []audit.Summary `json:"summary"`
		Notes    []string        `json:"notes"`
		Findings []finding       `json:"findings"`
	}{Schema, r.AsOf.UTC(), s, r.Summary, append([]string{}, r.Notes...), shapes(r.Findings)})
}

// JSONLine writes a value on one line.
func JSONLine(w io.Writer, v any) error {
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	return enc.Encode(v)
}

// JSON writes any value in the project's way: indented, one trailing newline.
func JSON(w io.Writer, v any) error {
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	return enc.Encode(v)
}
